"""One derived value of one person, opened step by step, into its records, beside that of somebody else; and the true
reason of a blank.

Who may not see something that a formula reads may not see what is worked out from it either; so whoever may open a
value, may see all of its parts.
"""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Final

from finesieve.core.errors import NotFound
from finesieve.core.fields.about import PERSON, record_type_of
from finesieve.core.fields.definition import Field, show_value
from finesieve.core.language.steps import Gap, Member, Step, gaps, steps
from finesieve.core.values import Type, Value
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.values.past import day_begins, values_then
from finesieve.services.values.value_lines import person_name, worked_out
from finesieve.services.values.writing import row_of
from finesieve.store.reading.people import page_of_people
from finesieve.store.reading.rows import stored_row

__all__ = [
    "Beside",
    "MemberLine",
    "Opened",
    "StepLine",
    "blank_reason",
    "open_beside",
    "open_then",
    "open_value",
    "way_to_difference",
]

_DEEPEST: Final = 5
_DAYS: Final = 3_650
"""How far back a value is opened."""


@dataclass(frozen=True, slots=True)
class MemberLine:
    """A record that a step looked at: what it is called, whether it counts (None: can't tell), what it brings."""

    title: str
    counts: bool | None
    shown: str
    worked: str = ""


@dataclass(frozen=True, slots=True)
class StepLine:
    """A step in words. `label` is the field that a name reads; of a derived one `parts` are its own steps."""

    text: str
    shown: str
    decided: bool
    label: str = ""
    formula: str = ""
    parts: tuple["StepLine", ...] = ()
    members: tuple[MemberLine, ...] = ()


@dataclass(frozen=True, slots=True)
class Opened:
    """A derived value with its steps; `reason` says why it is blank."""

    person: str
    field: Field
    shown: str
    root: StepLine
    reason: str = ""


def open_value(scope: Scope, person_id: int, key: str) -> Opened:
    """A derived value of a person. Raises NotFound where there is none, or it may not be seen or worked out."""
    with scope.reading("reader") as unit:
        stored = stored_row(unit.session, unit.definitions, PERSON, person_id)
        field = unit.catalogue.by_key.get(key)
        if stored is None or field is None or not field.derived or not unit.sees(field):
            raise NotFound("There is no such derived value.")
        return _opened(unit, person_id, field, stored)


def _opened(unit: Unit, person_id: int, field: Field, stored: Mapping[str, Value]) -> Opened:
    row = row_of(unit, PERSON, person_id, stored)
    step = _steps(unit, field, row)
    if step is None:
        raise NotFound("This derived value cannot be worked out.")
    return Opened(
        person_name(stored), field, field.show(step.value), _line(unit, step, row, 0), _said(unit, gaps(step))
    )


@dataclass(frozen=True, slots=True)
class Beside:
    """The same value of somebody else, or of the same person on a past day.

    `way` leads from the whole to the first part where the two differ, by the places of parts: empty where it is the
    whole itself, None where the two are the same.
    """

    person_id: int
    opened: Opened
    way: tuple[int, ...] | None


def open_beside(scope: Scope, person_id: int, key: str, who: str | int) -> Beside | None:
    """The derived value of another person, by id or the first whom words find, beside that of one; None for nobody.

    Raises NotFound as `open_value` does.
    """
    with scope.reading("reader") as unit:
        other = who if isinstance(who, int) else _found(unit, who, person_id)
        if other is None or other == person_id:
            return None
        own, opened = open_value(scope, person_id, key), open_value(scope, other, key)
        return Beside(other, opened, way_to_difference(own.root, opened.root))


def open_then(scope: Scope, person_id: int, key: str, day: date) -> Beside | None:
    """A derived value of a person as it was when a day began, beside that of now; None where they were not there yet.

    Records, and what is known of orders, are taken as they are now. Raises NotFound as `open_value` does.
    """
    with scope.reading("reader") as unit:
        now = open_value(scope, person_id, key)
        today = unit.moment.today
        begins = day_begins(unit, min(max(day, today - timedelta(days=_DAYS)), today))
        stored = stored_row(unit.session, unit.definitions, PERSON, person_id) or {}
        values = values_then(unit, person_id, stored, begins)
        if values is None:
            return None
        then = _opened(replace(unit, moment=replace(unit.moment, now=begins)), person_id, now.field, values)
        return Beside(person_id, then, way_to_difference(now.root, then.root))


