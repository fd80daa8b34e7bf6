"""Changing the type of a field, and moving one to what it should have been about; both after a dry run."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any, Final

from sqlalchemy import text
from sqlmodel import select

from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.core.fields.about import HOUSE, PERSON, record_type_of
from finesieve.core.fields.conversion import NotConverted, convert
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import to_json
from finesieve.core.fields.options import Option, option_from_json, option_to_json, options_from_lines
from finesieve.core.fields.settings import SETTINGS, FieldSettings
from finesieve.core.fields.types import TYPES
from finesieve.core.values import Value
from finesieve.services.changes import keep_unique, record_change, register, snapshot
from finesieve.services.fields import FieldInput, broken_by, field_of, group_of, make_field, take_away
from finesieve.services.scope import Scope, Unit, reload
from finesieve.services.tasks import Progress, begin_task, work_of
from finesieve.services.usage import Use, uses_of
from finesieve.services.values import add_row, change_row, write_line
from finesieve.store.catalogue import add_column, field_from_row
from finesieve.store.people import fill_counts
from finesieve.store.reshape import (
    changed_since,
    column_values,
    distinct_values,
    free_generation,
    hold_still,
    values_of,
    write_column,
)
from finesieve.store.rows import HOUSE_ID, linked_to, set_links
from finesieve.store.tables import FieldRow, Task

__all__ = [
    "MovePlan",
    "TypePlan",
    "begin_move",
    "begin_type_change",
    "plan_move",
    "plan_type_change",
]

WAY: Final = "type change"
_BATCH: Final = 1_000
MOST_SHOWN: Final = 200


@dataclass(frozen=True, slots=True)
class Offender:
    """A stored value that does not convert: as shown, as it is told apart, how many hold it, and why."""

    shown: str
    raw: str
    count: int
    why: str


@dataclass(frozen=True, slots=True)
class TypePlan:
    """What a change of type would do.

    `converts` and `fails` count those who hold a value; `samples` are (before,
    after) pairs; `offenders` the first values that do not convert; `broken` what
    would not work any more. `options` are the lines the new choice would offer.
    """

    field: Field
    target: Field
    converts: int
    fails: int
    samples: tuple[tuple[str, str], ...]
    offenders: tuple[Offender, ...]
    more_offenders: int
    broken: tuple[Use, ...]
    options: str


def plan_type_change(scope: Scope, field_id: int, type_key: str, options: str = "", unit_text: str = "") -> TypePlan:
    """The dry run over all stored values; changes nothing. Raises NotFound; InvalidInput for an unfit type."""
    with scope.transaction("editor") as unit:
        field = _changeable(unit, field_id)
        target = _target(unit, field, type_key, options, unit_text)
        converts = fails = more = 0
        samples: list[tuple[str, str]] = []
        offenders: list[Offender] = []
        for value, count in distinct_values(unit.session, unit.definitions, field):
            try:
                becomes = convert(value, field, target)
            except NotConverted as why:
                fails += count
                if len(offenders) < MOST_SHOWN:
                    offenders.append(Offender(field.show(value), _key(field, value), count, str(why)))
                else:
                    more += 1
                continue
            converts += count
            if len(samples) < 6:
                samples.append((field.show(value), target.show(becomes)))
        broken = tuple(broken_by(unit, [target]))
        lines = "\n".join(option.label for option in target.options) if target.type.has_options else ""
        return TypePlan(field, target, converts, fails, tuple(samples), tuple(offenders), more, broken, lines)


def _changeable(unit: Unit, field_id: int) -> Field:
    field = field_of(unit.catalogue, field_id)
    if field.derived or field.built_in or not field.stores:
        raise InvalidInput({"": "The type of a built-in or derived field, or of a heading, stays as it is."})
    return field


def _key(field: Field, value: Value) -> str:
    """A value in a form in which a page can send it back."""
    return field.raw(value)[:500]


def _target(unit: Unit, field: Field, type_key: str, options: str, unit_text: str) -> Field:
    """The field as it would be."""
    type_ = TYPES.get(type_key)
    if type_ is None or not type_.stores:
        raise InvalidInput({"type_key": "Choose one of the types."})
    if type_key == "secret" or field.type_key == "secret":
        raise InvalidInput({"type_key": "A secret cannot become anything else, nor anything a secret."})
    kept = {
        name: value
        for name, value in field.settings.model_dump().items()
        if name != "option_list"
        and (not SETTINGS.get(name) or not SETTINGS[name].types or type_key in SETTINGS[name].types)
    }
    settings = FieldSettings.model_validate(kept | {"default": "", "unique": False})
    target = replace(
        field, type_key=type_key, unit=unit_text if type_key == "number" else "", settings=settings, options=()
    )
    return replace(target, options=_options(unit, field, options)) if type_.has_options else target


def _options(unit: Unit, field: Field, options: str) -> tuple[Option, ...]:
    """The options as typed; else those there are; else one for each different value."""
    if options.strip():
        try:
            return options_from_lines(options, field.options)
        except ValueError as problem:
            raise InvalidInput({"options": str(problem)}) from None
    if field.options:
        return field.options
    found: dict[str, str] = {}
    for value, _ in distinct_values(unit.session, unit.definitions, field):
        label = " ".join(field.show(value).split())[:200]
        if label:
            found.setdefault(label.lower(), label)
        if len(found) > MOST_SHOWN:
            raise InvalidInput(
                {"options": f"There are more than {MOST_SHOWN} different values; write the options here."}
            )
    return tuple(Option(label, stored) for stored, label in found.items()) or (Option("First", "first"),)


def begin_type_change(
    scope: Scope, field_id: int, type_key: str, options: str, unit_text: str, replacements: Mapping[str, str]
) -> int:
    """Have the type changed; gives the task's id.

    `replacements` say what becomes of values that do not convert, by their raw
    text; without one such a value becomes blank. All is kept for undoing. Raises
    InvalidInput for a replacement that the new type does not take.
    """
    with scope.transaction("editor") as unit:
        field = _changeable(unit, field_id)
        target = _target(unit, field, type_key, options, unit_text)
        for raw, typed in replacements.items():
            try:
                target.parse(typed)
            except ValueError as problem:
                raise InvalidInput({f"instead:{raw}": str(problem)}) from None
        total = fill_counts(unit.session, unit.definitions, [field]).get(field.key, 0)
        payload = {
            "field_id": field_id,
            "type_key": type_key,
            "options": [option_to_json(option) for option in target.options],
            "unit": target.unit,
            "settings": target.settings.to_json(),
            "replacements": {raw: typed for raw, typed in replacements.items() if typed},
        }
        title = f"{field.label} becomes {target.type.label.lower()}"
        return begin_task(unit, "type_change", title, payload, total)


@work_of("type_change")
def _change_type(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Fill a new column beside the old one, batch by batch, and change over in one short transaction."""
    with scope.transaction("owner") as unit:
        field = _changeable(unit, payload["field_id"])
        generation = free_generation(unit.session, unit.workspace_id, field)
        target = replace(
            field,
            type_key=payload["type_key"],
            unit=payload["unit"],
            options=tuple(option_from_json(option) for option in payload["options"]),
            settings=FieldSettings.model_validate(payload["settings"]),
            generation=generation,
        )
        add_column(unit.session, unit.workspace_id, target)
        begun = unit.moment.now
        total = fill_counts(unit.session, unit.definitions, [field]).get(field.key, 0)
    after_id = done = 0
    while True:
        with scope.transaction("owner") as unit:
            batch = column_values(unit.session, unit.definitions, field, after_id, _BATCH)
            becoming = _becoming(dict(batch), field, target, payload["replacements"])
            write_column(unit.session, unit.definitions, target, becoming)
        if not batch:
            break
        after_id, done = batch[-1][0], done + len(batch)
        progress.say(done, max(total, done))
    return _change_over(scope, field, target, begun, payload["replacements"])


