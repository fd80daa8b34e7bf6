"""Computing: derived fields, tried out on a few people before they are saved."""

from dataclasses import dataclass, replace
from functools import partial
from typing import Final

from pydantic import Field as Bounds

from finesieve.core.errors import FineSieveError, InvalidExpression, InvalidInput, NotAllowed, NotFound, TookTooLong
from finesieve.core.fields.about import HOUSE, PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.language.checker import Checked
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.problems import Problem
from finesieve.core.language.tree import Name, walk
from finesieve.core.language.typed import Typed
from finesieve.core.limits import EXPRESSION, HELP, KEY, LABEL, UNIT
from finesieve.core.model.catalogue import circle_with
from finesieve.core.values import Type, Value
from finesieve.services.define.fields import free_key, next_position, refuse_called_so_meanwhile
from finesieve.services.kernel.changes import record_change, refuse_overtaken, snapshot
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.turns import SECONDS, a_turn
from finesieve.services.usage.awaiting import awaited_in
from finesieve.services.usage.uses import Use, uses_of
from finesieve.services.values.value_lines import person_name, worked_out
from finesieve.services.values.writing import row_of
from finesieve.store.connection.database import apart, in_time
from finesieve.store.definitions.catalogue import touch
from finesieve.store.reading.house import HouseNow
from finesieve.store.reading.people import blank_count, page_of_people
from finesieve.store.reading.rows import page_of_rows, titles_of
from finesieve.store.tables import FieldRow

__all__ = [
    "DerivedInput",
    "DerivedView",
    "Preview",
    "Sample",
    "TriedOn",
    "change_derived",
    "check_formula",
    "create_derived",
    "preview_formula",
    "read_derived",
]


_NAMED: Final = 8


class DerivedInput(Input):
    """A derived field as typed."""

    label: str = Bounds(min_length=1, max_length=LABEL)
    key: str = Bounds(default="", max_length=KEY)
    help: str = Bounds(default="", max_length=HELP)
    unit: str = Bounds(default="", max_length=UNIT)
    formula: str = Bounds(min_length=1, max_length=EXPRESSION)
    group_id: int = 0


@dataclass(frozen=True, slots=True)
class Sample:
    """A formula worked out for one person: with the values put in, and the result as shown."""

    person_id: int
    name: str
    worked: str
    shown: str


@dataclass(frozen=True, slots=True)
class Preview:
    """What a formula would give.

    `blank` of `people` could not be worked out, `undone` of them although all that the formula reads is filled;
    `awaited` house values are blank. `withheld` is a formula that reads what only editors see, `failure`
    says why a sound formula could not be tried out, `said` what is amiss with whom it was to be tried on.
    """

    problems: tuple[Problem, ...]
    type: Type | None = None
    samples: tuple[Sample, ...] = ()
    people: int = 0
    blank: int = 0
    volatile: bool = False
    awaited: tuple[Field, ...] = ()
    undone: int = 0
    withheld: bool = False
    failure: str = ""
    said: str = ""


@dataclass(frozen=True, slots=True)
class TriedOn:
    """On whom a formula is tried: those whom words find, with values `as_if` they were so, which are stored nowhere."""

    who: str = ""
    as_if: str = ""


@dataclass(frozen=True, slots=True)
class DerivedView:
    """A derived field with what it reads and what uses it."""

    field: Field
    reads: tuple[Field, ...]
    uses: tuple[Use, ...]
    broken: bool


def preview_formula(
    scope: Scope,
    formula: str,
    key: str = "",
    unit_name: str = "",
    about: str = PERSON,
    tried_on: TriedOn = TriedOn(),
) -> Preview:
    """Check a formula and work it out for a few people, records or levels, or the house; stores nothing.

    It takes two seconds at the most, and each person has one preview at a time. Raises TooOften, Unavailable.

    `key` is that of the field whose formula it is, which it may not read; `tried_on` says on whom it is tried, the
    newest where nobody is named.
    """
    with a_turn(scope), scope.reading("reader") as unit:
        try:
            with apart(unit.session, SECONDS):
                return _previewed(unit, formula, key, unit_name, about, tried_on)
        except TookTooLong as why:
            return Preview((), failure=str(why))
        except NotAllowed:
            raise
        except FineSieveError:
            return Preview((), failure="The database cannot work this out. Write it another way.")


