"""Defining: groups and fields."""

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final

from pydantic import Field as Bounds
from pydantic import field_validator
from sqlmodel import col, func, select

from finesieve.core.catalogue import Catalogue, Group, build_catalogue
from finesieve.core.errors import Conflict, InvalidInput, NotFound, Unavailable
from finesieve.core.fields.definition import Field, Option, options_from_lines
from finesieve.core.fields.keys import key_from_label, key_problem
from finesieve.core.fields.types import TYPES
from finesieve.services.changes import record_change, snapshot
from finesieve.services.inputs import Input
from finesieve.services.scope import Scope, Unit
from finesieve.services.usage import Use, uses_of
from finesieve.store.catalogue import add_column, field_from_row, touch
from finesieve.store.people import count_people, fill_counts, value_counts
from finesieve.store.tables import FieldGroupRow, FieldRow

__all__ = [
    "FieldInput",
    "FieldLine",
    "FieldView",
    "GroupInput",
    "GroupView",
    "change_field",
    "change_group",
    "create_field",
    "create_group",
    "read_catalogue",
    "read_field",
    "read_group",
    "reorder_fields",
    "reorder_groups",
]


class GroupInput(Input):
    """A group as typed."""

    name: str = Bounds(min_length=1, max_length=80)
    description: str = Bounds(default="", max_length=300)


class FieldInput(Input):
    """A field as typed. `options` are pasted lines, `Label` or `Label = stored value` each."""

    label: str = Bounds(min_length=1, max_length=120)
    key: str = Bounds(default="", max_length=60)
    type_key: str = "short_text"
    help: str = Bounds(default="", max_length=500)
    required: bool = False
    unit: str = Bounds(default="", max_length=20)
    options: str = Bounds(default="", max_length=50_000)

    @field_validator("type_key")
    @classmethod
    def _known(cls, type_key: str) -> str:
        if type_key not in TYPES:
            raise ValueError("Choose one of the types.")
        return type_key

    def read_options(self) -> tuple[Option, ...]:
        """The options of a choice; none for other types. Raises InvalidInput at `options`."""
        if self.type_key != "choice":
            return ()
        try:
            return options_from_lines(self.options)
        except ValueError as problem:
            raise InvalidInput({"options": str(problem)}) from None


@dataclass(frozen=True, slots=True)
class FieldLine:
    """A field in a list: how many people have a value, and what uses it."""

    field: Field
    filled: int
    uses: tuple[Use, ...]


@dataclass(frozen=True, slots=True)
class GroupView:
    """A group with its fields."""

    group: Group
    lines: tuple[FieldLine, ...]
    people: int


@dataclass(frozen=True, slots=True)
class FieldView:
    """A field with what is known of its values and uses. `answers` are (label, people) pairs."""

    field: Field
    filled: int
    people: int
    uses: tuple[Use, ...]
    answers: tuple[tuple[str, int], ...]


def read_catalogue(scope: Scope) -> Catalogue:
    """All groups and fields."""
    with scope.transaction("reader") as unit:
        return unit.catalogue


def read_group(scope: Scope, group_id: int) -> GroupView:
    """A group with its fields, how filled each is and how often used. Raises NotFound."""
    with scope.transaction("reader") as unit:
        group = _group(unit.catalogue, group_id)
        fields = unit.catalogue.of_group(group_id)
        filled = fill_counts(unit.session, unit.definitions, fields)
        uses = uses_of(unit)
        lines = tuple(FieldLine(field, filled.get(field.key, 0), uses.get(field.key, ())) for field in fields)
        return GroupView(group, lines, count_people(unit.session, unit.definitions))


def read_field(scope: Scope, field_id: int) -> FieldView:
    """A field with its answers and uses. Raises NotFound."""
    with scope.transaction("reader") as unit:
        field = _field(unit.catalogue, field_id)
        filled = fill_counts(unit.session, unit.definitions, [field]).get(field.key, 0)
        answers: list[tuple[str, int]] = []
        if field.type_key in ("choice", "yes_no") and not field.derived:
            counts = value_counts(unit.session, unit.definitions, field)
            answers = [(field.show(value), count) for value, count in counts]
        people = count_people(unit.session, unit.definitions)
        return FieldView(field, filled, people, uses_of(unit).get(field.key, ()), tuple(answers))


def _group(catalogue: Catalogue, group_id: int) -> Group:
    for group in catalogue.groups:
        if group.id == group_id:
            return group
    raise NotFound("There is no such group.")


def _field(catalogue: Catalogue, field_id: int) -> Field:
    field = catalogue.by_id.get(field_id)
    if field is None:
        raise NotFound("There is no such field.")
    return field


def create_group(scope: Scope, asked: GroupInput) -> int:
    """Make a group at the end; gives its id."""
    with scope.transaction("editor") as unit:
        if any(group.name == asked.name for group in unit.catalogue.groups):
            raise InvalidInput({"name": "There is a group of this name already."})
        last = unit.session.exec(select(func.max(FieldGroupRow.position))).one()
        row = FieldGroupRow(
            workspace_id=unit.workspace_id, name=asked.name, description=asked.description, position=(last or 0) + 1
        )
        unit.session.add(row)
        touch(unit.session, unit.workspace_id)
        unit.session.flush()
        return row.id or 0


