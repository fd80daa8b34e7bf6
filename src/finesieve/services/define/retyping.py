"""Changing the type of a field, after a dry run."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Final

from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.core.fields.conversion import NotConverted, convert
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import to_json
from finesieve.core.fields.options import Option, option_from_json, option_to_json, options_from_lines
from finesieve.core.fields.settings import SETTINGS, FieldSettings
from finesieve.core.fields.types import TYPES
from finesieve.core.model.catalogue import field_of
from finesieve.core.model.changes import Change, ChangeSet
from finesieve.core.values import Value
from finesieve.services.define.fields import broken_by
from finesieve.services.kernel.changes import match_unique_index, progress_of, record_change, register, snapshot
from finesieve.services.kernel.scope import Scope, Unit, reload
from finesieve.services.kernel.tasks import Progress, begin_task, work_of
from finesieve.services.usage.uses import Use
from finesieve.services.values.writing import record
from finesieve.store.definitions.catalogue import add_column, field_from_row
from finesieve.store.reading.people import fill_counts
from finesieve.store.tables import FieldRow
from finesieve.store.values.history import changed_since, forget_lines, last_line
from finesieve.store.values.reshape import (
    column_values,
    distinct_values,
    free_generation,
    hold_still,
    values_of,
    write_column,
)

__all__ = [
    "MOST_SHOWN",
    "TypePlan",
    "begin_type_change",
    "changeable",
    "plan_type_change",
    "raw_key",
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
        field = changeable(unit, field_id)
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
                    offenders.append(Offender(field.show(value), raw_key(field, value), count, str(why)))
                else:
                    more += 1
                continue
            converts += count
            if len(samples) < 6:
                samples.append((field.show(value), target.show(becomes)))
        broken = tuple(broken_by(unit, [target]))
        lines = "\n".join(option.label for option in target.options) if target.type.has_options else ""
        return TypePlan(field, target, converts, fails, tuple(samples), tuple(offenders), more, broken, lines)


def changeable(unit: Unit, field_id: int) -> Field:
    """A field whose type and about may be changed. Raises NotFound, InvalidInput."""
    field = field_of(unit.catalogue, field_id)
    if field.derived or field.built_in or not field.stores:
        raise InvalidInput({"": "The type of a built-in or derived field, or of a heading, stays as it is."})
    return field


def raw_key(field: Field, value: Value) -> str:
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
        field = changeable(unit, field_id)
        target = _target(unit, field, type_key, options, unit_text)
        for raw, typed in replacements.items():
            try:
                target.parse(typed)
            except ValueError as problem:
                raise InvalidInput({f"instead.{raw}": str(problem)}) from None
        total = fill_counts(unit.session, unit.definitions, field.about, [field]).of(field)
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
        field = changeable(unit, payload["field_id"])
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
        # Whoever is writing is waited for, so that all that comes later has a later line in the history.
        hold_still(unit.session, unit.workspace_id, field)
        begun = last_line(unit.session)
        total = fill_counts(unit.session, unit.definitions, field.about, [field]).of(field)
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
            found[row_id] = new.parse(replacements.get(raw_key(old, value), ""))
    return found


def _change_over(
    scope: Scope, field: Field, target: Field, begun: int, replacements: Mapping[str, str]
) -> dict[str, Any]:
    with scope.transaction("owner") as first:
        # The history of all comes first, while everybody may still write; who writes meanwhile is looked at again.
        lines = _write_lines(first, field, target)
        hold_still(first.session, first.workspace_id, field)
        unit = reload(first)
        if unit.catalogue.by_id.get(field.id) != field:
            raise Conflict("The field was changed meanwhile; begin again.")
        late = changed_since(unit.session, field, begun, WAY)
        values = values_of(unit.session, unit.definitions, field, late)
        write_column(unit.session, unit.definitions, target, _becoming(values, field, target, replacements))
        lines += _write_lines_again(unit, field, target, late)
        before = snapshot(unit, "field_type", field.id)
        row = unit.session.get(FieldRow, field.id)
        assert row is not None
        row.type_key, row.generation, row.unit = target.type_key, target.generation, target.unit
        row.options = [option_to_json(option) for option in target.options]
        row.settings = target.settings.to_json()
        row.generation_since = last_line(unit.session)
        unit.session.add(row)
        match_unique_index(unit, row)
        label = f"{field.label} became {target.type.label.lower()}"
        change = record_change(unit, "field_type", field.id, label, before)
        return {
            "message": _told(unit, lines),
            "change": change,
            "field_id": field.id,
        }


def _told(unit: Unit, lost: int) -> str:
    if not lost:
        return "Every value converted."
    return "1 value looks different now." if lost == 1 else f"{unit.manner.figure(lost)} values look different now."


def _write_lines(unit: Unit, old: Field, new: Field, say: Callable[[int, int], None] | None = None) -> int:
    """The history of every value that looks different in the other column, batch by batch; gives how many."""
    lines = looked = 0
    total = fill_counts(unit.session, unit.definitions, old.about, [old]).of(old)
    for one, other in ((old, new), (new, old)):
        after_id = 0
        while batch := column_values(unit.session, unit.definitions, one, after_id, _BATCH):
            after_id, looked = batch[-1][0], looked + len(batch)
            if say:
                say(min(looked, total), total)
            beside = values_of(unit.session, unit.definitions, other, [row_id for row_id, _ in batch])
            if one is old:
                lines += _lines_of(unit, old, new, dict(batch), beside)
            else:
                # Those filled in both columns have had their lines.
                filled = {row_id: value for row_id, value in batch if beside.get(row_id) is None}
                lines += _lines_of(unit, old, new, {}, filled)
    return lines


def _write_lines_again(unit: Unit, old: Field, new: Field, ids: Sequence[int]) -> int:
    """The lines of those who were changed while all lines were written; gives how many more there are."""
    if not ids:
        return 0
    gone = forget_lines(unit.session, old, ids, WAY, unit.moment.now)
    was = values_of(unit.session, unit.definitions, old, ids)
    return _lines_of(unit, old, new, was, values_of(unit.session, unit.definitions, new, ids)) - gone


def _lines_of(unit: Unit, old: Field, new: Field, was: Mapping[int, Value], now: Mapping[int, Value]) -> int:
    changes = tuple(
        Change(row_id, old.id, to_json(was.get(row_id)), to_json(now.get(row_id)))
        for row_id in sorted({*was, *now})
        if old.show(was.get(row_id)) != new.show(now.get(row_id))
    )
    return len(record(unit, ChangeSet(old.about, changes, WAY, unit.actor, unit.moment.now)))


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
    restored = FieldRow.model_validate({**row.model_dump(), **before})
    back = replace(field_from_row(restored), manner=unit.manner)
    progress = progress_of(unit)
    _write_lines(unit, field, back, progress.say if progress else None)
    hold_still(unit.session, unit.workspace_id, field)
    late = changed_since(unit.session, field, row.generation_since, WAY)
    values = values_of(unit.session, unit.definitions, field, late)
    write_column(unit.session, unit.definitions, back, _becoming(values, field, back, {}))
    _write_lines_again(unit, field, back, late)
    for part in _TYPE_PARTS:
        setattr(row, part, before[part])
    row.generation_since = last_line(unit.session)
    unit.session.add(row)
    match_unique_index(unit, row)


register("field_type", _take_type, _restore_type, long=True)
