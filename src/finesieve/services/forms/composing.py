"""Composing: changes of a form's draft, each of which can be taken back."""

from collections.abc import Mapping, Sequence
from typing import Any, Literal

from pydantic import Field as Bounds
from pydantic import TypeAdapter, ValidationError

from finesieve.core.errors import Conflict, InvalidExpression, InvalidInput, NotFound
from finesieve.core.fields.definition import Field
from finesieve.core.forms.definition import AMONG, Among, Form, ListEffect, Question, Remark, Repeat, Section, Surcharge
from finesieve.core.forms.later import why_not_later
from finesieve.core.forms.page import SLOTS, Slot, slot_of
from finesieve.core.forms.prepare import asked_about, form_world, section_about
from finesieve.core.forms.problems import label_of, rule_problems, text_problems
from finesieve.core.language.placeholders import expressions_in
from finesieve.core.limits import EXPRESSION, HELP, NOUN, TEXT, TITLE
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.checks import Check
from finesieve.services.define.fields import FieldInput, group_of, make_field, patiently
from finesieve.services.forms.drafting import change_draft, item_added, section_named, sections_changed, with_item
from finesieve.services.forms.forms import form_of
from finesieve.services.kernel.inputs import Input, explain_errors
from finesieve.services.kernel.merging import merged_parts
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.texts import refuse_texts

__all__ = [
    "FormSettings",
    "FormTexts",
    "QuestionInput",
    "RemarkInput",
    "SectionInput",
    "add_question",
    "add_questions",
    "add_remark",
    "add_section",
    "arrange",
    "ask_new_field",
    "change_form_settings",
    "change_form_texts",
    "change_question",
    "change_remark",
    "change_section",
    "copy_item",
    "duplicate_section",
    "lay_out",
    "remove_part",
    "set_phrases",
    "set_steps",
]


class FormSettings(Input):
    """How a form goes, as typed. `joins` are ids of lists joined by sending it, `languages` those besides its own,
    `account` whether a checkout opens an account."""

    stepped: bool = False
    challenge: bool = False
    joins: tuple[int, ...] = Bounds(default=(), max_length=50)
    languages: tuple[str, ...] = Bounds(default=(), max_length=11)
    account: Literal["", "offered", "required"] = ""


class FormTexts(Input):
    """The texts of a form as typed."""

    title: str = Bounds(min_length=1, max_length=TITLE)
    intro: str = Bounds(default="", max_length=TEXT)
    send_label: str = Bounds(min_length=1, max_length=60, default="Send")
    thanks: str = Bounds(default="", max_length=TEXT)
    title_known: str = Bounds(default="", max_length=TITLE)
    send_known: str = Bounds(default="", max_length=60)


class SectionInput(Input):
    """A section as typed. `repeat` is the id of a record type, "" for a plain section; `among` are products and the
    like as `products:raised-bed`; `slot` is where it lies on the page of a checkout, None for where it is."""

    title: str = Bounds(default="", max_length=TITLE)
    intro: str = Bounds(default="", max_length=TEXT)
    show_when: str = Bounds(default="", max_length=EXPRESSION)
    repeat: str = Bounds(default="", pattern=r"^[0-9]{0,9}$")
    link: str = Bounds(default="", pattern=r"^[0-9]{0,9}$")
    count: str = Bounds(default="", max_length=EXPRESSION)
    least: int = Bounds(default=0, ge=0, le=50)
    most: int = Bounds(default=10, ge=1, le=50)
    one: str = Bounds(default="", max_length=NOUN)
    per: Literal["", "line", "piece"] = ""
    among: tuple[str, ...] = Bounds(default=(), max_length=1_000)
    slot: Slot | None = None


class RemarkInput(Input):
    """A heading or note as typed."""

    kind: Literal["heading", "note"] = "note"
    text: str = Bounds(default="", max_length=TEXT)
    show_when: str = Bounds(default="", max_length=EXPRESSION)


