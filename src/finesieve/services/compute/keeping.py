"""Keeping the values of a derived field that is slow: what that costs and brings, built by a task, and looked after."""

import logging
import time
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Final, Literal

from sqlalchemy.dialects.postgresql import insert
from sqlmodel import col, select

from finesieve.core.errors import Conflict, FineSieveError, InvalidInput, NotFound, TookTooLong, Unavailable
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.definition import Field
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.tasks import Progress, Stopped, begin_task, read_task, stop_task, work_of
from finesieve.services.kernel.turns import SECONDS, a_turn
from finesieve.store.connection.database import apart
from finesieve.store.definitions.catalogue import touch
from finesieve.store.language.kept_fields import rests_on, why_not_kept
from finesieve.store.reading.people import sample_of_people
from finesieve.store.reading.timing import Times, time_of_reading
from finesieve.store.tables import KeptField, Task
from finesieve.store.values.kept_fields import (
    build_range,
    compare,
    forget_tables,
    give_key,
    last_person,
    make_tables,
    next_transaction,
    outlived,
    put_late,
)

__all__ = ["Keeping", "check_kept", "cost_of", "halt_keeping", "keep_field", "keep_up", "read_keeping", "stop_keeping"]

_log: Final = logging.getLogger("finesieve.keeping")
KIND: Final = "keeping"
_FIRST: Final = 2_000
_SMALLEST: Final = 100
_LARGEST: Final = 500_000
"""Ids in the first range that is built, in the smallest, and in the largest."""
_TAKES: Final = 1.0
"""Seconds that a range should take, so that its progress is seen and stopping does not wait."""
_WAIT: Final = 120
"""Seconds to wait for transactions that were under way when keeping began."""
_LOOKED_AT: Final = 1_000
"""People whose kept values are compared each night."""

State = Literal["", "building", "ready", "outdated", "stopped"]


@dataclass(frozen=True, slots=True)
class Keeping:
    """Whether a derived field is kept. `why_not` says why it cannot be. `task` builds it, `percent` (0–100) of it done,
    `failure` is why it did not work; `seconds` is how long that took for `people`, those who were there then. Of those
    `checked` last so many `differed`, and were built anew."""

    state: State
    why_not: str = ""
    task: int = 0
    percent: int = 0
    failure: str = ""
    people: int = 0
    seconds: float = 0
    built_at: datetime | None = None
    checked: int = 0
    differed: int = 0
    checked_at: datetime | None = None


def read_keeping(scope: Scope, field_id: int) -> Keeping:
    """How a derived field is kept. Raises NotFound."""
    with scope.reading("reader") as unit:
        field = _derived(unit, field_id)
        why_not = _why_not(unit, field)
        row = unit.session.get(KeptField, field_id)
        if row is None or row.state == "off" or why_not:
            return Keeping("", why_not)
        state: State = "building" if row.state == "joining" else row.state  # type: ignore[assignment]  # as written here
        if state == "ready" and row.meaning != rests_on(unit.catalogue, field.key, unit.moment):
            state = "outdated"
        task = read_task(scope, row.task_id) if row.task_id else None
        percent = task.percent if task is not None else 0
        failure = task.message if task is not None and task.state == "failed" else ""
        if state == "building" and task is not None and task.state == "stopped":
            state = "stopped"  # before a worker had begun
        return Keeping(
            state, why_not, row.task_id, percent, failure, row.people, row.seconds, row.built_at, row.checked,
            row.differed, row.checked_at,
        )  # fmt: skip


def _derived(unit: Unit, field_id: int) -> Field:
    field = unit.catalogue.by_id.get(field_id)
    if field is None or not field.derived or not unit.sees(field):
        raise NotFound("There is no such derived field.")
    return field


def _why_not(unit: Unit, field: Field) -> str:
    return (
        why_not_kept(unit.catalogue, field.key) if field.about == PERSON else "Only fields about a person can be kept."
    )


