"""The clerk's desk: conversations that were handed over, taken, answered, returned to their script."""

from dataclasses import dataclass
from datetime import datetime
from typing import Final

from sqlalchemy import text
from sqlmodel import col, select

from finesieve.core.chat.journal import read_state
from finesieve.core.chat.machine import advance
from finesieve.core.chat.summing import answered_so_far
from finesieve.core.chat.turn import Reply
from finesieve.core.chat.world import talk_row
from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.limits import TEXT
from finesieve.services.chat.holding import Line, keep_lines, lines_of, scripts_of, take_turn, world_of
from finesieve.services.chat.sent import TalkQuery, answers_in_words, conditions_of, withheld_scripts
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.values.value_lines import person_name
from finesieve.store.connection.database import apart
from finesieve.store.reading.conversations import page_of_conversations
from finesieve.store.reading.rows import rows_by_ids, stored_row
from finesieve.store.tables import ChatScriptRow, Conversation

__all__ = [
    "Held", "TalkEntry", "answer_as_clerk", "close_conversation", "list_conversations", "read_conversation",
    "return_to_script", "take_conversation", "waiting_at_desk",
]  # fmt: skip

_PAGE: Final = 40
_SECONDS: Final = 2


@dataclass(frozen=True, slots=True)
class TalkEntry:
    """A conversation in a list: with whom, by which script, since when it waits, who has it. `answers` are a few of
    them in words; `withheld` tells that this role may not read what was said."""

    id: int
    script: str
    person_id: int
    name: str
    channel: str
    mode: str
    note: str
    clerk: str
    begun_at: datetime
    last_at: datetime
    waits_since: datetime | None
    last: str = ""
    answers: str = ""
    withheld: bool = False


@dataclass(frozen=True, slots=True)
class Held:
    """A conversation as its page at the desk shows it: what was said, what was answered, where it can be returned to.

    `lines_of_script` are the lines of its script, by id, number and the beginning of what they say.
    """

    entry: TalkEntry
    confirmed: bool
    lines: tuple[Line, ...]
    answered: tuple[tuple[str, str], ...]
    lines_of_script: tuple[tuple[str, int, str], ...]
    known: tuple[tuple[str, str], ...]
    revision: int


_LAST_SAID: Final = text(
    "SELECT DISTINCT ON (conversation_id) conversation_id, text FROM conversation_line "
    "WHERE conversation_id = ANY(:ids) AND text <> '' ORDER BY conversation_id, id DESC"
)


def _entries(unit: Unit, rows: list[Conversation]) -> list[TalkEntry]:
    if not rows:
        return []
    titles = {row.id: str(row.draft["title"]) for row in unit.session.exec(select(ChatScriptRow)).all()}
    ids = {row.person_id for row in rows if row.person_id}
    people = (
        rows_by_ids(unit.session, unit.definitions, PERSON, ["email", "first_name", "last_name"], ids) if ids else {}
    )
    said = unit.session.execute(_LAST_SAID, {"ids": [row.id for row in rows]})
    last = {int(talk): str(words) for talk, words in said.all()}
    kept_from = withheld_scripts(unit)
    return [
        TalkEntry(
            row.id or 0, titles.get(row.script_id, "a script"), row.person_id,
            person_name(people[row.person_id]) if row.person_id in people else row.address or "Somebody new",
            row.channel, row.mode, "" if row.script_id in kept_from else row.note, row.clerk, row.begun_at,
            row.last_at, row.waits_since, "" if row.script_id in kept_from else last.get(row.id or 0, ""),
            "" if row.script_id in kept_from else answers_in_words(unit, row), row.script_id in kept_from,
        )
        for row in rows
    ]  # fmt: skip


def waiting_at_desk(scope: Scope) -> list[TalkEntry]:
    """The conversations that want a clerk, the longest waiting first."""
    with scope.reading("reader") as unit:
        query = select(Conversation).where(col(Conversation.mode) == "clerk")
        rows = unit.session.exec(query.order_by(col(Conversation.waits_since), col(Conversation.id)).limit(_PAGE)).all()
        return _entries(unit, list(rows))


def list_conversations(
    scope: Scope, script_id: int = 0, before: int | None = None, query: TalkQuery | None = None
) -> tuple[list[TalkEntry], int | None]:
    """The conversations of a script, or of all, the newest first from below an id; and from where it goes on.

    Where this role may not read what was said, no search finds anything. Raises TookTooLong.
    """
    query = query or TalkQuery()
    with scope.reading("reader") as unit:
        if query.search.strip() and script_id in withheld_scripts(unit):
            return [], None
        with apart(unit.session, _SECONDS):
            conditions = conditions_of(unit, query)
            rows = page_of_conversations(unit.session, script_id, conditions, before or None, _PAGE + 1)
        more = rows[_PAGE - 1].id if len(rows) > _PAGE else None
        return _entries(unit, rows[:_PAGE]), more


