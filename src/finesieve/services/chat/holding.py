"""Holding conversations: what the public pages and the text channel may do."""

import hashlib
import secrets
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any, Final, Literal

from sqlalchemy import bindparam, text
from sqlalchemy.orm import defer
from sqlmodel import col, select

from finesieve.core.chat.journal import State, read_state, write_state
from finesieve.core.chat.machine import Scripts, advance, begin, has_come, present, result_of, with_conflicts
from finesieve.core.chat.prepare import PreparedScript
from finesieve.core.chat.replies import Offer
from finesieve.core.chat.script import Script, Wait
from finesieve.core.chat.turn import Message, Reply, Turn
from finesieve.core.chat.words import steering_word
from finesieve.core.chat.world import TalkWorld
from finesieve.core.errors import Conflict, LinkEnded, NotFound, TooOften
from finesieve.core.fields.about import HOUSE
from finesieve.core.forms.rows import Situation
from finesieve.core.forms.wording import Wording
from finesieve.core.values import StoredFile
from finesieve.services.chat.codes import BY_CODE, CODE, looked_at, send_code
from finesieve.services.chat.committing import write_effects
from finesieve.services.chat.consents import words_agreed_to
from finesieve.services.filling.levels import values_of_levels
from finesieve.services.filling.situation import person_situation
from finesieve.services.kernel.arrivals import count_arrival
from finesieve.services.kernel.links import Links
from finesieve.services.kernel.scope import Clock, Scope, Unit, public_scope
from finesieve.services.people.personal_links import found_by, is_good, use_link_once
from finesieve.services.values.files import OpenedFile
from finesieve.store.connection.database import Store
from finesieve.store.files.keeping import FileStore
from finesieve.store.tables import ChatScriptRow, ChatScriptVersion, Conversation, ConversationLine
from finesieve.store.values.conversations import insert_conversation, keep_said

__all__ = [
    "Line",
    "OpenChat",
    "PublicChats",
    "Visitor",
    "come_of_wait",
    "due_at",
    "keep_lines",
    "lines_of",
    "prepared_version",
    "scripts_of",
    "take_turn",
    "world_of",
]

_BYTES: Final = 18
_MOST_KEPT: Final = 64
_SHOWN: Final = 200
_LONGEST: Final = 2_000
# The draft, which may be long, is read only where it is wanted.
_BY_SLUG: Final = (
    select(ChatScriptRow)
    .options(defer(ChatScriptRow.draft))  # type: ignore[arg-type]
    .where(col(ChatScriptRow.slug) == bindparam("slug"))
)
# Made once: each reply asks it, and putting a statement together costs as much again as the database does.
_BY_TOKEN: Final = select(Conversation).where(
    col(Conversation.script_id) == bindparam("script"), col(Conversation.token_hash) == bindparam("token")
)
_BY_TOKEN_LOCKED: Final = _BY_TOKEN.with_for_update()
_IN_FORCE: Final = select(ChatScriptRow.id, ChatScriptRow.slug, ChatScriptRow.published).where(
    col(ChatScriptRow.published) > 0
)
_LOOK: Final = (timedelta(minutes=1), timedelta(hours=1))
_ENDED: Final = "It may have expired, been used already, or been withdrawn. Ask us for a new one."


@dataclass(frozen=True, slots=True)
class Line:
    """Something said, as it is shown."""

    id: int
    speaker: str
    kind: str
    text: str
    more: Mapping[str, Any]
    at: datetime | None = None


@dataclass(frozen=True, slots=True)
class Visitor:
    """Who comes: the token that their browser has, who is signed in (0 for nobody), the languages wished for, and the
    token of the personal link that they followed. `begins` tells that their page shows one that is not kept yet."""

    token: str = ""
    person: int = 0
    languages: tuple[str, ...] = ()
    me: str = ""
    begins: bool = False


