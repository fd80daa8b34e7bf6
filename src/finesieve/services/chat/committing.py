"""What a conversation causes, written in the transaction that takes the reply."""

from collections.abc import Mapping
from decimal import Decimal
from typing import Any, Final

from sqlmodel import col, select

from finesieve.core.chat.effects import Effects, effects_of
from finesieve.core.chat.journal import NOTHING, State
from finesieve.core.chat.world import amount_on
from finesieve.core.errors import Conflict
from finesieve.core.fields.about import PERSON
from finesieve.core.forms.by_itself import seen
from finesieve.core.forms.changing import person_may_not
from finesieve.core.values import Value
from finesieve.services.chat.consents import BY_PHONE, agreed_in_chat
from finesieve.services.chat.of_records import records_to_wait, write_records
from finesieve.services.filling.decisions import ask_for
from finesieve.services.filling.house_values import HOUSE_VALUES
from finesieve.services.filling.said_in_chat import SAID_IN_CHAT
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.known import known_by_email
from finesieve.services.values.writing import add_person, add_to_row, change_person, taken_keys
from finesieve.standins.mail import Letter, post
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import Conversation, Decision

__all__ = ["write_effects"]

_ADDRESSES: Final = ("email", "phone")
"""By one of these somebody can be reached."""


def write_effects(
    unit: Unit, row: Conversation, title: str, effects: Effects, state: State, words: Mapping[str, str]
) -> None:
    """Write what a conversation has come to: what is new of it (`effects`), of all that it has `written` by then. The
    state gets the ids of records that are added. `words` are those that consents were given to, by their key.

    What is said of a known email by somebody who is not confirmed waits. Of a stranger without any address nobody is
    made: it stays with the conversation until they give one.
    """
    source, house, sends, consent = f"chat: {title}", effects.house, effects.sends, effects.consent
    if not row.person_id:
        made = state.written
        only_stops = consent is False and made.person.keys() <= {"phone"}  # which the channel knew
        can_be_reached = any(made.person.get(key) for key in _ADDRESSES) and not only_stops
        effects = effects_of(NOTHING, made) if can_be_reached else Effects()
    if effects.person or effects.tags or effects.lists or effects.records:
        _about_person(unit, row, title, effects, state, words)
    if consent is not None and row.person_id and BY_PHONE in unit.catalogue.by_key:
        change_person(unit, row.person_id, {BY_PHONE: consent}, source)
    if house:
        set_to = {key: data for key, (how, data) in house.items() if how != "add"}
        adds = {key: data for key, (how, data) in house.items() if how == "add"}
        asked = {"target_slug": "", "values": set_to, "adds": adds, "source": source, "from": "", "title": title}
        ask_for(unit, HOUSE_VALUES, row.person_id, None, None, asked)
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id) if sends and row.person_id else None
    for message in sends:
        if stored is not None and stored.get("email"):
            letter = Letter("chat", str(stored["email"]), title, message)
            post(unit.session, unit.workspace_id, row.person_id, letter, unit.moment.now)


def _about_person(
    unit: Unit, row: Conversation, title: str, effects: Effects, state: State, words: Mapping[str, str]
) -> None:
    source = f"chat: {title}"
    waiting = _waiting(unit, row)
    email = effects.person.get("email", ("", None))[1]
    if not row.person_id and not row.confirmed and isinstance(email, str):
        found = known_by_email(unit, email)
        if found:
            row.person_id = found
            ask_for(unit, SAID_IN_CHAT, found, None, None, _asked(unit, row, title, effects, {"agreed": dict(words)}))
            return
    if waiting is not None:
        waiting.asked = _asked(unit, row, title, effects, waiting.asked)
        unit.session.add(waiting)
        return
    if not row.person_id:
        values = _of_somebody_new(unit, effects)
        row.person_id = add_person(unit, values | agreed_in_chat(unit, values, words), source)
        state.record_ids = write_records(unit, row.person_id, None, effects.records, {}, source)
        return
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id)
    if stored is None:
        return  # they were removed meanwhile: nothing to write to
    values, adds = _changes(unit, row, effects, stored)
    taken = taken_keys(unit, row.person_id, values)
    for key in taken:
        values.pop(key)  # somebody else has it by now; the rest counts
    values |= add_to_row(unit, PERSON, row.person_id, adds)
    values |= seen(unit.catalogue, unit.moment, stored, new=False)
    values |= agreed_in_chat(unit, {key: one for key, one in values.items() if one != stored.get(key)}, words)
    change_person(unit, row.person_id, values, source)
    added = write_records(unit, row.person_id, stored.get("level"), effects.records, state.record_ids, source)
    state.record_ids = {**state.record_ids, **added}


