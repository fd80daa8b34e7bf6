"""Deleting fields and bringing them back; what was deleted long ago goes for good."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any, Final

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.built_in import ALWAYS, PARTS
from finesieve.core.fields.definition import Field
from finesieve.core.model.catalogue import field_of
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.tasks import Progress, Stopped, begin_task, work_of
from finesieve.services.usage.uses import Use, uses_of
from finesieve.services.values.files import forget_unnamed
from finesieve.store.definitions.catalogue import drop_columns, field_from_row, touch
from finesieve.store.reading.people import fill_counts
from finesieve.store.tables import FieldRow, Task
from finesieve.store.values.history import count_lines, forget_history

__all__ = ["KEPT_DAYS", "Deletion", "begin_purge", "delete_field", "plan_deletion", "restore_field", "take_away"]

KEPT_DAYS: Final = 90
"""How long a deleted field can be brought back."""
_BATCH: Final = 5_000
_ALWAYS_THERE: Final = frozenset(known.key for part in PARTS if part.key == ALWAYS for known in part.fields)


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
        if field.built_in and field.key in _ALWAYS_THERE:
            raise InvalidInput({"": "This built-in field cannot be deleted; it can be paused."})
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


# For good


def begin_purge(scope: Scope) -> int:
    """Have what was deleted more than 90 days ago removed for good; gives the task's id, 0 where there is nothing."""
    with scope.transaction("owner") as unit:
        due = _due(unit)
        underway = select(Task.id).where(col(Task.kind) == _PURGE, col(Task.state).in_(("waiting", "running")))
        if not due or unit.session.exec(underway).first() is not None:
            return 0
        title = f"Removing for good what was deleted {KEPT_DAYS} days ago"
        lines = sum(count_lines(unit.session, row.id or 0) for row in due)
        return begin_task(unit, _PURGE, title, {"fields": [row.id for row in due], "lines": lines}, lines)


def _due(unit: Unit) -> Sequence[FieldRow]:
    end = unit.moment.now - timedelta(days=KEPT_DAYS)
    return unit.session.exec(select(FieldRow).where(col(FieldRow.deleted_at) < end).order_by(col(FieldRow.id))).all()


_PURGE: Final = "purge"


@work_of("purge")
def _purge(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Field by field: the history batch by batch, with the files that only it names; last the column itself.

    A field that was brought back meanwhile is passed over. What a stopped task has removed stays removed.
    """
    done = 0
    try:
        for field_id in payload["fields"]:
            while True:
                with scope.transaction("owner") as unit:
                    row = next((one for one in _due(unit) if one.id == field_id), None)
                    gone, digests = forget_history(unit.session, field_id, _BATCH) if row else (0, set())
                    if row and not gone:
                        drop_columns(unit.session, unit.workspace_id, field_from_row(row))
                        unit.session.delete(row)
                        touch(unit.session, unit.workspace_id)
                    forget_unnamed(unit, scope.store.files, digests)
                if not gone:
                    break
                done += gone
                progress.say(done, max(done, payload["lines"]))
    except Stopped:
        raise Stopped("It was stopped; what had been removed by then stays removed.") from None
    return {"message": f"{unit.manner.figure(done)} entries of the history removed."}
