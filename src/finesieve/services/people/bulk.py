"""Changing a value of many people at once: looked at first, done in batches, taken back in one step."""

import secrets
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Final, Literal

from pydantic import Field as Bounds
from sqlmodel import col, select

from finesieve.core.errors import Conflict, FineSieveError, InvalidInput, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.model.catalogue import field_of
from finesieve.core.model.changes import OWN_IDS
from finesieve.core.values import Value
from finesieve.services.define.memberships import tidy_tags
from finesieve.services.define.tagging import put_on, take_off
from finesieve.services.kernel.changes import record_change, register
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.tasks import Progress, Stopped, begin_task, work_of
from finesieve.services.people.listing import Listing, selected
from finesieve.services.values.value_lines import (
    known_field,
    left_behind,
    may_change,
    person_name,
    refuse_off_lists,
)
from finesieve.services.values.writing import change_many, is_same, keys_that_follow
from finesieve.store.definitions.catalogue import touch
from finesieve.store.reading.people import page_of_people
from finesieve.store.reading.rows import rows_by_ids
from finesieve.store.tables import BulkChange, DefinitionChange, History, TagRow
from finesieve.store.values.rows import lock_rows

__all__ = ["AT_ONCE", "BulkInput", "BulkPlan", "Chosen", "Done", "change_in_bulk", "ids_of", "plan_bulk"]

AT_ONCE: Final = 1_000
"""So many people are looked at beforehand, changed within a request, and changed in one batch of a task."""
SOURCE: Final = "bulk change {id}"
UNDONE: Final = "bulk change {id} taken back"
_SHOWN: Final = 12
_NAMES: Final = ("first_name", "last_name", "email")

What = Literal["set", "clear", "put_on", "take_off", "join", "leave", "level"]


class BulkInput(Input):
    """What is to change: a field's value as typed, a tag, a list by its key, or the level by its key, "" for none."""

    what: What
    field: int = 0
    value: str = Bounds(default="", max_length=2_000)


@dataclass(frozen=True, slots=True)
class Chosen:
    """Whom it is for: these people, or all whom the list shows."""

    ids: tuple[int, ...] = ()
    listing: Listing | None = None


@dataclass(frozen=True, slots=True)
class BulkPlan:
    """What would come of it, before anything is done.

    Of `looked_at` people, `changes` would change, `same` have it already, and the `refused` keep what they have, each
    with the reason. `more` tells that there are others, of whom the same can be expected. `samples` are (name, before,
    after). `label` says what would be done.
    """

    label: str
    looked_at: int
    changes: int
    same: int
    refused: tuple[tuple[str, str], ...]
    samples: tuple[tuple[int, str, str, str], ...]
    more: bool


@dataclass(frozen=True, slots=True)
class Done:
    """How many changed, and the id of the change for undoing; or that of the task that sees to it."""

    people: int
    change: int
    task: int = 0


@dataclass(frozen=True, slots=True)
class _Wish:
    """A change that was read: the key it is of, the label of what is done, and the new value of an old one."""

    key: str
    label: str
    what: What
    value: Value
    field: Field | None = None
    order: tuple[str, ...] = ()

    def after(self, before: Value) -> Value:
        """What is held afterwards."""
        way = {"put_on": put_on, "join": put_on, "take_off": take_off, "leave": take_off}.get(self.what)
        if way is None:
            return self.value
        held = way(tuple(map(str, before)) if isinstance(before, list | tuple) else (), str(self.value))
        if not self.order:
            return held
        return tuple(one for one in self.order if one in held)

    def show(self, value: Value) -> str:
        if self.field is not None:
            return self.field.show(value)
        return ", ".join(map(str, value)) if isinstance(value, list | tuple) else str(value or "")


def _read(unit: Unit, asked: BulkInput) -> _Wish:
    """The wish. Raises InvalidInput at `value`, or at `field` for one that cannot be changed for many."""
    value = asked.value.strip()
    if asked.what in ("put_on", "take_off"):
        try:
            (tag,) = tidy_tags(value)
        except (InvalidInput, ValueError):
            raise InvalidInput({"value": "Write one tag of at most 60 characters."}) from None
        return _Wish("tags", f"{'Added' if asked.what == 'put_on' else 'Removed'} the tag {tag}", asked.what, tag)
    if asked.what in ("join", "leave"):
        name = next((one.name for one in unit.catalogue.lists if one.key == value), "")
        if not name:
            raise InvalidInput({"value": "Choose a list."})
        label = f"Added to the list {name}" if asked.what == "join" else f"Removed from the list {name}"
        order = tuple(one.key for one in unit.catalogue.lists)
        return _Wish("lists", label, asked.what, value, order=order)
    if asked.what == "level":
        name = next((one.name for one in unit.catalogue.levels if one.key == value), "")
        if value and not name:
            raise InvalidInput({"value": "Choose a level."})
        return _Wish("level", f"Set the level to {name}" if name else "Removed the level", "level", value or None)
    return _of_field(unit, asked, value)


