"""The state that the values of a workspace are in: a number that is another after every change that was committed.

What was counted over many people is kept by it (`store/reading/kept.py`). The number is spread over several rows, so
that two who write at the same time do not wait for one another; a reader adds them up.
"""

from functools import lru_cache
from typing import Final

from sqlalchemy import BigInteger, Column, Integer, MetaData, Table, event, func, select, update
from sqlalchemy.orm import Session as AnySession
from sqlmodel import Session

from finesieve.store.definitions.catalogue import schema_name

__all__ = ["has_changed", "mark_changed", "state_of"]

_SLOTS: Final = 16
_MARK: Final = "finesieve.changed"


def mark_changed(session: Session, workspace_id: int) -> None:
    """Values of a workspace change in this transaction; whoever writes values says so."""
    session.info.setdefault(_MARK, set()).add(workspace_id)


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
    marked = session.info.pop(_MARK, ())
    if marked:
        # All else is written first, since that may have to wait for others.
        session.flush()
    for workspace_id in sorted(marked):
        table = _state(workspace_id)
        mine = table.c.slot == func.pg_backend_pid() % _SLOTS
        session.execute(update(table).where(mine).values(version=table.c.version + 1))


@event.listens_for(AnySession, "after_rollback")
def _forget(session: AnySession) -> None:
    session.info.pop(_MARK, None)
