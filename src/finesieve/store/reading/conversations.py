"""Queries over conversations: pages of them, and what the scripts that hold them have asked."""

from collections.abc import Iterable, Mapping
from typing import Any, Final

from sqlalchemy import text
from sqlmodel import Session, col, select

from finesieve.store.reading.searching import contains_word
from finesieve.store.tables import Conversation, ConversationLine

__all__ = ["asked_by_scripts", "page_of_conversations"]

_ASKED: Final = text(
    "SELECT script.slug, script.id, "
    "array_agg(DISTINCT (step->>'field_id')::integer) FILTER (WHERE step->>'field_id' IS NOT NULL), "
    "array_agg(DISTINCT step->>'script') FILTER (WHERE coalesce(step->>'script', '') <> '') "
    "FROM chat_script script JOIN chat_script_version version ON version.script_id = script.id "
    "CROSS JOIN LATERAL jsonb_array_elements(version.document->'steps') step GROUP BY script.id"
)


def page_of_conversations(
    session: Session, script_id: int, conditions: Mapping[str, Any], before: int | None, limit: int
) -> list[Conversation]:
    """Conversations held by a script, or by any where it is 0, the newest first, from below an id.

    `conditions` are a `mode`, the moments `since` and `until` between which they began, and `words` that each stand in
    something that was said, whatever the case.
    """
    query = select(Conversation)
    if script_id:
        query = query.where(col(Conversation.script_id) == script_id)
    if before is not None:
        query = query.where(col(Conversation.id) < before)
    if conditions.get("mode"):
        query = query.where(col(Conversation.mode) == conditions["mode"])
    if conditions.get("since"):
        query = query.where(col(Conversation.begun_at) >= conditions["since"])
    if conditions.get("until"):
        query = query.where(col(Conversation.begun_at) < conditions["until"])
    for word in conditions.get("words", ()):
        said = select(ConversationLine.id).where(
            col(ConversationLine.conversation_id) == col(Conversation.id),
            contains_word(col(ConversationLine.text), word),
        )
        query = query.where(said.exists())
    return list(session.exec(query.order_by(col(Conversation.id).desc()).limit(limit)).all())


def asked_by_scripts(session: Session) -> dict[int, set[int]]:
    """By script, the ids of the fields that any of its versions asks, or one of a script that it leads through."""
    rows = session.execute(_ASKED).all()
    fields = {str(slug): set(asked or ()) for slug, _, asked, _ in rows}
    through = {str(slug): tuple(others or ()) for slug, _, _, others in rows}
    asked = {}
    for slug, script_id, _, _ in rows:
        reached = _reached(str(slug), through)
        asked[int(script_id)] = {one for other in reached for one in fields[other]}
    return asked


def _reached(slug: str, through: Mapping[str, Iterable[str]]) -> set[str]:
    found, left = set[str](), [slug]
    while left:
        one = left.pop()
        if one in through and one not in found:
            found.add(one)
            left += through[one]
    return found