def change_group(scope: Scope, group_id: int, asked: GroupInput) -> int:
    """Rename or describe a group; gives the id for undoing. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = unit.session.get(FieldGroupRow, group_id)
        if row is None:
            raise NotFound("There is no such group.")
        before = snapshot(unit, "group", group_id)
        row.name, row.description = asked.name, asked.description
        unit.session.add(row)
        return record_change(unit, "group", group_id, f"Changed the group {asked.name}", before)


_PATIENCE: Final = (0.2, 0.6, 1.5)
"""Seconds between tries while others hold the table of people."""


def create_field(scope: Scope, group_id: int, asked: FieldInput) -> int:
    """Make a field at the end of a group, with its column; gives its id.

    Raises InvalidInput with the place for a key that is taken or cannot be
    used, and for options that will not do; Unavailable where the table of
    people stays in use.
    """
    for pause in _PATIENCE:
        try:
            return _create_field(scope, group_id, asked)
        except Unavailable:
            time.sleep(pause)
    return _create_field(scope, group_id, asked)


def _create_field(scope: Scope, group_id: int, asked: FieldInput) -> int:
    with scope.transaction("editor") as unit:
        _group(unit.catalogue, group_id)
        key = asked.key or key_from_label(asked.label, unit.catalogue.by_key)
        problem = key_problem(key)
        if not problem and key in unit.catalogue.by_key:
            problem = f"There is a field with the key {key} already: {unit.catalogue.by_key[key].label}."
        if problem:
            raise InvalidInput({"key": problem})
        row = FieldRow(
            workspace_id=unit.workspace_id,
            group_id=group_id,
            key=key,
            label=asked.label,
            type_key=asked.type_key,
            help=asked.help,
            required=asked.required,
            unit=asked.unit if asked.type_key == "number" else "",
            options=[[option.label, option.stored_value] for option in asked.read_options()],
            position=next_position(unit, group_id),
        )
        unit.session.add(row)
        unit.session.flush()
        add_column(unit.session, unit.workspace_id, field_from_row(row))
        touch(unit.session, unit.workspace_id)
        return row.id or 0


def next_position(unit: Unit, group_id: int) -> int:
    """The position after the last field of a group."""
    last = unit.session.exec(select(func.max(FieldRow.position)).where(col(FieldRow.group_id) == group_id)).one()
    return (last or 0) + 1


def change_field(scope: Scope, field_id: int, asked: FieldInput) -> int:
    """Change label, help, required, unit and options of a field; gives the id for undoing.

    Raises InvalidInput where an option goes that people hold or an expression
    names. The type and the key stay as they were made.
    """
    with scope.transaction("editor") as unit:
        field = _field(unit.catalogue, field_id)
        if field.derived:
            raise InvalidInput({"": "A derived field is changed where it is computed."})
        options = asked.model_copy(update={"type_key": field.type_key}).read_options()
        _refuse_loss(unit, field, options)
        row = unit.session.get(FieldRow, field_id)
        assert row is not None
        before = snapshot(unit, "field", field_id)
        row.label, row.help = asked.label, asked.help
        row.required = True if field.key == "email" else asked.required
        row.unit = asked.unit if field.type_key == "number" else ""
        row.options = [[option.label, option.stored_value] for option in options]
        unit.session.add(row)
        return record_change(unit, "field", field_id, f"Changed the field {asked.label}", before)


def _refuse_loss(unit: Unit, field: Field, options: tuple[Option, ...]) -> None:
    kept = {option.stored_value for option in options}
    gone = [option for option in field.options if option.stored_value not in kept]
    if not gone:
        return
    held = dict(value_counts(unit.session, unit.definitions, field))
    for option in gone:
        count = held.get(option.stored_value, 0)
        if count:
            people = "1 person holds" if count == 1 else f"{count:,} people hold"
            raise InvalidInput(
                {"options": f"{people} “{option.label}” ({option.stored_value}); the option has to stay."}
            )
    broken = _broken_by(unit, replace(field, options=options))
    if broken:
        names = ", ".join(use.name for use in broken)
        raise InvalidInput({"options": f"An option that would go is named in: {names}. Change that first."})


def _broken_by(unit: Unit, changed: Field) -> list[Use]:
    """The uses of a field whose expressions are sound now and would not be after the change."""
    now = unit.catalogue
    fields = [changed if field.id == changed.id else field for field in now.fields]
    then = build_catalogue(now.version, now.zone, now.groups, fields)
    return [
        use
        for use in uses_of(unit).get(changed.key, ())
        if use.expression and not now.check(use.expression).problems and then.check(use.expression).problems
    ]


def reorder_fields(scope: Scope, group_id: int, field_ids: Sequence[int]) -> int:
    """Put these fields, in this order, into a group; gives the id for undoing.

    Fields of the group that are not named keep their order after them. Raises
    NotFound for a group or field that is not there.
    """
    with scope.transaction("editor") as unit:
        group = _group(unit.catalogue, group_id)
        before = snapshot(unit, "field_order")
        rest = [field.id for field in unit.catalogue.of_group(group_id) if field.id not in field_ids]
        for position, field_id in enumerate([*dict.fromkeys(field_ids), *rest]):
            row = unit.session.get(FieldRow, field_id)
            if row is None:
                raise NotFound("There is no such field.")
            row.group_id, row.position = group_id, position
            unit.session.add(row)
        return record_change(unit, "field_order", 0, f"Reordered {group.name}", before)


def reorder_groups(scope: Scope, group_ids: Sequence[int]) -> int:
    """Put the groups in this order; gives the id for undoing. Raises Conflict unless all are named once."""
    with scope.transaction("editor") as unit:
        if sorted(group_ids) != sorted(group.id for group in unit.catalogue.groups):
            raise Conflict("The groups have changed meanwhile; look at the list again.")
        before = snapshot(unit, "group_order")
        for position, group_id in enumerate(group_ids):
            row = unit.session.get(FieldGroupRow, group_id)
            if row is not None:
                row.position = position
                unit.session.add(row)
        return record_change(unit, "group_order", 0, "Reordered the groups", before)
