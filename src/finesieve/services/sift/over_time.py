"""A segment over time: its size day by day, when its definition changed, who came in, who left, and by which change."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from typing import Any, Final

from sqlalchemy.dialects.postgresql import insert
from sqlmodel import col, select

from finesieve.core.errors import FineSieveError, TookTooLong
from finesieve.core.fields.about import PERSON
from finesieve.core.language.typed import Typed
from finesieve.core.model.changes import OWN_IDS
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.sift.replay import Replay, Turn, replayed
from finesieve.services.sift.segments import segment_named, segment_rows
from finesieve.services.sift.versions import Version, definition_changes, versions_of
from finesieve.services.values.past import day_begins
from finesieve.services.values.value_lines import person_name, show_past
from finesieve.store.connection.database import apart
from finesieve.store.reading.effect import Moved, moved_by
from finesieve.store.reading.kept import comes_later, in_time_for_a_page, patience
from finesieve.store.reading.people import SECONDS_TO_COUNT, count_each, count_one, count_people
from finesieve.store.reading.rows import rows_by_ids
from finesieve.store.tables import DefinitionChange, Segment, SegmentSize

__all__ = ["Beside", "DaySize", "Mover", "OverTime", "note_sizes", "over_time", "past_sizes", "sizes_beside"]

DAYS: Final = 90
_SHOWN: Final = 40
_LATE: Final = 23
_OWN_WORDS: Final = {number: key for key, number in OWN_IDS.items()}


@dataclass(frozen=True, slots=True)
class DaySize:
    """How many people a segment had at the end of a day; `changed` that its definition was changed on it."""

    day: date
    people: int
    changed: bool = False


@dataclass(frozen=True, slots=True)
class Mover:
    """Somebody who came in or left: when, and which value became what, of where."""

    person_id: int
    name: str
    at: datetime
    what: str
    before: str
    after: str
    source: str


@dataclass(frozen=True, slots=True)
class OverTime:
    """A segment since a day.

    `came` and `left` are those who are in now and were not then, and the other way round, `more_came` and `more_left`
    how many of them are not listed. `by_definition` is what its own changes did to the people of today, `by_time` what
    time passing alone does; None where nothing is. `partly` where it speaks of records; `whole` is False where too much
    has changed to go through it all. `failure` says why nothing is told. `versions` are what its condition was before.
    """

    id: int
    name: str
    since: date
    people: int | None = None
    sizes: tuple[DaySize, ...] = ()
    came: tuple[Mover, ...] = ()
    left: tuple[Mover, ...] = ()
    more_came: int = 0
    more_left: int = 0
    by_definition: Moved | None = None
    by_time: Moved | None = None
    partly: bool = False
    whole: bool = True
    failure: str = ""
    versions: tuple[Version, ...] = ()

    @property
    def most(self) -> int:
        return max((one.people for one in self.sizes), default=0)


def over_time(scope: Scope, segment_id: int, since: date | None = None) -> OverTime:
    """A segment over the last ninety days, and its movements since a day: yesterday where none is given.

    Raises NotFound.
    """
    with scope.reading("reader") as unit:
        row, today = segment_named(unit, segment_id), unit.moment.today
        since = min(max(since or today - timedelta(days=1), today - timedelta(days=3_650)), today)
        found = OverTime(segment_id, row.name, since, versions=versions_of(unit, segment_id))
        typed = unit.visible.check_segment(row.expression or "true").typed
        if typed is None:
            return replace(found, failure="This segment cannot be counted, or is not shown to you.")
        try:
            with apart(unit.session, patience(SECONDS_TO_COUNT)):
                return _told(unit, row, typed, found)
        except TookTooLong as why:
            return replace(found, failure=str(why))
        except FineSieveError:
            return replace(found, failure="The database cannot work this out.")


@dataclass(frozen=True, slots=True)
class Beside:
    """Another segment over the same days. No sizes where they cannot be told, or not to this role."""

    id: int
    name: str
    sizes: tuple[DaySize, ...] = ()


def sizes_beside(scope: Scope, segment_id: int) -> Beside:
    """The sizes of a segment, to be seen beside another's. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = segment_named(unit, segment_id)
        typed = unit.visible.check_segment(row.expression or "true").typed
        if typed is None:
            return Beside(segment_id, row.name)
        people = count_one(unit.session, unit.definitions, typed, unit.moment)
        return Beside(segment_id, row.name, tuple(_sizes(unit, segment_id, people)))


