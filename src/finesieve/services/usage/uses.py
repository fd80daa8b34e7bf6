"""Where fields, records and groups are used: questions, rules, checks, formulas, segments, texts, links, mappings."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Final, Literal

from sqlmodel import col, select

from finesieve.core.chat.prepare import PreparedScript
from finesieve.core.chat.script import Script, expressions_of, texts_of
from finesieve.core.fields.about import HOUSE, PERSON, SIFTING
from finesieve.core.fields.contexts import CONTEXTS
from finesieve.core.forms.fees import check_fee
from finesieve.core.forms.prepare import form_world, section_about, section_world
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.names import World
from finesieve.core.language.placeholders import expressions_in
from finesieve.core.language.problems import Span
from finesieve.core.language.tree import Name, walk
from finesieve.core.language.typed import Typed
from finesieve.core.model.approving import check_approval
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.reader import reader_world
from finesieve.core.values import Type
from finesieve.services.kernel.scope import Unit
from finesieve.services.usage.documents import FormDocument, Standing, documents_of_forms
from finesieve.store.tables import ApprovalRow, ChatScriptRow, HouseMapping, PageRow, Segment

__all__ = ["Use", "Uses", "options_named", "uses_of"]

UseKind = Literal[
    "question",
    "rule",
    "check",
    "formula",
    "segment",
    "text",
    "help",
    "title",
    "choice",
    "mapping",
    "joins",
    "address",
    "page",
    "fee",
    "approval",
    "script",
]


@dataclass(frozen=True, slots=True)
class Use:
    """One place that uses a field; `expression` is empty where none is written. `about` is where it stands.

    `standing` says of a form whether only its draft uses it, or only the version in force; "" for both, and for
    what is no form.
    """

    kind: UseKind
    id: int
    name: str
    expression: str = ""
    about: str = PERSON
    standing: Standing = ""

    @property
    def place(self) -> tuple[str, int, str, str]:
        """Where it is, as a list names it: several expressions of one form or script are one place."""
        return self.kind, self.id, self.name, self.standing


class Uses:
    """All uses in a workspace, by field."""

    def __init__(self, catalogue: Catalogue) -> None:
        self.catalogue = catalogue
        self._by_field: dict[int, list[Use]] = {}
        self._by_about: dict[str, list[Use]] = {}
        self._broken: list[tuple[Use, str]] = []
        self._by_option: dict[tuple[str, tuple[str, ...], str], list[Use]] = {}
        self._by_list: dict[int, list[Use]] = {}
        self._by_link: dict[str, list[Use]] = {}
        every = (*catalogue.all_fields, *catalogue.deleted)
        self._ids = {(field.about, name): field.id for field in every for name in field.names}
        self._ids |= {(field.about, field.key): field.id for field in every}  # a key is nobody else's

    def note(self, use: Use, checked: Checked | None = None) -> None:
        """Note all that an expression reads; of a broken one, the fields that its names seem to mean.

        `checked` is given for one that stands in a form, with words that nothing else knows.
        """
        checked = checked or self.catalogue.check(use.expression, about=use.about)
        if checked.problems:
            self._broken.append((use, checked.problems[0].message))
        for about, key in sorted(_reads(checked, PERSON if use.about == SIFTING else use.about)):
            if about == "link":
                _add(self._by_link.setdefault(key, []), use)
            elif key:
                self.add(self._ids.get((about, key), 0), use)
            else:
                self._by_about.setdefault(about, []).append(use)
        for type_, value, _ in options_named(checked.typed) if checked.typed else ():
            self._by_option.setdefault((type_.source, type_.options, value), []).append(use)

    def add(self, field_id: int, use: Use) -> None:
        """Note one use of a field."""
        _add(self._by_field.setdefault(field_id, []), use)

    def of_field(self, field_id: int) -> tuple[Use, ...]:
        """The uses of a field."""
        return tuple(self._by_field.get(field_id, ()))

    def of_fields(self, field_ids: Iterable[int]) -> tuple[Use, ...]:
        """The uses of any of these fields, each once."""
        return _each_once(use for field_id in field_ids for use in self.of_field(field_id))

    def of_collection(self, about: str) -> tuple[Use, ...]:
        """The expressions that go over the records of a type."""
        return _each_once(self._by_about.get(about, ()))

    def broken(self) -> tuple[tuple[Use, str], ...]:
        """The uses whose expressions do not work any more, each with why."""
        return tuple(dict.fromkeys(self._broken))

    def of_option(self, type_: Type, value: str) -> tuple[Use, ...]:
        """The expressions that name an option of this type of choice: a field's, a list, a level."""
        return _each_once(self._by_option.get((type_.source, type_.options, value), ()))

    def add_list(self, list_id: int, use: Use) -> None:
        """Note one form that puts people on a list."""
        _add(self._by_list.setdefault(list_id, []), use)

    def of_link(self, key: str) -> tuple[Use, ...]:
        """The texts that hold a personal link, by its key."""
        return _each_once(self._by_link.get(key, ()))

    def of_list(self, list_id: int) -> tuple[Use, ...]:
        """The forms that put people on a list."""
        return _each_once(self._by_list.get(list_id, ()))


