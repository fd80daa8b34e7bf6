"""The state that the values of a workspace are in: a number that is another after every change that was committed.

What was counted over many people is kept by it (`store/reading/kept.py`). The number is spread over several rows, so
that two who write at the same time do not wait for one another; a reader adds them up. Whoever writes says which rows
it was, so that what is kept of derived fields follows (`store/values/kept_fields.py`).
"""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any, Final

from sqlalchemy import BigInteger, Column, Integer, MetaData, Table, event, func, select, type_coerce, update
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Session as AnySession
from sqlmodel import Session, col

from finesieve.store.definitions.catalogue import schema_name
from finesieve.store.tables import KeptField

__all__ = ["ANYTHING", "Kept", "Touched", "has_changed", "mark_changed", "state_of", "then_follow"]

ANYTHING: Final = "anything"
"""What changed in a transaction that cannot say which values it was."""
MOST_NAMED: Final = 20_000
"""Of a thing of which more rows than this change in one transaction, any may have."""

_SLOTS: Final = 16
_MARK: Final = "finesieve.changed"


@dataclass(slots=True)
class Touched:
    """The rows that a transaction has changed in one workspace, by what they are about; None where it may be any."""

    rows: dict[str, set[int] | None] = field(default_factory=dict)

    def add(self, about: str, ids: Iterable[int] | None) -> None:
        """Some more rows; None for any."""
        known = self.rows.setdefault(about, set())
        if ids is None or known is None:
            self.rows[about] = None
            return
        known.update(ids)
        if len(known) > MOST_NAMED:
            self.rows[about] = None

    def of(self, about: str) -> set[int] | None:
        """The rows of this kind; None where it may be any."""
        return None if ANYTHING in self.rows else self.rows.get(about, set())


def mark_changed(session: AnySession, workspace_id: int, about: str, ids: Iterable[int] | None = None) -> None:
    """Rows about something change in this transaction, any of them where no `ids` are given; whoever writes says so."""
    marked: dict[int, Touched] = session.info.setdefault(_MARK, {})
    marked.setdefault(workspace_id, Touched()).add(about, ids)


@dataclass(frozen=True, slots=True)
class Kept:
    """A kept derived field as a transaction finds it at its end, see `KeptField`."""

    field_id: int
    generation: int
    meaning: str
    state: str


Following = Callable[[Any, int, Touched, list[Kept]], None]
"""Called with the session, a workspace, what was touched, and the kept fields."""
_following: Final[list[Following]] = []


def then_follow(follow: Following) -> Following:
    """Have this called at the end of each transaction that has changed values of a workspace with kept fields."""
    _following.append(follow)
    return follow


def has_changed(session: Session, workspace_id: int) -> bool:
    """Whether this transaction has changed values itself, so that its state is one of its own."""
    return workspace_id in session.info.get(_MARK, ())


def state_of(session: Session, workspace_id: int) -> int:
    """The state that this transaction sees; of one that has changed values itself it says nothing."""
    return int(session.execute(select(func.sum(_state(workspace_id).c.version))).scalar_one())


@lru_cache(maxsize=1_000)
def _state(workspace_id: int) -> Table:
    # One and the same each time, since SQLAlchemy keeps what it has made of a statement by the tables in it.
    columns = (Column("slot", Integer, primary_key=True), Column("version", BigInteger))
    return Table("state", MetaData(schema=schema_name(workspace_id)), *columns)


@event.listens_for(AnySession, "before_commit")
def _move_on(session: AnySession) -> None:
    """The last that a transaction does: what holds others up for shortest, and can wait for nobody who waits for it."""
    if session.in_nested_transaction():
        return  # only a part of it ends
    # All else is written first, since that may have to wait for others; some of it tells only then what it changes.
    session.flush()
    marked: dict[int, Touched] = session.info.pop(_MARK, {})
    for workspace_id in sorted(marked):
        table = _state(workspace_id)
        mine = table.c.slot == func.pg_backend_pid() % _SLOTS
        # Which fields are kept is asked as late as this: whoever begins to keep one waits for all who asked before.
        moved = update(table).where(mine).values(version=table.c.version + 1).returning(_kept_fields(workspace_id))
        kept = session.execute(moved).scalar_one()
        for follow in _following if kept else ():
            follow(session, workspace_id, marked[workspace_id], [Kept(*one) for one in kept])


@lru_cache(maxsize=1_000)
def _kept_fields(workspace_id: int) -> Any:
    parts = (KeptField.field_id, KeptField.generation, KeptField.meaning, KeptField.state)
    each = func.jsonb_build_array(*(col(part) for part in parts))
    query = select(func.jsonb_agg(each)).where(
        col(KeptField.workspace_id) == workspace_id, col(KeptField.meaning) != ""
    )
    return type_coerce(query.scalar_subquery(), JSONB)


@event.listens_for(AnySession, "after_rollback")
def _forget(session: AnySession) -> None:
    session.info.pop(_MARK, None)