class QuestionInput(Input):
    """A question as typed. Empty texts, width and `required` fall back to the field's.

    `lists` says what an answer does to lists. `checks` and `surcharges` are as they will be stored; what is wrong with
    them is said at paths such as `checks.0.low`.
    """

    label: str = Bounds(default="", max_length=TITLE)
    help: str = Bounds(default="", max_length=HELP)
    sample: str = Bounds(default="", max_length=TITLE)
    width: Literal["", "full", "half", "third"] = ""
    default: str = Bounds(default="", max_length=TEXT)
    required: Literal["", "yes", "no", "when"] = ""
    required_when: str = Bounds(default="", max_length=EXPRESSION)
    show_when: str = Bounds(default="", max_length=EXPRESSION)
    options_when: dict[str, str] = Bounds(default_factory=dict)
    hidden: bool = False
    prefill: bool = True
    parameter: str = Bounds(default="", max_length=40)
    only_if_unknown: bool = False
    passing: bool = False
    later: bool = False
    bare: bool = False
    menu: tuple[str, ...] = ()
    tidy: tuple[Literal["spaces", "lower", "upper", "capital"], ...] = ()
    checks: tuple[dict[str, Any], ...] = ()
    surcharges: tuple[dict[str, Any], ...] = ()
    lists: tuple[ListEffect, ...] = ()


_CHECK: TypeAdapter[Check] = TypeAdapter(Check)


# What a person does ---------------------------------------------------------------------------


def change_form_texts(scope: Scope, form_id: int, revision: int, asked: FormTexts) -> int:
    """Change title, introduction, button and thanks; gives the id for undoing."""

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        refuse_texts(unit, asked.model_dump(), form_world(form, unit.catalogue))
        return f"Changed the texts of {asked.title}", asked.model_dump()

    return change_draft(scope, form_id, revision, change, "")


def change_form_settings(scope: Scope, form_id: int, revision: int, asked: FormSettings) -> int:
    """Change steps, challenge, lists joined and languages; what was translated into one taken away goes with it.

    Gives the id for undoing.
    """

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        changes = asked.model_dump()
        changes["joins"] = tuple(one.id for one in unit.catalogue.lists if one.id in asked.joins)
        changes["account"] = asked.account if form.channel == "checkout" else ""
        changes["languages"] = tuple(dict.fromkeys((form.languages[0], *asked.languages)))
        changes["phrases"] = {key: texts for key, texts in form.phrases.items() if key in changes["languages"]}
        return f"Changed how {form.title} goes", changes

    return change_draft(scope, form_id, revision, change, "")


def add_section(scope: Scope, form_id: int, revision: int, title: str = "", slot: Slot = "") -> int:
    """One more section, at the end, of a slot where one is named; gives the id for undoing."""

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        _refuse_slot(form, slot, None)
        section = Section(id=form.next_id("s"), title=title.strip()[:200], slot=slot)
        return "Added a section", {"sections": [*form.sections, section]}

    return change_draft(scope, form_id, revision, change, "none")


def change_section(scope: Scope, form_id: int, revision: int, section_id: str, asked: SectionInput) -> int:
    """Change a section, its rule and its repeating; gives the id for undoing.

    Raises InvalidExpression for a rule or formula with problems. Making a section
    repeat, or no more, needs it to be empty: its questions are about something else.
    """

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        old = section_named(form, section_id)
        texts = {"title": asked.title, "intro": asked.intro, "one": asked.one}
        refuse_texts(unit, texts, form_world(form, unit.catalogue))
        _refuse_rule(unit.catalogue, form, None, "show_when", asked.show_when)
        repeat = _repeat(asked, form, unit.catalogue)
        types = (old.repeat.record_type if old.repeat else 0, repeat.record_type if repeat else 0)
        if types[0] != types[1] and old.questions:
            raise InvalidInput({"repeat": "Its questions are about something else; take them out first."})
        slot = old.slot if asked.slot is None else asked.slot
        _refuse_slot(form, slot, repeat)
        texts = {"title": asked.title, "intro": asked.intro, "show_when": asked.show_when}
        new = old.model_copy(update={**texts, "repeat": repeat, "slot": slot})
        changed = sections_changed(form, lambda section: new if section.id == section_id else section)
        return f"Changed the section {asked.title or old.title}".strip(), changed

    return change_draft(scope, form_id, revision, change, section_id)


def _refuse_slot(form: Form, slot: str, repeat: Repeat | None) -> None:
    """Raise InvalidInput where a section cannot lie in a slot."""
    if slot and form.channel != "checkout":
        raise InvalidInput({"slot": "Only a checkout has these places."})
    if slot == "by_line" and not (repeat and repeat.per):
        raise InvalidInput({"slot": "Only what is asked once for each line or piece can lie by each line."})


