"""Connections and transactions. No driver error leaves this module unmapped."""

import json
import time
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from decimal import Decimal
from functools import partial
from typing import Any, Final, TypeVar

from psycopg import errors as pg
from sqlalchemy import Connection, Engine, create_engine, event, text
from sqlalchemy.exc import DBAPIError, OperationalError, PendingRollbackError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from sqlmodel import Session

from finesieve.core.errors import Conflict, FineSieveError, InvalidInput, TookTooLong, Unavailable
from finesieve.core.values import write_json
from finesieve.store.files.keeping import FileStore

__all__ = [
    "Health",
    "SharedReading",
    "Store",
    "apart",
    "connect",
    "enter_workspace",
    "in_time",
    "is_reading",
    "mapped",
    "mark_entered",
    "one_reading",
    "remembered",
    "shared_reading",
]


T = TypeVar("T")


def connect(url: str, *, pool_size: int = 10, durable: bool = True, seconds: float = 0) -> Engine:
    """An engine for a PostgreSQL URL. JIT is off: it costs more than it gives on short counts.

    At most twice `pool_size` connections are open; who finds none free waits five seconds. Without
    `durable`, commits do not wait for the disk: for loading what can be loaded again. No statement takes longer
    than `seconds`; 0, for work that nobody waits for, lets it take what it takes.
    """
    waiting = "" if durable else " -c synchronous_commit=off"
    limit = f" -c statement_timeout={int(1_000 * seconds)}" if seconds else ""
    options = {"options": f"-c jit=off -c timezone=UTC{waiting}{limit}", "connect_timeout": 5}
    return create_engine(
        url,
        pool_size=pool_size,
        max_overflow=pool_size,
        pool_timeout=_WAIT_FOR_CONNECTION,
        pool_pre_ping=True,
        connect_args=options,
        # Structured values keep every digit, in their columns and in the history.
        json_serializer=write_json,
        json_deserializer=partial(json.loads, parse_float=Decimal),
    )


_WAIT_FOR_CONNECTION: Final = 5
_TOO_LONG: Final = "This takes too long. Make it simpler, or try again later."
_LIMIT: Final = "finesieve.limit"


def mapped(error: DBAPIError) -> FineSieveError:
    """Our error for one of the driver's."""
    original = error.orig
    if isinstance(original, pg.UniqueViolation):
        return Conflict("There is one like this already.")
    if isinstance(original, pg.ForeignKeyViolation):
        return Conflict("What this belongs to is gone.")
    if isinstance(original, pg.QueryCanceled):
        return TookTooLong(_TOO_LONG)
    if isinstance(original, pg.LockNotAvailable | pg.DeadlockDetected | pg.SerializationFailure):
        return Unavailable("The database is busy with something else; try again in a moment.")
    if isinstance(original, pg.DataError):
        return InvalidInput({"": "One of the values cannot be kept as it is."})
    if isinstance(original, pg.TooManyColumns):
        return InvalidInput({"": "No further field fits in this workspace."})
    if isinstance(error, OperationalError) or error.connection_invalidated:
        return Unavailable("The database cannot be reached.")
    return FineSieveError("The database refused this.")


@contextmanager
def _no_driver_errors() -> Iterator[None]:
    """What the driver and the pool raise comes out as one of our errors."""
    try:
        yield
    except DBAPIError as error:
        raise mapped(error) from error
    except PendingRollbackError as error:
        if error.code != _CONNECTION_GONE:
            raise
        raise Unavailable("The database cannot be reached.") from error
    except PoolTimeout:
        raise Unavailable("The server is busy right now; try again in a moment.") from None


_CONNECTION_GONE: Final = "8s2b"
"""What the library says to whoever goes on in a transaction after a part that may fail lost the connection."""


def enter_workspace(session: Session, workspace_id: int) -> None:
    """Let row-level security through to this workspace's rows, until the transaction ends."""
    session.execute(_ENTER, {"id": str(int(workspace_id))})


def mark_entered(session: Session, workspace_id: int) -> None:
    """A statement has entered this workspace already, and need not be followed by another that does."""
    session.info[_ENTERED] = workspace_id


_ENTERED: Final = "finesieve.entered"
_ENTER: Final = text("SELECT set_config('finesieve.workspace', :id, true)")


