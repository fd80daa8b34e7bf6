"""What was counted over many people, kept for as long as it is true; and an estimate meanwhile, where that is wanted.

A count is true for one state of the definitions and of the values (`store/definitions/state.py`). When either has
moved on, it is counted again: at once where that is quick, or where nobody said that they are in a hurry. Whoever is in
a hurry gets what was counted last, or else what a sample says, and the hurry remembers that it was given no exact
figure.
"""

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterator, Sequence, Sized
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field, replace
from functools import lru_cache
from hashlib import sha256
from typing import Any, Final, TypeVar

from sqlalchemy import func, literal, select, text
from sqlalchemy.exc import DBAPIError
from sqlmodel import Session

from finesieve.core.errors import TookTooLong
from finesieve.core.fields.about import PERSON
from finesieve.core.language.program import Moment
from finesieve.core.language.typed import Typed, unplaced
from finesieve.store.connection.database import mapped
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.definitions.state import has_changed, state_of

__all__ = [
    "SAMPLED",
    "Hurry",
    "comes_later",
    "forget",
    "in_a_hurry",
    "in_no_hurry",
    "in_time_for_a_page",
    "is_estimated",
    "kept",
    "meaning",
    "patience",
    "sample_of",
    "times",
]

T = TypeVar("T")

QUICK: Final = 0.15
"""Seconds: what takes no longer is always counted at once."""
SMALL: Final = 50_000
"""With fewer rows than this, everything is quick enough."""
SAMPLED: Final = 20_000
"""Rows in a sample, about."""
_AT_ONCE: Final = 0.3
_GIVE_UP: Final = 300
"""Seconds for which what took too long is not tried again while nothing has changed."""
_MOST_HOPELESS: Final = 200
_MOST_KEPT: Final = 4_000
_LARGEST: Final = 2_000
"""What has more parts is not kept, so that all that is kept stays small."""
_PATIENCE: Final = 9
"""Seconds that somebody waits who has an estimate already."""


@dataclass(slots=True)
class Hurry:
    """Somebody who waits for a page. `estimated` tells that a figure was no exact one."""

    estimated: bool = False


@dataclass(frozen=True, slots=True)
class _Entry:
    state: Hashable
    value: Any
    seconds: float
    at: float = field(default_factory=time.monotonic)


_hurry: ContextVar[Hurry | None] = ContextVar("hurry", default=None)
_patient: ContextVar[bool] = ContextVar("patient", default=False)
_entries: Final[OrderedDict[Hashable, _Entry]] = OrderedDict()
_hopeless: Final[dict[Hashable, tuple[Hashable, float]]] = {}
_lock: Final = threading.Lock()


def forget() -> None:
    """Count everything anew; for measuring."""
    with _lock:
        _entries.clear()
        _hopeless.clear()


@contextmanager
def in_a_hurry() -> Iterator[Hurry]:
    """Within this, what takes long is given as it was, or as a sample says."""
    hurry = Hurry()
    before = _hurry.set(hurry)
    try:
        yield hurry
    finally:
        _hurry.reset(before)


@contextmanager
def in_no_hurry() -> Iterator[None]:
    """Within this, somebody waits for exact figures, and has the time."""
    before = _patient.set(True)
    try:
        yield
    finally:
        _patient.reset(before)


def patience(seconds: float) -> float:
    """How long counting may take where it usually may take so many seconds."""
    return max(seconds, _PATIENCE) if _patient.get() else seconds


def in_time_for_a_page() -> float:
    """How many seconds a part of a page may take that can come after it: for whoever is in a hurry, else no limit (0).
    Whoever leaves it out calls `comes_later`."""
    return _AT_ONCE if _hurry.get() is not None and not _patient.get() else 0


def comes_later() -> None:
    """A part of the page was left out, and comes with the exact figures."""
    hurry = _hurry.get()
    if hurry is not None:
        hurry.estimated = True


def is_estimated() -> bool:
    """Whether whoever is in a hurry here has been given a figure that is no exact one."""
    hurry = _hurry.get()
    return hurry is not None and hurry.estimated


def times(number: int, more: float) -> int:
    """A count in a sample as one of everybody."""
    return round(number * more)


def kept(
    session: Session,
    definitions: Definitions,
    key: Hashable,
    count: Callable[[Definitions], T],
    scaled: Callable[[T, float], T] | None = None,
    *,
    about: str = PERSON,
    unknown: T | None = None,
    lasts: float = float("inf"),
) -> T:
    """What `count` gives for the definitions, counted or kept; `key` says what is counted, and at which moment.

    `about` says whose table it goes over, and a sample is taken of.

    In a hurry: what was counted before, if that is no longer ago than it `lasts`, in seconds; else what a sample
    says, `scaled` by how many times more everybody is; else `unknown`, if that is given.
    """
    if has_changed(session, definitions.workspace_id):
        return count(definitions)
    place = (_database(session), definitions.workspace_id, key)
    state = (definitions.catalogue.version, _state(session, definitions))
    with _lock:
        entry = _entries.get(place)
    if entry is not None and entry.state == state:
        _keep(place, entry)
        return entry.value  # type: ignore[no-any-return]  # what was counted for this key
    hurry = _hurry.get()
    slow = entry.seconds > QUICK if entry is not None else _rows(session, definitions, about) > SMALL
    if hurry is not None and slow:
        found = entry if entry is not None and time.monotonic() - entry.at < lasts else None
        if found is None and scaled is not None:
            sampled, more = sample_of(session, definitions, about)
            # It counts as slow until it is counted.
            found = _keep(place, _Entry(None, scaled(count(sampled), more), QUICK * 2))
        if found is not None or unknown is not None:
            hurry.estimated = True
            return found.value if found is not None else unknown  # type: ignore[return-value]  # of this key
    _refuse_hopeless(place, state)
    started = time.monotonic()
    try:
        value = count(definitions)
    except (TookTooLong, DBAPIError) as problem:
        too_long = isinstance(problem, TookTooLong) or isinstance(mapped(problem), TookTooLong)
        if too_long and _patient.get():  # whoever had the time, had it in vain
            _note_hopeless(place, state)
        raise
    _keep(place, _Entry(state, value, time.monotonic() - started))
    return value


