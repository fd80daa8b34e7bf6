"""Fields that were made together, and are taken back together."""

from collections.abc import Sequence
from typing import Any, Final

from sqlmodel import col, select

from finesieve.services.kernel.changes import register, restore
from finesieve.services.kernel.scope import Unit
from finesieve.store.tables import DefinitionChange, FieldRow

__all__ = ["made_together"]

_TOGETHER: Final = "field_batch"


def made_together(unit: Unit, made: Sequence[int], label: str, taken_up: Sequence[int] = ()) -> int:
    """Keep which fields were made in one go, and which became built-in ones; gives the id for undoing."""
    row = DefinitionChange(
        workspace_id=unit.workspace_id,
        entity=_TOGETHER,
        entity_id=[*made, *taken_up][0],
        label=label,
        before={"fields": list(made), "taken_up": list(taken_up), "there": False},
        after={"fields": list(made), "taken_up": list(taken_up), "there": True},
        actor=unit.actor,
    )
    unit.session.add(row)
    unit.session.flush()
    return row.id or 0


def _now(unit: Unit, first_id: int) -> Any:
    """The fields that were made together with this one, and whether they are all there."""
    query = select(DefinitionChange).where(
        col(DefinitionChange.entity) == _TOGETHER, col(DefinitionChange.entity_id) == first_id
    )
    row = unit.session.exec(query.order_by(col(DefinitionChange.id)).limit(1)).first()
    if row is None:
        return None
    there = {field.id for field in unit.catalogue.all_fields}
    built_in = {field.id for field in unit.catalogue.all_fields if field.built_in}
    taken_up = row.after.get("taken_up", [])
    return {**row.after, "there": all(one in there for one in row.after["fields"]) and built_in.issuperset(taken_up)}


def _restore(unit: Unit, _first_id: int, before: Any) -> None:
    for field_id in before["fields"]:
        restore(unit, "field_life", field_id, {"deleted": not before["there"]})
    for field_id in before.get("taken_up", ()):
        row = unit.session.get(FieldRow, field_id)
        if row is not None:
            row.built_in = before["there"]
            unit.session.add(row)


register(_TOGETHER, _now, _restore)
