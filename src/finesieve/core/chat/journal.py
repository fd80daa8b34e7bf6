"""What a conversation has come to: its state, the journal of what was accepted, and the values that these make."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from operator import attrgetter
from typing import Any, Final, Literal

from finesieve.core.fields.encoding import Json
from finesieve.core.values import plain_number

__all__ = [
    "ADD", "NOTHING", "SET", "Amounts", "Entry", "Frame", "Made", "State", "fold", "read_frames", "read_state",
    "write_frames", "write_state",
]  # fmt: skip

Mode = Literal["script", "clerk", "stopped", "ended"]
SET: Final = "set"
ADD: Final = "add"
Amounts = Mapping[str, tuple[str, Json]]
"""By key what becomes of a value: ("set", value), or ("add", difference)."""


@dataclass(frozen=True, slots=True)
class Frame:
    """Where a conversation stands within one script, on its how manieth visit of a line.

    `record` is the record that it is about: the name of its collection and its id, as in "plots:7", or for one that is
    new, as in "plots:new1".
    """

    script: str
    step: str
    visit: int = 0
    record: str = ""


@dataclass(frozen=True, slots=True)
class Entry:
    """Something accepted: an answer, or what was done between. `stack` is where the conversation stood before it.

    `said` is the answer as it was given, "" for a secret. The rest is what came of it, by key, as it is kept; of
    records by the name of the record, as a frame has it.
    """

    kind: Literal["answer", "done"]
    visit: int
    stack: tuple[Frame, ...]
    said: str = ""
    shown: str = ""
    reply: str = ""
    person: Amounts = field(default_factory=dict)
    house: Amounts = field(default_factory=dict)
    passing: Mapping[str, Json] = field(default_factory=dict)
    tags: Mapping[str, bool] = field(default_factory=dict)
    lists: Mapping[str, bool] = field(default_factory=dict)
    sends: tuple[str, ...] = ()
    records: Mapping[str, Amounts] = field(default_factory=dict)

    @property
    def place(self) -> tuple[str, str]:
        """The script and the line that it belongs to."""
        return self.stack[-1].script, self.stack[-1].step

    @property
    def question(self) -> tuple[str, str, str]:
        """What it answers: a line of a script, about a record where it is about one."""
        return self.stack[-1].script, self.stack[-1].step, self.stack[-1].record


@dataclass(frozen=True, slots=True)
class Made:
    """What a journal comes to. `sends` are messages, each with the visit that it came of."""

    person: Amounts = field(default_factory=dict)
    house: Amounts = field(default_factory=dict)
    passing: Mapping[str, Json] = field(default_factory=dict)
    tags: Mapping[str, bool] = field(default_factory=dict)
    lists: Mapping[str, bool] = field(default_factory=dict)
    sends: tuple[tuple[int, str], ...] = ()
    records: Mapping[str, Amounts] = field(default_factory=dict)


NOTHING: Final = Made()


@dataclass(slots=True)
class State:
    """All that is kept of a conversation, but for what was said. Only a turn under way changes its own copy of one.

    `versions` are those of the scripts it runs by. `journal` has what was accepted, of which the first `committed`
    entries are written, as `written` has it. `sub` is what is being asked within a line: whether what is known still
    holds, which of several readings is meant, what to correct. `reuse` are answers that a correction has put aside.
    `results` are the last replies by key with what they brought, `record_ids` the ids of records that were made.
    """

    script: str
    versions: Mapping[str, int]
    stack: tuple[Frame, ...]
    language: str = "en"
    channel: Literal["web", "text"] = "web"
    mode: Mode = "script"
    visits: int = 0
    tries: int = 0
    sub: Mapping[str, Any] = field(default_factory=dict)
    journal: tuple[Entry, ...] = ()
    committed: int = 0
    written: Made = NOTHING
    reuse: tuple[Entry, ...] = ()
    person_id: int = 0
    seed: int = 0
    since: str = ""
    results: tuple[tuple[str, Json], ...] = ()
    record_ids: Mapping[str, int] = field(default_factory=dict)

    def copied(self) -> "State":
        """Another state that has the same, quicker than `copy` makes it."""
        return State(*_PARTS_OF_STATE(self))

    @property
    def place(self) -> tuple[str, str]:
        """The script and the line that it stands at; ("", "") once it is over."""
        return (self.stack[-1].script, self.stack[-1].step) if self.stack else ("", "")

    @property
    def record(self) -> str:
        """The record that it is about, "" for none."""
        return self.stack[-1].record if self.stack else ""


_PARTS_OF_STATE: Final = attrgetter(*State.__slots__)


def fold(journal: Iterable[Entry]) -> Made:
    """What a journal comes to, entry by entry."""
    person: dict[str, tuple[str, Json]] = {}
    house: dict[str, tuple[str, Json]] = {}
    passing: dict[str, Json] = {}
    tags: dict[str, bool] = {}
    lists: dict[str, bool] = {}
    sends: list[tuple[int, str]] = []
    records: dict[str, dict[str, tuple[str, Json]]] = {}
    for one in journal:
        # Most entries have one part alone, and all are gone through at each reply.
        if one.person:
            _add(person, one.person)
        if one.passing:
            passing.update(one.passing)
        if one.house:
            _add(house, one.house)
        if one.tags:
            tags.update(one.tags)
        if one.lists:
            lists.update(one.lists)
        if one.sends:
            sends += [(one.visit, text) for text in one.sends]
        for name, amounts in one.records.items() if one.records else ():
            _add(records.setdefault(name, {}), amounts)
    return Made(person, house, passing, tags, lists, tuple(sends), records)


def _add(found: dict[str, tuple[str, Json]], more: Amounts) -> None:
    for key, (how, value) in more.items():
        if how == ADD and key in found:
            before = found[key]
            found[key] = (before[0], plain_number(Decimal(str(before[1] or 0)) + Decimal(str(value))))
        else:
            found[key] = (how, value)


# To JSON and back


def write_state(state: State) -> dict[str, Any]:
    """The state as it is kept."""
    return {
        "script": state.script, "versions": dict(state.versions), "stack": write_frames(state.stack),
        "language": state.language, "channel": state.channel, "mode": state.mode, "visits": state.visits,
        "tries": state.tries, "sub": dict(state.sub), "journal": [_entry(one) for one in state.journal],
        "committed": state.committed, "written": _made(state.written), "reuse": [_entry(one) for one in state.reuse],
        "person_id": state.person_id, "seed": state.seed, "since": state.since,
        "results": [list(one) for one in state.results],
        **({"record_ids": dict(state.record_ids)} if state.record_ids else {}),
    }  # fmt: skip


def write_frames(stack: Iterable[Frame]) -> list[list[Any]]:
    """Frames as they are kept."""
    return [[one.script, one.step, one.visit, *((one.record,) if one.record else ())] for one in stack]


_PARTS: Final = ("said", "shown", "reply", "person", "house", "passing", "tags", "lists", "sends", "records")


def _entry(one: Entry) -> dict[str, Any]:
    parts = {part: getattr(one, part) for part in _PARTS if getattr(one, part)}
    return {"kind": one.kind, "visit": one.visit, "stack": write_frames(one.stack), **_plain(parts)}


def _made(made: Made) -> dict[str, Any]:
    return _plain({name: getattr(made, name) for name in made.__slots__ if getattr(made, name)})


def _plain(parts: Mapping[str, Any]) -> dict[str, Any]:
    return {
        name: _plain(value)
        if name == "records"
        else {key: list(one) if isinstance(one, tuple) else one for key, one in value.items()}
        if isinstance(value, Mapping)
        else [list(one) if isinstance(one, tuple) else one for one in value]
        if isinstance(value, tuple)
        else value
        for name, value in parts.items()
    }


def read_state(data: Mapping[str, Any]) -> State:
    """The state that `write_state` wrote."""
    return replace(
        State(data["script"], data["versions"], read_frames(data["stack"])),
        **{name: data[name] for name in (
            "language", "channel", "mode", "visits", "tries", "sub", "committed", "person_id", "seed", "since")},
        journal=tuple(_read_entry(one) for one in data["journal"]),
        reuse=tuple(_read_entry(one) for one in data["reuse"]),
        written=Made(**_read_parts(data["written"])),
        results=tuple((key, result) for key, result in data["results"]), record_ids=data.get("record_ids", {}),
    )  # fmt: skip


def read_frames(frames: Iterable[Iterable[Any]]) -> tuple[Frame, ...]:
    """The frames that `write_frames` wrote."""
    return tuple(Frame(*one) for one in frames)


def _read_entry(data: Mapping[str, Any]) -> Entry:
    parts = {name: data[name] for name in _PARTS if name in data}
    return Entry(data["kind"], data["visit"], read_frames(data["stack"]), **_read_parts(parts))


def _read_parts(parts: Mapping[str, Any]) -> dict[str, Any]:
    found = dict(parts)
    for name in ("person", "house"):
        if name in found:
            found[name] = _read_amounts(found[name])
    if "records" in found:
        found["records"] = {name: _read_amounts(one) for name, one in found["records"].items()}
    if "sends" in found:
        found["sends"] = tuple(tuple(one) if isinstance(one, list) else one for one in found["sends"])
    return found


def _read_amounts(data: Mapping[str, Any]) -> Amounts:
    return {key: (one[0], one[1]) for key, one in data.items()}
