"""Changes of definitions, each with what was before, and taking them back."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Final

from sqlmodel import col, func, select

from finesieve.core.errors import Conflict, NotAllowed, NotFound, Overtaken
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.tasks import Progress, begin_task, work_of
from finesieve.store.definitions.catalogue import field_from_row, not_unique_column, touch, unique_column
from finesieve.store.tables import (
    ApprovalRow,
    AudienceList,
    ChatScriptRow,
    DefinitionChange,
    DismissedFinding,
    FieldGroupRow,
    FieldRow,
    FormRow,
    HouseGrant,
    HouseMapping,
    LevelRow,
    NamedCheckRow,
    OptionListRow,
    PageRow,
    PeopleView,
    PersonalLinkRow,
    RecordLinkRow,
    RecordTypeRow,
    Segment,
    ShopRow,
    TagRow,
    Workspace,
)

__all__ = [
    "PROGRESS",
    "ChangeLine",
    "TakenBack",
    "guard_removal",
    "is_long",
    "last_change",
    "match_unique_index",
    "progress_of",
    "read_change",
    "record_change",
    "redoable_change",
    "refuse_overtaken",
    "refuse_overtaking",
    "register",
    "restore",
    "said_changes",
    "snapshot",
    "undo_change",
    "undoable_change",
]


@dataclass(frozen=True, slots=True)
class _Entity:
    """How a thing is remembered and brought back; `long` where that goes over everybody, so that a task does it."""

    take: Callable[[Unit, int], Any]
    restore: Callable[[Unit, int, Any], None]
    long: bool = False


@dataclass(frozen=True, slots=True)
class TakenBack:
    """What was taken back, or returned to, by its label. `change` undoes that; where it is long, `task` sees to it."""

    label: str
    change: int = 0
    task: int = 0


_FIELD_PARTS: Final = ("label", "help", "required", "unit", "options", "formula", "settings")


def _field(unit: Unit, entity_id: int) -> Any:
    row = unit.session.get(FieldRow, entity_id)
    if row is None:
        return None
    found = {part: getattr(row, part) for part in _FIELD_PARTS}
    # What it is called is changed apart, with all that names it.
    return {**found, "settings": {name: one for name, one in row.settings.items() if name != "called"}}


def _restore_field(unit: Unit, entity_id: int, before: Any) -> None:
    row = unit.session.get(FieldRow, entity_id)
    if row is None:
        raise Conflict("The field is gone.")
    called = {name: one for name, one in row.settings.items() if name == "called"}
    for part in _FIELD_PARTS:
        setattr(row, part, before[part])
    row.settings = {**before["settings"], **called}
    unit.session.add(row)
    match_unique_index(unit, row)


def match_unique_index(unit: Unit, row: FieldRow) -> None:
    """Let the database hold a field to unique values, or no longer, as its settings say."""
    unit.session.flush()
    field = field_from_row(row)
    if field.stores and not row.built_in:
        not_unique_column(unit.session, unit.workspace_id, field)
        if field.settings.unique:
            unique_column(unit.session, unit.workspace_id, field)


def _parts(table: Any, parts: tuple[str, ...]) -> "_Entity":
    """A thing that is one row of a table, brought back part by part."""

    def take(unit: Unit, entity_id: int) -> Any:
        row = unit.session.get(table, entity_id)
        return None if row is None else {part: getattr(row, part) for part in parts}

    def restore(unit: Unit, entity_id: int, before: Any) -> None:
        row = unit.session.get(table, entity_id)
        if before is None:
            unit.session.delete(row)
            return
        if row is None:
            row = table(id=entity_id, workspace_id=unit.workspace_id, **before)
        for part in parts:
            if part in before:  # an older change does not know of what came later
                setattr(row, part, before[part])
        unit.session.add(row)

    return _Entity(take, restore)


def _for_owners(entity: "_Entity") -> "_Entity":
    """The same, brought back by owners only."""

    def restore(unit: Unit, entity_id: int, before: Any) -> None:
        if unit.role != "owner":
            raise NotAllowed("Only owners may change this.")
        entity.restore(unit, entity_id, before)

    return _Entity(entity.take, restore)


_MANNER: Final = ("language", "zone", "currency", "country")


def _manner(unit: Unit, _entity_id: int) -> Any:
    row = unit.session.get(Workspace, unit.workspace_id)
    return {part: getattr(row, part) for part in _MANNER}


def _restore_manner(unit: Unit, _entity_id: int, before: Any) -> None:
    row = unit.session.get(Workspace, unit.workspace_id)
    for part in _MANNER:
        setattr(row, part, before[part])
    unit.session.add(row)


def _field_life(unit: Unit, entity_id: int) -> Any:
    row = unit.session.get(FieldRow, entity_id)
    return None if row is None else {"deleted": row.deleted_at is not None}


def _restore_field_life(unit: Unit, entity_id: int, before: Any) -> None:
    row = unit.session.get(FieldRow, entity_id)
    if row is None:
        raise Conflict("The field is gone for good.")
    row.deleted_at = unit.moment.now if before["deleted"] else None
    row.deleted_by = unit.actor if before["deleted"] else ""
    unit.session.add(row)


def _field_order(unit: Unit, _entity_id: int) -> Any:
    rows = unit.session.exec(select(FieldRow).order_by(col(FieldRow.id))).all()
    return {str(row.id): [row.group_id, row.position] for row in rows}


def _restore_field_order(unit: Unit, _entity_id: int, before: Any) -> None:
    for row in unit.session.exec(select(FieldRow)).all():
        row.group_id, row.position = before.get(str(row.id), [row.group_id, row.position])


def _order(table: Any) -> "_Entity":
    """The order of all rows of a table, as one thing that can be taken back."""

    def take(unit: Unit, _entity_id: int) -> Any:
        return {str(row.id): row.position for row in unit.session.exec(select(table)).all()}

    def put(unit: Unit, _entity_id: int, before: Any) -> None:
        for row in unit.session.exec(select(table)).all():
            row.position = before.get(str(row.id), row.position)

    return _Entity(take, put)


def _form(unit: Unit, entity_id: int) -> Any:
    row = unit.session.get(FormRow, entity_id)
    return None if row is None else row.draft


def _restore_form(unit: Unit, entity_id: int, before: Any) -> None:
    row = unit.session.get(FormRow, entity_id)
    if row is not None:
        row.draft, row.revision = before, row.revision + 1


_OF_SEGMENT: Final = ("key", "name", "description", "expression", "folder", "owner")


def _segment(unit: Unit, entity_id: int) -> Any:
    row = unit.session.get(Segment, entity_id)
    return None if row is None else {name: getattr(row, name) for name in _OF_SEGMENT}


def _restore_segment(unit: Unit, entity_id: int, before: Any) -> None:
    row = unit.session.get(Segment, entity_id)
    if before is None:
        unit.session.delete(row)
        return
    if row is None:
        row = Segment(id=entity_id, workspace_id=unit.workspace_id, key=f"segment_{entity_id}", name="", revision=0)
    for name in _OF_SEGMENT:
        setattr(row, name, before.get(name, getattr(row, name)))
    row.revision += 1
    unit.session.add(row)


_ENTITIES: Final[dict[str, _Entity]] = {
    "field": _Entity(_field, _restore_field),
    "field_order": _Entity(_field_order, _restore_field_order),
    "field_life": _Entity(_field_life, _restore_field_life),
    "group": _parts(FieldGroupRow, ("about", "name", "description", "settings", "position")),
    "record_type": _parts(
        RecordTypeRow, ("key", "singular", "plural", "symbol", "description", "title_field", "position", "archived")
    ),
    "record_link": _parts(
        RecordLinkRow, ("record_type_id", "name", "target", "many", "back_name", "back_key", "position")
    ),
    "option_list": _parts(OptionListRow, ("name", "options")),
    "list": _parts(AudienceList, ("key", "name", "description")),
    "level": _parts(LevelRow, ("key", "name", "description", "position", "lasts", "fee")),
    "tag": _parts(TagRow, ("name",)),
    "group_order": _order(FieldGroupRow),
    "level_order": _order(LevelRow),
    "dismissed_finding": _parts(DismissedFinding, ("code", "field_id", "place", "message", "reason", "actor")),
    "people_view": _parts(PeopleView, ("name", "state", "position")),
    "named_check": _parts(NamedCheckRow, ("name", "settings")),
    "mapping": _parts(HouseMapping, ("form_id", "target_slug", "pairs", "allowed", "who")),
    "shop": _parts(ShopRow, ("document", "checkout")),
    "page": _parts(PageRow, ("slug", "draft")),
    "script": _parts(ChatScriptRow, ("slug", "draft")),
    "personal_link": _parts(PersonalLinkRow, ("key", "name", "form_id", "script_id", "only_missing", "days", "once")),
    "approval": _parts(ApprovalRow, ("waits_when", "texts", "tell", "holds")),
    "grant": _for_owners(_parts(HouseGrant, ("from_slug", "keys"))),
    "manner": _for_owners(_Entity(_manner, _restore_manner)),
    "form": _Entity(_form, _restore_form),
    "segment": _Entity(_segment, _restore_segment),
}


def register(
    entity: str, take: Callable[[Unit, int], Any], restore: Callable[[Unit, int, Any], None], *, long: bool = False
) -> None:
    """Let changes of another kind of thing be taken back: how it is remembered, how it is brought back.

    With `long` a worker does that, never the request that asks for it.
    """
    _ENTITIES[entity] = _Entity(take, restore, long)


_GUARDS: Final[dict[str, Callable[[Unit, int], str]]] = {}


def guard_removal(entity: str, why_kept: Callable[[Unit, int], str]) -> None:
    """Have this asked before undoing would remove such a thing: why it stays, in a sentence, or "" where it may go."""
    _GUARDS[entity] = why_kept


def snapshot(unit: Unit, entity: str, entity_id: int = 0) -> Any:
    """What a later undo would bring back; None for what does not exist."""
    return _ENTITIES[entity].take(unit, entity_id)


def restore(unit: Unit, entity: str, entity_id: int, before: Any) -> None:
    """Bring back what a snapshot holds."""
    _ENTITIES[entity].restore(unit, entity_id, before)


def is_long(entity: str) -> bool:
    """Whether bringing such a thing back goes over everybody, and is to be left to a task."""
    return _ENTITIES[entity].long


def record_change(unit: Unit, entity: str, entity_id: int, label: str, before: Any) -> int:
    """Note a change just made, `before` being the snapshot taken first; gives the id for undoing, 0 for none.

    `label` says what was done: `Reordered Plot and growing`.
    """
    unit.session.flush()
    after = snapshot(unit, entity, entity_id)
    if after == before:
        return 0
    row = DefinitionChange(
        workspace_id=unit.workspace_id,
        entity=entity,
        entity_id=entity_id,
        label=label,
        before=before,
        after=after,
        actor=unit.actor,
        at=unit.moment.now,
    )
    unit.session.add(row)
    unit.session.flush()
    touch(unit.session, unit.workspace_id)
    return row.id or 0


def undo_change(scope: Scope, change_id: int, *, again: bool = False) -> TakenBack:
    """Take a change back, or (`again`) bring back one that was taken back; where that is long, by a task.

    Asked for twice, it counts once: the second finds it done. Raises NotFound for no
    such change, and Conflict where the thing has changed again since.
    """
    with scope.transaction("editor") as unit:
        row = _to_be_undone(unit, change_id, again=again)
        if row.undone is again and is_long(row.entity):
            title = f"{_TAKEN[0] if not again else _TAKEN[1]}{row.label}"
            return TakenBack(row.label, 0, begin_task(unit, "undo", title, {"change": change_id, "again": again}))
        if row.undone is again:
            _turn(unit, row)
        return TakenBack(row.label, change_id)


def _to_be_undone(unit: Unit, change_id: int, *, again: bool) -> DefinitionChange:
    row = unit.session.get(DefinitionChange, change_id, with_for_update=True)
    if row is None:
        raise NotFound("There is no such change.")
    there = row.before if row.undone else row.after
    if row.undone is again and snapshot(unit, row.entity, row.entity_id) != there:
        raise Conflict("It has changed again since; nothing was taken back.")
    return row


def _turn(unit: Unit, row: DefinitionChange) -> None:
    there, back = (row.before, row.after) if row.undone else (row.after, row.before)
    why_kept = _GUARDS[row.entity](unit, row.entity_id) if back is None and row.entity in _GUARDS else ""
    if why_kept:
        raise Conflict(f"{why_kept} Nothing was taken back.")
    _ENTITIES[row.entity].restore(unit, row.entity_id, back)
    row.undone = not row.undone
    unit.session.add(row)
    # A row of its own, so that who overtook a colleague's page by undoing is known too.
    taken = DefinitionChange(
        workspace_id=unit.workspace_id,
        entity=row.entity,
        entity_id=row.entity_id,
        label=f"{_TAKEN[0] if row.undone else _TAKEN[1]}{row.label}",
        before=there,
        after=back,
        actor=unit.actor,
        at=unit.moment.now,
    )
    unit.session.add(taken)
    touch(unit.session, unit.workspace_id)


@work_of("undo")
def _undo(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The same, where it is long. Stopped or broken off, all is as it was; done twice, it is done once."""
    with scope.transaction("owner") as unit:
        unit.session.info[PROGRESS] = progress
        row = _to_be_undone(unit, payload["change"], again=payload["again"])
        if row.undone is payload["again"]:
            _turn(unit, row)
        place = {"field_id": row.entity_id} if row.entity.startswith("field") else {}
        return {"message": "Everything is back as it was.", "change": payload["change"], **place}


