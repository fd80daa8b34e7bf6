"""Reading what fields hold: quartiles, bars, outliers, and how it came about over time."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import Float, Integer, Numeric, String, Time, cast, func, select, text
from sqlmodel import Session

from finesieve.core.fields.definition import Field
from finesieve.core.values import Value
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.reading.kept import SAMPLED, kept, times
from finesieve.store.tables import History

__all__ = [
    "Spread",
    "distinct_counts",
    "last_changes",
    "monthly_fills",
    "outliers",
    "spread_of",
    "text_lengths",
    "times_of_day",
]

BARS = 12


@dataclass(frozen=True, slots=True)
class Spread:
    """Smallest, quartiles and largest of numbers or dates, and how many lie in each of twelve equal parts."""

    low: Value
    quarter: Value
    middle: Value
    three_quarters: Value
    high: Value
    bars: tuple[int, ...]


def spread_of(session: Session, definitions: Definitions, field: Field) -> Spread | None:
    """The spread of a field of numbers, money, dates or moments; None where nobody has a value."""

    def scaled(found: Spread | None, more: float) -> Spread | None:
        return replace(found, bars=tuple(times(bar, more) for bar in found.bars)) if found else None

    key = ("spread", field.about, field.column)
    return kept(session, definitions, key, lambda known: _spread(session, known, field), scaled, about=field.about)


def _spread(session: Session, definitions: Definitions, field: Field) -> Spread | None:
    table = definitions.tables[field.about]
    column: Any = table.c[field.column]
    parts = func.percentile_disc(text("ARRAY[0, 0.25, 0.5, 0.75, 1]::float8[]")).within_group(column)
    found = session.execute(select(parts).select_from(table).where(column.is_not(None))).scalar_one()
    if found is None or found[0] is None:
        return None
    low, high = found[0], found[4]
    size: Any = cast(column, Float) if isinstance(low, Decimal) else func.extract("epoch", column)
    bounds = [float(low), float(high)] if isinstance(low, Decimal) else None
    if bounds is None:
        bounds = [_epoch(low), _epoch(high)]
    counts = [0] * BARS
    if bounds[0] == bounds[1]:
        counts[0] = int(session.execute(select(func.count(column))).scalar_one())
        return Spread(found[0], found[1], found[2], found[3], found[4], tuple(counts))
    bucket = func.least(func.width_bucket(cast(size, Float), bounds[0], bounds[1], BARS), BARS)
    query = select(cast(bucket, Integer), func.count()).where(column.is_not(None)).group_by(bucket)
    for place, count in session.execute(query):
        counts[place - 1] = int(count)
    return Spread(found[0], found[1], found[2], found[3], found[4], tuple(counts))


def _epoch(value: Any) -> float:
    """The seconds since 1970 of a date or a moment, as PostgreSQL counts them."""
    moment = value if isinstance(value, datetime) else datetime(value.year, value.month, value.day, tzinfo=UTC)
    return moment.timestamp()


def outliers(
    session: Session, definitions: Definitions, field: Field, spread: Spread, limit: int = 5
) -> list[tuple[int, Value]]:
    """Who has a number more than three times the middle half's width beyond it, the farthest first."""
    if not isinstance(spread.quarter, Decimal) or not isinstance(spread.three_quarters, Decimal):
        return []
    width = spread.three_quarters - spread.quarter
    if not width:
        return []
    low, high = spread.quarter - 3 * width, spread.three_quarters + 3 * width
    table = definitions.tables[field.about]
    column: Any = table.c[field.column]
    middle = spread.quarter + width / 2
    query = select(table.c.id, column).where((column < low) | (column > high))
    query = query.order_by(func.abs(column - middle).desc()).limit(limit)
    # Whoever lies far out is hardly in a sample.
    return kept(
        session,
        definitions,
        ("outliers", field.about, field.column, low, high, limit),
        lambda _: [(int(row[0]), row[1]) for row in session.execute(query)],
        about=field.about,
        unknown=[],
    )


