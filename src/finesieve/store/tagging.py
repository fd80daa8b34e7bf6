"""A tag put on many people, or taken off them, in one statement."""

from collections.abc import Sequence
from typing import Any

from sqlalchemy import func, literal, select, update
from sqlalchemy.dialects.postgresql import array
from sqlmodel import Session

from finesieve.core.values import Value
from finesieve.store.catalogue import Definitions
from finesieve.store.compiler import bound
from finesieve.store.state import mark_changed

__all__ = ["Changed", "carriers", "put_on", "take_off"]

Changed = list[tuple[int, tuple[str, ...], tuple[str, ...]]]
"""Who was changed: the id, the tags before and after."""


def carriers(session: Session, definitions: Definitions, name: str, limit: int) -> list[int]:
    """The first people by id who carry a tag, at most `limit`; until the transaction ends nobody else changes them."""
    person = definitions.person
    query = select(person.c.id).where(_carries(person, name)).order_by(person.c.id).limit(limit)
    return [int(row[0]) for row in session.execute(query.with_for_update())]


def take_off(session: Session, definitions: Definitions, name: str, ids: Sequence[int]) -> Changed:
    """Take a tag off these people."""
    person = definitions.person
    return _change(session, definitions, func.array_remove(person.c.tags, name), _carries(person, name), ids)


def put_on(session: Session, definitions: Definitions, name: str, ids: Sequence[int]) -> Changed:
    """Put a tag on these people, as far as they are there and do not carry it."""
    person = definitions.person
    return _change(session, definitions, person.c.tags.op("||")(array([literal(name)])), ~_carries(person, name), ids)


def _carries(person: Any, name: str) -> Any:
    return person.c.tags.bool_op("&&")(bound((name,), "choices"))


def _change(session: Session, definitions: Definitions, tags: Any, where: Any, ids: Sequence[int]) -> Changed:
    mark_changed(session, definitions.workspace_id)
    person = definitions.person
    before = select(person.c.id, person.c.tags).where(person.c.id.in_(list(ids))).with_for_update().cte("before")
    statement = update(person).values(tags=tags).where(person.c.id == before.c.id, where)
    rows = session.execute(statement.returning(person.c.id, before.c.tags, person.c.tags))
    return [(int(row[0]), _texts(row[1]), _texts(row[2])) for row in rows]


def _texts(value: Value) -> tuple[str, ...]:
    return tuple(str(one) for one in value) if isinstance(value, list | tuple) else ()
