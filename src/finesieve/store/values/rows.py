"""Rows of values: of people, records, orders, levels and the house. Who writes them writes their history too."""

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import bindparam, delete, func, insert, select, update
from sqlalchemy.dialects.postgresql import insert as upsert
from sqlmodel import Session

from finesieve.core.fields.about import HOUSE, LEVEL, ORDER, record_about
from finesieve.core.model.catalogue import Link
from finesieve.core.values import Value
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.definitions.state import mark_changed

__all__ = [
    "archive_row",
    "insert_row",
    "insert_rows",
    "link_rows",
    "lock_rows",
    "set_links",
    "update_row",
    "update_rows",
]


def _by_column(definitions: Definitions, about: str, values: Mapping[str, Value]) -> dict[str, Value]:
    columns = definitions.columns_of(about)
    return {columns[key].name: value for key, value in values.items()}


def insert_row(
    session: Session, definitions: Definitions, about: str, values: Mapping[str, Value], row_id: int = 0
) -> int:
    """Add a row, under an id of its own or the one that is given; gives the id.

    Raises Conflict where a value that must be unique is taken.
    """
    table = definitions.tables[about]
    own = {"id": row_id} if row_id else {}
    statement = insert(table).values({**_by_column(definitions, about, values), **own}).returning(table.c.id)
    made = int(session.execute(statement).scalar_one())
    mark_changed(session, definitions.workspace_id, about, [made])
    return made


def update_row(
    session: Session, definitions: Definitions, about: str, row_id: int, values: Mapping[str, Value]
) -> None:
    """Change values of a row; None makes one blank."""
    mark_changed(session, definitions.workspace_id, about, [row_id])
    table, changed = definitions.tables[about], _by_column(definitions, about, values)
    if about in (LEVEL, ORDER, HOUSE):
        statement = upsert(table).values(id=row_id, **changed)
        session.execute(statement.on_conflict_do_update(index_elements=[table.c.id], set_=changed))
        return
    session.execute(update(table).where(table.c.id == row_id).values(changed))


def archive_row(session: Session, definitions: Definitions, about: str, row_id: int, *, archived: bool) -> None:
    """Put a record away, or take it out again."""
    table = definitions.tables[about]
    mark_changed(session, definitions.workspace_id, about, [row_id])
    moment = func.now() if archived else None
    session.execute(update(table).where(table.c.id == row_id).values(archived_at=moment))


def set_links(
    session: Session, definitions: Definitions, link: Link, record_id: int, target_ids: Sequence[int]
) -> None:
    """Link a record with exactly these targets."""
    links = definitions.link
    here = (links.c.link_id == link.id) & (links.c.record_id == record_id)
    gone = delete(links).where(here, links.c.target_id.not_in(list(target_ids))).returning(links.c.target_id)
    mark_changed(session, definitions.workspace_id, link.target, session.execute(gone).scalars().all())
    mark_changed(session, definitions.workspace_id, record_about(link.record_type_id), [record_id])
    for target_id in target_ids:
        session.execute(
            upsert(links)
            .values(link_id=link.id, record_id=record_id, target_id=target_id)
            .on_conflict_do_nothing(index_elements=[links.c.link_id, links.c.record_id, links.c.target_id])
        )


def lock_rows(session: Session, definitions: Definitions, about: str, row_ids: Sequence[int]) -> None:
    """Until the transaction ends, nobody else changes these rows; in one order, so that no two wait for each other."""
    table = definitions.tables[about]
    query = select(table.c.id).where(table.c.id.in_(list(row_ids))).order_by(table.c.id)
    session.execute(query.with_for_update())


def update_rows(
    session: Session, definitions: Definitions, about: str, changed: Mapping[int, Mapping[str, Value]]
) -> None:
    """Change values of many rows, by id and key; all give values for the same keys."""
    if not changed:
        return
    mark_changed(session, definitions.workspace_id, about, changed)
    table = definitions.tables[about]
    by_column = {row_id: _by_column(definitions, about, values) for row_id, values in changed.items()}
    first = next(iter(by_column.values()))
    if all(values == first for values in by_column.values()):
        session.execute(update(table).where(table.c.id.in_(list(by_column))).values(first))
        return
    statement: Any = update(table).where(table.c.id == bindparam("row_id"))
    statement = statement.values({table.c[name]: bindparam(f"to_{name}") for name in first})
    rows = [
        {"row_id": row_id, **{f"to_{name}": value for name, value in values.items()}}
        for row_id, values in by_column.items()
    ]
    session.connection().execute(statement, rows)


def insert_rows(
    session: Session, definitions: Definitions, about: str, rows: Sequence[Mapping[str, Value]]
) -> list[int]:
    """Add many rows, all with values for the same keys; gives their ids in that order."""
    if not rows:
        return []
    table = definitions.tables[about]
    statement = insert(table).returning(table.c.id, sort_by_parameter_order=True)
    found = session.execute(statement, [_by_column(definitions, about, values) for values in rows])
    made = [int(row[0]) for row in found]
    mark_changed(session, definitions.workspace_id, about, made)
    return made


def link_rows(session: Session, definitions: Definitions, link: Link, pairs: Sequence[tuple[int, int]]) -> None:
    """Link new records with their targets: (record, target) each."""
    if pairs:
        about = record_about(link.record_type_id)
        mark_changed(session, definitions.workspace_id, about, (record for record, _ in pairs))
        rows = [{"link_id": link.id, "record_id": record, "target_id": target} for record, target in pairs]
        session.execute(insert(definitions.link), rows)
