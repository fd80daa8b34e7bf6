"""Built-in facts, which a house takes into use part by part: an address, the role, a consent."""

from dataclasses import dataclass

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.built_in import ALWAYS, PARTS, BuiltIn, Part
from finesieve.core.fields.definition import Field
from finesieve.core.fields.options import option_to_json
from finesieve.core.fields.types import TYPES
from finesieve.core.model.catalogue import Catalogue
from finesieve.services.define.fields import next_position, patiently
from finesieve.services.define.groups import GroupInput, make_group
from finesieve.services.define.together import made_together
from finesieve.services.kernel.scope import Scope, Unit, reload
from finesieve.store.definitions.catalogue import add_column, field_from_row, touch
from finesieve.store.tables import FieldRow

__all__ = ["PartInUse", "built_in_parts", "use_part"]


@dataclass(frozen=True, slots=True)
class PartInUse:
    """A part of the built-in facts, and which of its fields the workspace has."""

    part: Part
    fields: tuple[Field, ...]

    @property
    def whole(self) -> bool:
        return len(self.fields) == len(self.part.fields)


def built_in_parts(catalogue: Catalogue) -> tuple[PartInUse, ...]:
    """All parts that can be taken into use or are, but for what everybody has."""
    return tuple(PartInUse(part, _there(catalogue, part)) for part in PARTS if part.key != ALWAYS)


def _there(catalogue: Catalogue, part: Part) -> tuple[Field, ...]:
    held = (catalogue.by_key.get(known.key) for known in part.fields)
    return tuple(field for field in held if field is not None and field.built_in)


def use_part(scope: Scope, key: str) -> tuple[int, int]:
    """Take a part into use: its fields in their group; gives the group's id, and the one for undoing (0 for nothing).

    A deleted one comes back with its values. A field of the house's own with the same key and type becomes the built-in
    one and keeps its values. Raises NotFound, and InvalidInput where such a field has another type.
    """
    part = next((one for one in PARTS if one.key == key), None)
    if part is None:
        raise NotFound("There is no such part of the built-in facts.")
    return patiently(lambda: _use(scope, part))


def _use(scope: Scope, part: Part) -> tuple[int, int]:
    with scope.transaction("editor") as unit:
        group_id = _group(unit, part)
        made: list[int] = []
        taken_up: list[int] = []
        for known in part.fields:
            row = _row(unit, known)
            if row is None and known.key in unit.catalogue.collections_of(PERSON):
                raise InvalidInput({"": f"“{known.key}” is the name of a collection of records already."})
            if row is None:
                made.append(_make(unit, known, group_id))
            elif row.type_key != known.type_key or row.formula:
                raise InvalidInput({"": _other_type(row, known)})
            else:
                if row.deleted_at is not None:
                    made.append(row.id or 0)
                elif not row.built_in:
                    taken_up.append(row.id or 0)
                row.deleted_at, row.deleted_by, row.built_in = None, "", True
                unit.session.add(row)
        touch(unit.session, unit.workspace_id)
        if not made and not taken_up:
            return group_id, 0
        return group_id, made_together(reload(unit), made, f"Took {part.name.lower()} into use", taken_up)


def _group(unit: Unit, part: Part) -> int:
    there = (group.id for group in unit.catalogue.groups_about(PERSON) if group.name == part.group)
    first = next(there, None)
    if first is not None:
        return first
    if part.group == PARTS[0].group and unit.catalogue.groups_about(PERSON):
        return unit.catalogue.by_key["email"].group_id  # renamed by the house
    return make_group(unit, GroupInput(name=part.group))


def _row(unit: Unit, known: BuiltIn) -> FieldRow | None:
    query = select(FieldRow).where(col(FieldRow.about) == PERSON, col(FieldRow.key) == known.key)
    return unit.session.exec(query).first()


def _make(unit: Unit, known: BuiltIn, group_id: int) -> int:
    row = FieldRow(
        workspace_id=unit.workspace_id,
        group_id=group_id,
        key=known.key,
        label=known.label,
        type_key=known.type_key,
        required=known.required,
        help=known.help,
        options=[option_to_json(option) for option in known.options],
        settings=known.settings.to_json(),
        built_in=True,
        position=next_position(unit, group_id),
    )
    unit.session.add(row)
    unit.session.flush()
    add_column(unit.session, unit.workspace_id, field_from_row(row))
    return row.id or 0


def _other_type(row: FieldRow, known: BuiltIn) -> str:
    return (
        f"Your own field {row.label} has the key {known.key}, and is of type {TYPES[row.type_key].label.lower()}. "
        f"Change its type to {TYPES[known.type_key].label.lower()} first, or go on using it."
    )