def _repeat(asked: SectionInput, form: Form, catalogue: Catalogue) -> Repeat | None:
    if not asked.repeat:
        return None
    if int(asked.repeat) not in catalogue.record_types_by_id:
        raise InvalidInput({"repeat": "There is no such kind of record."})
    if asked.per and form.channel != "checkout":
        raise InvalidInput({"per": "Only a checkout has lines and pieces."})
    count = "" if asked.per else asked.count
    _refuse_rule(catalogue, form, None, "count", count, number=True)
    named = [one.partition(":") for one in asked.among if asked.per]
    among = {what: tuple(key for kind, _, key in named if kind == what) for what in AMONG}
    try:
        return Repeat(
            record_type=int(asked.repeat),
            link=int(asked.link or 0),
            per=asked.per,
            among=Among.model_validate(among),
            count=count,
            least=asked.least,
            most=asked.most,
            one=asked.one,
        )
    except ValidationError as error:
        raise InvalidInput({"least": next(iter(explain_errors(error).values()))}) from None


def _refuse_rule(
    catalogue: Catalogue, form: Form, section: Section | None, name: str, text: str, *, number: bool = False
) -> None:
    """Raise InvalidExpression, by the path of the part, where its expression has problems."""
    if not text:
        return
    problems = rule_problems(text, form, catalogue, section, number=number)
    if problems:
        raise InvalidExpression(problems, name)


def add_question(
    scope: Scope, form_id: int, revision: int, field_id: int, section_id: str = "", after: str = ""
) -> int:
    """Ask one more field, at the end of a section (the last that asks about the same, if none is named) or after an
    item of it.

    Gives the id for undoing. Raises NotFound for no such field or section.
    """

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        known = unit.catalogue.by_id.get(field_id)
        if known is None or known.derived:
            raise NotFound("There is no such field to ask.")
        question = Question(id=form.next_id("q"), field_id=field_id)
        if not form.sections:
            return f"Added the question {known.label}", {"sections": [Section(id="s1", items=(question,))]}
        section = section_named(form, section_id or _fitting_section(form, known, unit.catalogue))
        return f"Added the question {known.label}", item_added(form, question, section.id, after)

    return change_draft(scope, form_id, revision, change, "none")


def add_questions(
    scope: Scope, form_id: int, revision: int, field_ids: Sequence[int], section_id: str = "", *, passing: bool = False
) -> int:
    """Ask several fields, at the end of a section, in the order given; gives the one id for undoing.

    One that is asked already is passed over. `passing` answers are not kept on the person. Raises NotFound for no
    such field or section, InvalidInput for none.
    """

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        asked = {question.field_id for question in form.questions}
        wanted = [unit.catalogue.by_id.get(one) for one in dict.fromkeys(field_ids) if one not in asked]
        if any(known is None or known.derived for known in wanted):
            raise NotFound("There is no such field to ask.")
        fields = [known for known in wanted if known is not None]
        if not fields:
            raise InvalidInput({"field": "Tick the fields to ask, or write the name of a new one."})
        sections = list(form.sections) or [Section(id="s1")]
        home = section_named(form, section_id).id if form.sections else "s1"
        first = int(form.next_id("q")[1:])
        made = tuple(
            Question(id=f"q{first + place}", field_id=known.id, passing=passing) for place, known in enumerate(fields)
        )
        grown = [one.model_copy(update={"items": (*one.items, *made)}) if one.id == home else one for one in sections]
        what = f"the question {fields[0].label}" if len(fields) == 1 else f"{len(fields)} questions"
        return f"Added {what}", {"sections": grown}

    return change_draft(scope, form_id, revision, change, "none")


def ask_new_field(scope: Scope, form_id: int, revision: int, asked: FieldInput, section_id: str = "") -> int:
    """Make a field and ask it at the end of a section, both or neither; gives the id for undoing the question.

    It goes into the group of the last question there, or else the first about the same. Raises InvalidInput.
    """

    def make() -> int:
        with scope.transaction("editor") as unit:
            form = Form.model_validate(form_of(unit, form_id).draft)
            section = section_named(form, section_id) if form.sections else Section(id="s1")
            about = section_about(section)
            beside = [
                unit.catalogue.by_id[one.field_id] for one in section.questions if one.field_id in unit.catalogue.by_id
            ]
            group = next((known.group_id for known in reversed(beside) if known.about == about), 0)
            group = group or next(iter(unit.catalogue.groups_about(about))).id
            field_id = make_field(unit, group_of(unit.catalogue, group), asked, asked.read_options())
            return add_questions(scope, form_id, revision, (field_id,), section_id)

    return patiently(make)