def _told(unit: Unit, row: Segment, typed: Typed, found: OverTime) -> OverTime:
    people = count_one(unit.session, unit.definitions, typed, unit.moment)
    changed = definition_changes(unit, row.id or 0)
    days = {change.at.astimezone(unit.moment.zone).date() for change in changed}
    sizes = tuple(replace(one, changed=one.day in days) for one in _sizes(unit, row.id or 0, people))
    begins = day_begins(unit, found.since)
    before = next((one for one in changed if one.at >= begins), None)
    by_definition, by_time = _by_definition(unit, before, typed), _by_time(unit, typed, begins)
    replay = _replay_at_once(unit, typed, begins)
    came, left = _net(replay)
    names = _names(unit, [*came[:_SHOWN], *left[:_SHOWN]])
    return replace(
        found, people=people, sizes=sizes,
        came=tuple(_mover(unit, one, names) for one in came[:_SHOWN]), more_came=max(0, len(came) - _SHOWN),
        left=tuple(_mover(unit, one, names) for one in left[:_SHOWN]), more_left=max(0, len(left) - _SHOWN),
        by_definition=by_definition, by_time=by_time,
        partly=replay.partly, whole=replay.whole,
    )  # fmt: skip


def _replay_at_once(unit: Unit, typed: Typed, begins: datetime) -> Replay:
    """Who came in and who left; where that takes long, it comes with the exact figures."""
    seconds = in_time_for_a_page()
    if not seconds:
        return replayed(unit, typed, begins)
    try:
        with apart(unit.session, seconds):
            return replayed(unit, typed, begins)
    except TookTooLong:
        comes_later()
        return Replay(())


def _net(replay: Replay) -> tuple[list[Turn], list[Turn]]:
    """Who is in now and was not, and the other way round, the latest first; whoever went and came back is neither."""
    last: dict[int, list[Turn]] = {}
    for turn in replay.turns:
        last.setdefault(turn.person_id, []).append(turn)
    moved = [turns[-1] for turns in last.values() if len(turns) % 2]
    moved.sort(key=lambda one: one.change.at, reverse=True)
    return [one for one in moved if one.came], [one for one in moved if not one.came]


def _names(unit: Unit, turns: Sequence[Turn]) -> Mapping[int, Mapping[str, Any]]:
    keys = ["first_name", "last_name", "email"]
    return rows_by_ids(unit.session, unit.definitions, PERSON, keys, {one.person_id for one in turns})


def _mover(unit: Unit, turn: Turn, names: Mapping[int, Mapping[str, Any]]) -> Mover:
    change = turn.change
    field = unit.catalogue.by_id.get(change.field_id)
    own = _OWN_WORDS.get(change.field_id, "")
    seen = field is not None and unit.sees(field)
    what = own.capitalize() if own else field.label if field is not None and seen else "something that is not shown"
    shown = [_shown(unit, change.field_id, data) if own or seen else "" for data in (change.old, change.new)]
    name = person_name(names[turn.person_id]) if turn.person_id in names else "Somebody"
    return Mover(turn.person_id, name, change.at, what, shown[0], shown[1], change.source)


def _shown(unit: Unit, field_id: int, data: Any) -> str:
    field = unit.catalogue.by_id.get(field_id)
    if field_id in _OWN_WORDS:
        return ", ".join(data) if isinstance(data, list) else str(data or "")
    return show_past(field, data) if field is not None and data is not None else ""


def _by_definition(unit: Unit, change: DefinitionChange | None, typed: Typed) -> Moved | None:
    """What the changes of the condition since then do to the people of today."""
    expression = (change.before or {}).get("expression") if change is not None else None
    if expression is None:
        return None
    was = unit.visible.check_segment(expression or "true").typed
    if was is None:
        return None
    return moved_by(unit.session, unit.definitions, unit.definitions, [(was, typed)], unit.moment)[0]