def _of_field(unit: Unit, asked: BulkInput, value: str) -> _Wish:
    try:
        field = field_of(unit.catalogue, asked.field)
    except NotFound:
        raise InvalidInput({"field": "Choose a field."}) from None
    if field.about != PERSON or not field.stores or not unit.sees(field):
        raise InvalidInput({"field": "This is no field of people that can be changed."})
    if field.settings.unique or field.key == "email" or field.type.kind in ("secret", "file"):
        raise InvalidInput({"field": f"{field.label} is each person’s own; it is changed for one at a time."})
    if field.settings.country_from and asked.what == "set":
        raise InvalidInput({"field": f"{field.label} goes with the country; it is changed for one at a time."})
    if asked.what == "clear":
        return _Wish(field.key, f"Cleared {field.label}", "clear", None, field)
    if not value:
        raise InvalidInput({"value": "Write or choose the value. To make it blank, choose “clear a field”."})
    try:
        read = known_field(unit, field, value).parse(asked.value, today=unit.moment.today)
    except ValueError as problem:
        raise InvalidInput({"value": str(problem)}) from None
    field = known_field(unit, field, read)
    return _Wish(field.key, f"Set {field.label} to {field.show(read)}", "set", read, field)


def plan_bulk(scope: Scope, chosen: Chosen, asked: BulkInput) -> BulkPlan:
    """What a change would do, looked at for the first thousand people; stores nothing. Raises InvalidInput."""
    with scope.reading("editor") as unit:
        wish = _read(unit, asked)
        ids = ids_of(unit, chosen, None, AT_ONCE + 1)
        wanted, refused, samples, same = _wanted(unit, wish, ids[:AT_ONCE])
        return BulkPlan(
            wish.label,
            min(len(ids), AT_ONCE),
            len(wanted),
            same,
            tuple(refused[:_SHOWN]),
            tuple(samples[:_SHOWN]),
            len(ids) > AT_ONCE,
        )


def change_in_bulk(scope: Scope, chosen: Chosen, asked: BulkInput, once: str = "") -> Done:
    """Do it: at once for up to a thousand people, else by a task. Each change is in the person's history.

    `once` is a key that the preview was given: sent twice with it, it counts once, and gives the same.
    """
    once = once or secrets.token_urlsafe(12)
    try:
        return _change_once(scope, chosen, asked, once)
    except Conflict:
        # The other click came first, and is done by now.
        with scope.reading("editor") as unit:
            row = unit.session.exec(select(BulkChange).where(col(BulkChange.once) == once)).first()
            if row is None:
                raise
            return Done(row.people, row.change_id, row.task_id)


def _change_once(scope: Scope, chosen: Chosen, asked: BulkInput, once: str) -> Done:
    with scope.transaction("editor") as unit:
        wish = _read(unit, asked)
        row = BulkChange(
            workspace_id=unit.workspace_id, once=once, what=asked.model_dump(mode="json"), at=unit.moment.now
        )
        unit.session.add(row)
        unit.session.flush()
        ids = ids_of(unit, chosen, None, AT_ONCE + 1)
        if len(ids) > AT_ONCE:
            listing = chosen.listing.model_dump(mode="json") if chosen.listing else None
            payload = {"bulk": row.id, "ids": list(chosen.ids), "listing": listing}
            row.task_id = begin_task(unit, "bulk", wish.label, payload)
            unit.session.add(row)
            return Done(0, 0, row.task_id)
        return _finish(unit, row, wish.label, _change(unit, wish, ids, row))


def _finish(unit: Unit, row: BulkChange, label: str, people: int) -> Done:
    """All is changed: from now on it can be taken back."""
    row.applied, row.people = True, people
    unit.session.add(row)
    if people:
        row.change_id = record_change(unit, "bulk", row.id or 0, label, {"applied": False})
    return Done(people, row.change_id)


def ids_of(unit: Unit, chosen: Chosen, before_id: int | None, limit: int) -> list[int]:
    """The people chosen, the newest first, from below one on. Raises InvalidInput for a condition with problems."""
    if chosen.listing is None:
        there = rows_by_ids(unit.session, unit.definitions, PERSON, [], chosen.ids)
        return [one for one in sorted(there, reverse=True) if before_id is None or one < before_id][:limit]
    typed, problems = selected(unit, chosen.listing.where)
    if problems:
        raise InvalidInput({"where": problems[0].message})
    people = page_of_people(
        unit.session,
        unit.definitions,
        unit.moment,
        [],
        search=chosen.listing.search,
        meshes=(typed,) if typed else (),
        before_id=before_id,
        limit=limit,
    )
    return [person.id for person in people]


