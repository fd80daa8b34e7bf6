"""Storing what was sent."""

from typing import Final

from sqlalchemy import insert
from sqlmodel import Session, col

from finesieve.store.tables import Submission

__all__ = ["insert_submission"]

_PARTS: Final = tuple(name for name in Submission.model_fields if name != "id")
# Made once, and without the work that the session does for a row which it goes on knowing: each sending needs it.
_INSERT: Final = insert(Submission).returning(col(Submission.id))


def insert_submission(session: Session, sent: Submission) -> int:
    """Store a submission; gives its id, which it has from then on. Raises Conflict for a key that there is."""
    values = {name: getattr(sent, name) for name in _PARTS}
    sent.id = session.connection().execute(_INSERT, values).scalar_one()
    assert sent.id is not None
    return sent.id