def _previewed(unit: Unit, formula: str, key: str, unit_name: str, about: str, tried_on: TriedOn) -> Preview:
    checked = check_formula(unit, formula, key, about)
    if checked.typed is None:
        own = unit.catalogue.keys_of(about).get(key)
        withheld = own is not None and own.formula == formula and not unit.sees(own)
        return Preview(() if withheld else checked.problems, withheld=withheld)
    typed = checked.typed
    awaited = awaited_in(unit, [formula], about=about)
    if about != PERSON:
        return replace(_elsewhere(unit, typed, formula, about, unit_name), awaited=awaited)
    program = compile_python(typed)
    stored = [field.key for field in unit.catalogue.stored]
    instead, problem = _instead(unit, tried_on.as_if)
    found = partial(page_of_people, unit.session, unit.definitions, unit.moment, stored)
    named = found(search=tried_on.who, limit=_NAMED) if tried_on.who.strip() else []
    people = named or found(limit=60)
    field = Field(0, key, "", "short_text", 0, unit=unit_name, formula=formula, result=typed.type, manner=unit.manner)
    source = unit.catalogue.by_key.get(typed.type.source)
    if source is not None:
        field = Field(0, key, "", "choice", 0, options=source.options, formula=formula, result=typed.type)
    filled: list[Sample] = []
    blanks: list[Sample] = []
    for person in people:
        in_time(unit.session)
        row = row_of(unit, PERSON, person.id, {**person.values, **instead})
        value = program(row, unit.moment)
        shown = worked_out(unit, formula, row)
        sample = Sample(person.id, person_name(person.values), shown, field.show(value))
        (blanks if value is None else filled).append(sample)
    missing = blank_count(unit.session, unit.definitions, typed, unit.moment)
    chosen = tuple(filled + blanks) if named else tuple(filled[:4] + blanks[:1] if filled else blanks[:3])
    nobody = f"Nobody is found by “{tried_on.who.strip()}”; these are the newest." if tried_on.who.strip() else ""
    return Preview(
        (), typed.type, chosen, missing.everyone, missing.blank, typed.volatile, awaited, undone=missing.undone,
        said=problem or ("" if named else nobody),
    )  # fmt: skip


def _instead(unit: Unit, text: str) -> tuple[dict[str, Value], str]:
    """Values of one's own choosing, `plot_length = 9; soil = clay`; and what is wrong with them."""
    found: dict[str, Value] = {}
    for part in text.replace("\n", ";").split(";")[:20]:
        if not part.strip():
            continue
        key, sign, raw = part.partition("=")
        field = unit.visible.named(PERSON).get(key.strip().lower())
        if not sign or field is None or not field.stores or not unit.sees(field):
            return {}, f"Write values such as plot_length = 9; “{part.strip()[:40]}” names no field."
        try:
            found[field.key] = field.parse(raw.strip(), None, unit.moment.today)
        except ValueError as why:
            return {}, f"{field.label}: {why.args[0] if why.args else 'this does not fit'}"
    return found, ""


def _elsewhere(unit: Unit, typed: Typed, formula: str, about: str, unit_name: str) -> Preview:
    """The preview where the formula stands with the house, a level, an order or a record."""
    field = Field(0, "", "", "short_text", 0, unit=unit_name, formula=formula, result=typed.type, manner=unit.manner)
    if about == HOUSE:
        assert isinstance(unit.moment.house, HouseNow)
        value = unit.moment.house.work_out(typed)
        return Preview((), typed.type, (Sample(0, "The house", formula, field.show(value)),), 1, int(value is None))
    program = compile_python(typed)
    keys = [known.key for known in unit.catalogue.stored_about(about)]
    samples, blank, undone = [], 0, 0
    rows = page_of_rows(unit.session, unit.definitions, about, keys, limit=60)
    titles = titles_of(unit.session, unit.definitions, about, [row_id for row_id, _ in rows], sees=unit.sees)
    for row_id, values in rows:
        in_time(unit.session)
        value = program(row_of(unit, about, row_id, values), unit.moment)
        blank += value is None
        undone += value is None and all(values.get(name) is not None for name in typed.names)
        worked = worked_out(unit, formula, values, about)
        samples.append(Sample(row_id, titles.get(str(row_id), f"no. {row_id}"), worked, field.show(value)))
    return Preview((), typed.type, tuple(samples[:5]), len(samples), blank, typed.volatile, undone=undone)


