"""House values: facts of the business, each with one current value for all."""

import difflib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from sqlmodel import col, select

from finesieve.core.catalogue import Catalogue, Group
from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.core.fields.about import HOUSE
from finesieve.core.fields.definition import Field, Shelf
from finesieve.core.fields.encoding import from_json, to_json
from finesieve.core.values import Value
from finesieve.services.fields import field_of
from finesieve.services.lines import HistoryLine, history_of, worked_out
from finesieve.services.scope import Clock, Scope, Unit
from finesieve.services.tasks import Progress, begin_task, work_of
from finesieve.services.usage import Use, uses_of
from finesieve.services.values import change_row
from finesieve.store.catalogue import touch
from finesieve.store.database import Store
from finesieve.store.rows import HOUSE_ID
from finesieve.store.tables import FormRow, HouseGrant, HouseMapping, HouseSchedule, Workspace

__all__ = [
    "HouseLine",
    "HouseView",
    "MappingView",
    "apply_due",
    "cancel_scheduled",
    "change_grant",
    "change_mapping",
    "list_grants",
    "list_house",
    "pass_on",
    "read_house_value",
    "read_mapping",
    "set_house_value",
    "write_due",
]


@dataclass(frozen=True, slots=True)
class HouseLine:
    """A house value. One that is blank, though used, is awaited."""

    field: Field
    value: Value
    shown: str
    uses: tuple[Use, ...]
    scheduled: int

    @property
    def awaited(self) -> bool:
        return self.value is None


@dataclass(frozen=True, slots=True)
class Scheduled:
    """A value that takes effect later."""

    id: int
    shown: str
    effective_at: datetime
    actor: str


@dataclass(frozen=True, slots=True)
class HouseView:
    """One house value with all that is known of it."""

    line: HouseLine
    raw: str
    worked: str
    scheduled: tuple[Scheduled, ...]
    history: tuple[HistoryLine, ...]


def list_house(scope: Scope) -> tuple[tuple[Group, tuple[HouseLine, ...]], ...]:
    """All house values by group, with what they are now."""
    with scope.transaction("reader") as unit:
        waiting = _waiting(unit)
        uses = uses_of(unit)
        return tuple(
            (
                group,
                tuple(
                    _line(unit, field, uses.of_field(field.id), waiting)
                    for field in unit.catalogue.of_group(group.id)
                    if field.stores or field.derived
                ),
            )
            for group in unit.catalogue.groups_about(HOUSE)
        )


def _waiting(unit: Unit) -> dict[int, list[HouseSchedule]]:
    found: dict[int, list[HouseSchedule]] = {}
    query = select(HouseSchedule).where(~col(HouseSchedule.applied)).order_by(col(HouseSchedule.effective_at))
    for row in unit.session.exec(query).all():
        if row.effective_at > unit.moment.now:
            found.setdefault(row.field_id, []).append(row)
    return found


def _line(unit: Unit, field: Field, uses: tuple[Use, ...], waiting: Mapping[int, Sequence[HouseSchedule]]) -> HouseLine:
    value = unit.moment.house.get(field.key)
    return HouseLine(field, value, field.show(value), uses, len(waiting.get(field.id, ())))


def read_house_value(scope: Scope, field_id: int) -> HouseView:
    """A house value with its history and what is to come. Raises NotFound."""
    with scope.transaction("reader") as unit:
        field = _house_field(unit.catalogue, field_id)
        waiting = _waiting(unit)
        line = _line(unit, field, uses_of(unit).of_field(field_id), waiting)
        scheduled = tuple(
            Scheduled(row.id or 0, field.show(from_json(row.value, field.value_type)), row.effective_at, row.actor)
            for row in waiting.get(field_id, ())
        )
        worked = worked_out(unit.catalogue, field, unit.moment.house) if field.derived else ""
        raw = "" if field.derived else field.raw(line.value)
        return HouseView(line, raw, worked, scheduled, history_of(unit, HOUSE, HOUSE_ID, field.key))


def _house_field(catalogue: Catalogue, field_id: int) -> Field:
    field = field_of(catalogue, field_id)
    if field.about != HOUSE:
        raise NotFound("There is no such house value.")
    return field


def set_house_value(scope: Scope, field_id: int, raw: str, shelf: Shelf | None = None, effective: str = "") -> int:
    """Change a house value as typed, now or from a local date and time on; gives how many changed.

    Raises InvalidInput at `value` or `effective`.
    """
    with scope.transaction("editor") as unit:
        write_due(unit)
        field = _house_field(unit.catalogue, field_id)
        if field.derived:
            raise InvalidInput({"value": "It is computed; change its formula."})
        if field.type.kind == "file" and not raw:
            raise InvalidInput({"value": "Choose a file."})
        try:
            value = None if raw == "-" and field.type.kind == "file" else field.parse(raw, shelf)
        except ValueError as problem:
            raise InvalidInput({"value": str(problem)}) from None
        moment = _moment(unit, effective)
        if moment is not None and moment > unit.moment.now:
            row = HouseSchedule(
                workspace_id=unit.workspace_id,
                field_id=field_id,
                value=to_json(value),
                effective_at=moment,
                actor=unit.actor,
            )
            unit.session.add(row)
            return 1
        return change_row(unit, HOUSE, HOUSE_ID, {field.key: value}, "staff")


