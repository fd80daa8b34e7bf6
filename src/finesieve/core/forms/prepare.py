"""A form made ready: its rules checked and compiled, and put in an order in which each finds what it reads."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache

from finesieve.core.commerce.cart import LINES, cart_names, line_names
from finesieve.core.commerce.shop import Shop
from finesieve.core.fields.about import LEVEL, ORDER, PERSON, record_about
from finesieve.core.fields.contexts import answer_read
from finesieve.core.fields.definition import Field
from finesieve.core.fields.options import Option
from finesieve.core.forms.definition import Form, Question, Remark, Section, Surcharge
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.names import Place, World
from finesieve.core.language.program import Program
from finesieve.core.language.typed import Typed
from finesieve.core.model.catalogue import Catalogue, hidden_groups
from finesieve.core.model.checks import Check, NamedCheck, SameCheck, check_expression, without_message
from finesieve.core.values import Kind

__all__ = [
    "Compiled",
    "CompiledCheck",
    "CompiledQuestion",
    "CompiledRemark",
    "CompiledSection",
    "Rule",
    "asked_about",
    "can_ask",
    "compile_checks",
    "compile_form",
    "form_world",
    "resolve",
    "section_about",
    "section_world",
    "unit_needs",
]


@dataclass(frozen=True, slots=True)
class Rule:
    """A checked expression and its program; without `typed` it has lost its meaning and is always unknown."""

    text: str
    typed: Typed | None
    program: Program


@dataclass(frozen=True, slots=True)
class CompiledCheck:
    """A check with its message. `same` is the question that a comparison goes to."""

    check: Check
    message: str
    rule: Rule | None = None
    same: str = ""


@dataclass(frozen=True, slots=True)
class CompiledQuestion:
    """A question with its field and its rules. `insists` is whether it is required where no rule says.

    A surcharge that is a share has no rule. `checked` checks what stands in the placeholders of their labels.
    """

    id: str
    stores: bool
    insists: bool
    question: Question
    field: Field
    show: Rule | None
    required: Rule | None
    options: Mapping[str, Rule]
    checks: tuple[CompiledCheck, ...]
    charges: tuple[tuple[Surcharge, Rule | None], ...]
    checked: Callable[[str], Checked] | None = None


@dataclass(frozen=True, slots=True)
class CompiledRemark:
    """A heading or note with its rule."""

    remark: Remark
    show: Rule | None

    @property
    def id(self) -> str:
        return self.remark.id


@dataclass(frozen=True, slots=True)
class CompiledSection:
    """A section with its rules. `order` are its questions so that each comes after those its rules read.

    Of a repeated one, `collection` is the name of its records, `about` what they
    are and `link` what ties them to the person.
    """

    section: Section
    show: Rule | None
    items: tuple[CompiledQuestion | CompiledRemark, ...]
    count: Rule | None = None
    about: str = PERSON
    collection: str = ""
    link: int = 0
    order: tuple[CompiledQuestion, ...] = ()
    reads: frozenset[str] = field(default=frozenset())


def can_ask(one: Field | None, hidden: frozenset[int] = frozenset(), about: str = PERSON) -> bool:
    """Whether a public page asks a field: it is there, not derived, not resting, not private to staff."""
    if one is None or one.derived or one.about != about:
        return False
    return not (one.settings.resting or one.settings.private or one.group_id in hidden)


def section_about(section: Section) -> str:
    """What the questions of a section are about."""
    return record_about(section.repeat.record_type) if section.repeat else PERSON


def asked_about(form: Form, section: Section) -> tuple[str, ...]:
    """What a section may ask about: a checkout asks about the order, too."""
    return (PERSON, ORDER) if form.channel == "checkout" and not section.repeat else (section_about(section),)


def form_world(form: Form, catalogue: Catalogue, world: World | None = None) -> World:
    """All that is in reach of a rule of a form: a person's names, and `form.`, `person.`, `page.`."""
    base = world or catalogue.world(PERSON)
    asked = [catalogue.by_id.get(question.field_id) for question in form.questions]
    answers = {one.key: one.value_type for one in asked if one is not None and one.about == PERSON and one.stores}
    of_levels = base.members[LEVEL].names if LEVEL in base.members else {}
    if "level" in answers:
        answers |= {f"level.{key}": type_ for key, type_ in of_levels.items()}
    prefixes = {"form": answers, "person": base.base.names, "page": None, "level": of_levels}
    made = replace(base, prefixes={**base.prefixes, **prefixes}, remembered=frozenset())
    if form.channel != "checkout" or catalogue.shop is None:
        return made
    order = {one.key: one.value_type for one in asked if one is not None and one.about == ORDER and one.stores}
    # The fields of the order are in reach by their bare names, too.
    called = {**base.called.get(ORDER, {}), **base.called.get(PERSON, {})}
    names = {**base.names.get(ORDER, {}), **base.names.get(PERSON, {})}
    return replace(
        made,
        called={**base.called, PERSON: called},
        names={**base.names, PERSON: names},
        base=replace(base.base, names={**order, **base.base.names}),
        members={**base.members, LINES: _line_names(form, catalogue, catalogue.shop)},
        prefixes={
            **made.prefixes,
            "form": {**order, **answers},
            "order": order,
            "cart": cart_names(catalogue.shop, catalogue.manner.language),
        },
        collections={"cart.lines": LINES},
    )


