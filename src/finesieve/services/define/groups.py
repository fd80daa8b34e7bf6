"""Reading definitions, and making, changing and ordering groups."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from pydantic import Field as Bounds
from pydantic import ValidationError
from sqlmodel import func, select

from finesieve.core.errors import Conflict, InvalidInput
from finesieve.core.fields.about import HOUSE, LEVEL, ORDER, PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.fields.groups import GroupSettings
from finesieve.core.limits import DESCRIPTION, NAME
from finesieve.core.model.catalogue import Catalogue, Group, field_of
from finesieve.services.define.fields import FieldInput, group_of, group_row, make_field, used_groups
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.inputs import Input, explain_errors
from finesieve.services.kernel.merging import merged
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.usage.uses import Use, uses_of
from finesieve.store.definitions.catalogue import touch
from finesieve.store.reading.people import fill_counts
from finesieve.store.tables import FieldGroupRow

__all__ = [
    "FieldLine",
    "FieldView",
    "GroupInput",
    "GroupView",
    "change_group",
    "create_field_in",
    "create_group",
    "delete_group",
    "make_group",
    "read_catalogue",
    "read_field",
    "read_group",
    "reorder_groups",
]


class GroupInput(Input):
    """A group as typed."""

    name: str = Bounds(min_length=1, max_length=NAME)
    description: str = Bounds(default="", max_length=DESCRIPTION)
    about: str = PERSON
    seen_by: str = "everyone"
    change_by: str = "anyone"
    change_levels: str = ""
    on_profile: bool = True
    folded: bool = False


@dataclass(frozen=True, slots=True)
class FieldLine:
    """A field in a list: how many have a value (None where that is for editors only), and what uses it."""

    field: Field
    filled: int | None
    uses: tuple[Use, ...]


@dataclass(frozen=True, slots=True)
class GroupView:
    """A group with its fields. `people` is how many there are that could hold a value."""

    group: Group
    lines: tuple[FieldLine, ...]
    people: int
    uses: tuple[Use, ...]


@dataclass(frozen=True, slots=True)
class FieldView:
    """A field with its uses, and how many have a value of those who could; None where that is for editors only."""

    field: Field
    filled: int | None
    people: int
    uses: tuple[Use, ...]


def read_catalogue(scope: Scope) -> Catalogue:
    """All groups and fields."""
    with scope.reading("reader") as unit:
        return unit.catalogue


def read_group(scope: Scope, group_id: int) -> GroupView:
    """A group with its fields, how filled each is and how often used. Raises NotFound."""
    with scope.reading("reader") as unit:
        group = group_of(unit.catalogue, group_id)
        fields = unit.catalogue.of_group(group_id)
        filled = fill_counts(unit.session, unit.definitions, group.about, fields)
        uses = uses_of(unit)
        lines = tuple(
            FieldLine(field, filled.of(field) if unit.sees(field) else None, uses.of_field(field.id))
            for field in fields
        )
        return GroupView(group, lines, filled.rows, uses.of_fields([field.id for field in fields]))


def read_field(scope: Scope, field_id: int) -> FieldView:
    """A field with its uses. Raises NotFound."""
    with scope.reading("reader") as unit:
        field = field_of(unit.catalogue, field_id)
        filled = fill_counts(unit.session, unit.definitions, field.about, [field])
        seen = filled.of(field) if unit.sees(field) else None
        return FieldView(field, seen, filled.rows, uses_of(unit).of_field(field_id))


def _settings(asked: GroupInput, now: Mapping[str, Any] | None = None) -> dict[str, Any]:
    """The settings as asked; what the form of a group does not ask stays as it is now."""
    settings = asked.model_dump(include={"seen_by", "change_by", "on_profile", "folded"})
    settings["change_levels"] = asked.change_levels.split()
    try:
        return GroupSettings.model_validate({**(now or {}), **settings}).to_json()
    except ValidationError as error:
        raise InvalidInput(explain_errors(error)) from None


def _group_now(row: FieldGroupRow) -> GroupInput:
    settings = GroupSettings.model_validate(row.settings)
    return GroupInput(
        name=row.name,
        description=row.description,
        about=row.about,
        seen_by=settings.seen_by,
        change_by=settings.change_by,
        change_levels=" ".join(settings.change_levels),
        on_profile=settings.on_profile,
        folded=settings.folded,
    )


def create_group(scope: Scope, asked: GroupInput) -> int:
    """Make a group at the end; gives its id. Raises InvalidInput for a name that is taken."""
    with scope.transaction("editor") as unit:
        return make_group(unit, asked)


def make_group(unit: Unit, asked: GroupInput) -> int:
    """Make a group in this transaction; see `create_group`."""
    known = {PERSON, ORDER, LEVEL, HOUSE, *(record_type.about for record_type in unit.catalogue.record_types)}
    if asked.about not in known:
        raise InvalidInput({"about": "Choose what the group is about."})
    _refuse_twin(unit, asked, 0)
    last = unit.session.exec(select(func.max(FieldGroupRow.position))).one()
    row = FieldGroupRow(
        workspace_id=unit.workspace_id,
        about=asked.about,
        name=asked.name,
        description=asked.description,
        settings=_settings(asked),
        position=(last or 0) + 1,
    )
    unit.session.add(row)
    touch(unit.session, unit.workspace_id)
    unit.session.flush()
    return row.id or 0


def create_field_in(scope: Scope, group: GroupInput, asked: FieldInput) -> int:
    """Make a group and a field in it, both or neither; gives the field's id. Raises InvalidInput."""
    with scope.transaction("editor") as unit:
        group_id = make_group(unit, group)
        made = Group(group_id, group.name, group.description, group.about)
        return make_field(unit, made, asked, asked.read_options())


