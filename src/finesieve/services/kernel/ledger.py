"""The ledger of changes: what each did, and returning to how a thing was before one."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any, Final

from sqlmodel import col, select

from finesieve.core.errors import Conflict, NotFound
from finesieve.core.fields.manner import Manner
from finesieve.services.kernel.changes import PROGRESS, TakenBack, is_long, record_change, restore, snapshot
from finesieve.services.kernel.manner import MannerInput
from finesieve.services.kernel.merging import merged
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.tasks import Progress, begin_task, work_of
from finesieve.store.tables import DefinitionChange, Workspace

__all__ = ["ChangeRow", "change_manner", "list_changes", "read_manner", "return_to"]

_PAGE: Final = 40
_ORDERS: Final = ("field_order", "group_order", "level_order")


@dataclass(frozen=True, slots=True)
class ChangeRow:
    """A change of a definition; `differences` are (part, before, after). `latest`: nothing has changed it since."""

    id: int
    entity: str
    entity_id: int
    label: str
    actor: str
    at: datetime
    undone: bool
    differences: tuple[tuple[str, str, str], ...]
    returnable: bool


def list_changes(
    scope: Scope, entity: str = "", entity_id: int = 0, before_id: int | None = None
) -> tuple[tuple[ChangeRow, ...], int | None]:
    """Changes, newest first, of one thing where it is named; and from where the list goes on."""
    with scope.reading("reader") as unit:
        query = select(DefinitionChange).order_by(col(DefinitionChange.id).desc()).limit(_PAGE + 1)
        if entity == "field":
            about_field = ("field", "options", "field_life", "field_type")
            query = query.where(col(DefinitionChange.entity).in_(about_field))
        elif entity:
            query = query.where(col(DefinitionChange.entity) == entity)
        if entity_id:
            query = query.where(col(DefinitionChange.entity_id) == entity_id)
        if before_id:
            query = query.where(col(DefinitionChange.id) < before_id)
        rows = unit.session.exec(query).all()
        lines = tuple(_row(row) for row in rows[:_PAGE])
        return lines, (rows[_PAGE - 1].id if len(rows) > _PAGE else None)


def _row(row: DefinitionChange) -> ChangeRow:
    returnable = row.before is not None and row.entity not in _ORDERS
    return ChangeRow(
        row.id or 0,
        row.entity,
        row.entity_id,
        row.label,
        row.actor,
        row.at,
        row.undone,
        tuple(differences(row.before, row.after)),
        returnable,
    )


def differences(before: Any, after: Any, part: str = "") -> list[tuple[str, str, str]]:
    """What differs between two documents, part by part, in words short enough to read."""
    if before == after:
        return []
    if before is None and isinstance(after, dict):
        return differences({}, {key: value for key, value in after.items() if value not in (None, "", [], {}, 0)}, part)
    if isinstance(before, dict) and isinstance(after, dict):
        found = []
        for key in dict.fromkeys((*before, *after)):
            found += differences(before.get(key), after.get(key), f"{part} {key}".strip().replace("_", " "))
        return found[:20]
    if isinstance(before, list) and isinstance(after, list) and all(isinstance(one, dict) for one in (*before, *after)):
        return _listed(before, after, part)
    return [(part, _short(before), _short(after))]


def _listed(before: list[Any], after: list[Any], part: str) -> list[tuple[str, str, str]]:
    """Lists of things that have a name: what came, what went, what became different."""
    old = {_named(one): one for one in before}
    new = {_named(one): one for one in after}
    found = []
    for name in dict.fromkeys((*old, *new)):
        if name not in new:
            found.append((f"{part} {name}".strip(), "was there", "–"))
        elif name not in old:
            found.append((f"{part} {name}".strip(), "–", "new"))
        else:
            found += differences(old[name], new[name], f"{part} {name}".strip())
    return found[:20] or [(part, "", "in another order")]


def _named(one: dict[str, Any]) -> str:
    return str(one.get("value") or one.get("id") or one.get("name") or one.get("label"))


def _short(value: Any) -> str:
    if value is None or value in ("", [], {}):
        return "–"
    if isinstance(value, bool):
        return "yes" if value else "no"
    text = ", ".join(str(item) for item in value) if isinstance(value, list) else str(value)
    return text if len(text) <= 120 else text[:117] + "…"


def return_to(scope: Scope, change_id: int) -> TakenBack:
    """Return a thing to how it was before a change, whatever came since; where that is long, by a task.

    Raises NotFound, and Conflict where the change made the thing.
    """
    with scope.transaction("editor") as unit:
        row = unit.session.get(DefinitionChange, change_id)
        if row is None:
            raise NotFound("There is no such change.")
        if row.before is None or row.entity in _ORDERS:
            raise Conflict("There was nothing before this change to return to.")
        now = snapshot(unit, row.entity, row.entity_id)
        if now is None and row.entity in ("field", "options"):
            raise Conflict("It is gone; bring it back first.")
        label = f"Returned to before: {row.label}"[:200]
        if is_long(row.entity):
            return TakenBack(label, 0, begin_task(unit, "return", label, {"change": change_id}))
        return TakenBack(label, _return(unit, row, label, now))


def _return(unit: Unit, row: DefinitionChange, label: str, now: Any) -> int:
    restore(unit, row.entity, row.entity_id, row.before)
    return record_change(unit, row.entity, row.entity_id, label, now)


@work_of("return")
def _return_by_task(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The same, where it is long. Done twice, it is done once: it is there already."""
    with scope.transaction("owner") as unit:
        row = unit.session.get(DefinitionChange, payload["change"])
        if row is None:
            raise NotFound("There is no such change.")
        now = snapshot(unit, row.entity, row.entity_id)
        if now == row.before:
            return {"message": "It was like that already."}
        unit.session.info[PROGRESS] = progress
        place = {"field_id": row.entity_id} if row.entity.startswith("field") else {}
        change = _return(unit, row, f"Returned to before: {row.label}"[:200], now)
        return {"message": "Everything is back as it was.", "change": change, **place}


def read_manner(scope: Scope) -> Manner:
    """How the house writes."""
    with scope.reading("reader") as unit:
        return unit.manner


def change_manner(scope: Scope, asked: MannerInput, was: MannerInput | None = None) -> int:
    """Change how the house writes; nothing that is stored changes. Gives the id for undoing. Raises Overtaken."""
    with scope.transaction("owner") as unit:
        row = unit.session.get(Workspace, unit.workspace_id, with_for_update=True)
        assert row is not None
        now = MannerInput(language=row.language, zone=row.zone, currency=row.currency, country=row.country)
        asked = merged(unit, "manner", 0, asked, was, now)
        before = snapshot(unit, "manner")
        row.language, row.zone, row.currency, row.country = asked.language, asked.zone, asked.currency, asked.country
        unit.session.add(row)
        return record_change(unit, "manner", 0, "Changed how the house writes", before)