def _wanted(
    unit: Unit, wish: _Wish, ids: Sequence[int]
) -> tuple[dict[int, dict[str, Value]], list[tuple[str, str]], list[tuple[int, str, str, str]], int]:
    """The new values by person; who keeps what they have, and why; a few of the changes; how many have it already."""
    beside = [one.key for one in unit.catalogue.stored if one.settings.country_from == wish.key]
    keys = list(dict.fromkeys((*_NAMES, "lists", wish.key, *beside)))
    rows = rows_by_ids(unit.session, unit.definitions, PERSON, keys, ids)
    wanted: dict[int, dict[str, Value]] = {}
    refused: list[tuple[str, str]] = []
    samples: list[tuple[int, str, str, str]] = []
    same = 0
    for person_id in ids:
        if person_id not in rows:
            continue
        values = rows[person_id]
        old = values.get(wish.key)
        new = wish.after(old)
        if is_same(old, new):
            same += 1
            continue
        reason = _reason(unit, wish, new, values)
        if reason:
            refused.append((person_name(values), reason))
            continue
        wanted[person_id] = {wish.key: new}
        if len(samples) < _SHOWN:
            samples.append((person_id, person_name(values), wish.show(old), wish.show(new)))
    return wanted, refused, samples, same


def _reason(unit: Unit, wish: _Wish, new: Value, values: dict[str, Value]) -> str:
    """Why a person keeps what they have; "" where the value may change."""
    if wish.field is None:
        return ""
    try:
        if new is not None:
            refuse_off_lists(unit.catalogue, wish.field, values)
        may_change(unit.catalogue, wish.field, new, values)
        behind = left_behind(unit, PERSON, {wish.key: new}, values)
        if behind:
            return next(iter(behind.values()))
    except ValueError as why:
        return str(why)
    return ""


def _change(unit: Unit, wish: _Wish, ids: Sequence[int], row: BulkChange) -> int:
    """Change these people; gives how many changed."""
    if wish.what == "put_on" and wish.value not in unit.catalogue.tags:
        there = unit.session.exec(select(TagRow.id).where(col(TagRow.name) == wish.value)).first()
        if there is None:
            unit.session.add(TagRow(workspace_id=unit.workspace_id, name=str(wish.value)))
            touch(unit.session, unit.workspace_id)
    # Held before they are read, so that what changes at this very moment is not overwritten.
    lock_rows(unit.session, unit.definitions, PERSON, list(ids))
    wanted, _refused, _samples, _same = _wanted(unit, wish, ids)
    changes = change_many(unit, PERSON, wanted, SOURCE.format(id=row.id), row.at)
    return len({change.row_id for change in changes.changes if not change.computed})


