"""Moving the values of a field from one column to another, when its type changes."""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from sqlalchemy import Column, MetaData, Table, bindparam, case, func, select, text, update
from sqlmodel import Session

from finesieve.core.fields.definition import Field
from finesieve.core.values import Value
from finesieve.store.definitions.catalogue import Definitions, schema_name, table_name
from finesieve.store.definitions.columns import SQL_TYPES
from finesieve.store.definitions.state import mark_changed
from finesieve.store.language.compiler import bound

__all__ = [
    "column_values",
    "distinct_values",
    "free_generation",
    "hold_still",
    "rename_values",
    "values_of",
    "write_column",
]


def _table(definitions: Definitions, fields: Sequence[Field]) -> Table:
    """The table with columns that the catalogue does not know, or not any more."""
    about = fields[0].about
    known = definitions.tables[about]
    columns = [Column(field.column, SQL_TYPES[field.type.kind]) for field in fields]
    return Table(known.name, MetaData(schema=known.schema), Column("id", known.c.id.type), *columns)


def distinct_values(session: Session, definitions: Definitions, field: Field) -> Iterator[tuple[Value, int]]:
    """Every different value with how many hold it, the most held first; blanks apart."""
    table = _table(definitions, [field])
    column = table.c[field.column]
    query = select(column, func.count()).where(column.is_not(None)).group_by(column)
    for value, count in session.execute(query.order_by(func.count().desc(), column)):
        yield value, int(count)


def column_values(
    session: Session, definitions: Definitions, field: Field, after_id: int, limit: int
) -> list[tuple[int, Value]]:
    """Filled values by id, from above an id on."""
    table = _table(definitions, [field])
    column = table.c[field.column]
    query = select(table.c.id, column).where(table.c.id > after_id, column.is_not(None))
    return [(int(row[0]), row[1]) for row in session.execute(query.order_by(table.c.id).limit(limit))]


def values_of(session: Session, definitions: Definitions, field: Field, ids: Sequence[int]) -> dict[int, Value]:
    """The values of these, by id; blank ones included."""
    table = _table(definitions, [field])
    query = select(table.c.id, table.c[field.column]).where(table.c.id.in_(list(ids)))
    return {int(row[0]): row[1] for row in session.execute(query)}


def write_column(session: Session, definitions: Definitions, field: Field, values: Mapping[int, Value]) -> None:
    """Put values into a column, by id."""
    if not values:
        return
    table = _table(definitions, [field])
    column: Any = table.c[field.column]
    mark_changed(session, definitions.workspace_id, field.about, values)
    statement = update(table).where(table.c.id == bindparam("row_id")).values({column: bindparam("value")})
    connection = session.connection()
    connection.execute(statement, [{"row_id": row_id, "value": value} for row_id, value in values.items()])


def rename_values(session: Session, definitions: Definitions, field: Field, renamed: Mapping[str, str]) -> None:
    """Other stored values of a choice for everybody who holds the old ones, at once, so that two can change places."""
    mark_changed(session, definitions.workspace_id, field.about)
    table = definitions.tables[field.about]
    column: Any = table.c[field.column]
    if field.type.kind == "choices":
        steps = [(old, f"\x01{place}") for place, old in enumerate(renamed)]
        steps += [(f"\x01{place}", new) for place, new in enumerate(renamed.values())]
        for old, new in steps:
            holding = column.op("&&")(bound((old,), "choices"))
            changed = {column: func.array_replace(column, old, new)}
            session.execute(update(table).where(holding).values(changed))
        return
    cases = case(*((column == old, new) for old, new in renamed.items()), else_=column)
    session.execute(update(table).where(column.in_(list(renamed))).values({column: cases}))


def free_generation(session: Session, workspace_id: int, field: Field) -> int:
    """The number of the next column that the field can have: none has it, not even one of a change taken back."""
    query = text(
        "SELECT column_name FROM information_schema.columns WHERE table_schema = :schema AND table_name = :table "
        "AND column_name ~ :pattern"
    )
    place = {"schema": schema_name(workspace_id), "table": table_name(field.about), "pattern": f"^f{field.id}_[0-9]+$"}
    found = [int(name.rpartition("_")[2]) for (name,) in session.execute(query, place)]
    return max(found, default=0) + 1


def hold_still(session: Session, workspace_id: int, field: Field) -> None:
    """Keep everybody from writing to the table until the transaction ends. Waits 2 seconds at most."""
    session.execute(text("SET LOCAL lock_timeout = '2s'"))
    name = f"{schema_name(workspace_id)}.{table_name(field.about)}"
    session.execute(text(f"LOCK TABLE {name} IN SHARE ROW EXCLUSIVE MODE"))