def _line_names(form: Form, catalogue: Catalogue, shop: Shop) -> Place:
    """What is in reach within `cart.lines`: what a line is, and what is asked of each."""
    asked = [
        catalogue.by_id.get(question.field_id)
        for section in form.sections
        if section.repeat and section.repeat.per == "line"
        for question in section.questions
    ]
    own = line_names(shop)
    answers = {one.key: one.value_type for one in asked if one is not None and one.stores}
    return replace(own, names={**answers, **own.names})


def section_world(world: World, section: Section) -> World:
    """The same within a section: in a repeated one, the record comes first, with the line of the cart it is for."""
    if not section.repeat:
        return world
    about = section_about(section)
    record = world.members.get(about, Place(about, {}))
    if section.repeat.per and LINES in world.members:
        record = replace(record, names={**world.members[LINES].names, **record.names})
    return replace(world, inner=(record,))


def resolve(check_: Check, catalogue: Catalogue) -> Check | None:
    """The check itself, or the one of the library that it names; None where that is gone."""
    if not isinstance(check_, NamedCheck):
        return check_
    known = catalogue.checks.get(check_.check_id)
    if known is None:
        return None
    return known.check.model_copy(update={"message": check_.message or known.check.message})


Checker = Callable[[str, World, Kind | None], Checked]


def _unknown(_row: object, _moment: object) -> None:
    return None