def _add(found: list[Use], use: Use) -> None:
    """Add a use once; one of the draft and the same of the version in force become one of both."""
    others: tuple[Standing, ...] = ("", "draft", "in force")
    for place, known in enumerate(found):
        if any(known == replace(use, standing=other) for other in others):
            if known.standing != use.standing:
                found[place] = replace(use, standing="")
            return
    found.append(use)


def _each_once(uses: Iterable[Use]) -> tuple[Use, ...]:
    found: list[Use] = []
    for use in uses:
        _add(found, use)
    return tuple(found)


def options_named(typed: Typed) -> Iterator[tuple[Type, str, Span]]:
    """The options that an expression names, each with the type of choice that it belongs to, and where."""
    for part in typed.walk():
        if part.operation == "const" and part.type.source and isinstance(part.value, str):
            yield part.type, part.value, part.span
        if part.item_spans and part.parts and part.parts[0].type.source:
            named = zip(part.items, part.item_spans, strict=True)
            yield from ((part.parts[0].type, str(value), span) for value, span in named)


def _reads(checked: Checked, about: str) -> set[tuple[str, str]]:
    if checked.typed is not None:
        return set(checked.typed.reads)
    if checked.tree is None:
        return set()
    found = set()
    for part in walk(checked.tree):
        if isinstance(part, Name):
            prefix = part.path[0] if len(part.path) > 1 else ""
            found.add(((CONTEXTS[prefix].about if prefix in CONTEXTS else "") or about, part.path[-1]))
    return found


_MOST_KEPT: Final = 32
_kept: dict[tuple[str, int, int], Uses] = {}


def uses_of(unit: Unit) -> Uses:
    """All uses, kept for as long as no definition changes."""
    database = str(unit.session.get_bind().engine.url.render_as_string(hide_password=True))
    key = (database, unit.workspace_id, unit.catalogue.version)
    if key not in _kept:
        while len(_kept) >= _MOST_KEPT:
            _kept.pop(next(iter(_kept)), None)
        _kept[key] = _found(unit)
    return _kept[key]


def _found(unit: Unit) -> Uses:
    catalogue = unit.catalogue
    uses = Uses(catalogue)
    for field in catalogue.all_fields:
        if field.derived:
            uses.note(Use("formula", field.id, field.label, field.formula, field.about))
        for text in (field.help, field.settings.fallback):
            _note_text(uses, Use("help", field.id, field.label, about=field.about), text)
    for record_type in catalogue.record_types:
        if record_type.title_field:
            uses.add(record_type.title_field, Use("title", record_type.id, record_type.singular))
    _note_forms(unit, uses)
    _note_documents(unit, uses)
    _note_membership(unit, uses)
    _note_scripts(unit, uses)
    for segment in unit.session.exec(select(Segment).order_by(col(Segment.position), col(Segment.id))).all():
        if segment.expression:
            uses.note(Use("segment", segment.id or 0, segment.name, segment.expression, SIFTING))
    return uses


