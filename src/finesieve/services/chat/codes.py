"""Codes by which somebody confirms, in a conversation, that an address is theirs."""

import hashlib
import secrets
from datetime import datetime, timedelta
from typing import Any, Final

from sqlalchemy import func
from sqlmodel import col, select

from finesieve.core.chat.turn import Identity
from finesieve.services.kernel.scope import Unit
from finesieve.standins.mail import Letter, post
from finesieve.store.reading.rows import find_by_email
from finesieve.store.tables import Conversation, OutboxMessage

__all__ = ["BY_CODE", "CODE", "looked_at", "send_code"]

CODE: Final = "code"
"""Where a conversation keeps what its code is compared with."""
BY_CODE: Final = "by_code"
"""Where it keeps that a code has confirmed it: whoever holds it may go on, without signing in."""
_DIGITS: Final = 6
_MINUTES: Final = 15
_TRIES: Final = 5
_LETTERS: Final = 3
"""So many codes somebody gets within an hour, whoever asks for them."""


def _hash(secret: str, conversation_id: int, code: str) -> str:
    return hashlib.blake2b(f"{conversation_id}:{code}".encode(), key=secret.encode()[:64], digest_size=16).hexdigest()


def send_code(unit: Unit, row: Conversation, secret: str, email: str, title: str) -> None:
    """Send a code to whoever has this address; to nobody where nobody has, or they got several of late."""
    person = find_by_email(unit.session, unit.definitions, email) or 0
    code = "".join(secrets.choice("0123456789") for _ in range(_DIGITS))
    until = (unit.moment.now + timedelta(minutes=_MINUTES)).isoformat()
    kept = {"hash": _hash(secret, row.id or 0, code), "person": person, "until": until, "tries": 0}
    row.state = {**row.state, CODE: kept}
    unit.session.add(row)
    if not person or _got_several(unit, person):
        return
    body = (
        f"{code} is your code for “{title}”. It is good for {_MINUTES} minutes. If you did not ask for it, do nothing."
    )
    post(unit.session, unit.workspace_id, person, Letter("code", email, f"Your code: {title}", body), unit.moment.now)


def _got_several(unit: Unit, person: int) -> bool:
    query = select(func.count()).where(
        col(OutboxMessage.person_id) == person, col(OutboxMessage.kind) == "code",
        col(OutboxMessage.at) > unit.moment.now - timedelta(hours=1),
    )  # fmt: skip
    return unit.session.exec(query).one() >= _LETTERS


def looked_at(unit: Unit, row: Conversation, secret: str, words: str) -> Identity:
    """Whether these words are the code that was sent; where they are, the conversation is that person's from now on.

    It is good for a quarter of an hour, for five tries, and once.
    """
    kept: dict[str, Any] = row.state.get(CODE) or {}
    said = "".join(words.split())
    if not kept or not said.isdecimal():
        return ""
    tried = {**kept, "tries": kept["tries"] + 1}
    row.state = {**row.state, CODE: tried}
    good = tried["tries"] <= _TRIES and unit.moment.now <= datetime.fromisoformat(kept["until"])
    same = secrets.compare_digest(_hash(secret, row.id or 0, said), kept["hash"])
    if not (good and same and kept["person"] and row.person_id in (0, kept["person"])):
        return "wrong"
    row.person_id, row.confirmed = kept["person"], True
    row.state = {key: value for key, value in row.state.items() if key != CODE} | {BY_CODE: True}
    return "right"
