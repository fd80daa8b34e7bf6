"""Deleting fields and bringing them back; what was deleted long ago goes for good."""

from dataclasses import dataclass
from datetime import timedelta
from typing import Final

from sqlmodel import col, delete, select

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.definition import Field
from finesieve.core.model.catalogue import field_of
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.usage.uses import Use, uses_of
from finesieve.services.values.files import forget_unnamed
from finesieve.store.catalogue import drop_columns, field_from_row, touch
from finesieve.store.files import FileStore
from finesieve.store.people import fill_counts
from finesieve.store.tables import FieldRow, History

__all__ = ["KEPT_DAYS", "Deletion", "delete_field", "plan_deletion", "purge_deleted", "restore_field", "take_away"]

KEPT_DAYS: Final = 90
"""How long a deleted field can be brought back."""


@dataclass(frozen=True, slots=True)
class Deletion:
    """What deleting a field would do."""

    field: Field
    filled: int
    uses: tuple[Use, ...]


def plan_deletion(scope: Scope, field_id: int) -> Deletion:
    """Who holds a value, and what depends on the field. Raises NotFound, and InvalidInput for a built-in field."""
    with scope.transaction("editor") as unit:
        field = field_of(unit.catalogue, field_id)
        if field.built_in:
            raise InvalidInput({"": "A built-in field cannot be deleted; it can rest."})
        filled = fill_counts(unit.session, unit.definitions, field.about, [field]).of(field)
        return Deletion(field, filled, uses_of(unit).of_field(field_id))


def delete_field(scope: Scope, field_id: int, typed: str) -> int:
    """Delete a field whose name was typed; gives the id for undoing.

    Its values are out of reach, and kept for 90 days. Raises InvalidInput where
    the name typed is another.
    """
    field = plan_deletion(scope, field_id).field
    if typed.strip() != field.label:
        raise InvalidInput({"typed": f"Type the name as it is written: {field.label}"})
    with scope.transaction("editor") as unit:
        return take_away(unit, field)


def take_away(unit: Unit, field: Field) -> int:
    """Delete a field in this transaction; gives the id for undoing."""
    before = snapshot(unit, "field_life", field.id)
    row = unit.session.get(FieldRow, field.id)
    assert row is not None
    row.deleted_at, row.deleted_by = unit.moment.now, unit.actor
    unit.session.add(row)
    return record_change(unit, "field_life", field.id, f"Deleted {field.label}", before)


def restore_field(scope: Scope, field_id: int) -> int:
    """Bring a deleted field back with all its values; gives the id for undoing. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = unit.session.get(FieldRow, field_id)
        if row is None or row.deleted_at is None:
            raise NotFound("There is no such deleted field.")
        before = snapshot(unit, "field_life", field_id)
        row.deleted_at, row.deleted_by = None, ""
        unit.session.add(row)
        return record_change(unit, "field_life", field_id, f"Brought back {row.label}", before)


def purge_deleted(scope: Scope, files: FileStore | None = None) -> int:
    """Remove for good what was deleted more than 90 days ago, with its values, history and files; gives how many."""
    with scope.transaction("owner") as unit:
        end = unit.moment.now - timedelta(days=KEPT_DAYS)
        rows = unit.session.exec(select(FieldRow).where(col(FieldRow.deleted_at) < end)).all()
        digests: set[str] = set()
        for row in rows:
            drop_columns(unit.session, unit.workspace_id, field_from_row(row))
            lines = col(History.field_id) == row.id
            digest = col(History.new)["digest"].astext
            digests |= {
                str(one) for one in unit.session.exec(select(digest).where(lines, digest.is_not(None)).distinct())
            }
            unit.session.execute(delete(History).where(lines))
            unit.session.delete(row)
        forget_unnamed(unit, files, digests)
        if rows:
            touch(unit.session, unit.workspace_id)
        return len(rows)
