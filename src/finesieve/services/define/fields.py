"""Fields: making, changing, resting, duplicating, moving between groups."""

import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any, Final, TypeVar, get_args

from pydantic import Field as Bounds
from pydantic import ValidationError, field_validator
from sqlmodel import col, func, select

from finesieve.core.errors import InvalidInput, NotFound, Unavailable
from finesieve.core.fields.definition import Field
from finesieve.core.fields.families.schemas import schema_problem
from finesieve.core.fields.keys import key_from_label, key_problem
from finesieve.core.fields.options import Option, option_to_json, options_from_lines
from finesieve.core.fields.settings import SETTINGS, FieldSettings
from finesieve.core.fields.types import TYPES
from finesieve.core.limits import HELP, KEY, LABEL, UNIT
from finesieve.core.model.catalogue import Catalogue, Group, field_of, rebuilt
from finesieve.core.values import whole_number
from finesieve.services.kernel.changes import match_unique_index, record_change, refuse_overtaken, snapshot
from finesieve.services.kernel.inputs import Input, explain_errors
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.texts import refuse_texts
from finesieve.services.usage.uses import Use, uses_of
from finesieve.store.definitions.catalogue import add_column, field_from_row, touch
from finesieve.store.reading.rows import value_counts
from finesieve.store.tables import FieldGroupRow, FieldRow

__all__ = [
    "FieldInput",
    "broken_by",
    "change_field",
    "create_field",
    "duplicate_field",
    "free_key",
    "group_of",
    "group_row",
    "make_field",
    "move_field",
    "next_position",
    "patiently",
    "refuse_called_so_meanwhile",
    "refuse_loss",
    "refuse_name",
    "reorder_fields",
    "rest_field",
    "settings_from",
    "used_groups",
]


class FieldInput(Input):
    """A field as typed. `options` are pasted lines, see `options_from_lines`; `settings` what differs from before."""

    label: str = Bounds(min_length=1, max_length=LABEL)
    key: str = Bounds(default="", max_length=KEY)
    type_key: str = "short_text"
    help: str = Bounds(default="", max_length=HELP)
    required: bool = False
    unit: str = Bounds(default="", max_length=UNIT)
    options: str = Bounds(default="", max_length=100_000)
    settings: Mapping[str, Any] = Bounds(default_factory=dict)

    @field_validator("type_key")
    @classmethod
    def _known(cls, type_key: str) -> str:
        if type_key not in TYPES:
            raise ValueError("Choose one of the types.")
        return type_key

    def read_options(self, known: tuple[Option, ...] = ()) -> tuple[Option, ...]:
        """The options of a choice; none for other types. Raises InvalidInput at `options`."""
        if not TYPES[self.type_key].has_options or self.settings.get("option_list"):
            return ()
        try:
            return options_from_lines(self.options, known)
        except ValueError as problem:
            raise InvalidInput({"options": str(problem)}) from None


def settings_from(type_key: str, posted: Mapping[str, Sequence[str]]) -> dict[str, Any]:
    """Settings from the inputs of a page, each by its name; those without a meaning for the type are left out."""
    found: dict[str, Any] = {}
    for name, texts in posted.items():
        setting = SETTINGS.get(name)
        if setting is None or (setting.types and type_key not in setting.types):
            continue
        found[name] = _from_inputs(name, [text.strip() for text in texts])
    return found


def _from_inputs(name: str, texts: list[str]) -> Any:
    annotation = FieldSettings.model_fields[name].annotation
    if annotation is bool:
        return "true" in texts
    if str(annotation).startswith("tuple[int"):
        numbers = [whole_number(text) for text in texts]
        return [number for number in numbers if number is not None]
    if str(annotation).startswith("tuple[str"):
        return [text for text in texts if text]
    last = texts[-1] if texts else ""
    return None if not last and type(None) in get_args(annotation) else last


def _settings(base: FieldSettings, given: Mapping[str, Any]) -> FieldSettings:
    try:
        settings = FieldSettings.model_validate(base.model_dump() | dict(given))
    except ValidationError as error:
        raise InvalidInput(explain_errors(error)) from None
    if settings.json_schema:
        problem = schema_problem(settings.json_schema)
        if problem:
            raise InvalidInput({"json_schema": problem})
    return settings