@work_of("bulk")
def _change_everybody(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Batch by batch, from the newest on; begun again it goes on; stopped, those who changed get back what they had."""
    listing = Listing.model_validate(payload["listing"]) if payload["listing"] else None
    chosen = Chosen(tuple(payload["ids"]), listing)
    done, before_id = int(payload.get("done", 0)), payload.get("before")
    try:
        while True:
            with scope.transaction("owner") as unit:
                row = unit.session.get(BulkChange, payload["bulk"])
                if row is None or row.applied:
                    return _told(unit, row)
                wish = _read(unit, BulkInput.model_validate(row.what))
                ids = ids_of(unit, chosen, before_id, AT_ONCE)
                done += _change(unit, wish, ids, row)
                if len(ids) < AT_ONCE:
                    _finish(unit, row, wish.label, done)
                    return _told(unit, row)
                before_id = ids[-1]
                progress.keep(unit, done=done, before=before_id)
            progress.say(done, done + AT_ONCE)
    except FineSieveError:
        # Stopped, or refused meanwhile: nobody is left with half of it. (A field that was deleted took its values with
        # it; should it come back, those who had changed hold the new one, and their history says so.)
        for ids in _batches(scope, payload["bulk"]):
            with scope.transaction("owner") as unit:
                _put_back(unit, payload["bulk"], ids, forth=False)
        raise


def _told(unit: Unit, row: BulkChange | None) -> dict[str, Any]:
    people = row.people if row else 0
    message = f"{unit.manner.figure(people)} {'person' if people == 1 else 'people'} changed."
    return {"message": message, "change": row.change_id if row else 0}


# Undo -----------------------------------------------------------------------------------------


def _batches(scope: Scope, bulk_id: int) -> Iterator[list[int]]:
    after = 0
    while True:
        with scope.separate("owner") as unit:
            row = unit.session.get(BulkChange, bulk_id)
            ids = _changed(unit, row, after) if row else []
        if not ids:
            return
        yield ids
        after = ids[-1]


def _changed(unit: Unit, row: BulkChange, after: int) -> list[int]:
    """Whose values a bulk change changed, by id from above one on."""
    query = (
        select(History.entity_id)
        .where(col(History.about) == PERSON, col(History.source) == SOURCE.format(id=row.id), col(History.at) == row.at)
        .where(col(History.entity_id) > after)
        .distinct()
        .order_by(col(History.entity_id))
        .limit(AT_ONCE)
    )
    return [int(one) for one in unit.session.exec(query).all()]


def _put_back(unit: Unit, bulk_id: int, ids: Sequence[int], *, forth: bool) -> int:
    """Give these people back what they had, or again what they got, where nobody has changed it since."""
    row = unit.session.get(BulkChange, bulk_id)
    assert row is not None
    asked = BulkInput.model_validate(row.what)
    field = unit.catalogue.by_id.get(asked.field)
    own = {"put_on": "tags", "take_off": "tags", "join": "lists", "leave": "lists", "level": "level"}.get(asked.what)
    if own is None and field is None:
        return 0  # the field has gone since, and its values with it
    key, number = (own, OWN_IDS[own]) if own else (field.key, field.id)  # type: ignore[union-attr]  # one of them is there
    along = [unit.catalogue.by_key[one] for one in keys_that_follow(unit, PERSON, [key])]
    lines = unit.session.exec(
        select(History)
        .where(col(History.about) == PERSON, col(History.source) == SOURCE.format(id=row.id), col(History.at) == row.at)
        .where(col(History.field_id).in_([number, *(one.id for one in along)]), col(History.entity_id).in_(ids))
    ).all()
    lock_rows(unit.session, unit.definitions, PERSON, list(ids))
    held = rows_by_ids(unit.session, unit.definitions, PERSON, [key, *(one.key for one in along)], ids)
    wanted: dict[int, dict[str, Value]] = {}
    for line in lines:
        there, back = (line.old, line.new) if forth else (line.new, line.old)
        person = held.get(line.entity_id)
        if line.field_id == number and person and is_same(person[key], _value(field, there, key)):
            wanted[line.entity_id] = person | {key: _value(field, back, key)}
    for line in lines:
        other = next((one for one in along if one.id == line.field_id), None)
        if other is not None and line.entity_id in wanted:
            wanted[line.entity_id][other.key] = other.from_kept(line.new if forth else line.old)
    return len(change_many(unit, PERSON, wanted, (SOURCE if forth else UNDONE).format(id=row.id)))


def _value(field: Field | None, data: Any, key: str) -> Value:
    """What history kept, as a value; no tags and no lists are stored as none of several."""
    if field is not None:
        return field.from_kept(data)
    return tuple(data or ()) if key in ("tags", "lists") else data


def _bulk(unit: Unit, bulk_id: int) -> Any:
    row = unit.session.get(BulkChange, bulk_id)
    return None if row is None else {"applied": row.applied}


def _restore(unit: Unit, bulk_id: int, before: Any) -> None:
    row = unit.session.get(BulkChange, bulk_id)
    if row is None:
        raise NotFound("There is no such change.")
    forth = bool(before["applied"])
    row.applied = forth
    unit.session.add(row)
    ids = _changed(unit, row, 0)
    if len(ids) < AT_ONCE:
        _put_back(unit, bulk_id, ids, forth=forth)
        return
    title = "Making a bulk change again" if forth else "Taking a bulk change back"
    begin_task(unit, "bulk_back", title, {"bulk": bulk_id, "forth": forth}, row.people)


@work_of("bulk_back")
def _put_all_back(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Batch by batch; done twice, it is done once. Stopped, the batches that were done are turned again."""
    done = 0
    try:
        for ids in _batches(scope, payload["bulk"]):
            with scope.transaction("owner") as unit:
                done += _put_back(unit, payload["bulk"], ids, forth=payload["forth"])
            progress.say(done, done + AT_ONCE)
    except Stopped:
        for ids in _batches(scope, payload["bulk"]):
            with scope.transaction("owner") as unit:
                _put_back(unit, payload["bulk"], ids, forth=not payload["forth"])
        with scope.transaction("owner") as unit:
            _not_turned(unit, payload["bulk"], forth=payload["forth"])
        raise
    return {"message": f"{done} values changed."}


def _not_turned(unit: Unit, bulk_id: int, *, forth: bool) -> None:
    """It stands as before the undo was asked for, so that it can be asked for again."""
    row = unit.session.get(BulkChange, bulk_id)
    change = unit.session.get(DefinitionChange, row.change_id, with_for_update=True) if row else None
    if row is None or change is None:
        return
    row.applied, change.undone = not forth, forth
    unit.session.add_all((row, change))


register("bulk", _bulk, _restore)
register("bulk_long", _bulk, _restore)  # as changes of many were kept before