def cost_of(scope: Scope, field_id: int) -> Times:
    """What it takes to read a derived field of everybody, measured now.

    Raises NotFound, TookTooLong, TooOften, and InvalidInput where the database cannot work it out.
    """
    with a_turn(scope), scope.reading("reader") as unit:
        field = _derived(unit, field_id)
        try:
            with apart(unit.session, SECONDS):
                return time_of_reading(unit.session, unit.definitions, field.key, unit.moment)
        except FineSieveError as problem:
            if type(problem) is not FineSieveError:
                raise
            raise InvalidInput({"": "The database cannot work this out. Write it another way."}) from problem


def keep_field(scope: Scope, field_id: int) -> int:
    """Have a worker keep the values of a derived field; gives the id of the task, that under way if there is one.

    Raises NotFound, and InvalidInput where they cannot be kept.
    """
    with scope.transaction("editor") as unit:
        field = _derived(unit, field_id)
        why_not = _why_not(unit, field)
        if why_not:
            raise InvalidInput({"": f"This field cannot be kept. {why_not}"})
        return _begin(unit, field)


def _begin(unit: Unit, field: Field) -> int:
    row = _row(unit, field.id)
    if row.state in ("building", "joining") and row.task_id and not _is_over(unit, row.task_id):
        return row.task_id
    # One that was stopped goes on where it was, if nothing has changed that it rests on.
    if row.state != "stopped":
        row.meaning, row.built_to = "", 0
        touch(unit.session, unit.workspace_id)
    row.state = "building"
    row.task_id = begin_task(unit, KIND, f"Keep {field.label}", {"field": field.id})
    unit.session.add(row)
    return row.task_id


def _row(unit: Unit, field_id: int) -> KeptField:
    """The row of a field, which nobody else changes until the transaction ends; made where there is none."""
    row = unit.session.get(KeptField, field_id, with_for_update=True)
    if row is None:
        # Two may begin at once.
        blank = KeptField(field_id=field_id, workspace_id=unit.workspace_id, state="off").model_dump()
        unit.session.execute(insert(KeptField).values(blank).on_conflict_do_nothing())
        row = unit.session.get_one(KeptField, field_id, with_for_update=True)
    return row


def _is_over(unit: Unit, task_id: int) -> bool:
    task = unit.session.get(Task, task_id)
    return task is None or task.state in ("done", "failed", "stopped")


def halt_keeping(scope: Scope, field_id: int) -> None:
    """Stop building the kept values of a field; it can be gone on with. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = _row(unit, _derived(unit, field_id).id)
        if row.state in ("building", "joining") and row.task_id:
            stop_task(scope, row.task_id)


def stop_keeping(scope: Scope, field_id: int) -> None:
    """Work a field out whenever it is read again. Raises NotFound."""
    with scope.transaction("editor") as unit:
        field = _derived(unit, field_id)
        row = _row(unit, field.id)
        if row.state in ("building", "joining") and row.task_id:
            stop_task(scope, row.task_id)
        row.state, row.meaning, row.built_to = "off", "", 0
        unit.session.add(row)
        touch(unit.session, unit.workspace_id)


# Building


class _Outdated(FineSieveError):
    """What is being built rests on something that has changed meanwhile."""


@work_of(KIND)
def _build(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Build the kept values range by range. Taken up again it goes on where it was; stopped, all that is there stays,
    and is read once the rest is there."""
    field_id = int(payload["field"])
    for _ in range(3):
        try:
            return {"message": _built(scope, field_id, progress)}
        except _Outdated:
            continue
        except Stopped:
            with scope.transaction("owner") as unit:
                row = _row(unit, field_id)
                if row.state not in ("off", "ready"):
                    row.state, row.meaning = "stopped", row.meaning if row.state == "building" else ""
                    unit.session.add(row)
            raise Stopped("It was stopped; the field is worked out whenever it is read, as before.") from None
        except (TookTooLong, Unavailable):
            raise  # it is tried again
        except Exception:
            # What cannot be built now cannot be built a minute later.
            with scope.transaction("owner") as unit:
                row = _row(unit, field_id)
                row.state, row.meaning = "stopped", ""
                unit.session.add(row)
            raise
    raise TookTooLong("Too much changed meanwhile; it is tried again in a while.")