def _by_time(unit: Unit, typed: Typed, begins: datetime) -> Moved | None:
    """What time passing since then does to the people of today; None where nothing depends on the day."""
    derivation = unit.catalogue.derivation
    formulas = [derivation.formulas[name] for name in derivation.ancestors(typed.names) if name in derivation.formulas]
    if not any(one.volatile for one in (typed, *formulas)):
        return None
    before = replace(unit.moment, now=begins)
    found = moved_by(unit.session, unit.definitions, unit.definitions, [(typed, typed)], unit.moment, before)[0]
    return found if found.came or found.left else None


def _sizes(unit: Unit, segment_id: int, people: int | None) -> list[DaySize]:
    """The sizes that were noted in the last ninety days, and that of today."""
    today = unit.moment.today
    query = select(SegmentSize).where(
        col(SegmentSize.segment_id) == segment_id, col(SegmentSize.day) >= today - timedelta(days=DAYS - 1),
        col(SegmentSize.day) < today,
    )  # fmt: skip
    rows = unit.session.exec(query.order_by(col(SegmentSize.day))).all()
    found = [DaySize(one.day, one.people) for one in rows]
    return [*found, DaySize(today, people)] if people is not None else found


# Noting sizes


def note_sizes(scope: Scope, *, late: bool = False) -> int:
    """Note how many people each segment has, in one pass over everybody; gives how many segments. Twice a day is once.

    `late` does so only in the last hour of the day, where the house is.
    """
    with scope.transaction("owner") as unit:
        if late and unit.moment.now.astimezone(unit.moment.zone).hour < _LATE:
            return 0
        rows = segment_rows(unit)
        checked = {row.id or 0: unit.catalogue.check_segment(row.expression or "true").typed for row in rows}
        typed = {segment_id: one for segment_id, one in checked.items() if one is not None}
        everyone, counts = count_each(unit.session, unit.definitions, list(typed.values()), unit.moment)
        sizes = {one: size for one, size in zip(typed, counts, strict=True) if size is not None}
        _write(unit, [(one, unit.moment.today, size, everyone) for one, size in sizes.items()])
        return len(sizes)


def _write(unit: Unit, sizes: Sequence[tuple[int, date, int, int]]) -> None:
    if not sizes:
        return
    rows = [
        {"workspace_id": unit.workspace_id, "segment_id": one, "day": day, "people": people, "everyone": everyone}
        for one, day, people, everyone in sizes
    ]
    query = insert(SegmentSize).values(rows)
    parts = {name: query.excluded[name] for name in ("people", "everyone")}
    unit.session.execute(query.on_conflict_do_update(index_elements=["segment_id", "day"], set_=parts))


def past_sizes(scope: Scope, days: int = DAYS) -> int:
    """Note the sizes of days gone by as the history tells them, for each segment; gives how many sizes.

    It goes through all that has changed since, and is for a house that begins to keep sizes.
    """
    with scope.transaction("owner") as unit:
        today, noted = unit.moment.today, 0
        everyone = count_people(unit.session, unit.definitions)
        for row in segment_rows(unit):
            typed = unit.catalogue.check_segment(row.expression or "true").typed
            size = count_one(unit.session, unit.definitions, typed, unit.moment) if typed is not None else None
            if typed is None or size is None:
                continue
            replay = replayed(unit, typed, day_begins(unit, today - timedelta(days=days)))
            steps: dict[date, int] = {}
            for turn in replay.turns:
                day = turn.change.at.astimezone(unit.moment.zone).date()
                steps[day] = steps.get(day, 0) + (1 if turn.came else -1)
            found = []
            for back in range(1, days):
                size -= steps.get(today - timedelta(days=back - 1), 0)
                found.append((row.id or 0, today - timedelta(days=back), max(size, 0), everyone))
            _write(unit, found)
            noted += len(found)
        return noted