def _becoming(values: Mapping[int, Value], old: Field, new: Field, replacements: Mapping[str, str]) -> dict[int, Value]:
    found: dict[int, Value] = {}
    for row_id, value in values.items():
        try:
            found[row_id] = convert(value, old, new)
        except NotConverted:
            found[row_id] = new.parse(replacements.get(_key(old, value), ""))
    return found


def _change_over(
    scope: Scope, field: Field, target: Field, begun: datetime, replacements: Mapping[str, str]
) -> dict[str, Any]:
    with scope.transaction("owner") as unit:
        hold_still(unit.session, unit.workspace_id, field)
        if unit.catalogue.by_id.get(field.id) != field:
            raise Conflict("The field was changed meanwhile; begin again.")
        late = changed_since(unit.session, field, begun, WAY)
        values = values_of(unit.session, unit.definitions, field, late)
        write_column(unit.session, unit.definitions, target, _becoming(values, field, target, replacements))
        before = snapshot(unit, "field_type", field.id)
        row = unit.session.get(FieldRow, field.id)
        assert row is not None
        row.type_key, row.generation, row.unit = target.type_key, target.generation, target.unit
        row.options = [option_to_json(option) for option in target.options]
        row.settings = target.settings.to_json()
        unit.session.add(row)
        keep_unique(unit, row)
        lost = _write_lines(unit, field, target)
        label = f"{field.label} became {target.type.label.lower()}"
        change = record_change(unit, "field_type", field.id, label, before)
        return {
            "message": f"{lost:,} values look different now." if lost else "Every value converted.",
            "change": change,
            "field_id": field.id,
        }