def _built(scope: Scope, field_id: int, progress: Progress) -> str:
    generation, width = _opened(scope, field_id, progress), _FIRST
    while True:
        began = time.monotonic()
        with scope.transaction("owner") as unit:
            # Looked at, and held only at the end: who outdates it does not wait for the range.
            key, row = _under_way(unit, field_id, generation, lock=False)
            # Once it has its key, people who are new are put in as they are saved.
            last = last_person(unit.session, unit.definitions) if row.state == "building" else row.built_to
            above, to = row.built_to, min(row.built_to + width, last)
            built = 0
            if to > above:
                built = build_range(unit.session, unit.definitions, key, generation, unit.moment, above, to)
            _, row = _under_way(unit, field_id, generation)
            row.people, row.built_to = row.people + built, to
            row.seconds += time.monotonic() - began
            unit.session.add(row)
        progress.say(to, max(last, 1))
        if to >= last:
            break
        width = round(min(_LARGEST, max(_SMALLEST, width * _TAKES / max(time.monotonic() - began, 0.01))))
    people, seconds = _joined(scope, field_id, generation, progress)
    _forget_before(scope, field_id, generation - 1)  # the one before stays for whoever is still reading it
    return f"Kept for {people:,} people, in {seconds:.1f} seconds."


def _joined(scope: Scope, field_id: int, generation: int, progress: Progress) -> tuple[int, float]:
    """The key for what is built, then the values of those who were concerned by a change meanwhile; from then on it is
    read. Gives of how many people, and the seconds that it took in all."""
    began = time.monotonic()
    with scope.transaction("owner") as unit:
        _under_way(unit, field_id, generation)
        give_key(unit.session, unit.definitions, field_id, generation)
    with scope.transaction("owner") as unit:
        _, row = _under_way(unit, field_id, generation)
        row.state = "joining"
        unit.session.add(row)
    _wait_for_others(scope, progress)
    with scope.transaction("owner") as unit:
        key, row = _under_way(unit, field_id, generation)
        put_late(unit.session, unit.definitions, key, generation, unit.moment)
        row.state, row.built_at = "ready", unit.moment.now
        row.seconds += time.monotonic() - began
        unit.session.add(row)
        touch(unit.session, unit.workspace_id)
        return row.people, row.seconds


def _under_way(unit: Unit, field_id: int, generation: int, *, lock: bool = True) -> tuple[str, KeptField]:
    """The key and the row of what is being built; raises `_Outdated` where it is not worth going on."""
    row = _row(unit, field_id) if lock else unit.session.get_one(KeptField, field_id)
    field = unit.catalogue.by_id.get(field_id)
    if field is None or row.state == "off":
        raise Stopped("")
    if row.generation != generation or row.meaning != rests_on(unit.catalogue, field.key, unit.moment):
        raise _Outdated("It has changed meanwhile.")
    return field.key, row


def _opened(scope: Scope, field_id: int, progress: Progress) -> int:
    """A table to build into, the one that was begun where that can be gone on with; gives its generation."""
    with scope.transaction("owner") as unit:
        row, field = _row(unit, field_id), unit.catalogue.by_id.get(field_id)
        if field is None or row.state == "off":
            raise Stopped("")
        why_not = _why_not(unit, field)
        if why_not:
            raise InvalidInput({"": f"This field cannot be kept. {why_not}"})
        meaning = rests_on(unit.catalogue, field.key, unit.moment)
        if row.meaning == meaning and row.built_to:
            row.state = "joining" if row.state == "joining" else "building"
            unit.session.add(row)
            return row.generation
        row.state, row.meaning, row.generation = "building", meaning, row.generation + 1
        row.built_to = row.people = 0
        row.seconds = 0
        unit.session.add(row)
        unit.session.flush()
        make_tables(unit.session, unit.definitions, field_id, row.generation)
        generation = row.generation
    _wait_for_others(scope, progress)
    return generation