def _asked(unit: Unit, row: Conversation, title: str, effects: Effects, before: Mapping[str, Any]) -> dict[str, Any]:
    """What waits to be said yes to: what waited already, and what is new."""
    person = {**before.get("person", {}), **{key: list(one) for key, one in effects.person.items()}}
    return {
        "conversation": row.id, "title": title, "person": person, "agreed": dict(before.get("agreed", {})),
        "tags": {**before.get("tags", {}), **effects.tags}, "lists": {**before.get("lists", {}), **effects.lists},
        "records": _records_waiting(before.get("records", {}), records_to_wait(unit, effects.records)),
    }  # fmt: skip


def _records_waiting(before: Mapping[str, Any], more: Mapping[str, Any]) -> dict[str, Any]:
    """The records that wait, with what is new of each."""
    found = dict(before)
    for name, one in more.items():
        values = found.get(name, {}).get("values", {})
        found[name] = {**one, "values": {**values, **one["values"]}}
    return found


def _waiting(unit: Unit, row: Conversation) -> Decision | None:
    if not row.person_id or row.confirmed:
        return None
    query = select(Decision).where(
        col(Decision.person_id) == row.person_id, col(Decision.kind) == SAID_IN_CHAT.key,
        col(Decision.state) == "waiting", col(Decision.asked)["conversation"].as_integer() == row.id,
    )  # fmt: skip
    return unit.session.exec(query.with_for_update()).first()


def _of_somebody_new(unit: Unit, effects: Effects) -> dict[str, Value]:
    fields = unit.catalogue.by_key
    values: dict[str, Value] = {}
    for key, (how, data) in effects.person.items():
        if key in fields:
            values[key] = amount_on(fields[key], None, how, data)
    # Nobody has the email: that has been looked up, and nobody else comes with it meanwhile.
    for key in taken_keys(unit, 0, {key: value for key, value in values.items() if key != "email"}):
        values.pop(key)
    for name in ("tags", "lists"):
        on = tuple(sorted(one for one, wanted in getattr(effects, name).items() if wanted))
        if on:
            values[name] = on
    return values | seen(unit.catalogue, unit.moment, {}, new=True)


def _changes(
    unit: Unit, row: Conversation, effects: Effects, stored: Mapping[str, Value]
) -> tuple[dict[str, Value], dict[str, Decimal]]:
    """What changes of somebody: values set, and differences. What the person may not change themself is left out."""
    values: dict[str, Value] = {}
    adds: dict[str, Decimal] = {}
    for key, (how, data) in effects.person.items():
        known = unit.catalogue.by_key.get(key)
        if known is None or (row.confirmed and person_may_not(unit.catalogue, known, stored)):
            continue
        if how == "add":
            adds[key] = Decimal(str(data))
        else:
            try:
                values[key] = known.from_kept(data)
            except ValueError as problem:
                raise Conflict(f"A value does not fit any more: {problem}.") from None
    for name in ("tags", "lists"):
        changes: Mapping[str, bool] = getattr(effects, name)
        if changes:
            held: Any = stored.get(name) or ()
            on = {*held, *(one for one, wanted in changes.items() if wanted)}
            values[name] = tuple(sorted(one for one in on if changes.get(one, True)))
    return values, adds