@dataclass(frozen=True, slots=True)
class OpenChat:
    """A conversation as its page shows it. `lines` are all, or those since a reply; `last` is the id of the last one.

    `visit` names the question being asked, so that a button of an earlier one is known for one.
    """

    house: str
    title: str
    speaker: str
    token: str
    lines: tuple[Line, ...]
    offers: tuple[Offer, ...]
    expects: Mapping[str, Any] | None
    mode: str
    visit: int
    say: Wording
    language: str
    last: int = 0
    clerk: str = ""
    begun: bool = True
    embed_on: tuple[str, ...] = ()
    picture: str = ""
    quiet: str = ""


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def _seed(token: str) -> int:
    return int.from_bytes(hashlib.blake2s(token.encode(), digest_size=4).digest(), "big")


def prepared_version(unit: Unit, script_id: int, number: int) -> PreparedScript:
    """A published version, ready to be run. Raises NotFound."""
    row = unit.session.get(ChatScriptVersion, (script_id, number))
    if row is None:
        raise NotFound("There is no such page.")
    return PreparedScript(Script.model_validate(row.document), unit.catalogue)


def scripts_of(unit: Unit, row: Conversation) -> Scripts:
    """The scripts of a conversation, in the versions that it began with."""
    versions = row.state["versions"]
    rows = unit.session.exec(select(ChatScriptRow).where(col(ChatScriptRow.slug).in_(versions))).all()
    return {one.slug: prepared_version(unit, one.id or 0, versions[one.slug]) for one in rows}


def world_of(unit: Unit, person_id: int, *, confirmed: bool, levels: bool = True) -> TalkWorld:
    """What a conversation knows: of a confirmed person what is stored, of a stranger nothing.

    `levels` tells whether what levels bring is read at all.
    """
    of_levels = values_of_levels(unit) if levels and unit.catalogue.levels else {}
    if not confirmed or not person_id:
        return TalkWorld(unit.moment, Situation(levels=of_levels))
    situation = replace(person_situation(unit, person_id, {}, None), levels=of_levels)
    return TalkWorld(unit.moment, situation, confirmed=True)


def lines_of(unit: Unit, conversation_id: int, after: int = 0, limit: int = _SHOWN) -> tuple[Line, ...]:
    """What was said since a line, at most the last 200, in order."""
    query = select(ConversationLine).where(
        col(ConversationLine.conversation_id) == conversation_id, col(ConversationLine.id) > after
    )
    rows = unit.session.exec(query.order_by(col(ConversationLine.id).desc()).limit(limit)).all()
    return tuple(_line(row) for row in reversed(rows))


def _line(row: ConversationLine) -> Line:
    return Line(row.id or 0, row.speaker, row.kind, row.text, row.more, row.at)


def _by_house(message: Message) -> Line:
    """What the house says, with what goes with it."""
    found: dict[str, Any] = {"line": message.line} if message.line else {}
    if message.picture:
        found |= {"picture": message.picture, "shows": message.shows}
    if any(message.link):
        found["link"] = list(message.link)
    if message.lines:
        found["answers"] = [list(one) for one in message.lines]
    return Line(0, "house", message.kind, message.text, found)


def take_turn(
    unit: Unit, row: Conversation, scripts: Scripts, turn: Turn, first: Sequence[Line] = ()
) -> tuple[Line, ...]:
    """Keep a turn with what it causes, in this transaction; gives what was said: `first`, and by the house."""
    said = [*first, *map(_by_house, turn.messages)]
    if row in unit.session:
        unit.session.expunge(row)  # it is stored once, with what was said
    if turn.effects:
        title, words = scripts[turn.state.script].script.title, words_agreed_to(scripts, turn.state)
        write_effects(unit, row, title, turn.effects, turn.state, words)
    if turn.handed_over is not None:
        row.note, row.waits_since, row.clerk = turn.handed_over, unit.moment.now, ""
    if turn.state.mode != "clerk":
        row.waits_since, row.clerk = None, ""
    _stand(row, scripts, turn.state, unit.moment.now)
    if turn.effects and turn.effects.consent is False and row.address:
        row.due_at = unit.moment.now  # whose number it is as well, the worker looks up
    return keep_lines(unit, row, said)


