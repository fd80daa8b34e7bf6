"""Whom conditions admit: what is said of records or the past, and of nothing else, picked out of those at once."""

from collections.abc import Iterable, Iterator, Sequence
from datetime import timedelta
from typing import Any, Final

from sqlalchemy import DateTime, FromClause, Table, cast, func, literal, select
from sqlmodel import Session

from finesieve.core.fields.about import PERSON
from finesieve.core.language.evaluator import Moment, compile_python
from finesieve.core.language.typed import OF_HISTORY, Typed, unplaced
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.language.compiler import Columns, Sql, compile_sql, shaped_or_empty
from finesieve.store.language.history import history_of_everybody
from finesieve.store.language.sources import Source, is_of_everybody, of_everybody, source_of

__all__ = ["admitted"]


def admitted(
    session: Session,
    definitions: Definitions,
    conditions: Iterable[Typed],
    moment: Moment,
    wanted: frozenset[str] = frozenset(),
    *,
    whole: bool = False,
) -> tuple[Source, list[Sql]]:
    """The people with the wanted names, and what holds for those whom all the conditions admit.

    What is only about records, or about the past of one field, is worked out for all who have any, which is quicker
    by far than to ask it of everybody. `whole` tells that everybody is gone through in any case; else a first few are
    looked for, and it is done only where it is likely to be true of few: where something has changed since a day.
    """
    # Of a sample of people it is quicker to ask it of each.
    may_pick = isinstance(definitions.tables[PERSON], Table)
    parts = [part for condition in conditions for part in _conjuncts(condition)]
    asked = [_asked_of(part, moment, whole=whole) if may_pick else None for part in parts]
    rest = [part for part, of in zip(parts, asked, strict=True) if of is None]
    names = wanted.union(*(part.names for part in rest))
    source = source_of(session, definitions, names, moment, over=rest if whole else ())
    found = []
    for part, of in zip(parts, asked, strict=True):
        whom = _of_whom(definitions, part, of, source.columns, moment) if of is not None else None
        found.append(compile_sql(part, source.columns, moment) if whom is None else source.id.in_(whom))
    return source, found


def _conjuncts(condition: Typed) -> Iterator[Typed]:
    if condition.operation == "and":
        for part in condition.parts:
            yield from _conjuncts(part)
    else:
        yield condition


def _asked_of(condition: Typed, moment: Moment, *, whole: bool) -> Typed | None:
    """What a condition asks of records or of the past, where that is all that it reads, and it does not hold of those
    who have none."""
    reading = [
        part for part in condition.walk() if part.operation in ("name", "collect", *OF_HISTORY) and not part.level
    ]
    if len({unplaced(part) for part in reading}) != 1 or not is_of_everybody(reading[0]):
        return None
    if compile_python(condition)({}, moment) is True:
        return None
    return reading[0] if whole or _low_bound(condition, reading[0], moment) is not None else None


def _of_whom(definitions: Definitions, condition: Typed, asked: Typed, columns: Columns, moment: Moment) -> Any:
    """The ids of those of whom the condition holds; None where they cannot be picked."""
    since = _low_bound(condition, asked, moment)
    if since is not None:
        past: FromClause | None = history_of_everybody(definitions, asked, (), moment, since=since)
    else:
        past = of_everybody(definitions, asked, columns, moment)
    if past is None:
        return None
    value = shaped_or_empty(asked, past) if asked.operation == "collect" else past.c.value
    known = Columns({_VALUE: value}, lookup=columns.lookup, joined={unplaced(asked): _VALUE})
    return select(past.c.entity_id).where(compile_sql(condition, known, moment))


_VALUE: Final = "value"


def _low_bound(condition: Typed, asked: Typed, moment: Moment) -> Sql | None:
    """A moment before which no change makes the condition hold."""
    parts: Sequence[Typed] = condition.parts
    first = parts[0].parts[0] if parts and parts[0].operation == "to_date" else parts[0] if parts else condition
    since = condition.operation in (">=", ">", "between") and asked.operation == "last_change"
    if not since or unplaced(first) != unplaced(asked):
        return None
    bound = compile_sql(parts[1], Columns({}), moment)
    if parts[1].type.kind == "datetime":
        return bound
    midnight = func.timezone(str(moment.zone), cast(bound, DateTime()))
    return midnight - literal(timedelta(days=1))  # enough for clocks that are put forward or back at midnight