def _read_default(field: Field) -> None:
    """The default must be an answer that the field takes. Raises InvalidInput."""
    if field.settings.default:
        try:
            field.parse(field.settings.default)
        except ValueError as problem:
            raise InvalidInput({"default": str(problem)}) from None
        if field.type_key == "agreement" and field.required:
            raise InvalidInput({"default": "A required agreement must not come ticked; leave the default empty."})


def group_of(catalogue: Catalogue, group_id: int) -> Group:
    """A group by id. Raises NotFound."""
    group = catalogue.groups_by_id.get(group_id)
    if group is None:
        raise NotFound("There is no such group.")
    return group


def free_key(unit: Unit, about: str, label: str, key: str) -> str:
    """The key as typed, or one made from the label. Raises InvalidInput at `key` where it cannot be used."""
    if not key:
        return key_from_label(label, _taken(unit.catalogue, about))
    refuse_name(unit.catalogue, about, key, "key")
    return key


def _taken(catalogue: Catalogue, about: str) -> set[str]:
    """All that fields and collections about something are called, or were."""
    deleted = (name for field in catalogue.deleted if field.about == about for name in field.names)
    return {*catalogue.named(about), *deleted, *(link.back_key for link in catalogue.links.values())}


def refuse_name(catalogue: Catalogue, about: str, name: str, place: str, own: int = 0) -> None:
    """Raise InvalidInput at `place` where expressions cannot call a field so; `own` is the id of the field itself,
    whose earlier names are its own."""
    problem = key_problem(name, place)
    known = catalogue.named(about).get(name)
    gone = next((one for one in catalogue.deleted if one.about == about and name in one.names), None)
    if not problem and known is not None and known.id != own:
        problem = f"There is a field called {name} already: {known.label}."
    if not problem and known is None and gone is not None:
        problem = f"The deleted field {gone.label} is called {name}; bring that back, or choose another name."
    if not problem and name in {link.back_key for link in catalogue.links.values()}:
        problem = f"“{name}” is the name of a collection of records; choose another."
    if problem:
        raise InvalidInput({place: problem})


T = TypeVar("T")
_PATIENCE: Final = (0.2, 0.6, 1.5)
"""Seconds between tries while others hold the table."""


def create_field(scope: Scope, group_id: int, asked: FieldInput) -> int:
    """Make a field at the end of a group, about what the group is about, with its column; gives its id.

    Raises InvalidInput with the place for a key that is taken or cannot be
    used, and for options and settings that will not do; Unavailable where the
    table stays in use.
    """
    return patiently(lambda: _create_field(scope, group_id, asked))


def patiently(make: Callable[[], T]) -> T:
    """What `make` gives; tried again where others hold the table. Raises Unavailable where it stays in use."""
    for pause in _PATIENCE:
        try:
            return make()
        except Unavailable:
            time.sleep(pause)
    return make()


def _create_field(scope: Scope, group_id: int, asked: FieldInput) -> int:
    with scope.transaction("editor") as unit:
        return make_field(unit, group_of(unit.catalogue, group_id), asked, asked.read_options())


def make_field(unit: Unit, group: Group, asked: FieldInput, options: Iterable[Option]) -> int:
    """Make a field in this transaction; see `create_field`."""
    settings = _settings(FieldSettings(), asked.settings)
    refuse_texts(unit, {"help": asked.help, "sample_text": settings.sample_text})
    if asked.type_key == "record" and settings.record_type not in unit.catalogue.record_types_by_id:
        raise InvalidInput({"record_type": "Choose whose records are the options."})
    row = FieldRow(
        workspace_id=unit.workspace_id,
        group_id=group.id,
        about=group.about,
        key=free_key(unit, group.about, asked.label, asked.key),
        label=asked.label,
        type_key=asked.type_key,
        help=asked.help,
        required=asked.required,
        unit=asked.unit if asked.type_key == "number" else "",
        options=[option_to_json(option) for option in options],
        settings=settings.to_json(),
        position=next_position(unit, group.id),
    )
    _read_default(_known(unit, row))
    unit.session.add(row)
    unit.session.flush()
    field = field_from_row(row)
    if field.stores:
        add_column(unit.session, unit.workspace_id, field)
    match_unique_index(unit, row)
    touch(unit.session, unit.workspace_id)
    refuse_called_so_meanwhile(unit, row)
    return row.id or 0


