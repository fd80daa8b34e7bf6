"""Moving a field to what it should have been about, after a dry run."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Final

from finesieve.core.errors import FineSieveError, InvalidInput, Unavailable
from finesieve.core.fields.about import HOUSE, PERSON, record_type_of
from finesieve.core.fields.definition import Field
from finesieve.core.model.catalogue import Link
from finesieve.core.values import Value
from finesieve.services.define.deletion import take_away
from finesieve.services.define.fields import FieldInput, group_of, make_field
from finesieve.services.define.retyping import MOST_SHOWN, changeable, raw_key
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.tasks import Progress, begin_task, work_of
from finesieve.services.usage.uses import Use, uses_of
from finesieve.services.values.writing import add_many, change_many, change_row
from finesieve.store.reading.people import count_people, fill_counts
from finesieve.store.reading.rows import HOUSE_ID, first_linked, ids_after
from finesieve.store.values.history import changed_since, last_line
from finesieve.store.values.reshape import column_values, distinct_values, hold_still, values_of
from finesieve.store.values.rows import link_rows

__all__ = ["MovePlan", "begin_move", "plan_move"]


_WAY: Final = "moved"
_BATCH: Final = 1_000


@dataclass(frozen=True, slots=True)
class MovePlan:
    """What moving a field would do, in sentences. `choices` are values to choose the house's one from."""

    field: Field
    group_id: int
    about: str
    sentences: tuple[str, ...]
    uses: tuple[Use, ...]
    choices: tuple[tuple[str, str, int], ...]


def plan_move(scope: Scope, field_id: int, group_id: int) -> MovePlan:
    """The dry run; changes nothing. Raises NotFound, InvalidInput where the field cannot be moved there."""
    with scope.transaction("editor") as unit:
        field = changeable(unit, field_id)
        group = group_of(unit.catalogue, group_id)
        if group.about == field.about:
            raise InvalidInput({"group": "It is about that already; move it among the groups instead."})
        if field.about == PERSON and record_type_of(group.about):
            _link_for(unit, group.about)
        filled = fill_counts(unit.session, unit.definitions, field.about, [field]).of(field)
        sentences = _sentences(unit, field, group.about, filled)
        choices: list[tuple[str, str, int]] = []
        if group.about == HOUSE and field.about != HOUSE:
            for value, count in distinct_values(unit.session, unit.definitions, field):
                choices.append((raw_key(field, value), field.show(value), count))
                if len(choices) == MOST_SHOWN:
                    break
        return MovePlan(field, group_id, group.about, sentences, uses_of(unit).of_field(field_id), tuple(choices))


def _sentences(unit: Unit, field: Field, about: str, filled: int) -> tuple[str, ...]:
    where, there = unit.catalogue.say_about(about), unit.manner.figure(filled)
    if field.about == HOUSE:
        value = field.show(unit.moment.house.get(field.key)) or "nothing yet"
        what = f"Each gets the value of today, {value}, and can have another from then on."
        if record_type_of(about) or about != PERSON:
            what = "The field starts empty there; the house’s value stays with the deleted field."
    elif about == HOUSE:
        what = f"The house gets one value, chosen below; the {there} values there are stay with the deleted field."
    elif record_type_of(about) and field.about == PERSON:
        what = (
            f"Each of the {there} people with a value gets it on their first record of that kind; "
            "who has none yet gets a new record."
        )
    else:
        what = f"The field starts empty there; the {there} values there are stay with the deleted field."
    return (
        f"“{field.label}” will be about {where}, with its options and settings.",
        what,
        "The field as it is now is deleted, and can be brought back with all its values for 90 days.",
    )


def begin_move(scope: Scope, field_id: int, group_id: int, chosen: str = "") -> int:
    """Have a field moved; gives the task's id. `chosen` is the house's value, as typed. Raises InvalidInput."""
    plan = plan_move(scope, field_id, group_id)
    if plan.about == HOUSE:
        try:
            plan.field.parse(chosen)
        except ValueError as problem:
            raise InvalidInput({"chosen": str(problem)}) from None
    with scope.transaction("editor") as unit:
        where = unit.catalogue.say_about(plan.about)
        payload = {"field_id": field_id, "group_id": group_id, "chosen": chosen}
        return begin_task(unit, "move", f"{plan.field.label} moves to {where}", payload, 1)