def _moment(unit: Unit, effective: str) -> datetime | None:
    if not effective:
        return None
    try:
        return datetime.fromisoformat(effective).replace(tzinfo=unit.catalogue.zone).astimezone(UTC)
    except (ValueError, OverflowError):
        raise InvalidInput({"effective": "Write a date and a time, such as 2026-12-01 08:00."}) from None


def cancel_scheduled(scope: Scope, schedule_id: int) -> int:
    """Take back a value that was to take effect; gives the field's id. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = unit.session.get(HouseSchedule, schedule_id)
        if row is None or row.applied or row.effective_at <= unit.moment.now:
            raise NotFound("It has taken effect already, or was taken back.")
        unit.session.delete(row)
        return row.field_id


def write_due(unit: Unit) -> int:
    """Write what has taken effect into its place, with its history at that moment; gives how many."""
    query = select(HouseSchedule).where(~col(HouseSchedule.applied), col(HouseSchedule.effective_at) <= unit.moment.now)
    rows = unit.session.exec(query.order_by(col(HouseSchedule.effective_at)).with_for_update()).all()
    for row in rows:
        field = unit.catalogue.by_id.get(row.field_id)
        if field is not None and field.stores:
            change_row(unit, HOUSE, HOUSE_ID, {field.key: from_json(row.value, field.value_type)}, "scheduled")
        row.applied = True
        unit.session.add(row)
    return len(rows)


def apply_due(store: Store, clock: Clock) -> int:
    """Write what has taken effect in every workspace; gives how many. Nothing waits for this to be right."""
    with store.transaction() as session:
        ids = session.exec(select(Workspace.id)).all()
    written = 0
    for workspace_id in ids:
        with Scope(store, workspace_id or 0, "the product", "owner", clock).transaction("owner") as unit:
            written += write_due(unit)
    return written


# Answers that set house values


@dataclass(frozen=True, slots=True)
class MappingView:
    """A form's fields beside house values, here or in another workspace.

    `pairs` maps the id of a field asked to the key of a house value; `suggested` what
    similar names and equal types suggest.
    """

    form_id: int
    form: str
    target_slug: str
    target: str
    asked: tuple[Field, ...]
    house: tuple[Field, ...]
    pairs: Mapping[int, str]
    suggested: Mapping[int, str]
    problem: str = ""


def read_mapping(scope: Scope, form_id: int, target_slug: str = "") -> MappingView:
    """The mapping of a form's answers to house values. Raises NotFound."""
    with scope.transaction("reader") as unit:
        form = unit.session.get(FormRow, form_id)
        if form is None:
            raise NotFound("There is no such form.")
        asked = tuple(
            unit.catalogue.by_id[question["field_id"]]
            for question in form.draft["questions"]
            if question["field_id"] in unit.catalogue.by_id
        )
        row = _mapping_row(unit, form_id, target_slug)
        title, own = str(form.draft["title"]), unit.catalogue.stored_about(HOUSE)
        pairs = {int(field_id): str(key) for field_id, key in row.pairs} if row else {}
        slug = _slug(unit)
    house, target, problem = own, "", ""
    if target_slug:
        house, target, problem = _allowed(scope, slug, target_slug)
    return MappingView(form_id, title, target_slug, target, asked, house, pairs, _suggest(asked, house), problem)


def _mapping_row(unit: Unit, form_id: int, target_slug: str) -> HouseMapping | None:
    query = select(HouseMapping).where(
        col(HouseMapping.form_id) == form_id, col(HouseMapping.target_slug) == target_slug
    )
    return unit.session.exec(query).first()


def _slug(unit: Unit) -> str:
    return unit.session.exec(select(Workspace.slug).where(col(Workspace.id) == unit.workspace_id)).one()


def _allowed(scope: Scope, from_slug: str, target_slug: str) -> tuple[tuple[Field, ...], str, str]:
    """The house values that another workspace lets this one set, its name, and why there are none."""
    with scope.store.transaction() as session:
        target = session.exec(select(Workspace).where(col(Workspace.slug) == target_slug)).first()
    nothing = ((), target_slug, "No workspace of that name lets this one set its house values.")
    if target is None:
        return nothing
    inside = Scope(scope.store, target.id or 0, scope.actor, "public", scope.clock)
    with inside.transaction("public") as unit:
        grant = unit.session.exec(select(HouseGrant).where(col(HouseGrant.from_slug) == from_slug)).first()
        if grant is None:
            return nothing
        fields = tuple(field for field in unit.catalogue.stored_about(HOUSE) if field.key in grant.keys)
        return fields, target.name, ""