def refuse_called_so_meanwhile(unit: Unit, row: FieldRow) -> None:
    """Raise InvalidInput where another field has been given this name while the one was being made."""
    called = select(FieldRow.id).where(
        col(FieldRow.about) == row.about, col(FieldRow.settings).contains({"called": [row.key]})
    )
    if unit.session.exec(called.limit(1)).first() is not None:
        raise InvalidInput({"key": f"Another field has just been given the name {row.key}; choose another key."})


def _known(unit: Unit, row: FieldRow) -> Field:
    """The field with the options of its shared list and the manner of the house."""
    shared = {field.settings.option_list: field.options for field in unit.catalogue.all_fields}
    field = replace(field_from_row(row), manner=unit.catalogue.manner)
    found = shared.get(field.settings.option_list) if field.settings.option_list else None
    return field if found is None else replace(field, options=found)


def next_position(unit: Unit, group_id: int) -> int:
    """The position after the last field of a group."""
    last = unit.session.exec(select(func.max(FieldRow.position)).where(col(FieldRow.group_id) == group_id)).one()
    return (last or 0) + 1


def change_field(scope: Scope, field_id: int, asked: FieldInput, seen: int | None = None) -> int:
    """Change label, help, required, unit, options and settings of a field; gives the id for undoing.

    Raises InvalidInput where an option goes that people hold or an expression
    names, where a setting will not do, and where two have the same value of
    what is to be unique. The key stays as it was made; the type is changed by
    `services.reshape`. Raises Overtaken where somebody else has changed it since
    the change that was `seen`.
    """
    with scope.transaction("editor") as unit:
        field = field_of(unit.catalogue, field_id)
        refuse_overtaken(unit, "field", field_id, seen)
        if field.derived:
            raise InvalidInput({"": "A derived field is changed where it is computed."})
        asked = asked.model_copy(update={"type_key": field.type_key})
        settings = _settings(field.settings, asked.settings)
        refuse_texts(unit, {"help": asked.help, "sample_text": settings.sample_text})
        row = unit.session.get(FieldRow, field_id)
        assert row is not None
        before = snapshot(unit, "field", field_id)
        if field.type.has_options and not settings.option_list and asked.options:
            options = asked.read_options(field.options)
            refuse_loss(unit, field, options)
            row.options = [option_to_json(option) for option in options]
        row.label, row.help = asked.label, asked.help
        row.required = True if field.key == "email" and field.built_in else asked.required
        row.unit = asked.unit if field.type_key == "number" else ""
        row.settings = settings.to_json()
        _read_default(_known(unit, row))
        if settings.unique and not field.settings.unique:
            _refuse_twins(unit, field)
        unit.session.add(row)
        if settings.unique != field.settings.unique:
            match_unique_index(unit, row)
        return record_change(unit, "field", field_id, f"Changed the field {asked.label}", before)


def _refuse_twins(unit: Unit, field: Field) -> None:
    seen: dict[str, int] = {}
    for value, count in value_counts(unit.session, unit.definitions, field, limit=50):
        seen[field.show(value).lower()] = seen.get(field.show(value).lower(), 0) + count
    twins = [value for value, count in seen.items() if count > 1]
    if twins:
        raise InvalidInput(
            {"unique": f"Several have the same value already, such as “{twins[0]}”; change those first."}
        )


def refuse_loss(unit: Unit, field: Field, options: tuple[Option, ...]) -> None:
    """Raise InvalidInput where an option goes that people hold, or that an expression names."""
    kept = {option.stored_value for option in options}
    gone = [option for option in field.options if option.stored_value not in kept]
    if not gone:
        return
    held = dict(value_counts(unit.session, unit.definitions, field, limit=1_000))
    for option in gone:
        count = held.get(option.stored_value, 0)
        if count:
            people = "1 person holds" if count == 1 else f"{unit.manner.figure(count)} people hold"
            raise InvalidInput(
                {"options": f"{people} “{option.label}” ({option.stored_value}); retire the option instead."}
            )
    broken = broken_by(unit, [replace(field, options=options)])
    if broken:
        names = ", ".join(use.name for use in broken)
        raise InvalidInput({"options": f"An option that would go is named in: {names}. Change that first."})


