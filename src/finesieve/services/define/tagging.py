"""Tags taken off everyone, and put on again: at once where few carry them, else by a task, in short batches."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, Final

from sqlmodel import col, select

from finesieve.core.errors import NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.model.changes import OWN_IDS
from finesieve.core.values import Type, Value
from finesieve.services.kernel.changes import record_change, register, snapshot
from finesieve.services.kernel.scope import Clock, Scope, Unit
from finesieve.services.kernel.tasks import Progress, Stopped, begin_task, work_of
from finesieve.services.usage.uses import Use, uses_of
from finesieve.services.values.value_lines import person_name
from finesieve.services.values.writing import change_many
from finesieve.store.connection.database import Store
from finesieve.store.definitions.catalogue import touch
from finesieve.store.reading.people import membership_counts
from finesieve.store.reading.rows import rows_by_ids
from finesieve.store.tables import History, TagRow, Workspace
from finesieve.store.values.rows import lock_rows
from finesieve.store.values.tagging import carriers

__all__ = ["TagPlan", "TakenOff", "plan_tag_off", "put_on", "sweep_tags", "take_off", "take_tag_off"]

AT_ONCE: Final = 1_000
"""So many people are changed within the request that asks for it, and in one batch of a task."""
_OFF: Final = "tag taken off everyone"
_ON: Final = "tag put on again"


@dataclass(frozen=True, slots=True)
class TakenOff:
    """How many people carried a tag, and the id of the change for undoing; or that of the task that sees to it."""

    people: int
    change: int
    task: int = 0


@dataclass(frozen=True, slots=True)
class TagPlan:
    """What taking a tag off everyone would do: from how many people, `some` of them by id and name; what names it."""

    name: str
    people: int
    some: tuple[tuple[int, str], ...]
    uses: tuple[Use, ...]


def plan_tag_off(scope: Scope, name: str) -> TagPlan:
    """The dry run of taking a tag off everyone; changes nothing. Raises NotFound."""
    with scope.transaction("editor") as unit:
        people = membership_counts(unit.session, unit.definitions, "tags").get(name, 0)
        if not people:
            raise NotFound("Nobody has this tag.")
        ids = carriers(unit.session, unit.definitions, (name,), _SHOWN)
        rows = rows_by_ids(unit.session, unit.definitions, PERSON, ["first_name", "last_name", "email"], ids)
        some = tuple((one, person_name(rows[one])) for one in ids)
        return TagPlan(name, people, some, uses_of(unit).of_option(Type("choices", (), "tags"), name))


_SHOWN: Final = 5


def take_tag_off(scope: Scope, name: str) -> TakenOff:
    """Take a tag off everyone, each change in the person's history. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = unit.session.exec(select(TagRow).where(col(TagRow.name) == name)).first()
        if row is None:
            raise NotFound("There is no such tag.")
        held = carriers(unit.session, unit.definitions, (name,), AT_ONCE + 1)
        if len(held) > AT_ONCE:
            payload = {"name": name, "tag": row.id, "at": unit.moment.now.isoformat()}
            return TakenOff(0, 0, begin_task(unit, "tag_off", f"Removing the tag {name} from everyone", payload))
        _change(unit, take_off, name, held, _OFF, unit.moment.now)
        return TakenOff(len(held), _end(unit, row.id or 0, name))


def _end(unit: Unit, tag_id: int, name: str) -> int:
    """Nobody carries it any more, so it goes; gives the id of the change."""
    before = snapshot(unit, "tag_off", tag_id)
    for row in unit.session.exec(select(TagRow).where(col(TagRow.name) == name)).all():
        unit.session.delete(row)
    touch(unit.session, unit.workspace_id)
    return record_change(unit, "tag_off", tag_id, f"Removed the tag {name} from everyone", before)


