"""How long reading a derived field of everybody takes, as it is worked out and as it would be kept."""

import time
from dataclasses import dataclass, replace
from typing import Any, Final

from sqlalchemy import func, select
from sqlmodel import Session

from finesieve.core.language.evaluator import Moment
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.language.kept_fields import kept_values
from finesieve.store.language.sources import source_of
from finesieve.store.reading.kept import sample_of

__all__ = ["Times", "time_of_reading"]

_QUICK: Final = 0.2
"""What takes less seconds is read twice, since the first reading finds less in memory."""


@dataclass(frozen=True, slots=True)
class Times:
    """Seconds to read a field of all `people`; `sampled` where both are reckoned up from some of them."""

    people: int
    worked_out: float
    kept: float
    sampled: bool


def time_of_reading(session: Session, definitions: Definitions, key: str, moment: Moment) -> Times:
    """Read a derived field of everybody, or of a sample where there are many, both ways.

    Where it is not kept, a stored value of another table is read in its place.
    """
    plain = definitions.person
    some, more = sample_of(session, definitions)
    people = int(session.execute(select(func.count()).select_from(some.person)).scalar_one())
    source = source_of(session, replace(some, kept={}), frozenset((key,)), moment)
    worked_out = _seconds(session, select(func.count(source.names[key])).select_from(source.table))
    held = kept_values(session, definitions, frozenset((key,)), moment).get(key)
    beside = held if held is not None else plain.alias()
    value = beside.c.value if held is not None else beside.c.created_at
    joined = some.person.outerjoin(beside, beside.c.id == some.person.c.id)
    kept = _seconds(session, select(func.count(value)).select_from(joined))
    return Times(round(people * more), worked_out * more, kept * more, sampled=more > 1)


def _seconds(session: Session, query: Any) -> float:
    def once() -> float:
        started = time.perf_counter()
        session.execute(query).scalar_one()
        return time.perf_counter() - started

    first = once()
    return min(first, once()) if first < _QUICK else first