def keep_lines(unit: Unit, row: Conversation, lines: Sequence[Line]) -> tuple[Line, ...]:
    """Keep what is said now, and how the conversation stands; gives the lines as they are kept."""
    ids = keep_said(unit.session, row, lines, unit.moment.now)
    return tuple(replace(line, id=line_id, at=unit.moment.now) for line, line_id in zip(lines, ids, strict=True))


def _stand(row: Conversation, scripts: Scripts, state: State, now: datetime) -> None:
    """Let a conversation stand where a state says."""
    kept = {name: row.state[name] for name in ("pace", CODE, BY_CODE) if name in row.state}
    row.mode, row.state, row.last_at = state.mode, write_state(state) | kept, now
    row.due_at = due_at(scripts, state, now, now)


def due_at(scripts: Scripts, state: State, last: datetime, now: datetime) -> datetime | None:
    """When something happens by itself: a wait runs out or is looked after, or it has been silent since `last` for so
    long that it closes.

    Whether a field that is waited for is filled is looked at after a minute, then ever less often, at least once an
    hour.
    """
    if state.mode != "script":
        return None
    closes = last + timedelta(hours=scripts[state.script].script.silence)
    slug, step_id = state.place
    step = scripts[slug].flow.by_id.get(step_id) if slug in scripts else None
    if not isinstance(step, Wait):
        return closes
    since = datetime.fromisoformat(state.since)
    ends = since + timedelta(minutes=step.minutes) if step.minutes else closes
    return min(ends, now + min(max((now - since) / 10, _LOOK[0]), _LOOK[1])) if step.field_id else ends


def come_of_wait(unit: Unit, row: Conversation, scripts: Scripts) -> bool:
    """Let a conversation that is locked go on, where it waits for what has come, or has waited long enough; tells
    whether it did."""
    state = read_state(row.state)
    world = world_of(unit, row.person_id, confirmed=row.confirmed)
    slug, step_id = state.place
    step = scripts[slug].flow.by_id.get(step_id) if slug in scripts else None
    if state.mode != "script" or not isinstance(step, Wait):
        return False
    late = datetime.fromisoformat(state.since) + timedelta(minutes=step.minutes) if step.minutes else None
    if not has_come(scripts, world, state) and (late is None or unit.moment.now < late):
        return False
    visit = state.stack[-1].visit
    take_turn(unit, row, scripts, advance(scripts, world, state, Reply(f"t:{row.id}:{visit}", timer=visit)))
    return True


