"""A new address that a known person has given: it counts once both addresses have said so, or the staff have."""

from typing import Final

from finesieve.core.fields.about import PERSON
from finesieve.services.filling.kinds import DecisionKind, State, Wanted, WantedLine
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.writing import change_person
from finesieve.store.reading.rows import find_by_email, stored_row
from finesieve.store.tables import Decision

__all__ = ["NEW_ADDRESS"]


def _wanted(unit: Unit, row: Decision) -> Wanted:
    return Wanted((WantedLine(unit.catalogue.by_key["email"], row.asked["old"], row.asked["new"]),))


def _apply(unit: Unit, row: Decision, source: str) -> State:
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id)
    if stored is None or stored.get("email") != row.asked["old"]:
        return "refused"
    holder = find_by_email(unit.session, unit.definitions, row.asked["new"])
    if holder is not None and holder != row.person_id:
        return "taken"
    change_person(unit, row.person_id, {"email": row.asked["new"]}, source)
    return "applied"


NEW_ADDRESS: Final = DecisionKind(
    "new_address",
    "New email address",
    "asked in “{form}” for another address. It counts once both addresses have confirmed it, or you say so.",
    _wanted,
    _apply,
    "Change the address",
)
