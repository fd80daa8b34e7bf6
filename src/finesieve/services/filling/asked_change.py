"""A change of a value that a person may not change themself: they ask for it, and staff say yes or no."""

from typing import Final

from finesieve.core.errors import Conflict
from finesieve.core.fields.about import PERSON
from finesieve.core.forms.wording import Wording, wording_without_form
from finesieve.core.phrases import Phrase, phrase
from finesieve.services.filling.kinds import DecisionKind, State, Wanted, WantedLine
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.value_lines import show_past
from finesieve.services.values.writing import change_person
from finesieve.standins.mail import Letter, post
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import Decision

__all__ = ["ASKED_CHANGE"]


def _wanted(unit: Unit, row: Decision) -> Wanted:
    field = unit.catalogue.by_id.get(row.asked["field"])
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id) or {}
    if field is None or not unit.sees(field):
        return Wanted(())
    return Wanted((WantedLine(field, field.show(stored.get(field.key)), show_past(field, row.asked["value"])),))


def _apply(unit: Unit, row: Decision, source: str) -> State:
    field = unit.catalogue.by_id.get(row.asked["field"])
    if field is None:
        raise Conflict("The field that this was about is not there any more.")
    try:
        value = field.from_kept(row.asked["value"])
    except ValueError:
        words = show_past(field, row.asked["value"])
        raise Conflict(f"“{words}” cannot be taken over as {field.label} any more.") from None
    change_person(unit, row.person_id, {field.key: value}, source)
    _tell(unit, row, phrase("{what} is now {value}, as you asked.", what=field.label, value=field.show(value)))
    return "applied"


def _refuse(unit: Unit, row: Decision) -> None:
    field = unit.catalogue.by_id.get(row.asked["field"])
    if field is not None and row.asked.get("tell", True):
        _tell(unit, row, phrase("We have not changed {what}. It stays as it is.", what=field.label))


def _tell(unit: Unit, row: Decision, words: Phrase) -> None:
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id) or {}
    if not stored.get("email"):
        return
    say: Wording = wording_without_form(str(row.asked.get("language", "")))
    subject = say(phrase("What you asked {house}", house=unit.workspace.name))
    letter = Letter("asked_change", str(stored["email"]), subject, say(words), "")
    post(unit.session, unit.workspace_id, row.person_id, letter, unit.moment.now)


ASKED_CHANGE: Final = DecisionKind(
    "asked_change",
    "Asked for a change",
    "asked in “{form}” for a change that they may not make themself.",
    _wanted,
    _apply,
    "Make the change",
    _refuse,
)
