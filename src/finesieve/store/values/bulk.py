"""Many rows at once, by COPY."""

from collections.abc import Iterable, Sequence
from typing import Any

from psycopg import sql
from sqlmodel import Session

from finesieve.core.fields.about import PERSON
from finesieve.core.values import Value
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.definitions.columns import to_driver
from finesieve.store.definitions.state import ANYTHING, mark_changed
from finesieve.store.tables import GUARDED

__all__ = ["copy_guarded", "copy_links", "copy_people", "copy_rows"]


def _connection(session: Session) -> Any:
    return session.connection().connection.driver_connection


def copy_people(
    session: Session, definitions: Definitions, keys: Sequence[str], rows: Iterable[Sequence[Value]]
) -> range:
    """Add people, see `copy_rows`."""
    return copy_rows(session, definitions, PERSON, keys, rows)


def copy_rows(
    session: Session, definitions: Definitions, about: str, keys: Sequence[str], rows: Iterable[Sequence[Value]]
) -> range:
    """Add people or records, `keys` naming the fields of each row's values; gives their ids.

    No history is written, see `copy_guarded`. Nobody else may add any
    meanwhile: the ids are taken from the end.
    """
    person, by_key = definitions.tables[about], definitions.catalogue.keys_of(about)
    columns = [by_key[key].column if key in by_key else key for key in keys]
    table = sql.Identifier(person.schema or "", person.name)
    with _connection(session).cursor() as cursor:
        cursor.execute(sql.SQL("LOCK TABLE {} IN EXCLUSIVE MODE").format(table))
        cursor.execute(sql.SQL("SELECT coalesce(max(id), 0) + 1 FROM {}").format(table))
        first = next_id = cursor.fetchone()[0]
        names = sql.SQL(", ").join(map(sql.Identifier, ["id", *columns]))
        with cursor.copy(sql.SQL("COPY {} ({}) FROM STDIN").format(table, names)) as copy:
            for row in rows:
                copy.write_row((next_id, *map(to_driver, row)))
                next_id += 1
        sequence = f"{person.schema}.{person.name}"
        cursor.execute("SELECT setval(pg_get_serial_sequence(%s, 'id'), %s, false)", (sequence, next_id))
        cursor.execute(sql.SQL("ANALYZE {}").format(table))
    made = range(first, next_id)
    mark_changed(session, definitions.workspace_id, about, made)
    return made


def copy_links(session: Session, definitions: Definitions, links: Iterable[tuple[int, int, int]]) -> None:
    """Link records with people and so on: (link id, record id, target id) each."""
    mark_changed(session, definitions.workspace_id, ANYTHING)
    table = sql.Identifier(definitions.link.schema or "", definitions.link.name)
    with _connection(session).cursor() as cursor:
        with cursor.copy(sql.SQL("COPY {} (link_id, record_id, target_id) FROM STDIN").format(table)) as copy:
            for link in links:
                copy.write_row(link)
        cursor.execute(sql.SQL("ANALYZE {}").format(table))


def copy_guarded(session: Session, table: str, columns: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """Add rows to a table behind row-level security.

    COPY cannot write there itself, so the rows go through a passing table and
    the wall looks at each of them.
    """
    if table not in GUARDED:
        raise ValueError(f"{table} is no guarded table")
    names = sql.SQL(", ").join(map(sql.Identifier, columns))
    passing, target = sql.Identifier(f"passing_{table}"), sql.Identifier(table)
    with _connection(session).cursor() as cursor:
        shape = sql.SQL("CREATE TEMP TABLE {} ON COMMIT DROP AS SELECT {} FROM {} WITH NO DATA")
        cursor.execute(shape.format(passing, names, target))
        with cursor.copy(sql.SQL("COPY {} ({}) FROM STDIN").format(passing, names)) as copy:
            for row in rows:
                copy.write_row(row)
        cursor.execute(sql.SQL("INSERT INTO {} ({}) SELECT {} FROM {}").format(target, names, names, passing))
        cursor.execute(sql.SQL("DROP TABLE {}").format(passing))
