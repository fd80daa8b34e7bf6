"""What was said in a conversation by somebody whose email was known already: it counts once the staff have said so."""

from collections.abc import Mapping
from decimal import Decimal
from typing import Any, Final

from finesieve.core.errors import Conflict, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.built_in import CONSENTS
from finesieve.core.forms.by_itself import consent_follows
from finesieve.core.forms.changing import person_may_not
from finesieve.core.values import Value
from finesieve.services.filling.kinds import DecisionKind, State, Wanted, WantedLine
from finesieve.services.filling.situation import records_from_json, store_records
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.value_lines import record_lines, show_past
from finesieve.services.values.writing import add_to_row, change_person
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import Decision

__all__ = ["SAID_IN_CHAT"]


def _stored(unit: Unit, row: Decision) -> Mapping[str, Value]:
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id)
    if stored is None:
        raise NotFound("There is no such person.")
    return stored


def _wanted(unit: Unit, row: Decision) -> Wanted:
    stored, fields = _stored(unit, row), unit.catalogue.by_key
    lines = []
    for key, (how, data) in row.asked["person"].items():
        known = fields.get(key)
        if known is not None and unit.sees(known):
            shown = show_past(known, data) if how == "set" else f"{data} more"
            may_not = person_may_not(unit.catalogue, known, stored)
            lines.append(WantedLine(known, known.show(stored.get(key)), shown, may_not))
    return Wanted(tuple(lines), record_lines(unit, _records(row), unit.sees))


def _records(row: Decision) -> list[dict[str, Any]]:
    """The records that a yes adds, as a submission keeps them."""
    return list(row.asked.get("records", {}).values())


def _apply(unit: Unit, row: Decision, source: str) -> State:
    stored, fields = _stored(unit, row), unit.catalogue.by_key
    values: dict[str, Value] = {}
    differences: dict[str, Decimal] = {}
    for key, (how, data) in row.asked["person"].items():
        known = fields.get(key)
        if known is None or key == "email" or person_may_not(unit.catalogue, known, stored):
            continue
        if how == "add":
            differences[key] = Decimal(data)
            continue
        try:
            values[key] = known.from_kept(data)
        except ValueError:
            raise Conflict(f"“{data}” cannot be taken over as {known.label} any more.") from None
    for name in ("tags", "lists"):
        changes: dict[str, Any] = row.asked.get(name, {})
        if changes:
            held: Any = stored.get(name) or ()
            on = {*held, *(one for one, wanted in changes.items() if wanted)}
            values[name] = tuple(sorted(one for one in on if changes.get(one, True)))
    for consent in CONSENTS:
        text = row.asked.get("agreed", {}).get(consent.given)
        if text and values.get(consent.given) and not stored.get(consent.given):
            values |= consent_follows(unit.catalogue, consent, unit.moment.now, text)
    values |= add_to_row(unit, PERSON, row.person_id, differences)
    change_person(unit, row.person_id, values, source)
    try:
        records = records_from_json(unit, _records(row))
    except ValueError as problem:
        raise Conflict(f"A record cannot be taken over any more: {problem}.") from None
    store_records(unit, row.person_id, records, source)
    return "applied"


SAID_IN_CHAT: Final = DecisionKind(
    "conversation",
    "Said in a chat with a known email",
    "gave this email in the chat “{form}”. It may be this person, or not; nothing stored has changed.",
    _wanted,
    _apply,
)