class PublicChats:
    """The conversations of all workspaces, as whoever holds one may see and continue it."""

    def __init__(self, store: Store, clock: Clock, files: FileStore | None = None, secret: str = "") -> None:
        """`secret` signs the links to pages where something is given; without it none are offered."""
        self._store, self._clock, self._files = store, clock, files
        self._secret = secret
        self._links = Links(secret) if secret else None
        self._kept: dict[tuple[int, int, int, int], PreparedScript] = {}
        self._ids: dict[tuple[int, str], int] = {}
        self._entered: dict[str, tuple[Scope, str]] = {}

    # On the web

    def open(self, workspace: str, slug: str, visitor: Visitor) -> OpenChat:
        """The conversation of a browser, or of whoever is signed in; else a new one, which is kept once they reply.

        Raises NotFound where there is no such script in force.
        """
        scope, house = public_scope(self._store, workspace, self._clock)
        with scope.reading("public") as unit:
            script_row = self._script(unit, slug, "web")
            visitor = self._followed(unit, script_row.id or 0, visitor)
            row = self._found(unit, script_row.id or 0, visitor)
            if row is not None:
                scripts, state = self._scripts(unit, row), read_state(row.state)
                turn = present(scripts, self._world(unit, row, scripts), state)
                return self._opened(unit, house, row, scripts, turn, lines_of(unit, row.id or 0), visitor.token)
            token = secrets.token_urlsafe(_BYTES)
            turn, scripts = self._begun(unit, script_row, visitor, token, "web")
            lines = tuple(map(_by_house, turn.messages))
            return self._opened(unit, house, None, scripts, turn, lines, token)

    def reply(self, workspace: str, slug: str, visitor: Visitor, reply: Reply, came_from: str = "") -> OpenChat:
        """Take a reply; gives what was said since. Sent twice with one key, it counts once.

        Raises NotFound, TooOften.
        """
        scope, house = self._entering(workspace)
        if came_from and visitor.begins:
            count_arrival(scope, f"chat:{slug}", came_from)
        for last_try in (False, True):
            try:
                return self._replied(scope, house, slug, visitor, reply)
            except Conflict:
                if last_try:
                    raise
        raise AssertionError("unreachable")

    def _replied(self, scope: Scope, house: str, slug: str, visitor: Visitor, reply: Reply) -> OpenChat:
        with scope.transaction("public") as unit:
            script_id = self._id_of(unit, slug)
            visitor = self._followed(unit, script_id, visitor)
            row = self._found(unit, script_id, visitor, lock=True)
            if row is None:
                script_row = self._script(unit, slug, "web", in_force=False)
                if len(visitor.token) < _BYTES or not script_row.published or not visitor.begins:
                    raise NotFound("There is no such page.")
                row = self._create(unit, script_row, visitor, "web")
                if visitor.me:
                    link = found_by(unit, visitor.me)
                    use_link_once(unit, link.id or 0 if link is not None else 0)
            _pace(row, unit.moment.now)
            scripts, turn, said = self._taken(unit, row, reply, visitor)
            return self._opened(unit, house, row, scripts, turn, said, visitor.token)

    def news(self, workspace: str, slug: str, visitor: Visitor, after: int) -> OpenChat:
        """What was said since a line: by a clerk, or when a wait was over. Raises NotFound."""
        scope, house = public_scope(self._store, workspace, self._clock)
        with scope.reading("public") as unit:
            opened, goes_on = self._news(unit, house, slug, visitor, after)
        if not goes_on:
            return opened
        with scope.transaction("public") as unit:
            row = unit.session.get_one(Conversation, goes_on, with_for_update=True)
            come_of_wait(unit, row, self._scripts(unit, row))
            return self._news(unit, house, slug, visitor, after)[0]

    def _news(self, unit: Unit, house: str, slug: str, visitor: Visitor, after: int) -> tuple[OpenChat, int]:
        """The news, and the id of the conversation where it waits for what has come; else 0."""
        script_id = self._id_of(unit, slug)
        row = self._found(unit, script_id, self._followed(unit, script_id, visitor))
        if row is None:
            raise NotFound("There is no such conversation.")
        scripts, state = self._scripts(unit, row), read_state(row.state)
        world = self._world(unit, row, scripts)
        turn = present(scripts, world, state)
        lines = lines_of(unit, row.id or 0, after)
        opened = self._opened(unit, house, row, scripts, turn, lines, visitor.token)
        return opened, row.id or 0 if has_come(scripts, world, state) else 0

    def picture(self, workspace: str, slug: str, key: str) -> OpenedFile:
        """A picture of the house that a script shows. Raises NotFound."""
        scope, _ = public_scope(self._store, workspace, self._clock)
        with scope.reading("public") as unit:
            script_row = self._script(unit, slug, "web", in_force=False)
            script = (
                self._prepared(unit, script_row.id or 0, script_row.published).script if script_row.published else None
            )
            shown = (
                {script.speaker_picture, *(getattr(one, "picture", "") for one in script.steps)} if script else set()
            )
            hidden = (HOUSE, key) in unit.catalogue.not_for_the_person
            value = unit.moment.house.get(key) if key and key in shown and not hidden else None
            data = (
                self._files.read(scope.workspace_id, value.digest)
                if isinstance(value, StoredFile) and self._files
                else None
            )
            if not isinstance(value, StoredFile) or data is None:
                raise NotFound("There is no such picture.")
            return OpenedFile(value, data)

    # By text messages

    def text(self, workspace: str, address: str, words: str, key: str, slug: str = "") -> tuple[Line, ...]:
        """Take a text message from an address; gives what was said since, the message itself among it.

        It continues the conversation with that address; where there is none it begins `slug`, or the first script that
        is held by text messages. Raises NotFound, TooOften.
        """
        scope, _ = public_scope(self._store, workspace, self._clock)
        count_arrival(scope, "text", address)
        reply = Reply(key, words[:_LONGEST])
        with scope.transaction("public") as unit:
            _one_at_a_time(unit, address)
            row = self._with_address(unit, address)
            if row is None or (slug and row.mode == "ended" and key not in dict(read_state(row.state).results)):
                script_row = self._script(unit, slug, "text") if slug else self._first_by_text(unit)
                opener = Visitor(token=secrets.token_urlsafe(_BYTES))
                row = self._create(unit, script_row, opener, "text", address, reply)
                return lines_of(unit, row.id or 0)
            _, _, said = self._taken(unit, row, reply, Visitor())
            return said

    def texts(self, workspace: str, address: str) -> tuple[tuple[Line, ...], tuple[Offer, ...]]:
        """The exchange of text messages with an address, and the replies that are offered now."""
        scope, _ = public_scope(self._store, workspace, self._clock)
        with scope.reading("public") as unit:
            row = self._with_address(unit, address, lock=False)
            if row is None:
                return (), ()
            scripts = self._scripts(unit, row)
            turn = present(scripts, self._world(unit, row, scripts), read_state(row.state))
            return lines_of(unit, row.id or 0), self._with_pages(unit, row, turn)

    def by_text(self, workspace: str) -> tuple[tuple[str, str], ...]:
        """The scripts in force that are held by text messages, by short name and title."""
        scope, _ = public_scope(self._store, workspace, self._clock)
        with scope.reading("public") as unit:
            return tuple((row.slug, str(version.document["title"])) for row, version in self._by_text(unit))

    # What all of them need

    def _script(self, unit: Unit, slug: str, channel: str, *, in_force: bool = True) -> ChatScriptRow:
        row = unit.session.scalars(_BY_SLUG, {"slug": slug}).first()
        if row is None or (in_force and not row.published):
            raise NotFound("There is no such page.")
        if in_force and channel not in self._prepared(unit, row.id or 0, row.published).script.channels:
            raise NotFound("There is no such page.")
        return row

    def _by_text(self, unit: Unit) -> Sequence[tuple[ChatScriptRow, ChatScriptVersion]]:
        on = (col(ChatScriptVersion.script_id) == col(ChatScriptRow.id)) & (
            col(ChatScriptVersion.number) == col(ChatScriptRow.published)
        )
        query = select(ChatScriptRow, ChatScriptVersion).join(ChatScriptVersion, on).order_by(col(ChatScriptRow.id))
        return [one for one in unit.session.exec(query).all() if "text" in one[1].document.get("channels", ("text",))]

    def _first_by_text(self, unit: Unit) -> ChatScriptRow:
        found = self._by_text(unit)
        if not found:
            raise NotFound("There is no such page.")
        return found[0][0]

    def _prepared(self, unit: Unit, script_id: int, number: int) -> PreparedScript:
        """A version ready to be run; kept for as long as neither it nor the definitions change."""
        key = (unit.workspace_id, unit.catalogue.version, script_id, number)
        if key not in self._kept:
            made = prepared_version(unit, script_id, number)
            while len(self._kept) >= _MOST_KEPT:
                self._kept.pop(next(iter(self._kept)), None)
            self._kept[key] = made
        return self._kept[key]

    def _scripts(self, unit: Unit, row: Conversation) -> Scripts:
        """The scripts of a conversation, in the versions that it began with."""
        found = {}
        for slug, number in row.state["versions"].items():
            script_id = self._id_of(unit, slug)
            if script_id:
                found[slug] = self._prepared(unit, script_id, number)
        return found

    def _id_of(self, unit: Unit, slug: str) -> int:
        """The id of a script, 0 where it is gone; a short name is never given to another."""
        key = (unit.workspace_id, slug)
        if key not in self._ids:
            found = unit.session.exec(select(ChatScriptRow.id).where(col(ChatScriptRow.slug) == slug)).first()
            if found is None:
                return 0
            self._ids[key] = found
        return self._ids[key]

    def _entering(self, workspace: str) -> tuple[Scope, str]:
        """The scope of a workspace, without asking for one that is known: what follows enters it anew."""
        if workspace not in self._entered:
            if len(self._entered) >= _MOST_KEPT:
                self._entered.clear()
            self._entered[workspace] = public_scope(self._store, workspace, self._clock)
        return self._entered[workspace]

    def _begun(
        self,
        unit: Unit,
        script_row: ChatScriptRow,
        visitor: Visitor,
        token: str,
        channel: Literal["web", "text"],
        known: Mapping[str, str] | None = None,
    ) -> tuple[Turn, Scripts]:
        """The first turn; `known` are values that the channel knows, which nobody has confirmed."""
        in_force = unit.session.execute(_IN_FORCE).all()
        scripts = {slug: self._prepared(unit, script_id, number) for script_id, slug, number in in_force}
        own = scripts[script_row.slug].script
        wished = (*visitor.languages, unit.manner.language[:2])
        language = next((one for one in wished if one in own.languages), own.languages[0])
        levels = scripts[script_row.slug].reads_levels
        world = world_of(unit, visitor.person, confirmed=bool(visitor.person), levels=levels)
        turn = begin(
            scripts, script_row.slug, world, versions={slug: number for _, slug, number in in_force},
            language=language, channel=channel, person_id=visitor.person, seed=_seed(token), known=known or {},
        )  # fmt: skip
        return turn, scripts

    def _create(
        self,
        unit: Unit,
        script_row: ChatScriptRow,
        visitor: Visitor,
        channel: Literal["web", "text"],
        address: str = "",
        opened_by: Reply | None = None,
    ) -> Conversation:
        """Keep a conversation that begins; `opened_by` is a message that answers nothing yet, but opens it. Whoever
        opens it by *stop* is not greeted."""
        known = _known_by(unit, address)
        turn, scripts = self._begun(unit, script_row, visitor, visitor.token, channel, known)
        if opened_by is not None and steering_word(opened_by.text, turn.state.language) == "stop":
            turn = advance(scripts, world_of(unit, 0, confirmed=False), turn.state, opened_by)
        elif opened_by is not None:
            turn.state.results = (result_of(opened_by, turn),)
        row = Conversation(
            workspace_id=unit.workspace_id, script_id=script_row.id or 0, token_hash=_hash(visitor.token),
            person_id=visitor.person, confirmed=bool(visitor.person), channel=channel, address=address,
            state={}, begun_at=unit.moment.now,
        )  # fmt: skip
        _stand(row, scripts, turn.state, unit.moment.now)
        insert_conversation(unit.session, row)
        opener = opened_by.text if opened_by is not None else ""
        take_turn(unit, row, scripts, turn, [Line(0, "person", "typed", opener, {})] if opener.strip() else [])
        return row

    def _taken(
        self, unit: Unit, row: Conversation, reply: Reply, visitor: Visitor
    ) -> tuple[Scripts, Turn, tuple[Line, ...]]:
        """Take a reply to a conversation that is locked; gives what it was and what was said then."""
        scripts, state = self._scripts(unit, row), read_state(row.state)
        repeated = any(key == reply.key for key, _ in state.results)
        if state.sub.get("kind") == CODE and not repeated and self._secret:
            reply = replace(reply, identity=looked_at(unit, row, self._secret, reply.text))
        newly = self._newly_confirmed(row, visitor)
        state.person_id = row.person_id
        world = self._world(unit, row, scripts)
        turn = advance(scripts, world, state, reply)
        if turn.repeated:
            return scripts, turn, ()
        if newly:
            turn = with_conflicts(scripts, world, turn)
        if turn.code_to and self._secret:
            send_code(unit, row, self._secret, turn.code_to, scripts[turn.state.script].script.title)
        words = reply.text[:_LONGEST] or next(iter(_offered_then(scripts, world, state, reply)), "")
        words = "••••" if turn.hush else words
        more = {"as": turn.understood} if words.strip().isdecimal() and turn.understood != words.strip() else {}
        said = [Line(0, "person", "typed", words, more)] if reply.text or reply.button else []
        if turn.restarts:
            script_row = unit.session.get_one(ChatScriptRow, row.script_id)
            if not script_row.published:
                return scripts, turn, keep_lines(unit, row, said)
            who = replace(visitor, person=row.person_id if row.confirmed else 0, languages=(state.language,))
            token, known = secrets.token_urlsafe(_BYTES), _known_by(unit, row.address)
            again, scripts = self._begun(unit, script_row, who, token, state.channel, known)
            again.state.results = turn.state.results
            turn = replace(again, understood=turn.understood)
        return scripts, turn, take_turn(unit, row, scripts, turn, said)

    def _newly_confirmed(self, row: Conversation, visitor: Visitor) -> bool:
        """Whether only now it is known who somebody is who began as a stranger: they have signed in, or followed a
        personal link."""
        newly = bool(visitor.person) and not row.confirmed and row.person_id in (0, visitor.person)
        if newly:
            row.person_id, row.confirmed = visitor.person, True
        return newly

    def _followed(self, unit: Unit, script_id: int, visitor: Visitor) -> Visitor:
        """Whoever followed a personal link is the person that it was sent to. Raises LinkEnded for one that does not
        work; one that works once goes on to, for the conversation that it began."""
        if not visitor.me:
            return visitor
        link = found_by(unit, visitor.me)
        if link is None or link.script_id != script_id:
            raise LinkEnded(_ENDED)
        begun = select(Conversation.id).where(
            col(Conversation.token_hash) == _hash(visitor.token), col(Conversation.person_id) == link.person_id
        )
        goes_on = link.once and link.used == 1 and unit.session.exec(begun).first() is not None
        if not is_good(link, unit.moment.now) and not (goes_on and link.revoked_at is None):
            raise LinkEnded(_ENDED)
        return replace(visitor, person=link.person_id)

    def _found(self, unit: Unit, script_id: int, visitor: Visitor, *, lock: bool = False) -> Conversation | None:
        """The conversation of a browser; else the last one of whoever is signed in that is not over."""
        if visitor.token:
            wanted = {"script": script_id, "token": _hash(visitor.token[:100])}
            row = unit.session.scalars(_BY_TOKEN_LOCKED if lock else _BY_TOKEN, wanted).first()
            if row is not None:
                theirs = not row.confirmed or row.person_id == visitor.person or BY_CODE in row.state
                return row if theirs else None
        if not visitor.person:
            return None
        mine = (
            select(Conversation)
            .where(
                col(Conversation.script_id) == script_id,
                col(Conversation.person_id) == visitor.person,
                col(Conversation.confirmed),
                col(Conversation.mode) != "ended",
            )
            .order_by(col(Conversation.id).desc())
        )
        return unit.session.exec(mine.with_for_update() if lock else mine).first()

    def _with_address(self, unit: Unit, address: str, *, lock: bool = True) -> Conversation | None:
        query = select(Conversation).where(col(Conversation.address) == address).order_by(col(Conversation.id).desc())
        return unit.session.exec(query.with_for_update() if lock else query).first()

    def _world(self, unit: Unit, row: Conversation, scripts: Scripts) -> TalkWorld:
        levels = any(one.reads_levels for one in scripts.values())
        return world_of(unit, row.person_id, confirmed=row.confirmed, levels=levels)

    def _opened(
        self,
        unit: Unit,
        house: str,
        row: Conversation | None,
        scripts: Scripts,
        turn: Turn,
        lines: tuple[Line, ...],
        token: str,
    ) -> OpenChat:
        script = scripts[turn.state.script].script
        say = scripts[turn.state.script].wording(turn.state.language)
        visit = turn.state.stack[-1].visit if turn.state.stack else 0
        last = lines[-1].id if lines else 0
        return OpenChat(
            house, say(script.title), speaker_of(unit, script, house), token, lines,
            self._with_pages(unit, row, turn), turn.expects,
            turn.state.mode, visit, say, unit.manner.language, last,
            row.clerk if row is not None else "", row is not None, script.embed_on, script.speaker_picture, turn.quiet,
        )  # fmt: skip

    def _with_pages(self, unit: Unit, row: Conversation | None, turn: Turn) -> tuple[Offer, ...]:
        """The replies that are offered; what is given on a page, with the way there once the conversation is kept."""
        if self._links is None or row is None or all(one.kind != "apart" for one in turn.offers):
            return turn.offers
        token = self._links.give("ask", unit.moment.now, row.id, turn.state.stack[-1].visit)
        page = f"/answer/{unit.workspace.slug}/{token}"
        return tuple(replace(one, target=page) if one.kind == "apart" else one for one in turn.offers)


