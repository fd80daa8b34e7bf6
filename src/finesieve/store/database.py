"""Connections and transactions. No driver error leaves this module unmapped."""

import json
from collections.abc import Iterator
from contextlib import contextmanager
from decimal import Decimal
from functools import partial

from psycopg import errors as pg
from sqlalchemy import Engine, create_engine, text
from sqlalchemy.exc import DBAPIError, OperationalError
from sqlmodel import Session

from finesieve.core.errors import Conflict, FineSieveError, InvalidInput, Unavailable
from finesieve.core.values import write_json
from finesieve.store.files import FileStore

__all__ = ["Store", "connect", "enter_workspace", "mapped"]


def connect(url: str, *, pool_size: int = 10, durable: bool = True) -> Engine:
    """An engine for a PostgreSQL URL. JIT is off: it costs more than it gives on short counts.

    Without `durable`, commits do not wait for the disk: for loading what can be loaded again.
    """
    waiting = "" if durable else " -c synchronous_commit=off"
    options = {"options": f"-c jit=off -c timezone=UTC{waiting}", "connect_timeout": 5}
    return create_engine(
        url,
        pool_size=pool_size,
        max_overflow=10,
        pool_pre_ping=True,
        connect_args=options,
        # Structured values keep every digit, in their columns and in the history.
        json_serializer=write_json,
        json_deserializer=partial(json.loads, parse_float=Decimal),
    )


def mapped(error: DBAPIError) -> FineSieveError:
    """Our error for one of the driver's."""
    original = error.orig
    if isinstance(original, pg.UniqueViolation):
        return Conflict("There is one like this already.")
    if isinstance(original, pg.ForeignKeyViolation):
        return Conflict("What this belongs to is gone.")
    if isinstance(original, pg.LockNotAvailable | pg.QueryCanceled | pg.DeadlockDetected | pg.SerializationFailure):
        return Unavailable("The database is busy with something else; try again in a moment.")
    if isinstance(original, pg.DataError):
        return InvalidInput({"": "One of the values cannot be kept as it is."})
    if isinstance(original, pg.TooManyColumns):
        return InvalidInput({"": "No further field fits in this workspace."})
    if isinstance(error, OperationalError) or error.connection_invalidated:
        return Unavailable("The database cannot be reached.")
    return FineSieveError("The database refused this.")


def enter_workspace(session: Session, workspace_id: int) -> None:
    """Let row-level security through to this workspace's rows, until the transaction ends."""
    session.execute(text("SELECT set_config('finesieve.workspace', :id, true)"), {"id": str(int(workspace_id))})


class Store:
    """The database, entered one transaction at a time, and the files beside it, where there are any."""

    def __init__(self, engine: Engine, files: FileStore | None = None) -> None:
        self.engine = engine
        self.files = files

    @contextmanager
    def transaction(self, workspace_id: int | None = None) -> Iterator[Session]:
        """One transaction, committed when the block ends well.

        With a workspace, row-level security lets through that workspace's rows
        only; without one, no row of any guarded table. Raises the errors of
        `core.errors` and no driver's.
        """
        try:
            with Session(self.engine, expire_on_commit=False) as session, session.begin():
                if workspace_id is not None:
                    enter_workspace(session, workspace_id)
                yield session
        except DBAPIError as error:
            raise mapped(error) from error

    def ready(self) -> bool:
        """Whether the database is reachable and migrated to the newest step."""
        from finesieve.store.migrate import is_current

        try:
            return is_current(self.engine)
        except DBAPIError:
            return False