def _refuse_twin(unit: Unit, asked: GroupInput, group_id: int) -> None:
    for group in unit.catalogue.groups_about(asked.about):
        if group.name == asked.name and group.id != group_id:
            raise InvalidInput({"name": "There is a group of this name already."})


def change_group(scope: Scope, group_id: int, asked: GroupInput, was: GroupInput | None = None) -> int:
    """Rename or describe a group, or change its settings; gives the id for undoing. Raises NotFound, Overtaken."""
    with scope.transaction("editor") as unit:
        row = group_row(unit, group_id)
        unit.session.refresh(row, with_for_update=True)
        asked = merged(unit, "group", group_id, asked, was, _group_now(row))
        asked = asked.model_copy(update={"about": row.about})
        _refuse_twin(unit, asked, group_id)
        before = snapshot(unit, "group", group_id)
        row.name, row.description, row.settings = asked.name, asked.description, _settings(asked, row.settings)
        unit.session.add(row)
        return record_change(unit, "group", group_id, f"Changed the group {asked.name}", before)


def delete_group(scope: Scope, group_id: int) -> int:
    """Remove a group that holds no field; gives the id for undoing. Raises Conflict for one that does."""
    with scope.transaction("editor") as unit:
        row = group_row(unit, group_id)
        if group_id in used_groups(unit):
            raise Conflict(
                "Move or delete its fields first; deleted ones count for as long as they can be brought back."
            )
        before = snapshot(unit, "group", group_id)
        unit.session.delete(row)
        return record_change(unit, "group", group_id, f"Removed the group {row.name}", before)


def reorder_groups(scope: Scope, group_ids: Sequence[int]) -> int:
    """Put the groups about one thing in this order; gives the id for undoing.

    Raises Conflict unless all groups about it are named once.
    """
    with scope.transaction("editor") as unit:
        first = unit.catalogue.groups_by_id.get(group_ids[0]) if group_ids else None
        about = first.about if first else PERSON
        if sorted(group_ids) != sorted(group.id for group in unit.catalogue.groups_about(about)):
            raise Conflict("The groups have changed meanwhile; look at the list again.")
        before = snapshot(unit, "group_order")
        places = sorted(group_row(unit, group_id).position for group_id in group_ids)
        for position, group_id in zip(_rising(places), group_ids, strict=True):
            row = group_row(unit, group_id)
            row.position = position
            unit.session.add(row)
        return record_change(unit, "group_order", 0, "Reordered the groups", before)


def _rising(places: Sequence[int]) -> list[int]:
    """The same places, made different where some are equal."""
    found: list[int] = []
    for place in places:
        found.append(max(place, found[-1] + 1) if found else place)
    return found