PROGRESS: Final = "finesieve.progress"
"""Where the session of a task keeps how it says how far it has come."""


def progress_of(unit: Unit) -> Progress | None:
    """Where a task brings something back: how it says how far it has come."""
    found: Progress | None = unit.session.info.get(PROGRESS)
    return found


@dataclass(frozen=True, slots=True)
class ChangeLine:
    """A change that can be taken back, or brought back where `undone`."""

    id: int
    label: str
    undone: bool


def read_change(scope: Scope, change_id: int) -> ChangeLine | None:
    """A change of this workspace, or None."""
    with scope.reading("reader") as unit:
        row = unit.session.get(DefinitionChange, change_id)
        return None if row is None else ChangeLine(change_id, row.label, row.undone)


def last_change(scope: Scope, entity: str, entity_id: int) -> int:
    """The id of the last change of a thing, 0 for none: what a page has seen of it."""
    with scope.reading("reader") as unit:
        query = select(func.max(DefinitionChange.id)).where(
            col(DefinitionChange.entity) == entity, col(DefinitionChange.entity_id) == entity_id
        )
        return unit.session.exec(query).one() or 0


def refuse_overtaken(unit: Unit, entity: str, entity_id: int, seen: int | None) -> None:
    """Raise Overtaken where somebody else has changed a thing since the page that had `seen` its last change.

    None stands for a change that was not made on a page.
    """
    if seen is None:
        return
    query = (
        select(DefinitionChange)
        .where(
            col(DefinitionChange.entity) == entity,
            col(DefinitionChange.entity_id) == entity_id,
            col(DefinitionChange.id) > seen,
            col(DefinitionChange.actor) != unit.actor,
        )
        .order_by(col(DefinitionChange.id))
    )
    rows = unit.session.exec(query).all()
    if rows:
        raise Overtaken(rows[-1].actor, said_changes(rows[0].before, rows[-1].after))