def _fitting_section(form: Form, known: Field, catalogue: Catalogue) -> str:
    """The last section that asks about what the field is about; the last of all where none does."""
    fitting = [section.id for section in form.sections if known.about in asked_about(form, section)]
    return fitting[-1] if fitting else form.sections[-1].id


def add_remark(
    scope: Scope, form_id: int, revision: int, kind: Literal["heading", "note"], section_id: str = ""
) -> int:
    """A heading or a note at the end of a section; gives the id for undoing."""

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        remark = Remark(kind=kind, id=form.next_id("t"), text=f"New {kind}")
        return f"Added a {kind}", item_added(form, remark, section_named(form, section_id).id)

    return change_draft(scope, form_id, revision, change, "none")


def change_remark(scope: Scope, form_id: int, revision: int, remark_id: str, asked: RemarkInput) -> int:
    """Change a heading or note; gives the id for undoing. Raises NotFound, InvalidExpression."""

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        old = form.item(remark_id)
        if not isinstance(old, Remark):
            raise NotFound("There is no such heading or note.")
        refuse_texts(unit, {"text": asked.text}, form_world(form, unit.catalogue))
        _refuse_rule(unit.catalogue, form, form.section_of(remark_id), "show_when", asked.show_when)
        new = Remark(id=remark_id, **asked.model_dump())
        return f"Changed the {asked.kind}", with_item(form, remark_id, new)

    return change_draft(scope, form_id, revision, change, remark_id)


def change_question(scope: Scope, form_id: int, revision: int, question_id: str, asked: QuestionInput) -> int:
    """Change a question with its rules, checks and surcharges; gives the id for undoing.

    Raises InvalidExpression for a rule with problems, InvalidInput for a check
    that will not do, each at its input.
    """

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        old = form.question(question_id)
        if old is None:
            raise NotFound("There is no such question.")
        section = form.section_of(question_id)
        given = asked.model_dump() | {
            "id": question_id,
            "field_id": old.field_id,
            "shown_at": old.shown_at,
            "menu": tuple(dict.fromkeys(line.strip() for line in asked.menu if line.strip())),
            "required": {"": None, "yes": True, "no": False, "when": None}[asked.required],
            "required_when": asked.required_when if asked.required == "when" else "",
            "options_when": {option: rule for option, rule in asked.options_when.items() if rule.strip()},
            "checks": tuple(_read_check(place, check) for place, check in enumerate(asked.checks)),
            "surcharges": tuple(_read_surcharge(place, one) for place, one in enumerate(asked.surcharges)),
        }
        try:
            new = Question.model_validate(given)
        except ValidationError as error:
            raise InvalidInput(explain_errors(error)) from None
        _refuse_rules(unit.catalogue, form, section, new)
        messages = {f"checks.{place}.message": one.message for place, one in enumerate(new.checks)}
        texts = {"label": new.label, "help": new.help, "sample": new.sample, **messages}
        refuse_texts(unit, texts, form_world(form, unit.catalogue))
        for place, one in enumerate(new.surcharges):
            problems = text_problems(one.label, form, unit.catalogue, section)
            if problems:
                raise InvalidInput({f"surcharges.{place}.label": problems[0].message})
        if new.later and (why := why_not_later(new, _with(form, new), unit.catalogue)):
            raise InvalidInput({"later": why})
        if {one.list_id for one in new.lists} - {one.id for one in unit.catalogue.lists}:
            raise InvalidInput({"lists": "There is no such list."})
        return f"Changed the question {_label(unit, new)}", with_item(form, question_id, new)

    return change_draft(scope, form_id, revision, change, question_id)


def _with(form: Form, new: Question) -> Form:
    """The form with a question as it is to be."""
    return form.model_copy(update=with_item(form, new.id, new))


def _refuse_rules(catalogue: Catalogue, form: Form, section: Section | None, new: Question) -> None:
    for _, part, text in Section(id="s0", items=(new,)).walk_rules():
        what, _, which = part.partition(":")
        path = {
            "check": f"checks.{which}.expression",
            "surcharge": f"surcharges.{which}.amount",
            "option": f"options_when.{which}",
        }
        _refuse_rule(catalogue, form, section, path.get(what, part), text, number=what == "surcharge")