class _Maker:
    def __init__(self, form: Form, catalogue: Catalogue, world: World) -> None:
        self.form, self.catalogue = form, catalogue
        self.world = form_world(form, catalogue, world)
        self.hidden = hidden_groups(catalogue)

    def rule(self, text: str, world: World, expect: Kind | None = "yes_no") -> Rule | None:
        if not text:
            return None
        typed = check(text, world, zone=self.catalogue.zone, expect=expect).typed
        # A rule that lost its meaning after publishing is unknown, and what hangs on it does not show.
        return Rule(text, typed, compile_python(typed) if typed is not None else _unknown)

    def section(self, section: Section) -> CompiledSection:
        about, world = section_about(section), section_world(self.world, section)
        abouts = asked_about(self.form, section)
        items: list[CompiledQuestion | CompiledRemark] = []
        for item in section.items:
            if isinstance(item, Remark):
                items.append(CompiledRemark(item, self.rule(item.show_when, world)))
                continue
            known = self.catalogue.by_id.get(item.field_id)
            if known is not None and any(can_ask(known, self.hidden, one) for one in abouts):
                items.append(self.question(item, known, world))
        show = self.rule(section.show_when, self.world)
        if not section.repeat:
            return CompiledSection(section, show, tuple(items))
        link = self._link(section)
        count = self.rule(section.repeat.count, self.world, None)
        made = CompiledSection(
            section, show, tuple(items), count, about, link[1] if link else "", link[0] if link else 0
        )
        needs = {one.id: self._inner_needs(one, made) for one in items if isinstance(one, CompiledQuestion)}
        order = _in_order([one for one in items if isinstance(one, CompiledQuestion)], needs)
        return replace(made, order=order)

    def _link(self, section: Section) -> tuple[int, str] | None:
        assert section.repeat is not None
        known = self.catalogue.record_types_by_id.get(section.repeat.record_type)
        links = [link for link in known.links if link.target == PERSON] if known else []
        chosen = next((link for link in links if link.id == section.repeat.link), links[0] if links else None)
        return (chosen.id, chosen.back_key) if chosen else None

    def _inner_needs(self, one: CompiledQuestion, section: CompiledSection) -> frozenset[str]:
        """The ids of the questions of the same record that a question waits for."""
        read = {
            part.name
            for rule in _rules(one)
            for part in (rule.typed.walk() if rule.typed else ())
            if part.operation == "name" and part.level == 1 and part.about == section.about
        }
        read |= _read_beside(one)
        keys = self.catalogue.derivation_of(section.about).ancestors(frozenset(read))
        return frozenset(
            other.id for other in section.items if isinstance(other, CompiledQuestion) and other.field.key in keys
        )

    def question(self, question: Question, known: Field, world: World) -> CompiledQuestion:
        if question.menu and known.type_key == "short_text":
            # As it is asked here; what is kept is the text.
            known = replace(known, type_key="choice", options=tuple(Option(one, one) for one in question.menu))
        checks = [self.check(one, known, world) for one in question.checks]
        charges = [(one, self.rule(one.amount, world, None)) for one in question.surcharges]
        insists = known.required if question.required is None else question.required
        return CompiledQuestion(
            question.id,
            known.stores,
            known.stores and insists,
            question,
            known,
            self.rule(question.show_when, world),
            self.rule(question.required_when, world),
            {option: rule for option, text in question.options_when.items() if (rule := self.rule(text, world))},
            tuple(one for one in checks if one is not None),
            tuple((surcharge, rule) for surcharge, rule in charges if rule is not None or surcharge.share is not None),
            self.checker(world) if any("{" in one.label for one in question.surcharges) else None,
        )

    def checker(self, world: World) -> Callable[[str], Checked]:
        """Checks expressions that stand there; what was checked is remembered."""

        @lru_cache(maxsize=64)
        def checked(text: str) -> Checked:
            return check(text, world, zone=self.catalogue.zone)

        return checked

    def check(self, asked: Check, known: Field, world: World) -> CompiledCheck | None:
        found = resolve(asked, self.catalogue)
        if found is None:
            return None
        if isinstance(found, SameCheck):
            other = self.form.question(found.question)
            its = self.catalogue.by_id.get(other.field_id) if other else None
            label = (other.label or (its.label if its else "")) if other else ""
            return CompiledCheck(found, found.message or without_message(found, other=label), same=found.question)
        message = found.message or without_message(found, known.unit)
        text = check_expression(found, known.key, known.value_type.kind)
        return CompiledCheck(found, message, self.rule(text, world) if text else None)


def compile_checks(
    checks: Sequence[Check], known: Field, world: World, catalogue: Catalogue
) -> tuple[CompiledCheck, ...]:
    """Checks of an answer that is asked by itself, outside of any form, where these names are in reach."""
    maker = _Maker(Form(title="-"), catalogue, world)
    found = [maker.check(one, known, world) for one in checks]
    return tuple(one for one in found if one is not None)


def _rules(one: CompiledQuestion) -> Iterable[Rule]:
    """The rules that must be known before a question can be answered."""
    if one.show:
        yield one.show
    yield from one.options.values()


def _read_beside(one: CompiledQuestion) -> frozenset[str]:
    """The key of the field whose answer decides how this one is read: the country of a region or a postcode."""
    return frozenset((one.field.settings.country_from,)) - {""}


def _in_order(questions: list[CompiledQuestion], needs: Mapping[str, frozenset[str]]) -> tuple[CompiledQuestion, ...]:
    by_id = {question.id: question for question in questions}
    return tuple(by_id[one] for one in _sorted(list(by_id), needs))