def text_lengths(session: Session, definitions: Definitions, field: Field) -> tuple[int, int, int]:
    """The shortest, the average and the longest text, in characters; zeros for none."""

    def count(known: Definitions) -> tuple[int, int, int]:
        table = known.tables[field.about]
        size = func.length(table.c[field.column])
        row = session.execute(select(func.min(size), func.avg(size), func.max(size)).select_from(table)).one()
        return int(row[0] or 0), int(row[1] or 0), int(row[2] or 0)

    return kept(
        session,
        definitions,
        ("lengths", field.about, field.column),
        count,
        lambda found, _more: found,
        about=field.about,
    )


def distinct_counts(session: Session, definitions: Definitions, fields: Sequence[Field]) -> dict[int, int]:
    """How many different values each field has, by id; one pass for all. The fields are about one thing.

    Numbers and texts are counted by their hashes of 64 bits, which sort in half the time; that two of a million
    values share one is a matter of one in thirty million.
    """
    if not fields:
        return {}

    def count(known: Definitions) -> dict[int, int]:
        table = known.tables[fields[0].about]
        counts = [func.count(_told_by(table.c[field.column]).distinct()) for field in fields]
        row = session.execute(select(*counts).select_from(table)).one()
        return {field.id: int(number) for field, number in zip(fields, row, strict=True)}

    def scaled(found: dict[int, int], more: float) -> dict[int, int]:
        # Where nearly every second value of a sample is another, they go on like that; else all have been seen.
        return {one: times(number, more) if number > SAMPLED / 3 else number for one, number in found.items()}

    key = ("distinct", fields[0].about, tuple(field.column for field in fields))
    return kept(session, definitions, key, count, scaled, about=fields[0].about)


def times_of_day(session: Session, definitions: Definitions, fields: Sequence[Field], zone: str) -> dict[int, int]:
    """How many different times of day the moments of each field have in a zone, by id; fields about one thing."""
    if not fields:
        return {}

    def count(known: Definitions) -> dict[int, int]:
        table = known.tables[fields[0].about]
        times = [cast(func.timezone(zone, table.c[field.column]), Time) for field in fields]
        row = session.execute(select(*(func.count(time.distinct()) for time in times)).select_from(table)).one()
        return {field.id: int(number) for field, number in zip(fields, row, strict=True)}

    key = ("times of day", fields[0].about, tuple(field.column for field in fields), zone)
    return kept(session, definitions, key, count, lambda found, _: found, about=fields[0].about)


def _told_by(column: Any) -> Any:
    """What tells the values of a column apart at the least cost."""
    if isinstance(column.type, Numeric):
        return func.hash_numeric_extended(column, 0)
    if isinstance(column.type, String):
        return func.hashtextextended(column, 0)
    return column


def last_changes(session: Session, field_ids: Sequence[int]) -> dict[int, datetime]:
    """When a value of each field changed last, by field id."""
    # One short look into the index for each field, rather than one long one over the whole history.
    query = text(
        "SELECT wanted.id, latest.at FROM unnest(CAST(:ids AS integer[])) AS wanted(id) CROSS JOIN LATERAL "
        "(SELECT at FROM history WHERE "
        "workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer "
        "AND field_id = wanted.id ORDER BY at DESC LIMIT 1) AS latest"
    )
    return {int(row[0]): row[1] for row in session.execute(query, {"ids": list(field_ids)})}


def monthly_fills(
    session: Session, definitions: Definitions, field_id: int, since: datetime, zone: str
) -> Mapping[str, int]:
    """How many more values there were at the end of each month than before it, by `2026-11`."""
    month = func.to_char(func.timezone(zone, History.at), "YYYY-MM")
    came = func.count().filter(func.coalesce(History.old.is_(None), True), History.new.is_not(None))
    went = func.count().filter(History.old.is_not(None), History.new.is_(None))
    query = select(month, came - went).where(History.field_id == field_id, History.at >= since).group_by(month)  # type: ignore[arg-type]  # columns
    return kept(
        session,
        definitions,
        ("monthly", field_id, since, zone),
        lambda _: {str(row[0]): int(row[1]) for row in session.execute(query)},
        unknown={},
    )
