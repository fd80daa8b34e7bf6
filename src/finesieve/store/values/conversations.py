"""Storing conversations: that one begins, how it stands, and what was said."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any, Final, Protocol

from sqlalchemy import bindparam, insert, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Session, col

from finesieve.store.tables import Conversation

__all__ = ["Said", "insert_conversation", "keep_said"]


class Said(Protocol):
    """Something that was said, as `ConversationLine` has it."""

    @property
    def speaker(self) -> str: ...
    @property
    def kind(self) -> str: ...
    @property
    def text(self) -> str: ...
    @property
    def more(self) -> Mapping[str, Any]: ...


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
    "SELECT :workspace, :id, said.speaker, said.kind, said.text, said.more, :at "
    "FROM jsonb_to_recordset(:lines) "
    "AS said(place integer, speaker text, kind text, text text, more jsonb) "
    "ORDER BY said.place RETURNING id"
).bindparams(bindparam("state", type_=JSONB), bindparam("lines", type_=JSONB))


def insert_conversation(session: Session, row: Conversation) -> None:
    """Store a conversation that begins; it has its id from then on. Raises Conflict for a token that there is."""
    values = {name: getattr(row, name) for name in _PARTS}
    row.id = session.connection().execute(_INSERT, values).scalar_one()


def keep_said(session: Session, row: Conversation, lines: Sequence[Said], at: datetime) -> list[int]:
    """Store how a conversation stands now and what was said in it then, in this order; gives the ids of the lines."""
    if row in session:
        session.expunge(row)  # all of it is stored here
    said = [{"place": place, **{name: getattr(one, name) for name in _SAID}} for place, one in enumerate(lines)]
    changes = {name: getattr(row, name) for name in _CHANGES}
    stands = {"id": row.id, "workspace": row.workspace_id, "at": at, **changes}
    return sorted(session.connection().execute(_KEEP, {**stands, "lines": said}).scalars())