def _wait_for_others(scope: Scope, progress: Progress) -> None:
    """Whoever is writing may not know of what was committed just now: wait until they are done. Raises TookTooLong."""
    waited = time.monotonic()
    with scope.separate("owner") as unit:
        transaction = next_transaction(unit.session)
    while True:
        with scope.separate("owner") as unit:
            if outlived(unit.session, transaction):
                return
        if time.monotonic() - waited > _WAIT:
            raise TookTooLong("Others have been changing values for too long; it is tried again in a while.")
        time.sleep(0.05)
        progress.say(*progress.said)


def _forget_before(scope: Scope, field_id: int, generation: int) -> None:
    """Remove the tables of the generations before this one; those that are still read the next time."""
    try:
        with scope.separate("owner") as unit:
            forget_tables(unit.session, unit.workspace_id, field_id, generation)
    except (Conflict, Unavailable):
        _log.info("older kept values of field %d are still read", field_id)


# Looking after


def keep_up(scope: Scope) -> int:
    """Begin anew what is out of date, and what nobody is building any more; gives of how many fields."""
    begun = 0
    with scope.transaction("owner") as unit:
        rows = unit.session.exec(
            select(KeptField).where(col(KeptField.state).in_(("building", "joining", "ready", "outdated")))
        )
        for row in rows.all():
            field = unit.catalogue.by_id.get(row.field_id)
            task = unit.session.get(Task, row.task_id) if row.task_id else None
            if field is None or (task is not None and task.state in ("waiting", "running")):
                continue
            if row.state == "ready" and row.meaning == rests_on(unit.catalogue, field.key, unit.moment):
                continue
            was_stopped = row.state != "ready" and task is not None and task.state == "stopped"
            if was_stopped or _why_not(unit, field):
                # Stopped before a worker had begun; or its formula has become one that cannot be kept.
                row.state, row.meaning = "stopped" if was_stopped else "off", ""
                unit.session.add(row)
                continue
            _begin(unit, field)
            begun += 1
    return begun


def _tidy(scope: Scope) -> None:
    """Forget what was stopped and not gone on with, and what is kept of fields that are no more."""
    with scope.transaction("owner") as unit:
        there = {*unit.catalogue.by_id, *(field.id for field in unit.catalogue.deleted)}
        rows = unit.session.exec(select(KeptField)).all()
        over = [row for row in rows if row.state in ("stopped", "off") or row.field_id not in there]
        for row in over:
            row.meaning, row.built_to = "", 0
            unit.session.add(row)
            if row.field_id not in there:
                unit.session.delete(row)
        places = [(row.field_id, row.generation + 1) for row in over]
    for field_id, before in places:
        _forget_before(scope, field_id, before)


def check_kept(scope: Scope) -> int:
    """Compare what is kept with what is worked out, for a sample of people; gives how many values differed.

    A field of which any did is out of date from then on, and its page says so.
    """
    _tidy(scope)
    with scope.reading("owner") as unit:
        ready = unit.session.exec(select(KeptField.field_id).where(col(KeptField.state) == "ready")).all()
    found = 0
    for field_id in ready:
        with scope.transaction("owner") as unit:
            row, field = _row(unit, field_id), unit.catalogue.by_id.get(field_id)
            if field is None or row.state != "ready" or row.meaning != rests_on(unit.catalogue, field.key, unit.moment):
                continue
            day = str(unit.moment.today)
            sample = sample_of_people(unit.session, unit.definitions, unit.moment, (), (), _LOOKED_AT, day)
            ids = [person.id for person in sample]
            seen = compare(unit.session, unit.definitions, field.key, row.generation, unit.moment, ids)
            row.checked, row.differed, row.checked_at = seen.looked_at, seen.differs, unit.moment.now
            if seen.differs:
                _log.error("kept values of field %d: %d of %d differ", field_id, seen.differs, seen.looked_at)
                row.state, row.meaning = "outdated", ""
                touch(unit.session, unit.workspace_id)
            unit.session.add(row)
            found += seen.differs
    return found