def _note_hopeless(place: Hashable, state: Hashable) -> None:
    with _lock:
        _hopeless[place] = (state, time.monotonic())
        while len(_hopeless) > _MOST_HOPELESS:
            _hopeless.pop(next(iter(_hopeless)))


def _refuse_hopeless(place: Hashable, state: Hashable) -> None:
    """Raise TookTooLong for what took too long a while ago, with the same values: it would again."""
    with _lock:
        failed = _hopeless.get(place)
    if failed is not None and failed[0] == state and time.monotonic() - failed[1] < _GIVE_UP:
        raise TookTooLong("This took too long a moment ago. Make it simpler, or try again later.")


def meaning(definitions: Definitions, expressions: Sequence[Typed], moment: Moment) -> bytes:
    """What the results of these expressions rest on besides stored values: all that they say, and the moment."""
    read = list(expressions)
    derivation = definitions.catalogue.derivation
    names = frozenset[str]().union(*(_said(_Same(one)).names for one in expressions))
    read += [derivation.formulas[name] for name in derivation.ancestors(names) if name in derivation.formulas]
    said = [_said(_Same(one)) for one in read]
    around = list(said)
    if any("collect" in one.operations for one in said):
        others = [one for about, one in definitions.catalogue.derivations.items() if about != "person"]
        around += [_said(_Same(formula)) for one in others for formula in one.formulas.values()]
    at = moment.now if any("now" in one.operations for one in around) else moment.today
    house = sorted(frozenset[str]().union(*(one.house for one in around)))
    rests_on = (
        *(one.text for one in said),
        str(at),
        str(moment.zone),
        *(repr(moment.house.get(name)) for name in house),
    )
    return sha256("\0".join(rests_on).encode(errors="surrogatepass")).digest()


class _Same:
    """An expression that is told apart by being the same thing: what it says is written out once."""

    __slots__ = ("typed",)

    def __init__(self, typed: Typed) -> None:
        self.typed = typed

    def __hash__(self) -> int:
        return id(self.typed)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Same) and other.typed is self.typed


@dataclass(frozen=True, slots=True)
class _Said:
    """An expression without the places where it stands, written out; what it reads, and the operations in it."""

    text: str
    names: frozenset[str]
    operations: frozenset[str]
    house: frozenset[str]


@lru_cache(maxsize=2_000)
def _said(same: _Same) -> _Said:
    typed = same.typed
    operations = frozenset(part.operation for part in typed.walk())
    return _Said(repr(unplaced(typed)), typed.names, operations, typed.house)


def _keep(place: Hashable, entry: _Entry) -> _Entry:
    if isinstance(entry.value, Sized) and len(entry.value) > _LARGEST:
        return entry
    with _lock:
        _entries[place] = entry
        _entries.move_to_end(place)
        while len(_entries) > _MOST_KEPT:
            _entries.popitem(last=False)
    return entry


def sample_of(session: Session, definitions: Definitions, about: str = PERSON) -> tuple[Definitions, float]:
    """Definitions that read a sample of one table only, and how many times more rows there are in all."""
    everything = max(_rows(session, definitions, about), 1)
    share = min(1.0, SAMPLED / everything)
    # Only read from, so it may stand for the table; with one seed it is the same sample for all that is asked.
    some: Any = definitions.tables[about].tablesample(func.system(share * 100), seed=literal(1))
    sampled = int(session.execute(select(func.count()).select_from(some)).scalar_one())
    # Whole pages are sampled, so how many rows they hold is only known once they are counted.
    more = everything / sampled if share < 1 and sampled else 1.0
    return replace(definitions, tables={**definitions.tables, about: some}), more


def _database(session: Session) -> str:
    return str(session.get_bind().engine.url)


def _state(session: Session, definitions: Definitions) -> int:
    """The state as it was when this transaction asked first: what is counted after that is no older."""
    states: dict[int, int] = session.info.setdefault("finesieve.state", {})
    if definitions.workspace_id not in states:
        states[definitions.workspace_id] = state_of(session, definitions.workspace_id)
    return states[definitions.workspace_id]


def _rows(session: Session, definitions: Definitions, about: str) -> int:
    """How many rows a table has, about."""
    name = definitions.tables[about].fullname
    known: dict[str, int] = session.info.setdefault("finesieve.rows", {})
    if name not in known:
        query = text("SELECT reltuples FROM pg_class WHERE oid = CAST(:name AS regclass)")
        known[name] = int(session.execute(query, {"name": name}).scalar_one())
    return known[name]