def _suggest(asked: Sequence[Field], house: Sequence[Field]) -> dict[int, str]:
    """For each field asked the house value of the most similar name and the same kind, where there is one."""
    found: dict[int, str] = {}
    for field in asked:
        best, most = "", 0.55
        for value in house:
            if value.type.kind != field.type.kind or value.key in found.values():
                continue
            alike = max(
                difflib.SequenceMatcher(None, field.label.lower(), value.label.lower()).ratio(),
                difflib.SequenceMatcher(None, field.key, value.key).ratio(),
            )
            if alike > most:
                best, most = value.key, alike
        if best:
            found[field.id] = best
    return found


def change_mapping(scope: Scope, form_id: int, target_slug: str, pairs: Mapping[int, str]) -> None:
    """Say which answers set which house values. Raises InvalidInput for a pair of unequal kinds."""
    view = read_mapping(scope, form_id, target_slug)
    house, asked = {field.key: field for field in view.house}, {field.id: field for field in view.asked}
    for field_id, key in pairs.items():
        if field_id not in asked or key not in house:
            raise InvalidInput({f"pair_{field_id}": "That cannot be set from here."})
        if asked[field_id].type.kind != house[key].type.kind:
            raise InvalidInput({f"pair_{field_id}": f"“{house[key].label}” holds another kind of value."})
    if len(set(pairs.values())) < len(pairs):
        raise InvalidInput({"": "Two questions would set the same house value."})
    with scope.transaction("editor") as unit:
        row = _mapping_row(unit, form_id, target_slug) or HouseMapping(
            workspace_id=unit.workspace_id, form_id=form_id, target_slug=target_slug
        )
        row.pairs = [[field_id, key] for field_id, key in pairs.items()]
        unit.session.add(row)
        touch(unit.session, unit.workspace_id)


def list_grants(scope: Scope) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Which workspaces may set which house values of this one."""
    with scope.transaction("reader") as unit:
        rows = unit.session.exec(select(HouseGrant).order_by(col(HouseGrant.from_slug))).all()
        return tuple((row.from_slug, tuple(row.keys)) for row in rows)


def change_grant(scope: Scope, from_slug: str, keys: Sequence[str]) -> None:
    """Let another workspace set these house values by its forms; none withdraws the leave."""
    with scope.transaction("owner") as unit:
        known = {field.key for field in unit.catalogue.stored_about(HOUSE)}
        if not from_slug or len(from_slug) > 80:
            raise InvalidInput({"from_slug": "Write the other workspace’s short name, as in its address."})
        row = unit.session.exec(select(HouseGrant).where(col(HouseGrant.from_slug) == from_slug)).first()
        kept = [key for key in keys if key in known]
        if row is None and kept:
            unit.session.add(HouseGrant(workspace_id=unit.workspace_id, from_slug=from_slug, keys=kept))
        elif row is not None and not kept:
            unit.session.delete(row)
        elif row is not None:
            row.keys = kept
            unit.session.add(row)


def pass_on(unit: Unit, form_id: int, title: str, values: Mapping[str, Value]) -> None:
    """Set the house values that a form's answers are mapped to; those of other workspaces by a task."""
    for row in unit.session.exec(select(HouseMapping).where(col(HouseMapping.form_id) == form_id)).all():
        found: dict[str, Value] = {}
        for field_id, key in row.pairs:
            field = unit.catalogue.by_id.get(int(field_id))
            if field is not None and values.get(field.key) is not None:
                found[str(key)] = values[field.key]
        if not found:
            continue
        if row.target_slug:
            data = {key: to_json(value) for key, value in found.items()}
            payload = {"target_slug": row.target_slug, "values": data, "source": f"form: {title}", "from": _slug(unit)}
            begin_task(unit, "hand_over", f"House values for {row.target_slug}", payload, len(found))
        else:
            known = {field.key: field for field in unit.catalogue.stored_about(HOUSE)}
            changed = {key: value for key, value in found.items() if key in known}
            change_row(unit, HOUSE, HOUSE_ID, changed, f"form: {title}")


@work_of("hand_over")
def _hand_over(scope: Scope, payload: dict[str, Any], _progress: Progress) -> dict[str, Any]:
    """Set house values of another workspace, as far as it allows."""
    with scope.store.transaction() as session:
        target = session.exec(select(Workspace).where(col(Workspace.slug) == payload["target_slug"])).first()
    if target is None:
        raise NotFound("That workspace is gone.")
    inside = Scope(scope.store, target.id or 0, str(payload["from"]), "owner", scope.clock)
    with inside.transaction("owner") as unit:
        grant = unit.session.exec(select(HouseGrant).where(col(HouseGrant.from_slug) == payload["from"])).first()
        if grant is None:
            raise NotAllowed("That workspace does not let this one set its house values any more.")
        known = {field.key: field for field in unit.catalogue.stored_about(HOUSE) if field.key in grant.keys}
        values = {
            key: from_json(data, known[key].value_type) for key, data in payload["values"].items() if key in known
        }
        changed = change_row(unit, HOUSE, HOUSE_ID, values, f"{payload['source']}, from {payload['from']}")
        return {"message": f"{changed} changed."}