def broken_by(unit: Unit, changed: Sequence[Field], without: frozenset[int] = frozenset()) -> list[Use]:
    """The uses whose expressions are sound now and would not be after fields changed or went."""
    now, by_id = unit.catalogue, {field.id: field for field in changed}
    fields = [by_id.get(field.id, field) for field in now.all_fields if field.id not in without]
    then = rebuilt(now, fields)
    found = uses_of(unit)
    uses = [use for key in [*by_id, *without] for use in found.of_field(key)]
    return [
        use
        for use in dict.fromkeys(uses)
        if use.expression
        and not now.check(use.expression, about=use.about).problems
        and then.check(use.expression, about=use.about).problems
    ]


def rest_field(scope: Scope, field_id: int, *, resting: bool) -> int:
    """Ask no longer, or again; the values stay. Gives the id for undoing. Raises NotFound."""
    with scope.transaction("editor") as unit:
        field = field_of(unit.catalogue, field_id)
        row = unit.session.get(FieldRow, field_id)
        assert row is not None
        before = snapshot(unit, "field", field_id)
        row.settings = field.settings.model_copy(update={"resting": resting}).to_json()
        unit.session.add(row)
        return record_change(unit, "field", field_id, f"{'Paused' if resting else 'Resumed'} {field.label}", before)


def duplicate_field(scope: Scope, field_id: int) -> int:
    """Make a field like this one, with options and settings and no values; gives its id. Raises NotFound."""
    with scope.transaction("editor") as unit:
        field = field_of(unit.catalogue, field_id)
        if field.derived:
            raise InvalidInput({"": "A derived field is duplicated where it is computed."})
        asked = FieldInput(
            label=f"{field.label} 2"[:120],
            type_key=field.type_key,
            help=field.help,
            required=field.required,
            unit=field.unit,
            settings=field.settings.model_copy(update={"unique": False, "renamed": {}, "called": ()}).model_dump(),
        )
        return make_field(unit, group_of(unit.catalogue, field.group_id), asked, field.options)


def move_field(scope: Scope, field_id: int, group_id: int) -> int:
    """Move a field to the end of another group about the same thing; gives the id for undoing."""
    with scope.transaction("editor") as unit:
        present = [field.id for field in unit.catalogue.of_group(group_id) if field.id != field_id]
        return reorder_fields(scope, group_id, [*present, field_id])


def reorder_fields(scope: Scope, group_id: int, field_ids: Sequence[int]) -> int:
    """Put these fields, in this order, into a group; gives the id for undoing.

    Fields of the group that are not named keep their order after them. Raises
    NotFound for a group or field that is not there, InvalidInput for a group
    about something else.
    """
    with scope.transaction("editor") as unit:
        group = group_of(unit.catalogue, group_id)
        before = snapshot(unit, "field_order")
        rest = [field.id for field in unit.catalogue.of_group(group_id) if field.id not in field_ids]
        for position, field_id in enumerate([*dict.fromkeys(field_ids), *rest]):
            field = field_of(unit.catalogue, field_id)
            row = unit.session.get(FieldRow, field.id)
            assert row is not None
            if field.about != group.about:
                raise InvalidInput({"group": "That group is about something else; move the field to it by “Mend”."})
            row.group_id, row.position = group_id, position
            unit.session.add(row)
        return record_change(unit, "field_order", 0, f"Reordered {group.name}", before)


def used_groups(unit: Unit) -> frozenset[int]:
    """Groups that hold a field, deleted ones included."""
    return frozenset(unit.session.exec(select(FieldRow.group_id)).all())


def group_row(unit: Unit, group_id: int) -> FieldGroupRow:
    """The stored group. Raises NotFound."""
    row = unit.session.get(FieldGroupRow, group_id)
    if row is None:
        raise NotFound("There is no such group.")
    return row
