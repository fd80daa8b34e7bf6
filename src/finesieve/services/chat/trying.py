"""Trying a script while it is written: the draft, run from its first line with the replies so far; nothing is kept."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, Final, Literal

from sqlmodel import col, select

from finesieve.core.chat.asking import PAGE
from finesieve.core.chat.journal import NOTHING, State, fold
from finesieve.core.chat.machine import advance, begin
from finesieve.core.chat.plain import as_texts
from finesieve.core.chat.prepare import PreparedScript
from finesieve.core.chat.records import collection_of, title_of
from finesieve.core.chat.replies import Offer
from finesieve.core.chat.turn import Message, Reply, Turn
from finesieve.core.chat.world import TalkWorld, member_of, talk_row
from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import HOUSE, PERSON, record_about
from finesieve.core.fields.encoding import Json, to_json
from finesieve.core.forms.rows import FormRow
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.program import Moment
from finesieve.core.limits import NAME
from finesieve.core.values import Value
from finesieve.services.chat.holding import world_of
from finesieve.services.chat.scripts import drafts_of, script_of
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.values.value_lines import person_name
from finesieve.store.reading.people import page_of_people
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import ChatCase, Segment

__all__ = [
    "CaseLine", "Said", "Trial", "TrialInput", "ValueChange", "delete_script_case", "keep_script_case",
    "list_script_cases", "run_script_cases", "try_script",
]  # fmt: skip

_MOST: Final = 120
PRESS: Final = "press:"
"""Before the id of an offer, where a reply was pressed and not typed."""


@dataclass(frozen=True, slots=True)
class TrialInput:
    """How it is tried: the replies so far, as whom (words to find them by, or an id), on which channel, from which
    line, with which values to begin with (`plot_length = 6`, one a line)."""

    replies: tuple[str, ...] = ()
    who: str = ""
    person_id: int = 0
    channel: Literal["web", "text"] = "web"
    language: str = ""
    at: str = ""
    values: str = ""


@dataclass(frozen=True, slots=True)
class Said:
    """Something said in a trial; on the text channel in the parts that it would be sent in."""

    speaker: Literal["house", "person"]
    kind: str
    texts: tuple[str, ...]
    more: Mapping[str, Any]
    line: int = 0


@dataclass(frozen=True, slots=True)
class ValueChange:
    """A value as it was and as it is, as people read it."""

    label: str
    before: str
    after: str


@dataclass(frozen=True, slots=True)
class Trial:
    """What has come of it: what was said, what is offered, the line in play, values before and after, the reasons of
    the last turn, the segments that the person would come into or leave, what would be written."""

    asked: TrialInput
    person: str
    said: tuple[Said, ...]
    offers: tuple[Offer, ...]
    expects: Mapping[str, Any] | None
    mode: str
    visit: int
    line: int
    step: str
    changes: tuple[ValueChange, ...]
    trace: tuple[tuple[int, str], ...]
    enters: tuple[str, ...]
    leaves: tuple[str, ...]
    understood: str
    written: bool
    problem: str = ""


def try_script(scope: Scope, script_id: int, asked: TrialInput) -> Trial:
    """Run the draft of a script with these replies. Raises NotFound."""
    with scope.reading("reader") as unit:
        return _tried(unit, script_id, asked)


def _tried(unit: Unit, script_id: int, asked: TrialInput) -> Trial:
    row = script_of(unit, script_id)
    scripts = drafts_of(unit)
    script = scripts[row.slug]
    person_id, name = _who(unit, asked)
    asked = replace(asked, replies=asked.replies[:_MOST], person_id=person_id)
    known = _as_seen(unit, world_of(unit, person_id, confirmed=bool(person_id)))
    world, problem = _with_values(known, unit, asked.values)
    if not script.flow.lines:
        return Trial(
            asked, name, (), (), None, "ended", 0, 0, "", (), (), (), (), "", written=False,
            problem="There is nothing to try yet: write a line.",
        )  # fmt: skip
    at = asked.at if asked.at in script.flow.by_id else ""
    started = partial(
        begin, scripts, row.slug, world, language=asked.language, channel=asked.channel, person_id=person_id, seed=1
    )
    turn = _unwritten(started(at=at))
    start, moment = talk_row(script, world, turn.state)
    said = list(_house_said(script.flow.numbers, turn, asked.channel))
    written = bool(turn.effects)
    for number, reply in enumerate(asked.replies):
        pressed = reply.removeprefix(PRESS) if reply.startswith(PRESS) else ""
        label = next((one.label for one in turn.offers if pressed and one.id == pressed.partition("@")[2]), "")
        said.append(Said("person", "typed", (label or reply.removeprefix(PRESS),), {}))
        given: dict[str, Json] | None = (
            {} if pressed.partition("@")[2] == PAGE else None
        )  # as if something had been given there
        said_so = Reply(f"t{number}", "" if pressed else reply, "" if given is not None else pressed, given=given)
        turn = advance(scripts, world, turn.state, said_so)
        if turn.restarts:
            turn = started()
        written, turn = written or bool(turn.effects), _unwritten(turn)
        said += _house_said(script.flow.numbers, turn, asked.channel)
    here = scripts[turn.state.place[0] or row.slug]
    end, now = talk_row(here, world, turn.state)
    stored = start.before if world.situation.stored else start  # of nobody, as the conversation began
    enters, leaves = _segments_moved(unit, stored, end, now)
    return Trial(
        asked, name, tuple(said), turn.offers, turn.expects, turn.state.mode,
        turn.state.stack[-1].visit if turn.state.stack else 0,
        here.flow.numbers.get(turn.state.place[1], 0) if here is script else 0, turn.state.place[1],
        (
            *_changes(unit, start, end, (moment, now), set(here.passing)),
            *_record_changes(unit, script, world, turn.state, now),
        ),
        tuple((script.flow.numbers.get(one.line, 0), one.words) for one in turn.trace),
        enters, leaves, turn.understood, written, problem,
    )  # fmt: skip


def _unwritten(turn: Turn) -> Turn:
    """A turn of which nothing was written: what is stored stays as it was, and what was made stands over it."""
    return replace(turn, state=replace(turn.state, written=NOTHING))


def _who(unit: Unit, asked: TrialInput) -> tuple[int, str]:
    """As whom it is tried, by id and name; nobody where no words are given, or they find nobody."""
    if asked.person_id:
        stored = stored_row(unit.session, unit.definitions, PERSON, asked.person_id)
        return (asked.person_id, person_name(stored)) if stored is not None else (0, "")
    words = asked.who.strip()
    found = page_of_people(unit.session, unit.definitions, unit.moment, [], search=words, limit=1) if words else []
    if not found:
        return 0, ""
    return found[0].id, person_name(stored_row(unit.session, unit.definitions, PERSON, found[0].id) or {})


def _as_seen(unit: Unit, world: TalkWorld) -> TalkWorld:
    """The world as this role may see it: what it may not is blank, so that no branch and no text tells it."""
    hidden = frozenset() if unit.edits else unit.catalogue.for_editors
    if not hidden:
        return world

    def seen(about: str, values: Mapping[str, Value]) -> dict[str, Value]:
        return {key: None if (about, key) in hidden else value for key, value in values.items()}

    links = unit.catalogue.collections_of(PERSON)
    records = {
        name: tuple((one, seen(record_about(links[name].record_type_id), values)) for one, values in held)
        for name, held in world.situation.records.items()
        if name in links
    }
    situation = replace(world.situation, stored=seen(PERSON, world.situation.stored), records=records)
    return replace(world, situation=situation, moment=replace(world.moment, house=seen(HOUSE, world.moment.house)))


def _with_values(world: TalkWorld, unit: Unit, text: str) -> tuple[TalkWorld, str]:
    """The world with values of one's choosing; and what is wrong with what was typed."""
    values: dict[str, Value] = {}
    for line in text.splitlines()[:40]:
        key, sign, raw = line.partition("=")
        known = unit.catalogue.by_key.get(key.strip())
        if not line.strip():
            continue
        if known is None or not sign or not known.stores:
            return world, f"Write one a line, such as plot_length = 6; “{line.strip()[:40]}” names no field."
        try:
            values[known.key] = known.parse(raw.strip(), None, unit.moment.today)
        except ValueError as why:
            return world, f"{known.label}: {why}"
    if not values:
        return world, ""
    blank: dict[str, Value] = {one.key: None for one in unit.catalogue.stored}
    stored = {**blank, "tags": (), "lists": (), "level": None, **world.situation.stored, **values}
    situation = replace(world.situation, stored=stored, known=True)
    return replace(world, situation=situation, confirmed=True), ""


