"""What has changed since a moment, read from the history of values."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlmodel import Session, col

from finesieve.core.fields.about import PERSON
from finesieve.core.fields.encoding import Json
from finesieve.store.tables import History

__all__ = ["PastChange", "changes_since", "lines_of_field"]


@dataclass(frozen=True, slots=True)
class PastChange:
    """A change of a value of a person, as the history keeps it."""

    person_id: int
    field_id: int
    old: Json
    new: Json
    source: str
    at: datetime


def changes_since(
    session: Session, field_ids: Sequence[int], since: datetime, limit: int, person_id: int | None = None
) -> list[PastChange]:
    """The changes of these fields of people, or of one, since a moment, the latest first, so many at most."""
    if not field_ids:
        return []
    whose = [] if person_id is None else [col(History.entity_id) == person_id]
    query = (
        select(History.entity_id, History.field_id, History.old, History.new, History.source, History.at)  # type: ignore[call-overload]  # columns, to SQLAlchemy
        .where(col(History.field_id).in_(list(field_ids)), col(History.at) >= since, History.about == PERSON, *whose)
        .order_by(col(History.at).desc(), col(History.id).desc())
        .limit(limit)
    )
    return [PastChange(*row) for row in session.execute(query)]


def lines_of_field(session: Session, person_id: int, field_id: int) -> list[PastChange]:
    """All changes of one field of a person, in the order in which they were written down."""
    query = (
        select(History.entity_id, History.field_id, History.old, History.new, History.source, History.at)  # type: ignore[call-overload]  # columns, to SQLAlchemy
        .where(History.field_id == field_id, History.entity_id == person_id, History.about == PERSON)
        .order_by(History.id)
    )
    return [PastChange(*row) for row in session.execute(query)]