def _read_check(place: int, check: Mapping[str, Any]) -> Check:
    try:
        return _CHECK.validate_python({key: value for key, value in check.items() if value not in ("", None)})
    except ValidationError as error:
        inputs = {
            "range": "low",
            "length": "low",
            "count": "low",
            "date": "low",
            "pattern": "pattern",
            "same": "question",
        }
        fallback = inputs.get(str(check.get("kind")), "expression")
        found = {name if name in check else fallback: words for name, words in explain_errors(error).items()}
        raise InvalidInput({f"checks.{place}.{name}": words for name, words in found.items()}) from None


def _read_surcharge(place: int, given: Mapping[str, Any]) -> Surcharge:
    try:
        return Surcharge.model_validate({key: value for key, value in given.items() if value not in ("", None)})
    except ValidationError as error:
        found = explain_errors(error)
        raise InvalidInput({f"surcharges.{place}.{name}": words for name, words in found.items()}) from None


def _label(unit: Unit, question: Question) -> str:
    known = unit.catalogue.by_id.get(question.field_id)
    return question.label or (known.label if known else question.id)


def remove_part(scope: Scope, form_id: int, revision: int, place: str) -> int:
    """Take a question, remark or whole section out; what was stored stays. Gives the id for undoing."""

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        section = form.section(place)
        if section is None and form.item(place) is None:
            raise NotFound("There is no such question.")
        label = f"Removed {label_of(form, unit.catalogue, place)}"
        if section is not None:
            return label, {"sections": [one for one in form.sections if one.id != place]}
        return label, sections_changed(
            form, lambda one: one.model_copy(update={"items": tuple(i for i in one.items if i.id != place)})
        )

    return change_draft(scope, form_id, revision, change, place)


def arrange(scope: Scope, form_id: int, revision: int, order: Sequence[str]) -> int:
    """Put sections and their items in this order: each section's id, followed by those of its items.

    Gives the id for undoing. Raises Conflict unless all are named once, and
    InvalidInput where a question would come among those about something else.
    """

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        items = {item.id: item for section in form.sections for item in section.items}
        known = {section.id: section for section in form.sections}
        if sorted(order) != sorted([*items, *known]) or (order and order[0] not in known):
            raise Conflict("The form has changed meanwhile; look at it again.")
        found: dict[str, list[Question | Remark]] = {}
        here = ""
        for one in order:
            if one in known:
                here = one
                found[here] = []
            else:
                found[here].append(items[one])
        sections = [known[one].model_copy(update={"items": tuple(parts)}) for one, parts in found.items()]
        _refuse_strangers(form, sections)
        sections = _where_it_was_put(form, sections)
        return f"Reordered {form.title}", {"sections": sections}

    return change_draft(scope, form_id, revision, change, "none")


def _where_it_was_put(form: Form, sections: list[Section]) -> list[Section]:
    """A section of a checkout that was moved among those of another slot lies in that one now."""
    before, after = [one.id for one in form.sections], [one.id for one in sections]
    for place, one in enumerate(sections):
        rest = [other for other in after if other != one.id]
        if before != after and rest == [other for other in before if other != one.id]:
            beside = sections[place - 1] if after.index(one.id) > before.index(one.id) else sections[place + 1]
            try:
                _refuse_slot(form, beside.slot, one.repeat)
            except InvalidInput as problem:
                raise InvalidInput({"order": problem.messages["slot"]}) from None
            return [other.model_copy(update={"slot": beside.slot}) if other is one else other for other in sections]
    return sections


def lay_out(scope: Scope, form_id: int, revision: int, order: Sequence[str]) -> int:
    """Lay the sections of a checkout on its page: each slot's key, followed by the ids of what lies in it.

    Gives the id for undoing. Raises Conflict unless all sections are named once, each after a slot, and InvalidInput
    where one cannot lie there.
    """

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        slot, laid = "", []
        for one in order:
            section = form.section(one)
            if section is None:
                slot = one
                continue
            if slot_of(section.slot) != slot:
                _refuse_slot(form, slot, section.repeat)
            laid.append(section.model_copy(update={"slot": slot}))
        if sorted(one.id for one in laid) != sorted(one.id for one in form.sections) or any(
            one.slot not in SLOTS for one in laid
        ):
            raise Conflict("The form has changed meanwhile; look at it again.")
        return f"Laid out {form.title}", {"sections": laid}

    return change_draft(scope, form_id, revision, change, "none")