def _house_said(numbers: Mapping[str, int], turn: Turn, channel: str) -> Sequence[Said]:
    found = []
    for place, one in enumerate(turn.messages):
        more = {"answers": one.lines, "link": one.link if any(one.link) else (), "picture": one.picture}
        last = place == len(turn.messages) - 1
        offers = turn.offers if last else ()
        texts = as_texts(one.text, _plain(one), offers) if channel == "text" else (one.text,)
        found.append(Said("house", one.kind, texts, more if channel == "web" else {}, numbers.get(one.line, 0)))
    return found


def _plain(one: Message) -> dict[str, Any]:
    link = {"link": one.link} if any(one.link) else {}
    return {"answers": one.lines, "picture": one.picture, "shows": one.shows, **link}


def _changes(
    unit: Unit, start: FormRow, end: FormRow, moments: tuple[Moment, Moment], passing: set[str]
) -> Sequence[ValueChange]:
    """The values that differ, stored and derived, of the person, the house, and in passing."""
    found = []
    for field in unit.catalogue.fields_about(PERSON):
        if (field.stores or field.derived) and unit.sees(field) and field.key not in unit.catalogue.broken:
            before, after = start.get(field.key), end.get(field.key)
            if before != after:
                found.append(ValueChange(field.label, field.show(before), field.show(after)))
    for key in sorted(passing):
        value = end.get(f"form.{key}")
        if value is not None:
            found.append(ValueChange(f"{key}, in passing", "", str(to_json(value))))
    for name in ("tags", "lists"):
        before, after = start.get(name), end.get(name)
        if (before or ()) != (after or ()):
            found.append(ValueChange(name.capitalize(), _several(before), _several(after)))
    for known in unit.catalogue.stored_about(HOUSE):
        was, now = (moment.house.get(known.key) for moment in moments)
        if was != now and unit.sees(known):
            found.append(ValueChange(f"{known.label}, of the house", known.show(was), known.show(now)))
    return found


