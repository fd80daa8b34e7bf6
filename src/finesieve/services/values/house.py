"""House values: facts of the business, each with one current value for all."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.core.fields.about import HOUSE
from finesieve.core.fields.definition import Field, Shelf
from finesieve.core.fields.encoding import to_json
from finesieve.core.model.catalogue import Catalogue, Group, field_of
from finesieve.core.values import Value
from finesieve.services.kernel.merging import merged_values
from finesieve.services.kernel.scope import Clock, Scope, Unit
from finesieve.services.usage.uses import Use, uses_of
from finesieve.services.values.sealing import seals
from finesieve.services.values.value_lines import HistoryLine, history_of, show_past, worked_out
from finesieve.services.values.writing import change_row
from finesieve.store.connection.database import Store
from finesieve.store.reading.rows import HOUSE_ID, stored_row
from finesieve.store.tables import HouseSchedule, Workspace

__all__ = [
    "HouseLine",
    "HouseView",
    "apply_due",
    "cancel_scheduled",
    "list_house",
    "read_house_value",
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
    with scope.reading("reader") as unit:
        waiting = _waiting(unit)
        uses = uses_of(unit)
        return tuple(
            (
                group,
                tuple(
                    _line(unit, field, uses.of_field(field.id), waiting)
                    for field in unit.catalogue.of_group(group.id)
                    if (field.stores or field.derived) and unit.sees(field)
                ),
            )
            for group in unit.catalogue.groups_about(HOUSE)
            if unit.sees(group)
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
    with scope.reading("reader") as unit:
        field = _house_field(unit.catalogue, field_id)
        if not unit.sees(field):
            raise NotAllowed("Only editors and owners see this.")
        waiting = _waiting(unit)
        line = _line(unit, field, uses_of(unit).of_field(field_id), waiting)
        scheduled = tuple(
            Scheduled(row.id or 0, show_past(field, row.value), row.effective_at, row.actor)
            for row in waiting.get(field_id, ())
        )
        worked = worked_out(unit, field, unit.moment.house) if field.derived else ""
        raw = "" if field.derived else field.raw(line.value)
        return HouseView(line, raw, worked, scheduled, history_of(unit, HOUSE, HOUSE_ID, field.key))


def _house_field(catalogue: Catalogue, field_id: int) -> Field:
    field = field_of(catalogue, field_id)
    if field.about != HOUSE:
        raise NotFound("There is no such house value.")
    return field


@seals
def set_house_value(
    scope: Scope, field_id: int, raw: str, shelf: Shelf | None = None, effective: str = "", was: str | None = None
) -> int:
    """Change a house value as typed, now or from a local date and time on; gives how many changed.

    `was` is what the page showed. Raises InvalidInput at `value` or `effective`, and Overtaken for a clash.
    """
    with scope.transaction("editor") as unit:
        write_due(unit)
        field = _house_field(unit.catalogue, field_id)
        if field.derived:
            raise InvalidInput({"value": "It is computed; change its formula."})
        if was is not None and not effective and field.type.kind not in ("file", "secret"):
            stored = stored_row(unit.session, unit.definitions, HOUSE, HOUSE_ID, lock=True) or {}
            if not merged_values(unit, HOUSE, HOUSE_ID, {field.key: raw}, {field.key: was}, stored):
                return 0
        if field.type.kind == "file" and not raw:
            raise InvalidInput({"value": "Choose a file."})
        try:
            value = None if raw == "-" and field.type.kind == "file" else field.parse(raw, shelf, unit.moment.today)
        except ValueError as problem:
            raise InvalidInput({"value": str(problem)}) from None
        moment = _moment(unit, effective)
        if moment is not None and field.type.kind == "secret":
            raise InvalidInput({"effective": "A secret is not kept for later; set it when it should count."})
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
        return len(change_row(unit, HOUSE, HOUSE_ID, {field.key: value}, "staff"))


def _moment(unit: Unit, effective: str) -> datetime | None:
    if not effective:
        return None
    try:
        found = Field(0, "", "", "datetime", 0, manner=unit.manner).parse(effective)
    except ValueError as problem:
        raise InvalidInput({"effective": str(problem)}) from None
    return found if isinstance(found, datetime) else None


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
            try:
                value = field.from_kept(row.value)
            except ValueError:
                continue  # of another type than the field has now: it waits for that to be undone
            change_row(unit, HOUSE, HOUSE_ID, {field.key: value}, "scheduled")
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
