"""The outbox: what would be sent to people, kept by the stand-in for delivery."""

import re
from dataclasses import dataclass
from datetime import datetime
from typing import Final

from sqlmodel import col, func, select

from finesieve.services.kernel.scope import Scope
from finesieve.store.tables import OutboxMessage

__all__ = ["LetterLine", "Outbox", "read_outbox"]

_PAGE = 30
_LINKS: Final = re.compile(r"(\bme=)[\w.~-]+")
"""The personal links in a text."""
_CODE: Final = re.compile(r"^[0-9]{6}\b")
"""The code that a letter of kind `code` begins with."""


@dataclass(frozen=True, slots=True)
class LetterLine:
    """One letter. `link` is empty for those who may not act for the reader."""

    id: int
    person_id: int
    recipient: str
    subject: str
    body: str
    link: str
    at: datetime


@dataclass(frozen=True, slots=True)
class Outbox:
    """A page of letters, newest first. `next_before` continues it; None at its end."""

    letters: tuple[LetterLine, ...]
    total: int
    next_before: int | None


def _without_keys(row: OutboxMessage) -> str:
    """The body without what would let others act as the one it is to."""
    body = _LINKS.sub(r"\1…", row.body)
    return _CODE.sub("••••••", body) if row.kind == "code" else body


def read_outbox(scope: Scope, before: int | None = None) -> Outbox:
    """The letters below an id. Their links are for clerks: they let answers count, and open forms as the reader."""
    with scope.reading("reader") as unit:
        query = select(OutboxMessage).order_by(col(OutboxMessage.id).desc()).limit(_PAGE + 1)
        if before is not None:
            query = query.where(col(OutboxMessage.id) < before)
        rows = unit.session.exec(query).all()
        everything = unit.session.exec(select(func.count()).select_from(OutboxMessage)).one()
        lines = tuple(
            LetterLine(
                row.id or 0,
                row.person_id,
                row.recipient,
                row.subject,
                row.body if scope.may("clerk") else _without_keys(row),
                row.link if scope.may("clerk") else "",
                row.at,
            )
            for row in rows[:_PAGE]
        )
        return Outbox(lines, everything, lines[-1].id if len(rows) > _PAGE else None)
