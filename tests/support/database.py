"""A throwaway PostgreSQL for tests: one server a run, one clone of a migrated template a process."""

import atexit
import os
import tempfile
from functools import cache
from pathlib import Path

from sqlalchemy import text

from finesieve.localdb import LocalPostgres
from finesieve.store.connection.database import Store, connect
from finesieve.store.migrate import migrate

URL = "FINESIEVE_TEST_DATABASE"
TEMPLATE = "finesieve"


def start_server() -> LocalPostgres:
    """A server with a migrated template database; the caller stops and removes it."""
    server = LocalPostgres(Path(tempfile.mkdtemp(prefix="finesieve-test-", dir="/var/tmp")), throwaway=True)
    server.start()
    engine = connect(server.url)
    migrate(engine)
    engine.dispose()
    return server


def clone(server: LocalPostgres, name: str) -> str:
    """A copy of the template; gives its URL."""
    engine = connect(server.url_of("postgres")).execution_options(isolation_level="AUTOCOMMIT")
    with engine.connect() as connection:
        connection.execute(text(f"CREATE DATABASE {name} TEMPLATE {TEMPLATE}"))
    engine.dispose()
    return server.url_of(name)


@cache
def database_url() -> str:
    """The database of this process; a server is started for it where the runner has not."""
    if URL not in os.environ:
        server = start_server()
        atexit.register(server.remove)
        os.environ[URL] = clone(server, "single")
    return os.environ[URL]


@cache
def store() -> Store:
    """The store of this process."""
    engine = connect(database_url())
    atexit.register(engine.dispose)
    return Store(engine)
