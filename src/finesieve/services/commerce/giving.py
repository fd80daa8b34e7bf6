"""What an order is for besides goods: a membership level, held once it is paid and nobody has to approve it."""

from datetime import date
from typing import Any, Final

from finesieve.core.commerce.facts import PLACED
from finesieve.core.fields.about import PERSON
from finesieve.core.model.level_ends import LEVEL_ENDS
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.writing import change_person
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import OrderRow

__all__ = ["GIVEN", "give_what_is_paid", "hold_back", "longer", "release"]

GIVEN: Final = "given"


def give_what_is_paid(unit: Unit, row: OrderRow) -> None:
    """Give what an order is for, once: when it is placed, its person is known, and nothing waits for approval."""
    gives = row.gives
    if not gives or gives.get(GIVEN) or gives.get("waits") or row.state not in PLACED or not row.person_id:
        return
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id)
    level = next((one for one in unit.catalogue.levels if one.key == gives["level"]), None)
    if stored is None or level is None:
        return
    values: dict[str, Value] = {"level": level.key}
    if gives.get("renews") and stored.get("level") == level.key:
        values = longer(unit, level.key, stored.get(LEVEL_ENDS))
    change_person(unit, row.person_id, values, f"order {row.number}")
    _note(unit, row, given=True)


def longer(unit: Unit, level_key: str, ends: Value) -> dict[str, Value]:
    """The level that is held, held for longer: counted from its last day `ends`, or from today once that has passed."""
    lasts = next((one.lasts for one in unit.catalogue.levels if one.key == level_key), None)
    if lasts is None or LEVEL_ENDS not in unit.catalogue.by_key:
        return {}
    today = unit.moment.today
    return {LEVEL_ENDS: lasts.last_day(max(ends, today) if isinstance(ends, date) else today)}


def hold_back(unit: Unit, row: OrderRow) -> None:
    """What an order is for waits for approval, and is not given (any more) when it is paid."""
    _note(unit, row, waits=True, given=False)


def release(unit: Unit, row: OrderRow) -> None:
    """What an order is for was approved: given now where it is paid, else once it is."""
    _note(unit, row, waits=False)
    give_what_is_paid(unit, row)


def _note(unit: Unit, row: OrderRow, **what: Any) -> None:
    if row.gives:
        row.gives = {**row.gives, **what}
        unit.session.add(row)
