"""What the people of a segment are like: counts by the values of a field, beside everybody; two fields crossed."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Final

from finesieve.core.errors import FineSieveError, InvalidExpression, InvalidInput, NotFound, TookTooLong
from finesieve.core.fields.definition import Field
from finesieve.core.fields.manner import write_figure
from finesieve.core.language.typed import Typed
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.sift.segments import segment_rows
from finesieve.store.connection.database import apart
from finesieve.store.reading.breakdown import Grouped, Grouping, grouped, grouping_of
from finesieve.store.reading.kept import patience
from finesieve.store.reading.people import SECONDS_TO_COUNT, count_one, count_people

__all__ = [
    "Breakdown", "Crossed", "GroupLine", "break_down", "cross", "fields_to_break_by", "group_name",
    "list_fields_to_break_by", "sort_key",
]  # fmt: skip

_KINDS: Final = (
    "choice",
    "choices",
    "yes_no",
    "number",
    "money",
    "date",
    "datetime",
    "text",
    "text_list",
    "day_of_year",
)
_SHOWN: Final = 40
BLANK: Final = "blank"


@dataclass(frozen=True, slots=True)
class GroupLine:
    """A group: how many of the segment and of everybody are in it; shares from 0 to 1.

    `lean` is its share in the segment by its share among everybody, None where nobody is in it.
    """

    name: str
    inside: int
    share: float
    everyone: int
    share_of_all: float

    @property
    def lean(self) -> float | None:
        return self.share / self.share_of_all if self.share_of_all else None


@dataclass(frozen=True, slots=True)
class Breakdown:
    """A segment by the groups of a field, the largest or first ones; `more` groups are left out.

    `several` tells that somebody can stand in several groups. `failure` says why nothing was counted.
    """

    segment_id: int
    name: str
    field: Field
    people: int = 0
    everyone: int = 0
    lines: tuple[GroupLine, ...] = ()
    more: int = 0
    several: bool = False
    failure: str = ""


@dataclass(frozen=True, slots=True)
class Crossed:
    """The people of a segment by two fields: a row for each group of the one, a column for each of the other."""

    rows: tuple[str, ...]
    columns: tuple[str, ...]
    cells: tuple[tuple[int, ...], ...]

    @property
    def most(self) -> int:
        return max((number for row in self.cells for number in row), default=0)


def fields_to_break_by(unit: Unit) -> tuple[Field, ...]:
    """The fields of a person whose values come in groups, as this role sees them."""
    return tuple(
        one
        for one in unit.visible.fields
        if (one.stores or one.derived) and unit.sees(one) and one.value_type.kind in _KINDS
        and one.key not in unit.visible.broken
    )  # fmt: skip


def list_fields_to_break_by(scope: Scope, segment_id: int) -> tuple[Field, ...]:
    """The fields that a segment can be looked at by; see `fields_to_break_by`. Raises NotFound for no such segment."""
    with scope.reading("reader") as unit:
        if all(row.id != segment_id for row in segment_rows(unit)):
            raise NotFound("There is no such segment.")
        return fields_to_break_by(unit)


def break_down(scope: Scope, segment_id: int, field_id: int, cross_id: int = 0) -> tuple[Breakdown, Crossed | None]:
    """A segment by a field, and crossed with another where one is given. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = next((one for one in segment_rows(unit) if one.id == segment_id), None)
        fields = {one.id: one for one in fields_to_break_by(unit)}
        if row is None or field_id not in fields or (cross_id and cross_id not in fields):
            raise NotFound("There is no such segment or field.")
        found = Breakdown(segment_id, row.name, fields[field_id])
        try:
            with apart(unit.session, patience(SECONDS_TO_COUNT)):
                condition = _condition(unit, row.expression)
                line = _broken_down(unit, found, condition)
                return line, cross(unit, condition, fields[field_id], fields[cross_id]) if cross_id else None
        except InvalidExpression:
            return replace(found, failure="This segment cannot be counted, or is not shown to you."), None
        except TookTooLong as why:
            return replace(found, failure=str(why)), None
        except FineSieveError:
            return replace(found, failure="The database cannot work it out."), None


def _condition(unit: Unit, expression: str) -> Typed:
    checked = unit.visible.check_segment(expression or "true")
    if checked.typed is None:
        raise InvalidExpression(checked.problems)
    return checked.typed