def check_formula(unit: Unit, formula: str, key: str, about: str = PERSON) -> Checked:
    """Check a formula of the field `key`; one that would read itself, over however many steps, has a problem."""
    checked = unit.visible.check(formula, about=about)
    if checked.typed is None or not key or checked.tree is None:
        return checked
    circle = circle_with(unit.catalogue, key, checked.typed.reads, about)
    if not circle:
        return checked
    by_key = unit.catalogue.keys_of(about)
    labels = [by_key[name].label if name in by_key else name for name in circle]
    # What leads back to the field is the next of the circle; it may stand within a collection.
    following = circle[1] if len(circle) > 1 else key
    guilty = next(
        (part for part in walk(checked.tree) if isinstance(part, Name) and part.path[-1] == following), checked.tree
    )
    message = f"This field would be worked out from itself: {' → '.join(labels)}."
    return Checked(checked.tree, None, (Problem("circle", guilty.span, message),))


def read_derived(scope: Scope, field_id: int) -> DerivedView:
    """A derived field. Raises NotFound where there is none."""
    with scope.reading("reader") as unit:
        field = unit.catalogue.by_id.get(field_id)
        if field is None or not field.derived:
            raise NotFound("There is no such derived field.")
        formula = unit.catalogue.derivation_of(field.about).formulas.get(field.key)
        names = formula.reads if formula else frozenset()
        reads = tuple(other for other in unit.catalogue.all_fields if (other.about, other.key) in names)
        return DerivedView(field, reads, uses_of(unit).of_field(field_id), formula is None)


def create_derived(scope: Scope, asked: DerivedInput) -> int:
    """Save a new derived field; gives its id.

    Raises InvalidExpression for a formula with problems, and InvalidInput for
    a key that cannot be used.
    """
    with scope.transaction("editor") as unit:
        groups = {group.id: group for group in unit.catalogue.all_groups}
        group = groups.get(asked.group_id) or unit.catalogue.groups[-1]
        key = free_key(unit, group.about, asked.label, asked.key)
        checked = check_formula(unit, asked.formula, key, group.about)
        if checked.problems:
            raise InvalidExpression(checked.problems, "formula")
        row = FieldRow(
            workspace_id=unit.workspace_id,
            group_id=group.id,
            about=group.about,
            key=key,
            label=asked.label,
            type_key="short_text",
            help=asked.help,
            unit=asked.unit,
            formula=asked.formula,
            position=next_position(unit, group.id),
        )
        unit.session.add(row)
        touch(unit.session, unit.workspace_id)
        unit.session.flush()
        refuse_called_so_meanwhile(unit, row)
        return row.id or 0


def change_derived(scope: Scope, field_id: int, asked: DerivedInput, seen: int | None = None) -> int:
    """Change a derived field; gives the id for undoing.

    Raises InvalidExpression for a formula with problems or whose type breaks
    what is built on it, and Overtaken where somebody else has changed it since
    the change that was `seen`.
    """
    with scope.transaction("editor") as unit:
        field = unit.catalogue.by_id.get(field_id)
        if field is None or not field.derived:
            raise NotFound("There is no such derived field.")
        refuse_overtaken(unit, "field", field_id, seen)
        checked = check_formula(unit, asked.formula, field.key, field.about)
        if checked.problems:
            raise InvalidExpression(checked.problems, "formula")
        if checked.typed is not None and checked.typed.type.kind != field.value_type.kind:
            uses = uses_of(unit).of_field(field_id)
            if uses:
                names = ", ".join(dict.fromkeys(use.name for use in uses))
                message = f"The result would be of another type, and {names} would not fit it any more."
                raise InvalidInput({"formula": message})
        before = snapshot(unit, "field", field_id)
        row = unit.session.get(FieldRow, field_id)
        assert row is not None
        row.label, row.help, row.unit, row.formula = asked.label, asked.help, asked.unit, asked.formula
        unit.session.add(row)
        return record_change(unit, "field", field_id, f"Changed {asked.label}", before)