def _record_changes(
    unit: Unit, script: PreparedScript, world: TalkWorld, state: State, moment: Moment
) -> Iterator[ValueChange]:
    """The values of records that differ, under the title of the record."""
    made = fold(state.journal)
    for name in made.records:
        about = unit.catalogue.record_types_by_id[script.links[collection_of(name)].record_type_id].about
        after = member_of(script, world, state, made, name, moment)
        before = member_of(script, world, state, NOTHING, name, moment)
        for field in unit.catalogue.fields_about(about):
            if (field.stores or field.derived) and unit.sees(field) and before.get(field.key) != after.get(field.key):
                was, now = before.get(field.key), after.get(field.key)
                title = title_of(script, after, name)
                yield ValueChange(f"{title}: {field.label}", field.show(was), field.show(now))


def _several(value: Value) -> str:
    return ", ".join(value) if isinstance(value, tuple) else ""


def _segments_moved(
    unit: Unit, start: Mapping[str, Value], end: Mapping[str, Value], moment: Moment
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The names of the segments that the person comes into, and of those that they leave."""
    enters: list[str] = []
    leaves: list[str] = []
    for segment in unit.session.exec(select(Segment).order_by(col(Segment.position)).limit(60)).all():
        typed = unit.visible.check_segment(segment.expression).typed if segment.expression else None
        if typed is None:
            continue
        program = compile_python(typed)
        was, now = (program(row, moment) is True for row in (start, end))
        if was != now:
            (enters if now else leaves).append(segment.name)
    return tuple(enters), tuple(leaves)


# Cases: trials that are kept, and run again before a script is published


@dataclass(frozen=True, slots=True)
class CaseLine:
    """A case: what it is called, how it is tried, and what comes otherwise than it did, as (what, was, is)."""

    id: int
    name: str
    asked: TrialInput
    differences: tuple[tuple[str, str, str], ...] = ()


def _expected(trial: Trial) -> dict[str, Any]:
    return {
        "values": {one.label: one.after for one in trial.changes}, "mode": trial.mode,
        "said": [text for one in trial.said if one.speaker == "house" for text in one.texts][-1:],
    }  # fmt: skip


def keep_script_case(scope: Scope, script_id: int, name: str, asked: TrialInput) -> int:
    """Keep a trial as a case, with what comes of it now; gives its id. Raises NotFound, InvalidInput for no name."""
    if not name.strip() or len(name) > NAME:
        raise InvalidInput({"name": f"Give it a name of at most {NAME} characters."})
    with scope.transaction("editor") as unit:
        trial = _tried(unit, script_id, asked)
        how = {"person_id": trial.asked.person_id, "channel": asked.channel, "language": asked.language}
        row = ChatCase(
            workspace_id=unit.workspace_id, script_id=script_id, name=name.strip(), replies=list(asked.replies),
            person={**how, "at": asked.at, "values": asked.values}, expected=_expected(trial),
        )  # fmt: skip
        unit.session.add(row)
        unit.session.flush()
        return row.id or 0


def list_script_cases(scope: Scope, script_id: int) -> list[CaseLine]:
    """The cases of a script, by name."""
    with scope.reading("reader") as unit:
        return [CaseLine(row.id or 0, row.name, _asked(row)) for row in _cases(unit, script_id)]


def _cases(unit: Unit, script_id: int) -> Sequence[ChatCase]:
    query = select(ChatCase).where(col(ChatCase.script_id) == script_id).order_by(col(ChatCase.name), col(ChatCase.id))
    return unit.session.exec(query.limit(60)).all()


def _asked(row: ChatCase) -> TrialInput:
    how = row.person or {}
    return TrialInput(
        tuple(row.replies), "", how.get("person_id", 0), how.get("channel", "web"), how.get("language", ""),
        how.get("at", ""), how.get("values", ""),
    )  # fmt: skip


def run_script_cases(scope: Scope, script_id: int) -> list[CaseLine]:
    """All cases, tried with the draft: what comes otherwise than when they were kept."""
    with scope.reading("reader") as unit:
        return [
            CaseLine(
                row.id or 0, row.name, asked, tuple(_differ(row.expected, _expected(_tried(unit, script_id, asked))))
            )
            for row in _cases(unit, script_id)
            for asked in [_asked(row)]
        ]


def _differ(was: Mapping[str, Any], now: Mapping[str, Any]) -> Sequence[tuple[str, str, str]]:
    found = []
    for label in dict.fromkeys((*was["values"], *now["values"])):
        before, after = was["values"].get(label, ""), now["values"].get(label, "")
        if before != after:
            found.append((label, before or "blank", after or "blank"))
    if was["said"] != now["said"]:
        found.append(("Said last", " ".join(was["said"]), " ".join(now["said"])))
    if was["mode"] != now["mode"]:
        found.append(("Ends", was["mode"], now["mode"]))
    return found


def delete_script_case(scope: Scope, script_id: int, case_id: int) -> None:
    """Remove a case. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = unit.session.get(ChatCase, case_id)
        if row is None or row.script_id != script_id:
            raise NotFound("There is no such case.")
        unit.session.delete(row)