def _limit(session: Session, seconds: float) -> None:
    """Let no statement take longer, until the transaction ends; 0 for as long as the connection allows."""
    if seconds:
        values = {"limit": str(int(1_000 * seconds))}
        session.execute(text("SELECT set_config('statement_timeout', :limit, true)"), values)
    else:
        session.execute(text("SET LOCAL statement_timeout TO DEFAULT"))
    session.info[_LIMIT] = seconds


@contextmanager
def apart(session: Session, seconds: float = 0) -> Iterator[None]:
    """A part of a transaction that may fail by itself: what it did is undone, the rest goes on.

    No statement in it takes longer than `seconds`, where they are given, and Python work that asks `in_time` ends
    by then too. Raises the errors of `core.errors` and no driver's.
    """
    if is_reading(session):
        with _apart_in_reading(session, seconds):
            yield
        return
    before, until = session.info.get(_LIMIT, 0), session.info.get(_UNTIL)
    try:
        with session.begin_nested():
            if seconds:
                session.info[_UNTIL] = time.monotonic() + seconds
                _limit(session, seconds)
            yield
            if seconds:
                _limit(session, before)
    except DBAPIError as error:
        raise mapped(error) from error
    finally:
        session.info[_LIMIT], session.info[_UNTIL] = before, until


@contextmanager
def _apart_in_reading(session: Session, seconds: float) -> Iterator[None]:
    """As `apart`, where nothing is written: what fails takes its transaction along, and the next one goes on."""
    before, until = session.info.get(_LIMIT, 0), session.info.get(_UNTIL)
    try:
        if seconds:
            session.info[_UNTIL] = time.monotonic() + seconds
            if not 0 < before <= seconds:
                _limit(session, seconds)
        yield
        if 0 < seconds < before:
            _limit(session, before)  # the part around it has more time
    except DBAPIError as error:
        _roll_back(session)
        raise mapped(error) from error
    finally:
        session.info[_UNTIL] = until


def _roll_back(session: Session) -> None:
    _let_go(session, session.rollback)


def _let_go(session: Session, way: Callable[[], None]) -> None:
    """Roll back or close; where a server that goes down cannot even do that any more, drop the connection."""
    try:
        way()
    except DBAPIError:
        session.invalidate()


_UNTIL: Final = "finesieve.until"
_SHARED: Final = "finesieve.shared"


def in_time(session: Session) -> None:
    """Raise TookTooLong where the time of this part of the work is over; for loops in Python."""
    until = session.info.get(_UNTIL)
    if until is not None and time.monotonic() > until:
        raise TookTooLong(_TOO_LONG)


@dataclass(frozen=True, slots=True)
class Health:
    """Whether the database is reachable and migrated to the newest step, and whether a worker gives signs of life."""

    ready: bool
    worker: bool


_SIGN_OF_LIFE: Final = text(
    "SELECT coalesce(max(last_heartbeat) > now() - interval '15 seconds', false) FROM procrastinate_workers"
)