@work_of("tag_off")
def _take_off_everyone(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Batch by batch; begun again, it goes on where it was; stopped, those whom it was taken off carry it again."""
    name, at, done = str(payload["name"]), datetime.fromisoformat(payload["at"]), 0
    try:
        while True:
            with scope.transaction("owner") as unit:
                held = carriers(unit.session, unit.definitions, (name,), AT_ONCE)
                done += _change(unit, take_off, name, held, _OFF, at)
                if len(held) < AT_ONCE:
                    _end(unit, int(payload["tag"]), name)
                    return {"message": "Nobody has it any more."}
            progress.say(done, done + AT_ONCE)
    except Stopped:
        _each_batch(scope, name, (_OFF, at), put_on, (_ON, at), lambda _done: None)
        raise


@work_of("tag_on")
def _put_on_again(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The same for putting it on again: those who are there and do not carry it."""
    name, at = str(payload["name"]), datetime.fromisoformat(payload["at"])
    now = datetime.fromisoformat(payload["now"])
    try:
        done = _each_batch(scope, name, (_OFF, at), put_on, (_ON, now), lambda done: progress.say(done, done + AT_ONCE))
        return {"message": f"{done} people changed."}
    except Stopped:
        _each_batch(scope, name, (_ON, now), take_off, (_OFF, at), lambda _done: None)
        raise


def _each_batch(
    scope: Scope,
    name: str,
    of: tuple[str, datetime],
    way: "Way",
    stamp: tuple[str, datetime],
    say: Callable[[int], None],
) -> int:
    """Put on or take off for all whose tags changed by that source at that moment; gives how many changed."""
    after = done = 0
    while True:
        with scope.transaction("owner") as unit:
            ids = _changed_by(unit, name, of, after, AT_ONCE)
            done += _change(unit, way, name, ids, *stamp)
        if not ids:
            return done
        after = ids[-1]
        say(done)


def _changed_by(unit: Unit, name: str, of: tuple[str, datetime], after: int, limit: int) -> list[int]:
    """Whose tags changed by a source at a moment, the tag among those before or after; by id from above `after` on."""
    source, at = of
    with_it = col(History.old) if source == _OFF else col(History.new)
    query = (
        select(History.entity_id)
        .where(col(History.field_id) == OWN_IDS["tags"], col(History.source) == source, col(History.at) == at)
        .where(with_it.contains([name]), col(History.entity_id) > after)
    )
    return [int(one) for one in unit.session.exec(query.order_by(col(History.entity_id)).limit(limit)).all()]


Way = Callable[[tuple[str, ...], str], tuple[str, ...]]


def take_off(tags: tuple[str, ...], name: str) -> tuple[str, ...]:
    """The tags without this one."""
    return tuple(tag for tag in tags if tag != name)


def put_on(tags: tuple[str, ...], name: str) -> tuple[str, ...]:
    """The tags with this one."""
    return tags if name in tags else (*tags, name)


def _change(unit: Unit, way: Way, name: str, ids: Sequence[int], source: str, at: datetime) -> int:
    """Put a tag on these people or take it off them; gives how many changed."""
    # Held before they are read, so that nobody's tags of this very moment are overwritten.
    lock_rows(unit.session, unit.definitions, PERSON, ids)
    held = rows_by_ids(unit.session, unit.definitions, PERSON, ["tags"], ids)
    wanted = {person: {"tags": way(_texts(values["tags"]), name)} for person, values in held.items()}
    return len(change_many(unit, PERSON, wanted, source, at))


def _texts(value: Value) -> tuple[str, ...]:
    return tuple(str(one) for one in value) if isinstance(value, list | tuple) else ()


# Undo


def _tag(unit: Unit, tag_id: int) -> Any:
    row = unit.session.get(TagRow, tag_id)
    return None if row is None else {"name": row.name, "ends_on": row.ends_on.isoformat() if row.ends_on else ""}


def _restore_tag(unit: Unit, tag_id: int, before: Any) -> None:
    """The tag as it was, and on everybody whom it was last taken off; or off again. For many, a task sees to it."""
    row = unit.session.get(TagRow, tag_id)
    if before is None:
        if row is not None:
            _take_off_again(unit, row)
        return
    name, ends_on = before["name"], before["ends_on"]
    day = date.fromisoformat(ends_on) if ends_on else None
    unit.session.add(TagRow(id=tag_id, workspace_id=unit.workspace_id, name=name, ends_on=day))
    touch(unit.session, unit.workspace_id)
    last = unit.session.exec(
        select(History.at)
        .where(col(History.field_id) == OWN_IDS["tags"], col(History.source) == _OFF)
        .where(col(History.old).contains([name]))
        .order_by(col(History.id).desc())
        .limit(1)
    ).first()
    if last is None:
        return
    ids = _changed_by(unit, name, (_OFF, last), 0, AT_ONCE + 1)
    if len(ids) > AT_ONCE:
        payload = {"name": name, "at": last.isoformat(), "now": unit.moment.now.isoformat()}
        begin_task(unit, "tag_on", f"Putting the tag {name} on again", payload)
    else:
        _change(unit, put_on, name, ids, _ON, unit.moment.now)


def _take_off_again(unit: Unit, row: TagRow) -> None:
    held = carriers(unit.session, unit.definitions, (row.name,), AT_ONCE + 1)
    if len(held) > AT_ONCE:
        payload = {"name": row.name, "tag": row.id, "at": unit.moment.now.isoformat()}
        begin_task(unit, "tag_off", f"Removing the tag {row.name} from everyone", payload)
        return
    _change(unit, take_off, row.name, held, _OFF, unit.moment.now)
    unit.session.delete(row)
    touch(unit.session, unit.workspace_id)


register("tag_off", _tag, _restore_tag)


def sweep_tags(store: Store, clock: Clock) -> int:
    """Take off the tags whose last day has passed, in every workspace; gives how many tags."""
    with store.transaction() as session:
        ids = session.exec(select(Workspace.id)).all()
    swept = 0
    for workspace_id in ids:
        scope = Scope(store, workspace_id or 0, "the product", "owner", clock)
        with scope.transaction("owner") as unit:
            names = unit.session.exec(select(TagRow.name).where(col(TagRow.ends_on) < unit.moment.today)).all()
        for name in names:
            take_tag_off(scope, name)
            swept += 1
    return swept
