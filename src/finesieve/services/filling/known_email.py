"""Answers of somebody whose email was known already: they count once that person, or the staff, has said so."""

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Final

from finesieve.core.errors import Conflict, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.forms.by_itself import seen
from finesieve.core.forms.changing import person_may_not
from finesieve.core.forms.joining import Joining
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.core.values import Value
from finesieve.services.commerce.filled import filled_of
from finesieve.services.commerce.following import followed
from finesieve.services.commerce.giving import give_what_is_paid, hold_back
from finesieve.services.commerce.placing import order_of
from finesieve.services.filling.approval import APPROVAL, as_asked, held_back, tell_waiting
from finesieve.services.filling.kept import with_ids
from finesieve.services.filling.kinds import DecisionKind, State, Wanted, WantedLine
from finesieve.services.filling.situation import records_from_json, store_records
from finesieve.services.kernel.scope import Unit
from finesieve.services.people.records import link_with_order
from finesieve.services.values.value_lines import record_lines, show_past
from finesieve.services.values.writing import change_person
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import Decision, Submission

__all__ = ["KNOWN_EMAIL"]


def _sent(unit: Unit, row: Decision) -> Submission:
    submission = unit.session.get(Submission, row.submission_id)
    if submission is None:
        raise NotFound("What was sent is gone.")
    return submission


def _to_keep(row: Decision, submission: Submission) -> dict[str, Any]:
    """The answers without those that the form does not keep on the person."""
    passing = row.asked.get("passing", ())
    return {key: data for key, data in submission.answers.items() if key not in passing}


def _stored(unit: Unit, person_id: int) -> Mapping[str, Value]:
    values = stored_row(unit.session, unit.definitions, PERSON, person_id)
    if values is None:
        raise NotFound("There is no such person.")
    return values


def _wanted(unit: Unit, row: Decision) -> Wanted:
    submission, stored = _sent(unit, row), _stored(unit, row.person_id)
    answers = _to_keep(row, submission)
    lines = tuple(
        WantedLine(
            field,
            field.show(stored.get(field.key)),
            show_past(field, answers[field.key]),
            person_may_not(unit.catalogue, field, stored),
        )
        for field in unit.catalogue.stored_about(PERSON)
        if field.key in answers and unit.sees(field)
    )
    return Wanted(lines, record_lines(unit, submission.records, unit.sees))


def _apply(unit: Unit, row: Decision, source: str) -> State:
    submission, stored = _sent(unit, row), _stored(unit, row.person_id)
    values = _values(unit, _to_keep(row, submission), stored) | seen(
        unit.catalogue, replace(unit.moment, now=submission.received_at), stored, new=False
    )
    values, waits = held_back(unit, values, stored)
    order = order_of(unit, submission.id or 0)
    if order is not None and order.gives:
        values.pop("level", None)
        if "level" in waits:
            hold_back(unit, order)
    change_person(unit, row.person_id, values | _lists(unit, row, stored), source)
    if waits:
        link = str(row.asked.get("order_link", ""))
        _let_wait(unit, row, as_asked(waits, "", (order.id or 0, link) if order is not None else (0, "")))
    kept = filled_of(order).records if order is not None else submission.records
    try:
        records = records_from_json(unit, kept)
    except ValueError as problem:
        raise Conflict(f"A record cannot be taken over any more: {problem}.") from None
    added = store_records(unit, row.person_id, records, source)
    if order is not None:
        order.filled = {**order.filled, "records": with_ids(kept, added)}
        with followed(unit, order, person_id=row.person_id, fields=True):
            order.person_id = row.person_id
            unit.session.add(order)
        link_with_order(unit, added, order.id or 0, source)
        give_what_is_paid(unit, order)
    return "applied"


def _let_wait(unit: Unit, row: Decision, asked: dict[str, Any]) -> None:
    """What was confirmed asks for something that waits for approval."""
    wish = Decision(
        workspace_id=unit.workspace_id, kind=APPROVAL.key, person_id=row.person_id, form_id=row.form_id,
        submission_id=None, asked=asked, at=unit.moment.now,
    )  # fmt: skip
    unit.session.add(wish)
    unit.session.flush()
    tell_waiting(unit, wish)


def _lists(unit: Unit, row: Decision, stored: Mapping[str, Value]) -> dict[str, Value]:
    """The lists that they are on once what was sent counts."""
    joining = Joining(frozenset(row.asked.get("joins", ())), frozenset(row.asked.get("leaves", ())))
    return {"lists": joining.held_after(unit.catalogue, stored.get("lists"))} if joining else {}


def _values(unit: Unit, answers: Mapping[str, Any], stored: Mapping[str, Value]) -> dict[str, Value]:
    """The answers to take over; those that the person may not change themself are left out."""
    values: dict[str, Value] = {}
    for key, data in answers.items():
        field = unit.catalogue.by_id.get(LEVEL_QUESTION) if key == "level" else unit.catalogue.by_key.get(key)
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


KNOWN_EMAIL: Final = DecisionKind(
    "known_email",
    "Sign-up with a known email",
    "gave this email in “{form}”. It may be this person, or not; nothing stored has changed.",
    _wanted,
    _apply,
)