def _write_lines(unit: Unit, field: Field, target: Field) -> int:
    """The history of every value that looks different after the change; gives how many."""
    after_id = lines = 0
    while batch := column_values(unit.session, unit.definitions, field, after_id, _BATCH):
        after_id = batch[-1][0]
        now = values_of(unit.session, unit.definitions, target, [row_id for row_id, _ in batch])
        for row_id, value in batch:
            if field.show(value) != target.show(now.get(row_id)):
                write_line(unit, field.about, row_id, field.id, to_json(value), to_json(now.get(row_id)), WAY)
                lines += 1
    return lines


_TYPE_PARTS: Final = ("type_key", "generation", "unit", "options", "settings")


def _take_type(unit: Unit, field_id: int) -> Any:
    row = unit.session.get(FieldRow, field_id)
    return None if row is None else {part: getattr(row, part) for part in _TYPE_PARTS}


def _restore_type(unit: Unit, field_id: int, before: Any) -> None:
    """Back to the other column. What was changed since the change of type is carried over as far as it converts."""
    row = unit.session.get(FieldRow, field_id)
    if row is None:
        raise NotFound("The field is gone.")
    field = field_from_row(row)
    field = replace(field, manner=unit.manner)
    hold_still(unit.session, unit.workspace_id, field)
    for part in _TYPE_PARTS:
        setattr(row, part, before[part])
    unit.session.add(row)
    back = replace(field_from_row(row), manner=unit.manner)
    begun = [
        task.started_at
        for task in unit.session.exec(select(Task).where(Task.kind == "type_change")).all()
        if task.payload.get("field_id") == field_id
    ]
    if begun:
        late = changed_since(unit.session, field, max(begun), WAY)
        values = values_of(unit.session, unit.definitions, field, late)
        write_column(unit.session, unit.definitions, back, _becoming(values, field, back, {}))
    was = values_of_all(unit, field)
    for row_id, value in values_of_all(unit, back).items():
        if field.show(was.get(row_id)) != back.show(value):
            write_line(unit, field.about, row_id, field.id, to_json(was.get(row_id)), to_json(value), WAY)
    keep_unique(unit, row)


def values_of_all(unit: Unit, field: Field) -> dict[int, Value]:
    """Every filled value of a column by id."""
    found: dict[int, Value] = {}
    after_id = 0
    while batch := column_values(unit.session, unit.definitions, field, after_id, _BATCH):
        found |= dict(batch)
        after_id = batch[-1][0]
    return found


register("field_type", _take_type, _restore_type)


# Moving a field to what it should have been about


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
        field = _changeable(unit, field_id)
        group = group_of(unit.catalogue, group_id)
        if group.about == field.about:
            raise InvalidInput({"group": "It is about that already; move it among the groups instead."})
        filled = fill_counts(unit.session, unit.definitions, [field]).get(field.key, 0)
        sentences = _sentences(unit, field, group.about, filled)
        choices: list[tuple[str, str, int]] = []
        if group.about == HOUSE and field.about != HOUSE:
            for value, count in distinct_values(unit.session, unit.definitions, field):
                choices.append((_key(field, value), field.show(value), count))
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
        field = _changeable(unit, payload["field_id"])
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
