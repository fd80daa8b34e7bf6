"""Moving a field to what it should have been about, after a dry run."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import text

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.about import HOUSE, PERSON, record_type_of
from finesieve.core.fields.definition import Field
from finesieve.core.values import Value
from finesieve.services.define.deletion import take_away
from finesieve.services.define.fields import FieldInput, group_of, make_field
from finesieve.services.define.retyping import MOST_SHOWN, changeable, raw_key, values_of_all
from finesieve.services.kernel.scope import Scope, Unit, reload
from finesieve.services.kernel.tasks import Progress, begin_task, work_of
from finesieve.services.usage.uses import Use, uses_of
from finesieve.services.values.writing import add_row, change_row
from finesieve.store.people import fill_counts
from finesieve.store.reshape import (
    distinct_values,
)
from finesieve.store.rows import HOUSE_ID, linked_to, set_links

__all__ = ["MovePlan", "begin_move", "plan_move"]


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
    where = unit.catalogue.say_about(about)
    if field.about == HOUSE:
        value = field.show(unit.moment.house.get(field.key)) or "nothing yet"
        what = f"Each gets the value of today, {value}, and can have another from then on."
        if record_type_of(about) or about != PERSON:
            what = "The field starts empty there; the house’s value stays with the deleted field."
    elif about == HOUSE:
        what = f"The house gets one value, chosen below; the {filled:,} values there are stay with the deleted field."
    elif record_type_of(about) and field.about == PERSON:
        what = (
            f"Each of the {filled:,} people with a value gets it on their first record of that kind; "
            "who has none yet gets a new record."
        )
    else:
        what = f"The field starts empty there; the {filled:,} values there are stay with the deleted field."
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
    """Make the field where it belongs, take its values over, delete the one there was: all in one transaction."""
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
            settings=field.settings.model_copy(update={"unique": False, "lists": ()}).model_dump(),
        )
        made_id = make_field(unit, group, asked, field.options)
        fresh = reload(unit)
        made = fresh.catalogue.by_id[made_id]
        moved = _take_over(fresh, field, made, payload, progress)
        change = take_away(fresh, field)
        return {"message": f"{moved:,} values moved.", "field_id": made_id, "change": change}


def _take_over(unit: Unit, field: Field, made: Field, payload: Mapping[str, Any], progress: Progress) -> int:
    if made.about == HOUSE:
        value = field.parse(payload["chosen"])
        return change_row(unit, HOUSE, HOUSE_ID, {made.key: value}, "moved")
    if field.about == HOUSE and made.about == PERSON:
        value = unit.moment.house.get(field.key)
        return _to_everybody(unit, made, value, progress) if value is not None else 0
    if field.about == PERSON and record_type_of(made.about):
        return _to_records(unit, field, made, progress)
    return 0


def _to_everybody(unit: Unit, made: Field, value: Value, progress: Progress) -> int:
    table = unit.definitions.tables[PERSON]
    ids: Sequence[int] = [
        int(row[0])
        for row in unit.session.execute(text(f"SELECT id FROM {table.schema}.{table.name} ORDER BY id"))  # noqa: S608 - our own names
    ]
    for place, person_id in enumerate(ids, 1):
        change_row(unit, PERSON, person_id, {made.key: value}, "moved")
        if place % 500 == 0:
            progress.say(place, len(ids))
    return len(ids)


def _to_records(unit: Unit, field: Field, made: Field, progress: Progress) -> int:
    record_type = unit.catalogue.record_types_by_id[record_type_of(made.about)]
    link = record_type.main_link
    if link is None:
        raise InvalidInput({"group": f"{record_type.plural} are linked to nobody; add a link to people first."})
    values = values_of_all(unit, field)
    for place, (person_id, value) in enumerate(values.items(), 1):
        there = linked_to(unit.session, unit.definitions, link.id, person_id)
        if there:
            change_row(unit, made.about, there[0], {made.key: value}, "moved")
        else:
            record_id = add_row(unit, made.about, {made.key: value}, "moved")
            set_links(unit.session, unit.definitions, link, record_id, [person_id])
        if place % 500 == 0:
            progress.say(place, len(values))
    return len(values)