def _typed(unit: Unit, field: Field) -> Typed:
    found = unit.visible.check(field.key).typed
    if found is None:
        raise InvalidInput({"": f"{field.label} cannot be read."})
    return found


def _broken_down(unit: Unit, found: Breakdown, condition: Typed) -> Breakdown:
    grouping = grouping_of(unit.session, unit.definitions, _typed(unit, found.field), unit.moment)
    groups = grouped(unit.session, unit.definitions, condition, [grouping], unit.moment)
    everyone = count_people(unit.session, unit.definitions)
    people = count_one(unit.session, unit.definitions, condition, unit.moment) or 0
    ordered = sorted(groups, key=lambda one: sort_key(found.field, one.values[0], one.inside))
    lines = tuple(_line(found.field, grouping, one, people, everyone) for one in ordered[:_SHOWN])
    more = max(0, len(ordered) - _SHOWN)
    return replace(found, people=people, everyone=everyone, lines=lines, more=more, several=grouping.several)


def _line(field: Field, grouping: Grouping, one: Grouped, people: int, everyone: int) -> GroupLine:
    share = one.inside / people if people else 0.0
    share_of_all = one.everyone / everyone if everyone else 0.0
    return GroupLine(group_name(field, grouping.step, one.values[0]), one.inside, share, one.everyone, share_of_all)


def sort_key(field: Field, value: str | None, size: int) -> tuple[int, Decimal, int, str]:
    """Figures, days and options in their order, anything else by size; blank last."""
    if value is None:
        return (2, Decimal(0), 0, "")
    kind = field.value_type.kind
    if kind in ("number", "money"):
        return (0, Decimal(value), 0, "")
    if kind in ("choice", "choices"):
        values = [one.stored_value for one in field.options] or list(field.value_type.options)
        place = values.index(value) if value in values else len(values)
        return (0, Decimal(place), 0, value) if values else (0, Decimal(0), -size, value)
    if kind in ("date", "datetime", "day_of_year", "yes_no"):
        return (0, Decimal(0), 0, value if kind != "yes_no" else {"true": "0"}.get(value, "1"))
    return (0, Decimal(0), -size, value)


def group_name(field: Field, step: str, value: str | None) -> str:
    """What a group is called, as people read it."""
    kind = field.value_type.kind
    if value is None:
        return BLANK
    if kind in ("number", "money"):
        return _stretch(field, Decimal(value), Decimal(step))
    if kind == "yes_no":
        return "yes" if value == "true" else "no"
    if kind in ("choice", "choices"):
        labels = {one.stored_value: one.label for one in field.options}
        labels |= dict(zip(field.value_type.options, field.value_type.labels, strict=False))
        return labels.get(value, value)
    return value


def _stretch(field: Field, start: Decimal, step: Decimal) -> str:
    """`10 to under 20 m²`."""
    language, unit = field.manner.language, f" {field.unit}" if field.unit else ""
    return f"{write_figure(start, language)} to under {write_figure(start + step, language)}{unit}"


def cross(unit: Unit, condition: Typed, one: Field, other: Field) -> Crossed:
    """The people of a condition by two fields."""
    groupings = [grouping_of(unit.session, unit.definitions, _typed(unit, by), unit.moment) for by in (one, other)]
    groups = grouped(unit.session, unit.definitions, condition, groupings, unit.moment)
    sizes = {found.values: found.inside for found in groups if found.inside}
    rows = _ends(one, sizes, 0)
    columns = _ends(other, sizes, 1)
    cells = tuple(tuple(sizes.get((row, column), 0) for column in columns) for row in rows)
    names = (
        tuple(group_name(by, grouping.step, value) for value in values)
        for by, grouping, values in zip((one, other), groupings, (rows, columns), strict=True)
    )
    row_names, column_names = names
    return Crossed(row_names, column_names, cells)


def _ends(field: Field, sizes: dict[tuple[str | None, ...], int], place: int) -> Sequence[str | None]:
    totals: dict[str | None, int] = {}
    for values, size in sizes.items():
        totals[values[place]] = totals.get(values[place], 0) + size
    return sorted(totals, key=lambda value: sort_key(field, value, totals[value]))[:20]
