"""Whom conditions admit: what is said of the past, and of nothing else, picked out of the history at once."""

from collections.abc import Iterable, Iterator, Sequence
from datetime import timedelta
from typing import Any, Final

from sqlalchemy import DateTime, Table, cast, func, literal, select
from sqlmodel import Session

from finesieve.core.fields.about import PERSON
from finesieve.core.language.evaluator import Moment, compile_python
from finesieve.core.language.typed import OF_HISTORY, Typed, unplaced
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.language.compiler import Columns, Sql, compile_sql
from finesieve.store.language.history import history_of_everybody
from finesieve.store.language.sources import Source, source_of

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

    What is only about the past of one field is looked for in the history, which is quicker by far than to ask it of
    everybody where few have changed. `whole` tells that everybody is gone through in any case.
    """
    # Of a sample of people it is quicker to ask it of each.
    may_pick = isinstance(definitions.tables[PERSON], Table)
    parts = [part for condition in conditions for part in _conjuncts(condition)]
    asked = [_asked_of(part, moment) if may_pick else None for part in parts]
    rest = [part for part, of in zip(parts, asked, strict=True) if of is None]
    names = wanted.union(*(part.names for part in rest))
    source = source_of(session, definitions, names, moment, over=rest if whole else ())
    return source, [
        compile_sql(part, source.columns, moment)
        if of is None
        else source.id.in_(_of_whom(definitions, part, of, moment))
        for part, of in zip(parts, asked, strict=True)
    ]


def _conjuncts(condition: Typed) -> Iterator[Typed]:
    if condition.operation == "and":
        for part in condition.parts:
            yield from _conjuncts(part)
    else:
        yield condition


def _asked_of(condition: Typed, moment: Moment) -> Typed | None:
    """What a condition asks of the past, where that is all that it reads and it does not hold of those without any."""
    reading = [part for part in condition.walk() if part.operation in ("name", "collect", *OF_HISTORY)]
    asked = {unplaced(part) for part in reading}
    if len(asked) != 1 or reading[0].operation not in ("last_change", "value_on"):
        return None
    return reading[0] if compile_python(condition)({}, moment) is not True else None


def _of_whom(definitions: Definitions, condition: Typed, asked: Typed, moment: Moment) -> Any:
    """The ids of those of whom the condition holds."""
    days = [compile_sql(part, Columns({}), moment) for part in asked.parts]
    past = history_of_everybody(definitions, asked, days, moment, since=_low_bound(condition, asked, moment))
    columns = Columns({_VALUE: past.c.value}, joined={unplaced(asked): _VALUE})
    return select(past.c.entity_id).where(compile_sql(condition, columns, moment))


_VALUE: Final = "value"


def _low_bound(condition: Typed, asked: Typed, moment: Moment) -> Sql | None:
    """A moment before which no change makes the condition hold."""
    parts: Sequence[Typed] = condition.parts
    first = parts[0].parts[0] if parts and parts[0].operation == "to_date" else parts[0] if parts else condition
    if condition.operation not in (">=", ">", "between") or unplaced(first) != unplaced(asked):
        return None
    bound = compile_sql(parts[1], Columns({}), moment)
    if parts[1].type.kind == "datetime":
        return bound
    midnight = func.timezone(str(moment.zone), cast(bound, DateTime()))
    return midnight - literal(timedelta(days=1))  # enough for clocks that are put forward or back at midnight