def _sorted(ids: list[str], needs: Mapping[str, frozenset[str]]) -> list[str]:
    """The ids so that each comes after those it needs; a circle is broken where it is met."""
    ordered: dict[str, None] = {}
    seen: set[str] = set()

    def place(one: str) -> None:
        if one in seen:
            return
        seen.add(one)
        for other in sorted(needs.get(one, ())):
            place(other)
        ordered[one] = None

    for one in ids:
        place(one)
    return list(ordered)


@dataclass(frozen=True, slots=True)
class Compiled:
    """A form with its sections compiled, and the order in which its units are worked out.

    A unit is a question of a plain section, by its id, or a repeated section as a whole; `units` has them in
    that order, without a question for a repeated section. `world` is what its rules and texts may name.
    """

    form: Form
    sections: tuple[CompiledSection, ...]
    order: tuple[str, ...]
    units: tuple[tuple[CompiledSection, CompiledQuestion | None], ...]
    world: World


def unit_needs(sections: Iterable[CompiledSection], catalogue: Catalogue) -> dict[str, frozenset[str]]:
    """Which units each unit waits for, by id."""
    sections = tuple(sections)
    asking: dict[str, str] = {}
    by_line: dict[str, str] = {}
    for section in sections:
        if section.section.repeat:
            asking[section.collection] = section.section.id
            if section.section.repeat.per == "line":
                by_line |= {one.field.key: section.section.id for one in section.order}
        else:
            asking |= {item.field.key: item.id for item in section.items if isinstance(item, CompiledQuestion)}
    joining = {
        item.id: frozenset(effect.list_id for effect in item.question.lists)
        for section in sections
        for item in section.items
        if isinstance(item, CompiledQuestion) and item.question.lists and not section.section.repeat
    }
    needs: dict[str, frozenset[str]] = {}
    for section in sections:
        around = [rule for rule in (section.show, section.count) if rule]
        questions = [item for item in section.items if isinstance(item, CompiledQuestion)]
        if section.section.repeat:
            rules = [*around, *(rule for one in questions for rule in _rules(one))]
            needs[section.section.id] = _units_read(rules, asking, catalogue) | _lines_read(rules, by_line)
            continue
        for one in questions:
            beside = frozenset(asking[key] for key in _read_beside(one) if key in asking)
            lists = frozenset(one.field.settings.lists)
            first = frozenset(other for other, joins in joining.items() if other != one.id and joins & lists)
            rules = [*around, *_rules(one)]
            read = _units_read(rules, asking, catalogue) | _lines_read(rules, by_line)
            needs[one.id] = read | beside | first
    return needs


def _units_read(rules: Iterable[Rule], asking: Mapping[str, str], catalogue: Catalogue) -> frozenset[str]:
    names: set[str] = set()
    for rule in rules:
        if rule.typed is not None:
            names |= {answer for name in rule.typed.names if (answer := answer_read(name)) is not None}
    read = catalogue.derivation.ancestors(frozenset(names))
    return frozenset(asking[name] for name in read if name in asking)


def _lines_read(rules: Iterable[Rule], by_line: Mapping[str, str]) -> frozenset[str]:
    """The sections whose answers, one for each line of the cart, are read there."""
    parts = (part for rule in rules if by_line and rule.typed is not None for part in rule.typed.walk())
    return frozenset(by_line[part.name] for part in parts if part.about == LINES and part.name in by_line)


def compile_form(form: Form, catalogue: Catalogue, *, lasting: bool = False) -> Compiled:
    """Check and compile a form. Questions of fields that are deleted, resting or private to staff are left out.

    `lasting` is for a published version: in its rules deleted fields are there still, and always blank.
    """
    maker = _Maker(form, catalogue, catalogue.lasting_world if lasting else catalogue.world(PERSON))
    sections = tuple(maker.section(section) for section in form.sections)
    needs = unit_needs(sections, catalogue)
    order = tuple(_sorted(list(needs), needs))
    units: dict[str, tuple[CompiledSection, CompiledQuestion | None]] = {}
    for section in sections:
        units[section.section.id] = (section, None)
        questions = () if section.section.repeat else section.items
        units |= {item.id: (section, item) for item in questions if isinstance(item, CompiledQuestion)}
    return Compiled(form, sections, order, tuple(units[unit] for unit in order), maker.world)