def _note_documents(unit: Unit, uses: Uses) -> None:
    """What stands in addresses as they are printed, and in member pages."""
    for group in uses.catalogue.all_groups:
        for line in group.settings.printed:
            _note_text(uses, Use("address", group.id, f"{group.name}, printed"), line.text)
    world = reader_world(uses.catalogue)
    for page in unit.session.exec(select(PageRow).order_by(col(PageRow.id))).all():
        use = Use("page", page.id or 0, str(page.draft["title"]))
        for block in page.draft.get("blocks", ()):
            if block.get("show_when"):
                uses.note(
                    replace(use, expression=block["show_when"]),
                    check(block["show_when"], world, zone=uses.catalogue.zone),
                )
            for part in ("text", "button", "to"):
                _note_text(uses, use, block.get(part, ""), world)


def _note_scripts(unit: Unit, uses: Uses) -> None:
    """What the drafts of chat scripts ask, change, go by and say."""
    catalogue = uses.catalogue
    for row in unit.session.exec(select(ChatScriptRow).order_by(col(ChatScriptRow.id))).all():
        script = Script.model_validate(row.draft)
        use, prepared = Use("script", row.id or 0, script.title), PreparedScript(script, catalogue)
        for step in script.steps:
            world = prepared.at(step.id).world
            for part in (step, *getattr(step, "actions", ())):
                if getattr(part, "field_id", 0):
                    uses.add(part.field_id, use)
            for text in expressions_of(step):
                uses.note(replace(use, expression=text), check(text, world, zone=catalogue.zone))
            for _, text in texts_of(step):
                _note_text(uses, use, text, world)


def _note_membership(unit: Unit, uses: Uses) -> None:
    """What levels cost, and who waits for approval."""
    catalogue = uses.catalogue
    for level in catalogue.levels:
        for text in (level.fee.costs, level.fee.moving) if level.fee is not None else ():
            if text:
                uses.note(Use("fee", level.id, level.name, text), check_fee(catalogue, text))
    approval = unit.session.exec(select(ApprovalRow)).first()
    if approval is not None:
        use = Use("approval", approval.id or 0, "Approval")
        if approval.waits_when:
            uses.note(replace(use, expression=approval.waits_when), check_approval(catalogue, approval.waits_when))
        for text in approval.texts.values():
            _note_text(uses, use, text, reader_world(catalogue))


def _note_forms(unit: Unit, uses: Uses) -> None:
    titles = {}
    for form in documents_of_forms(unit):
        titles[form.id] = form.title
        world = form_world(form.document, uses.catalogue)
        for _, section, text in form.document.walk_placed_texts():
            about = section_about(section) if section else PERSON
            use = Use("text", form.id, form.title, about=about, standing=form.standing)
            _note_text(uses, use, text, section_world(world, section) if section else world)
        for question in form.document.questions:
            uses.add(question.field_id, Use("question", form.id, form.title, standing=form.standing))
        effects = (effect.list_id for question in form.document.questions for effect in question.lists)
        for list_id in dict.fromkeys((*form.document.joins, *effects)):
            uses.add_list(list_id, Use("joins", form.id, form.title, standing=form.standing))
        _note_rules(uses, form)
    house = unit.catalogue.keys_of(HOUSE)
    for mapping in unit.session.exec(select(HouseMapping)).all():
        for field_id, key in mapping.pairs:
            use = Use("mapping", mapping.form_id, titles.get(mapping.form_id, "a form"))
            uses.add(int(field_id), use)
            if not mapping.target_slug and key in house:
                uses.add(house[key].id, use)


def _note_rules(uses: Uses, form: FormDocument) -> None:
    document = form.document
    world = form_world(document, uses.catalogue)
    for place, part, text in document.walk_rules():
        section = document.section_of(place)
        about = section_about(section) if section else PERSON
        inner = section_world(world, section) if section else world
        checked = check(text, inner, zone=uses.catalogue.zone)
        kind: UseKind = "check" if part.startswith("check") else "rule"
        uses.note(Use(kind, form.id, form.title, text, about, form.standing), checked)


def _note_text(uses: Uses, use: Use, text: str, world: World | None = None) -> None:
    """Note what the placeholders of a text read; `world` is given where they may name more than a person's fields."""
    for expression in expressions_in(text):
        checked = check(expression, world, zone=uses.catalogue.zone) if world is not None else None
        uses.note(replace(use, expression=expression), checked)