def _one_at_a_time(unit: Unit, address: str) -> None:
    """Until the transaction ends, no other text message from this address is taken: two first ones begin one."""
    unit.session.execute(
        text("SELECT pg_advisory_xact_lock(hashtext('text'), hashtext(:who))"),
        {"who": f"{unit.workspace_id}:{address}"},
    )


def _known_by(unit: Unit, address: str) -> dict[str, str]:
    """What a channel knows of whoever writes: the number that it comes from."""
    phone = unit.catalogue.by_key.get("phone")
    try:
        return {"phone": str(phone.parse(address))} if phone is not None and address else {}
    except ValueError:
        return {}


def speaker_of(unit: Unit, script: Script, house: str) -> str:
    """Who speaks: the words of the script, or the house value that it names, or the house."""
    key = script.speaker.strip()
    if key.startswith("{house.") and key.endswith("}"):
        value = unit.moment.house.get(key[7:-1])
        return str(value) if value is not None else house
    return key or house


def _offered_then(scripts: Scripts, world: TalkWorld, state: State, reply: Reply) -> Iterator[str]:
    """What the offer was called that a button was, as it stood when it was pressed."""
    wanted = reply.button.partition("@")[2] or reply.button
    if wanted:
        yield from (one.label for one in present(scripts, world, state).offers if one.id == wanted)


_PACE: Final = (timedelta(minutes=10), 90)


def _pace(row: Conversation, now: datetime) -> None:
    """Count the replies of a conversation. Raises TooOften for more in ten minutes than a person types."""
    since, times = row.state.get("pace") or ["", 0]
    if not since or now - datetime.fromisoformat(since) > _PACE[0]:
        since, times = now.isoformat(), 0
    if times >= _PACE[1]:
        raise TooOften("That is a lot in a short time. Wait a few minutes, then write again; nothing is lost.")
    row.state = {**row.state, "pace": [since, times + 1]}