@work_of("move")
def _move(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Make the field where it belongs, take its values over batch by batch, then delete the one there was.

    Begun again, it goes on where it was. Stopped, the new field is deleted, and the old one is as it was.
    """
    made_id, begun = payload.get("made"), int(payload.get("begun", 0))
    with scope.transaction("owner") as unit:
        if made_id and payload["field_id"] not in unit.catalogue.by_id:
            # The worker died after the last step, before it could say so.
            return {"message": "All values moved.", "field_id": made_id}
    if not made_id:
        made_id, begun = _make(scope, payload, progress)
    try:
        moved = _take_over(scope, int(payload["field_id"]), made_id, payload, progress)
    except Unavailable:
        raise  # the task is taken up again
    except FineSieveError:
        with scope.transaction("owner") as unit:
            take_away(unit, unit.catalogue.by_id[made_id])
        raise
    with scope.transaction("owner") as unit:
        field, made = changeable(unit, payload["field_id"]), unit.catalogue.by_id[made_id]
        hold_still(unit.session, unit.workspace_id, field)
        moved += _late(unit, field, made, begun)
        change = take_away(unit, field)
        return {"message": f"{unit.manner.figure(moved)} values moved.", "field_id": made_id, "change": change}


def _make(scope: Scope, payload: Mapping[str, Any], progress: Progress) -> tuple[int, int]:
    """Make the new field; gives its id, and the last line of the history before it."""
    with scope.transaction("owner") as unit:
        field = changeable(unit, payload["field_id"])
        group = group_of(unit.catalogue, payload["group_id"])
        asked = FieldInput(
            label=field.label,
            key="" if field.key in unit.catalogue.keys_of(group.about) else field.key,
            type_key=field.type_key,
            help=field.help,
            required=field.required and group.about == PERSON,
            unit=field.unit,
            settings=field.settings.model_copy(
                update={"unique": False, "lists": (), "joined_list": None, "called": ()}
            ).model_dump(),
        )
        made_id = make_field(unit, group, asked, field.options)
        # Whoever is writing is waited for, so that all that comes later has a later line in the history.
        hold_still(unit.session, unit.workspace_id, field)
        begun = last_line(unit.session)
        progress.keep(unit, made=made_id, begun=begun)
        return made_id, begun


def _take_over(scope: Scope, field_id: int, made_id: int, payload: Mapping[str, Any], progress: Progress) -> int:
    with scope.transaction("owner") as unit:
        field, made = changeable(unit, field_id), unit.catalogue.by_id[made_id]
        if made.about == HOUSE:
            value = field.parse(payload["chosen"])
            return len(change_row(unit, HOUSE, HOUSE_ID, {made.key: value}, _WAY))
        value = unit.moment.house.get(field.key) if field.about == HOUSE else None
        total = count_people(unit.session, unit.definitions)
        if record_type_of(made.about) and field.about == PERSON:
            total = fill_counts(unit.session, unit.definitions, PERSON, [field]).of(field)
            _link_for(unit, made.about)
    if field.about == HOUSE and made.about == PERSON and value is not None:
        return _each_batch(scope, progress, total, lambda unit, after: _to_people(unit, made, value, after))
    if field.about == PERSON and record_type_of(made.about):
        return _each_batch(scope, progress, total, lambda unit, after: _to_records(unit, field, made, after))
    return 0


def _each_batch(scope: Scope, progress: Progress, total: int, move: Callable[[Unit, int], tuple[int, int]]) -> int:
    """Move batch after batch, each by itself; `move` gives how many it moved and the last id, 0 at the end."""
    done = after = 0
    while True:
        with scope.transaction("owner") as unit:
            moved, after = move(unit, after)
        done += moved
        if not after:
            return done
        progress.say(min(done, total), total)


def _to_people(unit: Unit, made: Field, value: Value, after: int) -> tuple[int, int]:
    """The house's value for the next people; who has one of their own already keeps it."""
    rows = ids_after(unit.session, unit.definitions, PERSON, after, _BATCH)
    there = values_of(unit.session, unit.definitions, made, rows)
    wanted = {row_id: {made.key: value} for row_id in rows if there.get(row_id) is None}
    return len(change_many(unit, PERSON, wanted, _WAY)), rows[-1] if rows else 0


def _link_for(unit: Unit, about: str) -> Link:
    record_type = unit.catalogue.record_types_by_id[record_type_of(about)]
    if record_type.main_link is None:
        raise InvalidInput({"group": f"{record_type.plural} are linked to nobody; add a link to people first."})
    return record_type.main_link


def _to_records(unit: Unit, field: Field, made: Field, after: int) -> tuple[int, int]:
    """The values of the next people, each to the first of their records, or to a new one."""
    batch = column_values(unit.session, unit.definitions, field, after, _BATCH)
    return _give_records(unit, made, dict(batch)), batch[-1][0] if batch else 0


def _give_records(unit: Unit, made: Field, values: Mapping[int, Value]) -> int:
    link = _link_for(unit, made.about)
    first = first_linked(unit.session, unit.definitions, link.id, list(values))
    has = {record: {made.key: values[person]} for person, record in first.items()}
    moved = len(change_many(unit, made.about, has, _WAY))
    without = [person for person, value in values.items() if person not in first and value is not None]
    rows = add_many(unit, made.about, [{made.key: values[person]} for person in without], _WAY)
    link_rows(unit.session, unit.definitions, link, list(zip(rows, without, strict=True)))
    return moved + len(rows)


def _late(unit: Unit, field: Field, made: Field, begun: int) -> int:
    """What was changed while batch after batch was moved; nobody can change any more of it."""
    if field.about != PERSON or not record_type_of(made.about):
        return 0
    late = changed_since(unit.session, field, begun, _WAY)
    return _give_records(unit, made, values_of(unit.session, unit.definitions, field, late)) if late else 0
