"""The stand-in for delivering letters: what would be sent waits in the outbox, for staff to read."""

from dataclasses import dataclass
from datetime import datetime

from sqlmodel import Session

from finesieve.store.tables import OutboxMessage

__all__ = ["Letter", "post"]


@dataclass(frozen=True, slots=True)
class Letter:
    """One letter. `link` is the address that it asks to follow, from the root of the site."""

    kind: str
    recipient: str
    subject: str
    body: str
    link: str = ""


def post(session: Session, workspace_id: int, person_id: int, letter: Letter, now: datetime) -> None:
    """Send a letter, in the transaction that causes it."""
    row = OutboxMessage(
        workspace_id=workspace_id,
        person_id=person_id,
        kind=letter.kind,
        recipient=letter.recipient,
        subject=letter.subject,
        body=letter.body,
        link=letter.link,
        at=now,
    )
    session.add(row)
