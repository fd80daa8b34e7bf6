"""What a person asks for on their account: a change that staff have to make, a record put away."""

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.encoding import to_json
from finesieve.core.forms.outcome import Outcome
from finesieve.services.filling.asked_change import ASKED_CHANGE
from finesieve.services.filling.decisions import ask_for, conclude
from finesieve.services.kernel.scope import Unit
from finesieve.services.people.records import put_away
from finesieve.store.tables import Decision

__all__ = ["ask_change", "retire_record"]


def ask_change(
    unit: Unit, person_id: int, form_id: int, outcome: Outcome, wish: tuple[str, str], language: str
) -> None:
    """Ask staff to change what a question shows and the person may not change: (the question, the value as typed).

    An earlier wish for the same is taken back. Raises NotFound, and InvalidInput by the question.
    """
    question_id, typed = wish
    one = outcome.of(question_id)
    if one is None or not one.locked or one.field.type.kind in ("file", "secret"):
        raise NotFound("Nothing can be asked for here.")
    try:
        value = one.field.parse(typed, None, unit.moment.today)
    except ValueError as problem:
        raise InvalidInput({question_id: str(problem)}) from None
    if value is None or value == one.stored:
        raise InvalidInput({question_id: "Write what it should be."})
    waiting = select(Decision).where(
        col(Decision.person_id) == person_id, col(Decision.state) == "waiting", col(Decision.kind) == ASKED_CHANGE.key
    )
    for earlier in unit.session.exec(waiting.with_for_update()).all():
        if earlier.asked["field"] == one.field.id:
            earlier.asked = {**earlier.asked, "tell": False}
            conclude(unit, earlier, "", apply=False)
    asked = {"field": one.field.id, "value": to_json(value), "language": language}
    ask_for(unit, ASKED_CHANGE, person_id, form_id, asked=asked)


def retire_record(unit: Unit, outcome: Outcome, section_id: str, record_id: int, source: str) -> None:
    """Put a record of theirs away, one that a section of the form shows. Raises NotFound."""
    for shown in outcome.sections:
        mine = {filling.record_id for filling in shown.fillings if filling.record_id}
        if shown.section.id == section_id and shown.section.repeat and record_id in mine:
            known = unit.catalogue.record_types_by_id[shown.section.repeat.record_type]
            put_away(unit, known, record_id, True, source)
            return
    raise NotFound("There is no such record.")
