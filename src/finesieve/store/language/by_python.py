"""What SQL cannot say, worked out in Python in batches and looked up: each distinct set of arguments once."""

import itertools
from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Any, Final

from psycopg import sql
from sqlalchemy import Column as SqlColumn
from sqlalchemy import FromClause, MetaData, Select, Table, Text, cast, func, select, type_coerce
from sqlmodel import Session

from finesieve.core.language.evaluator import Moment, compile_python
from finesieve.core.language.typed import Typed
from finesieve.store.connection.database import in_time
from finesieve.store.definitions.columns import SQL_TYPES, to_driver
from finesieve.store.language.compiler import Sql

__all__ = ["by_python"]

BATCH: Final = 5_000
_LOOK: Final = 200
"""How many are worked out between two looks at the clock."""


def by_python(session: Session) -> Callable[[Typed, list[Sql], list[FromClause], Moment], Sql]:
    """Gives the SQL of an operation that only Python can run, out of the SQL of its arguments.

    The arguments are read once, in batches, each distinct set is worked out, and the
    results wait in a table of this transaction, where the SQL finds them.
    """

    def lookup(typed: Typed, parts: list[Sql], tables: list[FromClause], moment: Moment) -> Sql:
        parts = [type_coerce(part, SQL_TYPES[below.type.kind]) for part, below in zip(parts, typed.parts, strict=True)]
        key = func.md5(cast(func.jsonb_build_array(*parts), Text), type_=Text())
        table = _table(session, typed)
        query: Any = select(key, *parts).select_from(*tables)
        _fill(session, table, _results(session, typed, query, moment))
        found: Sql = select(table.c.value).where(table.c.key == key).correlate_except(table).scalar_subquery()
        return found

    return lookup


def _results(session: Session, typed: Typed, query: Select[Any], moment: Moment) -> Iterator[tuple[str, Any]]:
    arguments = tuple(
        Typed(
            "name",
            part.type if part.operation in ("name", "house") else replace(part.type, unit=""),
            part.span,
            name=str(place),
        )
        for place, part in enumerate(typed.parts)
    )
    program = compile_python(replace(typed, parts=arguments))
    for number, (found, *given) in enumerate(session.execute(query.distinct().execution_options(yield_per=BATCH))):
        if number % _LOOK == 0:
            in_time(session)
        value = program({str(place): argument for place, argument in enumerate(given)}, moment)
        if value is not None:
            yield found, to_driver(value)


def _table(session: Session, typed: Typed) -> Table:
    numbers = session.info.setdefault("worked_out", itertools.count(1))
    kind = SQL_TYPES[typed.type.kind]
    table = Table(
        f"worked_out_{next(numbers)}",
        MetaData(),
        SqlColumn("key", Text, primary_key=True),
        SqlColumn("value", kind),
        prefixes=["TEMPORARY"],
        postgresql_on_commit="DROP",
    )
    table.create(session.connection())
    return table


def _fill(session: Session, table: Table, rows: Iterator[tuple[str, Any]]) -> None:
    driver: Any = session.connection().connection.driver_connection
    statement = sql.SQL("COPY {} (key, value) FROM STDIN").format(sql.Identifier(table.name))
    while batch := list(itertools.islice(rows, BATCH)):
        with driver.cursor() as cursor, cursor.copy(statement) as copy:
            for row in batch:
                copy.write_row(row)
    with driver.cursor() as cursor:
        cursor.execute(sql.SQL("ANALYZE {}").format(sql.Identifier(table.name)))
