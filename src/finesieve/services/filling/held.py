"""Held sign-ups: answers of somebody whose email was known already, waiting to be decided on."""

from collections.abc import Mapping
from typing import Any

from finesieve.core.errors import Conflict, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.forms.changing import person_may_not
from finesieve.core.values import Value
from finesieve.services.filling.situation import records_from_json, store_records
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.values.writing import change_person
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import Submission

__all__ = ["apply_held", "decide_held"]


def _stored(unit: Unit, person_id: int) -> Mapping[str, Value]:
    values = stored_row(unit.session, unit.definitions, PERSON, person_id)
    if values is None:
        raise NotFound("There is no such person.")
    return values


def decide_held(scope: Scope, submission_id: int, *, apply: bool) -> int:
    """Store the answers of a held sign-up, or set it aside; gives the person's id.

    Decided twice, it counts once. Raises NotFound, and Conflict where an answer
    is no option any more.
    """
    with scope.transaction("clerk") as unit:
        row = unit.session.get(Submission, submission_id, with_for_update=True)
        if row is None or row.state not in ("held", "applied", "set_aside"):
            raise NotFound("There is no such held sign-up.")
        if row.state == "held":
            apply_held(unit, row, "form, taken over by staff", apply=apply)
        return row.person_id


def apply_held(unit: Unit, row: Submission, source: str, *, apply: bool) -> None:
    """Store the answers and records of a held sign-up, or set it aside. Raises Conflict where one fits no more."""
    if apply:
        values = _held_values(unit, row.answers, _stored(unit, row.person_id))
        change_person(unit, row.person_id, values, source)
        try:
            records = records_from_json(unit, row.records)
        except ValueError as problem:
            raise Conflict(f"A record cannot be taken over any more: {problem}.") from None
        store_records(unit, row.person_id, records, source)
    row.state = "applied" if apply else "set_aside"
    unit.session.add(row)


def _held_values(unit: Unit, answers: Mapping[str, Any], stored: Mapping[str, Value]) -> dict[str, Value]:
    """The answers to take over; those that the person may not change themself are left out."""
    values: dict[str, Value] = {}
    for key, data in answers.items():
        field = unit.catalogue.by_key.get(key)
        if field is None or key == "email" or person_may_not(unit.catalogue, field, stored):
            continue
        try:
            values[key] = field.from_kept(data)
        except ValueError:
            message = (
                f"“{data}” cannot be taken over as {field.label} any more. Bring the option back, or set it aside."
            )
            raise Conflict(message) from None
    return values