def _found(unit: Unit, who: str, person_id: int) -> int | None:
    found = page_of_people(unit.session, unit.definitions, unit.moment, [], search=who, limit=2)
    return next((line.id for line in found if line.id != person_id), None)


def way_to_difference(one: StepLine, other: StepLine) -> tuple[int, ...] | None:
    """From two wholes to the first part that differs while none of its own parts does, one that decided first."""
    if one.shown == other.shown:
        return None
    pairs = list(enumerate(zip(one.parts, other.parts, strict=False)))
    for place, (a, b) in sorted(pairs, key=lambda pair: not (pair[1][0].decided or pair[1][1].decided)):
        way = way_to_difference(a, b)
        if way is not None:
            return (place, *way)
    return ()


def blank_reason(unit: Unit, field: Field, row: Mapping[str, Value]) -> str:
    """Why a derived value is blank, in words: `no soil`, `division by zero in a / b`; "" where it is not."""
    if row.get(field.key) is not None:
        return ""
    step = _steps(unit, field, row)
    return _said(unit, gaps(step)) if step is not None else ""


def _steps(unit: Unit, field: Field, row: Mapping[str, Value]) -> Step | None:
    typed = unit.catalogue.check(field.formula, about=field.about).typed
    return steps(field.formula, typed, row, unit.moment) if typed is not None else None


def _said(unit: Unit, found: tuple[Gap, ...]) -> str:
    return "; ".join(dict.fromkeys(_reason(unit, gap) for gap in found))


def _reason(unit: Unit, gap: Gap) -> str:
    step = gap.step
    if gap.why == "blank":
        field = unit.catalogue.keys_of(step.about or PERSON).get(step.name)
        return f"no {_lower(field.label) if field else step.text}"
    if gap.why == "zero":
        return f"division by zero in {step.text}"
    known = unit.catalogue.record_types_by_id.get(record_type_of(step.about))
    plural = known.plural.lower() if known else "records"
    if gap.why == "nothing":
        return f"no {plural} that count" if step.members else f"no {plural}"
    if gap.why == "column":
        column = unit.catalogue.keys_of(step.about).get(step.column)
        return f"no {_lower(column.label) if column else step.column} in any of the {plural}"
    return f"{step.text} has no result for these values"


def _lower(label: str) -> str:
    return label if label[:2].isupper() else label[:1].lower() + label[1:]


def _line(unit: Unit, step: Step, row: Mapping[str, Value], depth: int) -> StepLine:
    field = unit.catalogue.keys_of(step.about or PERSON).get(step.name) if step.name else None
    shown = _shown(unit, step, field)
    if field is not None and field.derived and field.about == PERSON and depth < _DEEPEST:
        inner = _steps(unit, field, row)
        if inner is not None:
            parts = _line(unit, inner, row, depth + 1)
            return StepLine(step.text, shown, step.decided, field.label, field.formula, parts.parts, parts.members)
    below = tuple(_line(unit, part, row, depth + 1) for part in step.parts if part.operation != "const")
    members = tuple(_member(unit, step, one) for one in step.members)
    return StepLine(step.text, shown, step.decided, field.label if field else "", "", below, members)


def _member(unit: Unit, step: Step, member: Member) -> MemberLine:
    keys = unit.catalogue.keys_of(step.about)
    known = unit.catalogue.record_types_by_id.get(record_type_of(step.about))
    title = next((keys[key] for key in keys if known and keys[key].id == known.title_field), None)
    column = keys.get(step.column)
    name = title.show(member.row.get(title.key)) if title is not None and unit.sees(title) else ""
    counts = None if member.verdict is None else bool(member.verdict)
    singular = known.singular if known else "Record"
    if column is None:
        return MemberLine(name or singular, counts, "")
    worked = worked_out(unit, column, member.row, step.about) if column.derived else ""
    return MemberLine(name or singular, counts, column.show(member.value) or "blank", worked)


def _shown(unit: Unit, step: Step, field: Field | None) -> str:
    if step.value is None:
        return "can’t tell" if step.kind == "yes_no" else "blank"
    if field is not None:
        return field.show(step.value)
    return show_value(Type(step.kind), step.value, unit.manner)