def said_changes(before: Any, after: Any) -> list[tuple[str, str, str]]:
    """What differs between two snapshots of parts by name, in words."""
    old, new = before or {}, after or {}
    return [
        (name.replace("_", " "), _said(old.get(name)), _said(new.get(name)))
        for name in dict.fromkeys((*old, *new))
        if old.get(name) != new.get(name)
    ]


def _said(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dict):
        return ", ".join(f"{name.replace('_', ' ')} {_said(part)}" for name, part in value.items())
    if isinstance(value, list):
        return ", ".join(_said(part.get("label", part) if isinstance(part, dict) else part) for part in value)
    return str(value) if value not in (None, "") else "nothing"


_TAKEN: Final = ("Took back: ", "Brought back: ")


def undoable_change(scope: Scope, entity: str, entity_id: int) -> ChangeLine | None:
    """The last change of a thing that can be taken back now, or None."""
    return _last_change(scope, entity, entity_id, undone=False)


def redoable_change(scope: Scope, entity: str, entity_id: int) -> ChangeLine | None:
    """The last change taken back that can be brought back now, or None."""
    return _last_change(scope, entity, entity_id, undone=True)


def _last_change(scope: Scope, entity: str, entity_id: int, *, undone: bool) -> ChangeLine | None:
    with scope.reading("reader") as unit:
        side = col(DefinitionChange.before) if undone else col(DefinitionChange.after)
        query = (
            select(DefinitionChange)
            .where(
                col(DefinitionChange.entity) == entity,
                col(DefinitionChange.entity_id) == entity_id,
                col(DefinitionChange.undone) == undone,
                side == snapshot(unit, entity, entity_id),
                *(~col(DefinitionChange.label).startswith(words) for words in _TAKEN),
            )
            .order_by(col(DefinitionChange.id).desc())
            .limit(1)
        )
        row = unit.session.exec(query).first()
        return None if row is None else ChangeLine(row.id or 0, row.label, row.undone)


def refuse_overtaking(unit: Unit, entity: str, entity_id: int, count: int) -> None:
    """Raise Overtaken where one of the last `count` changes of a thing was made by somebody else."""
    last = (
        select(DefinitionChange)
        .where(col(DefinitionChange.entity) == entity, col(DefinitionChange.entity_id) == entity_id)
        .order_by(col(DefinitionChange.id).desc())
        .limit(count)
    )
    rows = [row for row in unit.session.exec(last).all() if row.actor != unit.actor]
    if rows:
        raise Overtaken(rows[0].actor, said_changes(rows[-1].before, rows[0].after))
