"""What a changed definition does to everybody, before it is made: the same people read by the old and the new one."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Final

from sqlalchemy import and_, func, select
from sqlmodel import Session

from finesieve.core.fields.about import PERSON
from finesieve.core.language.program import Moment
from finesieve.core.language.typed import Typed
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.language.compiler import Sql, compile_sql
from finesieve.store.language.sources import Source, source_of
from finesieve.store.reading.breakdown import Grouping, group_sql
from finesieve.store.reading.kept import kept, meaning, times

__all__ = ["Flow", "Moved", "flows_between", "missing_inputs", "moved_by"]

_MOST: Final = 400


@dataclass(frozen=True, slots=True)
class Flow:
    """So many people go from one group to another; None for blank. `same` have the very same value."""

    before: str | None
    after: str | None
    people: int
    same: int


@dataclass(frozen=True, slots=True)
class Moved:
    """How many a condition is true for before and after, and how many come and leave."""

    before: int
    after: int
    came: int
    left: int


def _both(
    session: Session,
    now: Definitions,
    then: Definitions,
    old: Sequence[Typed],
    new: Sequence[Typed],
    moment: Moment,
    before: Moment | None = None,
) -> tuple[Any, list[Sql], list[Sql]]:
    """Old and new expressions over the same people, and the table that both are read from."""
    sources, compiled = [], []
    for definitions, wanted, at in ((now, old, before or moment), (then, new, moment)):
        names = frozenset().union(*(one.names for one in wanted))
        sources.append(source_of(session, definitions, names, at))
        compiled.append([compile_sql(one, sources[-1].columns, at) for one in wanted])
    plain = now.tables[PERSON]
    if all(source.table is plain for source in sources):
        return plain, compiled[0], compiled[1]
    sides = [_side(source, found, place) for place, (source, found) in enumerate(zip(sources, compiled, strict=True))]
    table = sides[0].join(sides[1], sides[0].c.id == sides[1].c.id)
    return table, [*list(sides[0].c)[1:]], [*list(sides[1].c)[1:]]


def _side(source: Source, found: Sequence[Sql], place: int) -> Any:
    columns = (sql.label(f"e{number}") for number, sql in enumerate(found))
    return select(source.id.label("id"), *columns).select_from(source.table).subquery(f"side{place}")


def flows_between(
    session: Session,
    now: Definitions,
    then: Definitions,
    old: Grouping,
    new: Grouping,
    moment: Moment,
) -> list[Flow]:
    """How many people go from which group of an expression to which of another that takes its place."""

    def count(known: Definitions) -> list[Flow]:
        later = replace(then, tables=known.tables)
        table, before, after = _both(session, known, later, [old.typed], [new.typed], moment)
        was, becomes = before[0], after[0]
        groups = [group_sql(old, was).label("before"), group_sql(new, becomes).label("after")]
        alike = old.typed.type.kind == new.typed.type.kind
        same = was.is_not_distinct_from(becomes) if alike else and_(was.is_(None), becomes.is_(None))
        counts = (func.count(), func.count().filter(same))
        query = select(*groups, *counts).select_from(table).group_by(*groups).limit(_MOST)
        return [Flow(row[0], row[1], int(row[2]), int(row[3])) for row in session.execute(query)]

    key = ("flows", old.step, new.step, meaning(now, [old.typed], moment), meaning(then, [new.typed], moment))
    return kept(session, now, key, count, lambda found, more: [_times(one, more) for one in found])


def _times(one: Flow, more: float) -> Flow:
    return replace(one, people=times(one.people, more), same=times(one.same, more))


def moved_by(
    session: Session,
    now: Definitions,
    then: Definitions,
    conditions: Sequence[tuple[Typed, Typed]],
    moment: Moment,
    before: Moment | None = None,
) -> list[Moved]:
    """What each condition is true for by the old and by the new definitions, in one pass over everybody; the old one
    as at a moment `before`, where one is given."""
    if not conditions:
        return []
    old, new = [one for one, _ in conditions], [one for _, one in conditions]

    def count(known: Definitions) -> list[Moved]:
        later = replace(then, tables=known.tables)
        table, first, second = _both(session, known, later, old, new, moment, before)
        counts = []
        for was, becomes in zip(first, second, strict=True):
            came = and_(becomes, was.is_not(True))
            left = and_(was, becomes.is_not(True))
            counts += [func.count().filter(one) for one in (was, becomes, came, left)]
        row = [int(number) for number in session.execute(select(*counts).select_from(table)).one()]
        return [Moved(*row[place : place + 4]) for place in range(0, len(row), 4)]

    key = ("moved", meaning(now, old, before or moment), meaning(then, new, moment))
    return kept(session, now, key, count, lambda found, more: [_scaled(one, more) for one in found])


def _scaled(one: Moved, more: float) -> Moved:
    return Moved(*(times(number, more) for number in (one.before, one.after, one.came, one.left)))


def missing_inputs(
    session: Session, definitions: Definitions, formula: Typed, keys: Sequence[str], moment: Moment
) -> tuple[int, list[int]]:
    """For how many people a formula is blank, and for how many of those each of these stored fields is blank too."""

    def count(known: Definitions) -> tuple[int, list[int]]:
        source = source_of(session, known, formula.names | frozenset(keys), moment)
        value = compile_sql(formula, source.columns, moment)
        blank = value.is_(None)
        inputs = [func.count().filter(and_(blank, source.names[key].is_(None))) for key in keys]
        columns = (func.count().filter(blank), *inputs)
        first, *rest = (int(number) for number in session.execute(select(*columns).select_from(source.table)).one())
        return first, rest

    def scaled(found: tuple[int, list[int]], more: float) -> tuple[int, list[int]]:
        return times(found[0], more), [times(one, more) for one in found[1]]

    key = ("missing", tuple(keys), meaning(definitions, [formula], moment))
    return kept(session, definitions, key, count, scaled)
