"""Who carries a tag."""

from sqlalchemy import select
from sqlmodel import Session

from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.language.compiler import bound

__all__ = ["carriers"]


def carriers(
    session: Session, definitions: Definitions, names: tuple[str, ...], limit: int, after: int = 0
) -> list[int]:
    """The first people by id, from above `after` on, who carry any of these tags; at most `limit`.

    Until the transaction ends nobody else changes them.
    """
    person = definitions.person
    carries = person.c.tags.bool_op("&&")(bound(names, "choices"))
    query = select(person.c.id).where(carries, person.c.id > after).order_by(person.c.id).limit(limit)
    return [int(row[0]) for row in session.execute(query.with_for_update())]
