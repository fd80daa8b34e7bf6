"""Consents in conversations: the words they were given to, and taking them back by the number that writes."""

from collections.abc import Mapping
from typing import Final

from finesieve.core.chat.journal import State
from finesieve.core.chat.machine import Scripts
from finesieve.core.fields.built_in import CONSENTS
from finesieve.core.forms.by_itself import consent_follows
from finesieve.core.values import Value, tidy_text
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.writing import change_person
from finesieve.store.reading.rows import holders_of
from finesieve.store.tables import Conversation

__all__ = ["BY_PHONE", "agreed_in_chat", "withdraw_by_number", "words_agreed_to"]

BY_PHONE: Final = "consent_phone"
"""The key of the consent to calls and texts."""
_MOST: Final = 1_000


def words_agreed_to(scripts: Scripts, state: State) -> dict[str, str]:
    """What the house said where each consent was given, and where: `May we text you? (Plan a bed, version 3)`."""
    given = {one.given for one in CONSENTS}
    found: dict[str, str] = {}
    for entry in state.journal:
        for key in given & entry.person.keys():
            script = scripts.get(entry.place[0])
            step = script.flow.by_id.get(entry.place[1]) if script is not None else None
            if script is None or step is None:
                continue
            say, version = script.wording(state.language), state.versions.get(entry.place[0], 0)
            subject = script.subject_of(step) if hasattr(step, "field_id") else None
            said = getattr(step, "text", "") or (subject.field.label if subject is not None else "")
            found[key] = f"{say(said)} ({say(script.script.title)}, version {version})"
    return found


def agreed_in_chat(unit: Unit, values: Mapping[str, Value], words: Mapping[str, str]) -> dict[str, Value]:
    """The moments and the words of the consents among values that a conversation gives."""
    found: dict[str, Value] = {}
    for consent in CONSENTS:
        if consent.given in values and consent.given in unit.catalogue.by_key:
            text = tidy_text(words.get(consent.given, "")) if values[consent.given] else None
            found |= consent_follows(unit.catalogue, consent, unit.moment.now, text or None)
    return found


def withdraw_by_number(unit: Unit, row: Conversation, title: str) -> int:
    """Take back the consent to calls and texts of everybody who has the number that a conversation is held with; gives
    how many. It looks at everybody, and is for the worker."""
    phone = unit.catalogue.by_key.get("phone")
    if phone is None or BY_PHONE not in unit.catalogue.by_key:
        return 0
    try:
        number = phone.parse(row.address)
    except ValueError:
        return 0
    people = holders_of(unit.session, unit.definitions, phone, number, _MOST)
    changes = [change_person(unit, one, {BY_PHONE: False}, f"chat: {title}") for one in people]
    return sum(1 for one in changes if one.changes)