def _row(unit: Unit, conversation_id: int, *, lock: bool = False) -> Conversation:
    row = unit.session.get(Conversation, conversation_id, with_for_update=True if lock else None)
    if row is None:
        raise NotFound("There is no such conversation.")
    return row


def read_conversation(scope: Scope, conversation_id: int) -> Held:
    """A conversation with what was said and answered. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = _row(unit, conversation_id)
        scripts, state = scripts_of(unit, row), read_state(row.state)
        world = world_of(unit, row.person_id, confirmed=row.confirmed)
        values, moment = talk_row(scripts[state.place[0] or state.script], world, state)
        answered = answered_so_far(scripts, world, state, values, moment)
        flow = scripts[state.script].flow
        lines = tuple((step.id, flow.numbers[step.id], _beginning(step)) for step in flow.lines)
        stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id) if row.person_id else None
        known = tuple(
            (field.label, field.show(stored.get(field.key)))
            for field in unit.catalogue.stored_about(PERSON)
            if stored is not None and stored.get(field.key) is not None and unit.sees(field)
        )
        entry = _entries(unit, [row])[0]
        shown = () if entry.withheld else tuple((one.label, one.shown) for one in answered)
        said = () if entry.withheld else lines_of(unit, row.id or 0)
        return Held(entry, row.confirmed, said, shown, lines, known[:14], 0)


def _beginning(step: object) -> str:
    texts = getattr(step, "texts", ())
    words = getattr(step, "text", "") or (texts[0].text if texts else "")
    return words[:60] or str(getattr(step, "kind", "")).replace("_", " ")


def take_conversation(scope: Scope, conversation_id: int, *, give_back: bool = False) -> None:
    """Take a conversation, so that others see who has it; or give it back. Raises NotFound, Conflict."""
    with scope.transaction("clerk") as unit:
        row = _row(unit, conversation_id, lock=True)
        if row.clerk not in ("", unit.actor) and not give_back:
            raise Conflict(f"{row.clerk} has it.")
        row.clerk = "" if give_back else unit.actor
        unit.session.add(row)


def answer_as_clerk(scope: Scope, conversation_id: int, words: str, once: str = "") -> None:
    """Write to the person; the conversation is then with this clerk. Sent twice with one key, it counts once.

    Raises NotFound, InvalidInput for no text or where no clerk is wanted, Conflict where a colleague has it.
    """
    if not words.strip() or len(words) > TEXT:
        raise InvalidInput({"text": f"Write something, at most {TEXT} characters."})
    with scope.transaction("clerk") as unit:
        row = _row(unit, conversation_id, lock=True)
        if row.mode != "clerk":
            raise InvalidInput({"text": "The script has this conversation; take it over first."})
        if row.clerk not in ("", unit.actor):
            raise Conflict(f"{row.clerk} has it.")
        if once and once == row.state.get("once"):
            return
        row.clerk, row.last_at = unit.actor, unit.moment.now
        row.state = {**row.state, "once": once}
        keep_lines(unit, row, [Line(0, "clerk", "say", words.strip(), {"by": unit.actor})])


def return_to_script(scope: Scope, conversation_id: int, step_id: str) -> None:
    """Let the script go on at a line. Raises NotFound, InvalidInput where there is no such line."""
    with scope.transaction("clerk") as unit:
        row = _row(unit, conversation_id, lock=True)
        scripts, state = scripts_of(unit, row), read_state(row.state)
        if step_id not in scripts[state.script].flow.by_id:
            raise InvalidInput({"step": "Choose the line that it goes on with."})
        world = world_of(unit, row.person_id, confirmed=row.confirmed)
        turn = advance(scripts, world, state, Reply(f"clerk:{state.visits}:{step_id}", step=step_id))
        take_turn(unit, row, scripts, turn)


def close_conversation(scope: Scope, conversation_id: int) -> None:
    """End a conversation that a clerk has. Raises NotFound."""
    with scope.transaction("clerk") as unit:
        row = _row(unit, conversation_id, lock=True)
        row.mode, row.waits_since, row.clerk = "ended", None, ""
        row.state = {**row.state, "mode": "ended", "stack": []}
        unit.session.add(row)
