"""How the values of fields and formulas are spread over people: by groups, among all and among those of a condition."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any, Final

from sqlalchemy import Date, String, cast, func, literal, select, true, type_coerce
from sqlmodel import Session

from finesieve.core.errors import TookTooLong
from finesieve.core.language.program import Moment
from finesieve.core.language.typed import Typed
from finesieve.core.sieve.steps import day_step, round_step
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.language.compiler import Sql, compile_sql
from finesieve.store.language.sources import source_of
from finesieve.store.reading.kept import kept, meaning, times

__all__ = ["Grouped", "Grouping", "group_sql", "grouped", "grouping_of"]

_NUMBERS: Final = ("number", "money")
_DAYS: Final = ("date", "datetime")
_SEVERAL: Final = ("choices", "text_list")
_MOST: Final = 2_000


@dataclass(frozen=True, slots=True)
class Grouping:
    """A value to group by: figures by a `step`, days by `month` or `year`, anything else by itself."""

    typed: Typed
    step: str = ""

    @property
    def several(self) -> bool:
        """Whether one person may stand in several groups."""
        return self.typed.type.kind in _SEVERAL


@dataclass(frozen=True, slots=True)
class Grouped:
    """A group: its values, one a grouping, as text, None for blank; how many of everybody are in it, and how many of
    those for whom the condition is true."""

    values: tuple[str | None, ...]
    everyone: int
    inside: int


def grouping_of(session: Session, definitions: Definitions, typed: Typed, moment: Moment) -> Grouping:
    """How a value is best grouped: by steps that its smallest and its largest lead to."""
    kind = typed.type.kind
    if kind not in (*_NUMBERS, *_DAYS):
        return Grouping(typed)

    def ends(known: Definitions) -> tuple[Any, Any]:
        source = source_of(session, known, typed.names, moment)
        value = compile_sql(typed, source.columns, moment)
        value = cast(value, Date) if kind in _DAYS else value
        row = session.execute(select(func.min(value), func.max(value)).select_from(source.table)).one()
        return row[0], row[1]

    key = ("ends", meaning(definitions, [typed], moment))
    low, high = kept(session, definitions, key, ends, lambda found, _more: found)
    if low is None:
        return Grouping(typed, "1" if kind in _NUMBERS else "year")
    if kind in _NUMBERS:
        return Grouping(typed, str(round_step(Decimal(low), Decimal(high))))
    return Grouping(typed, day_step((_day(high) - _day(low)).days))


def _day(value: Any) -> date:
    return date.fromisoformat(str(value)[:10])


def group_sql(grouping: Grouping, value: Sql) -> Sql:
    """The group that a value falls into, as text."""
    kind = grouping.typed.type.kind
    if kind in _NUMBERS:
        step = Decimal(grouping.step)
        return cast(func.trim_scale(func.floor(value / step) * step), String)
    if kind in _DAYS:
        size = 7 if grouping.step == "month" else 4
        return func.left(cast(cast(value, Date), String), size)
    return cast(value, String)


def grouped(
    session: Session,
    definitions: Definitions,
    condition: Typed | None,
    groupings: Sequence[Grouping],
    moment: Moment,
) -> list[Grouped]:
    """The groups of one value, or of two crossed, in one pass over everybody.

    Of a value that one person has several of, each counts in its group. Raises TookTooLong for more groups than
    anybody looks through.
    """
    read = [*([condition] if condition is not None else []), *(one.typed for one in groupings)]

    def count(known: Definitions) -> list[Grouped]:
        source = source_of(session, known, frozenset().union(*(one.names for one in read)), moment)
        table, columns = source.table, []
        for place, grouping in enumerate(groupings):
            value = compile_sql(grouping.typed, source.columns, moment)
            if grouping.several:
                each = func.unnest(value).table_valued(f"v{place}").render_derived(name=f"each{place}").lateral()
                table = table.join(each, true(), isouter=True)
                value = type_coerce(each.c[f"v{place}"], String)
            columns.append(group_sql(grouping, value).label(f"g{place}"))
        inside = func.count().filter(compile_sql(condition, source.columns, moment)) if condition is not None else None
        counts = (func.count(), inside if inside is not None else literal(0))
        query = select(*columns, *counts).select_from(table).group_by(*columns).limit(_MOST + 1)
        rows = session.execute(query).all()
        if len(rows) > _MOST:
            raise TookTooLong("There are too many different values to look through.")
        return [Grouped(tuple(row[: len(groupings)]), int(row[-2]), int(row[-1])) for row in rows]

    def scaled(found: list[Grouped], more: float) -> list[Grouped]:
        return [Grouped(one.values, times(one.everyone, more), times(one.inside, more)) for one in found]

    key = ("groups", condition is None, tuple(one.step for one in groupings), meaning(definitions, read, moment))
    return kept(session, definitions, key, count, scaled)
