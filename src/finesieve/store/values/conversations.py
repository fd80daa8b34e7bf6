"""Storing conversations: that one begins, how it stands, and what was said."""

from collections.abc import Sequence
from typing import Final

from sqlalchemy import bindparam, insert, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Session, col

from finesieve.store.tables import Conversation, ConversationLine

__all__ = ["insert_conversation", "keep_said"]

_PARTS: Final = tuple(name for name in Conversation.model_fields if name != "id")
_CHANGES: Final = (
    "person_id", "confirmed", "mode", "state", "note", "clerk", "last_at", "waits_since", "due_at",
)  # fmt: skip
_SAID: Final = ("speaker", "kind", "text", "more")
# Made once, and one for all, without the work that the session does for rows which it goes on knowing: each reply
# needs it.
_INSERT: Final = insert(Conversation).returning(col(Conversation.id))
_KEEP: Final = text(
    f"WITH stands AS (UPDATE conversation SET {', '.join(f'{name} = :{name}' for name in _CHANGES)} WHERE id = :id) "  # noqa: S608 - names of columns
    "INSERT INTO conversation_line (workspace_id, conversation_id, speaker, kind, text, more, at) "
    "SELECT :workspace, :id, said.speaker, said.kind, said.text, said.more, said.at "
    "FROM jsonb_to_recordset(:lines) "
    "AS said(place integer, speaker text, kind text, text text, more jsonb, at timestamptz) "
    "ORDER BY said.place RETURNING id"
).bindparams(bindparam("state", type_=JSONB), bindparam("lines", type_=JSONB))


def insert_conversation(session: Session, row: Conversation) -> None:
    """Store a conversation that begins; it has its id from then on. Raises Conflict for a token that there is."""
    values = {name: getattr(row, name) for name in _PARTS}
    row.id = session.connection().execute(_INSERT, values).scalar_one()


def keep_said(session: Session, row: Conversation, lines: Sequence[ConversationLine]) -> None:
    """Store how a conversation stands now and what was said in it, in this order; the lines get their ids."""
    if row in session:
        session.expunge(row)  # all of it is stored here
    said = [
        {"place": place, "at": one.at.isoformat(), **{name: getattr(one, name) for name in _SAID}}
        for place, one in enumerate(lines)
    ]
    changes = {name: getattr(row, name) for name in _CHANGES}
    stands = {"id": row.id, "workspace": row.workspace_id, **changes}
    ids = session.connection().execute(_KEEP, {**stands, "lines": said}).scalars()
    for line, line_id in zip(lines, sorted(ids), strict=True):
        line.id = line_id