class SharedReading:
    """The one transaction in which all that a request reads is read, begun by what reads first. It writes nothing.

    Whoever writes ends it and begins a transaction of their own; what is read after that is read anew.
    """

    def __init__(self) -> None:
        self._store: Store | None = None
        self._workspace_id: int | None = None
        self._session: Session | None = None
        self._used_by = 0

    @property
    def is_open(self) -> bool:
        return self._session is not None

    @contextmanager
    def use(self, store: "Store", workspace_id: int | None = None) -> Iterator[Session]:
        """The session, within a workspace where one is given. Raises the errors of `core.errors` and no driver's.

        A transaction in which a statement failed can do nothing more: the next statement begins another one.
        """
        self._used_by += 1
        try:
            with _no_driver_errors():
                try:
                    yield self._session_for(store, workspace_id)
                except (DBAPIError, PendingRollbackError, PoolTimeout):
                    self._roll_back()
                    raise
        finally:
            self._used_by -= 1

    def fits(self, store: "Store", workspace_id: int | None) -> bool:
        """Whether it can be used for this: not for another workspace, while somebody is in the midst of reading."""
        same = self._store is store and workspace_id in (None, self._workspace_id)
        return same or not self._used_by or (self._store is store and self._workspace_id is None)

    def _roll_back(self) -> None:
        if self._session is not None:
            _roll_back(self._session)

    def _session_for(self, store: "Store", workspace_id: int | None) -> Session:
        if self._store is not store or (self._workspace_id is not None and self._workspace_id != workspace_id):
            self._end()
        if self._session is None:
            self._store = store
            self._session = Session(store.engine, expire_on_commit=False, autoflush=False)
            self._session.info[_SHARED] = True
            event.listen(self._session, "after_begin", self._begun)
            # A row that was read is held, so that it need not be read again.
            held: list[object] = []
            event.listen(self._session, "loaded_as_persistent", lambda _session, row: held.append(row))
        if workspace_id is not None and self._workspace_id is None:
            self._workspace_id = workspace_id
            entered = self._session.info.get(_ENTERED) == workspace_id
            if self._session.in_transaction() and not entered:
                enter_workspace(self._session, workspace_id)
        return self._session

    def _begun(self, session: Any, _transaction: object, connection: Connection) -> None:
        """What holds for one transaction only is said again in each that follows one that failed."""
        session.info.pop(_LIMIT, None)
        session.info.pop(_ENTERED, None)
        if self._workspace_id is not None:
            connection.execute(_ENTER, {"id": str(int(self._workspace_id))})

    def end(self) -> None:
        """Give the connection back, unless somebody is in the midst of reading."""
        if not self._used_by:
            self._end()

    def _end(self) -> None:
        session, self._session, self._store, self._workspace_id = self._session, None, None, None
        if session is not None:
            # All is read by now: that the server goes down meanwhile does not take the answer back.
            _let_go(session, session.close)


_shared: ContextVar[SharedReading | None] = ContextVar("shared", default=None)


def shared_reading() -> SharedReading | None:
    """That of the request that is being answered; None outside of one."""
    return _shared.get()


@contextmanager
def one_reading() -> Iterator[SharedReading]:
    """Within this, all that reads shares one transaction."""
    reading = SharedReading()
    before = _shared.set(reading)
    try:
        yield reading
    finally:
        _shared.reset(before)


def is_reading(session: Session) -> bool:
    """Whether it is that of a `SharedReading`."""
    return bool(session.info.get(_SHARED))


def remembered(session: Session, key: Hashable, read: Callable[[], T]) -> T:
    """What `read` gives; asked again within the reading of one request, the same. Elsewhere it is read each time."""
    if not is_reading(session):
        return read()
    known: dict[Hashable, Any] = session.info.setdefault("finesieve.remembered", {})
    if key not in known:
        known[key] = read()
    return known[key]  # type: ignore[no-any-return]  # what was read for this key


class Store:
    """The database, entered one transaction at a time, and the files beside it, where there are any."""

    def __init__(self, engine: Engine, files: FileStore | None = None) -> None:
        self.engine = engine
        self.files = files
        self._is_current = False

    @contextmanager
    def transaction(self, workspace_id: int | None = None) -> Iterator[Session]:
        """One transaction, committed when the block ends well.

        With a workspace, row-level security lets through that workspace's rows
        only; without one, no row of any guarded table. Raises the errors of
        `core.errors` and no driver's.
        """
        # What the request has read is over by now; nobody holds one connection while waiting for another.
        shared = shared_reading()
        if shared is not None:
            shared.end()
        with _no_driver_errors(), Session(self.engine, expire_on_commit=False) as session, session.begin():
            if workspace_id is not None:
                enter_workspace(session, workspace_id)
            yield session

    @contextmanager
    def reading(self, workspace_id: int | None = None) -> Iterator[Session]:
        """A transaction that only reads: that of the request, where one is being answered, else as `transaction`."""
        shared = shared_reading()
        fits = shared is not None and shared.fits(self, workspace_id)
        with shared.use(self, workspace_id) if shared and fits else self.transaction(workspace_id) as session:
            yield session

    def health(self) -> Health:
        """How the database and the workers are."""
        from finesieve.store.steps import is_current

        try:
            # Looked up until it is so once: no step of a migration is ever taken back under a running server.
            self._is_current = self._is_current or is_current(self.engine)
            if not self._is_current:
                return Health(False, False)
            with self.engine.connect() as connection:
                return Health(True, bool(connection.execute(_SIGN_OF_LIFE).scalar_one()))
        except (DBAPIError, PoolTimeout):
            return Health(False, False)
