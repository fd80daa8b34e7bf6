"""Computing: derived fields, tried out on a few people before they are saved."""

from dataclasses import dataclass

from pydantic import Field as Bounds

from finesieve.core.catalogue import circle_with
from finesieve.core.errors import InvalidExpression, InvalidInput, NotFound
from finesieve.core.fields.definition import Field
from finesieve.core.fields.keys import key_from_label, key_problem
from finesieve.core.language.checker import Checked
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.problems import Problem
from finesieve.core.language.tree import Name, walk
from finesieve.core.values import Type
from finesieve.services.changes import record_change, snapshot
from finesieve.services.define import next_position
from finesieve.services.inputs import Input
from finesieve.services.people import person_name, worked_out
from finesieve.services.scope import Scope, Unit
from finesieve.services.usage import Use, uses_of
from finesieve.store.catalogue import touch
from finesieve.store.people import blank_count, page_of_people
from finesieve.store.tables import FieldRow

__all__ = [
    "DerivedInput",
    "DerivedView",
    "Preview",
    "Sample",
    "change_derived",
    "create_derived",
    "preview_formula",
    "read_derived",
]


class DerivedInput(Input):
    """A derived field as typed."""

    label: str = Bounds(min_length=1, max_length=120)
    key: str = Bounds(default="", max_length=60)
    help: str = Bounds(default="", max_length=500)
    unit: str = Bounds(default="", max_length=20)
    formula: str = Bounds(min_length=1, max_length=4_000)
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
    """What a formula would give. `blank` of `people` could not be worked out."""

    problems: tuple[Problem, ...]
    type: Type | None = None
    samples: tuple[Sample, ...] = ()
    people: int = 0
    blank: int = 0
    volatile: bool = False


@dataclass(frozen=True, slots=True)
class DerivedView:
    """A derived field with what it reads and what uses it."""

    field: Field
    reads: tuple[Field, ...]
    uses: tuple[Use, ...]
    broken: bool


def preview_formula(scope: Scope, formula: str, key: str = "", unit_name: str = "") -> Preview:
    """Check a formula and work it out for a few people; stores nothing.

    `key` is that of the field whose formula it is, which it may not read.
    """
    with scope.transaction("reader") as unit:
        checked = _checked(unit, formula, key)
        if checked.typed is None:
            return Preview(checked.problems)
        typed = checked.typed
        program = compile_python(typed)
        stored = [field.key for field in unit.catalogue.stored]
        people = page_of_people(unit.session, unit.definitions, unit.moment, stored, limit=60)
        field = Field(0, key, "", "short_text", 0, unit=unit_name, formula=formula, result=typed.type)
        source = unit.catalogue.by_key.get(typed.type.source)
        if source is not None:
            field = Field(0, key, "", "choice", 0, options=source.options, formula=formula, result=typed.type)
        filled: list[Sample] = []
        blanks: list[Sample] = []
        for person in people:
            row = unit.catalogue.derivation.row(person.values, unit.moment)
            value = program(row, unit.moment)
            shown = worked_out(unit.catalogue, formula, row)
            sample = Sample(person.id, person_name(person.values), shown, field.show(value))
            (blanks if value is None else filled).append(sample)
        everyone, blank = blank_count(unit.session, unit.definitions, typed, unit.moment)
        chosen = tuple(filled[:4] + blanks[:1] if filled else blanks[:3])
        return Preview((), typed.type, chosen, everyone, blank, typed.volatile)


def _checked(unit: Unit, formula: str, key: str) -> Checked:
    checked = unit.catalogue.check(formula)
    if checked.typed is None or not key or checked.tree is None:
        return checked
    circle = circle_with(unit.catalogue, key, checked.typed.names)
    if not circle:
        return checked
    labels = [unit.catalogue.by_key[name].label if name in unit.catalogue.by_key else name for name in circle]
    guilty = next(part for part in walk(checked.tree) if isinstance(part, Name) and _leads_to(unit, part.path[-1], key))
    message = f"This field would be worked out from itself: {' → '.join(labels)}."
    return Checked(checked.tree, None, (Problem("circle", guilty.span, message),))


def _leads_to(unit: Unit, name: str, key: str) -> bool:
    return name == key or key in unit.catalogue.derivation.ancestors(frozenset((name,)))


def read_derived(scope: Scope, field_id: int) -> DerivedView:
    """A derived field. Raises NotFound where there is none."""
    with scope.transaction("reader") as unit:
        field = unit.catalogue.by_id.get(field_id)
        if field is None or not field.derived:
            raise NotFound("There is no such derived field.")
        names = unit.catalogue.derivation.needs.get(field.key, frozenset())
        reads = tuple(other for other in unit.catalogue.fields if other.key in names)
        broken = field.key in unit.catalogue.broken
        return DerivedView(field, reads, uses_of(unit).get(field.key, ()), broken)


def create_derived(scope: Scope, asked: DerivedInput) -> int:
    """Save a new derived field; gives its id.

    Raises InvalidExpression for a formula with problems, and InvalidInput for
    a key that cannot be used.
    """
    with scope.transaction("editor") as unit:
        key = asked.key or key_from_label(asked.label, unit.catalogue.by_key)
        problem = key_problem(key)
        if not problem and key in unit.catalogue.by_key:
            problem = f"There is a field with the key {key} already: {unit.catalogue.by_key[key].label}."
        if problem:
            raise InvalidInput({"key": problem})
        groups = [group.id for group in unit.catalogue.groups]
        group_id = asked.group_id if asked.group_id in groups else groups[-1]
        checked = _checked(unit, asked.formula, key)
        if checked.problems:
            raise InvalidExpression(checked.problems, "formula")
        row = FieldRow(
            workspace_id=unit.workspace_id,
            group_id=group_id,
            key=key,
            label=asked.label,
            type_key="short_text",
            help=asked.help,
            unit=asked.unit,
            formula=asked.formula,
            position=next_position(unit, group_id),
        )
        unit.session.add(row)
        touch(unit.session, unit.workspace_id)
        unit.session.flush()
        return row.id or 0


def change_derived(scope: Scope, field_id: int, asked: DerivedInput) -> int:
    """Change a derived field; gives the id for undoing.

    Raises InvalidExpression for a formula with problems or whose type breaks
    what is built on it.
    """
    with scope.transaction("editor") as unit:
        field = unit.catalogue.by_id.get(field_id)
        if field is None or not field.derived:
            raise NotFound("There is no such derived field.")
        checked = _checked(unit, asked.formula, field.key)
        if checked.problems:
            raise InvalidExpression(checked.problems, "formula")
        if checked.typed is not None and checked.typed.type.kind != field.value_type.kind:
            uses = uses_of(unit).get(field.key, ())
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