def set_steps(scope: Scope, form_id: int, revision: int, *, stepped: bool) -> int:
    """Show a form step by step, or on one page; gives the id for undoing."""

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        words = "goes step by step" if stepped else "is on one page"
        return f"{form.title} {words}", {"stepped": stepped}

    return change_draft(scope, form_id, revision, change, "")


def _refuse_strangers(form: Form, sections: Sequence[Section]) -> None:
    for section in sections:
        for question in section.questions:
            home = form.section_of(question.id)
            if home and (home.repeat and home.repeat.record_type) != (section.repeat and section.repeat.record_type):
                raise InvalidInput({"order": "This question is about something else than those of that section."})


def copy_item(scope: Scope, form_id: int, revision: int, item_id: str, field_id: int = 0, from_form: int = 0) -> int:
    """Copy a question or remark, with its rules and checks, after itself or to the end of another form.

    A question asks a field once a form, so a duplicate asks `field_id`. Gives the
    id for undoing. Raises NotFound, and InvalidInput where the field is asked
    already or is of another type.
    """

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        source = Form.model_validate(form_of(unit, from_form).draft) if from_form else form
        item = source.item(item_id)
        if item is None:
            raise NotFound("There is no such question.")
        if isinstance(item, Remark):
            made: Question | Remark = item.model_copy(update={"id": form.next_id("t")})
        else:
            made = _copied(unit.catalogue, form, item, field_id)
        home = source.section_of(item_id) if not from_form else form.sections[-1] if form.sections else None
        if home is None:
            raise NotFound("There is no section to copy it to.")
        return f"Copied {label_of(source, unit.catalogue, item_id)}", item_added(form, made, home.id, item_id)

    return change_draft(scope, form_id, revision, change, "none")


def _copied(catalogue: Catalogue, form: Form, item: Question, field_id: int) -> Question:
    known, own = catalogue.by_id.get(field_id or item.field_id), catalogue.by_id.get(item.field_id)
    if known is None:
        raise NotFound("There is no such field to ask.")
    if any(question.field_id == known.id for question in form.questions):
        raise InvalidInput({"field": f"{known.label} is asked already; choose another field for the copy."})
    same = own is not None and own.type_key == known.type_key and own.about == known.about
    changes: dict[str, Any] = {"id": form.next_id("q"), "field_id": known.id}
    if not same or known.id != item.field_id:
        changes |= {"label": "", "help": ""}
    if not same:
        changes |= {"checks": (), "options_when": {}, "default": "", "surcharges": ()}
    elif known.id != item.field_id:
        changes |= {"options_when": {}}
    return item.model_copy(update=changes)


def duplicate_section(scope: Scope, form_id: int, revision: int, section_id: str) -> int:
    """Copy a section without its items, as each field is asked once a form; gives the id for undoing."""

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        old = section_named(form, section_id)
        made = old.model_copy(update={"id": form.next_id("s"), "title": f"{old.title} (copy)".strip(), "items": ()})
        place = form.sections.index(old) + 1
        return "Copied a section", {"sections": [*form.sections[:place], made, *form.sections[place:]]}

    return change_draft(scope, form_id, revision, change, "none")


def set_phrases(
    scope: Scope,
    form_id: int,
    revision: int,
    language: str,
    phrases: Mapping[str, str],
    was: Mapping[str, str] | None = None,
) -> int:
    """Say texts of the form in another of its languages; "" for none. Gives the id for undoing.

    `was` is what the page showed. Raises NotFound, Overtaken for a clash, and InvalidInput, by our text, for a
    placeholder that cannot work.
    """

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        if language not in form.languages[1:]:
            raise NotFound("The form has no such language.")
        known = form.phrases.get(language, {})
        said = {key: text.strip()[:2_000] for key, text in phrases.items()}
        if was is not None:
            said = merged_parts(said, was, {key: known.get(key, "") for key in said}, "Somebody else", {})
        # A translation may say in braces what the text itself does, and what works by itself.
        own = {key: text for key, text in said.items() if not _same_braces(key, text)}
        refuse_texts(unit, own, form_world(form, unit.catalogue))
        texts = {**known, **said}
        kept = {key: text for key, text in texts.items() if text}
        return f"Translated {form.title}", {"phrases": {**form.phrases, language: kept}}

    return change_draft(scope, form_id, revision, change, "none")


def _same_braces(text: str, said: str) -> bool:
    return set(expressions_in(said)) <= set(expressions_in(text))
