"""What whoever ordered changes later, by the link of the order: the answers that the form leaves open."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

from finesieve.core.commerce.facts import State
from finesieve.core.errors import Conflict, InvalidInput
from finesieve.core.fields.about import ORDER
from finesieve.core.forms.definition import Form, Section
from finesieve.core.forms.evaluate import prepare
from finesieve.core.forms.later import why_not_later
from finesieve.core.forms.outcome import Outcome
from finesieve.core.forms.rows import Situation
from finesieve.services.commerce.answers import form_of_order
from finesieve.services.commerce.charged import order_row
from finesieve.services.commerce.following import followed
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.values.value_lines import fill_text
from finesieve.services.values.writing import change_row
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import OrderRow

__all__ = ["OpenAnswers", "change_answers", "open_answers"]

_UNTIL_IT_SHIPS: Final[tuple[State, ...]] = ("held", "awaiting_payment", "placed", "packed")
_SOURCE: Final = "link of the order"


@dataclass(frozen=True, slots=True)
class OpenAnswers:
    """The answers of an order that may be changed, as questions."""

    number: int
    outcome: Outcome


def open_answers(scope: Scope, order_id: int, typed: Mapping[str, str] | None = None) -> OpenAnswers | None:
    """The answers that may be changed, as they are, or as `typed`; None where none may (any more). Raises NotFound."""
    with scope.reading("public") as unit:
        row = order_row(unit, order_id)
        outcome = _outcome(unit, row, typed or {})
        return OpenAnswers(row.number, outcome) if outcome is not None else None


def _outcome(unit: Unit, row: OrderRow, typed: Mapping[str, str]) -> Outcome | None:
    form = form_of_order(unit, row) if row.state in _UNTIL_IT_SHIPS else None
    open_form = _left_open(unit, form) if form is not None else None
    if open_form is None:
        return None
    stored = stored_row(unit.session, unit.definitions, ORDER, row.id or 0) or {}
    return prepare(open_form, unit.catalogue).evaluate(typed, unit.moment, Situation(stored, known=True))


def _left_open(unit: Unit, form: Form) -> Form | None:
    """The form with nothing but the questions that are left open, their checks kept, without rules of showing."""
    asked = [
        one.model_copy(
            update={
                "show_when": "", "required_when": "", "options_when": {}, "hidden": False, "only_if_unknown": False,
                "label": fill_text(unit, one.label), "help": fill_text(unit, one.help),
            }
        )
        for one in form.questions
        if one.later and not why_not_later(one, form, unit.catalogue)
    ]  # fmt: skip
    return form.model_copy(update={"sections": (Section(id="s1", items=tuple(asked)),)}) if asked else None


def change_answers(scope: Scope, order_id: int, typed: Mapping[str, str]) -> int:
    """Change answers as typed, by the ids of their questions; gives how many changed.

    Raises NotFound, Conflict where nothing may be changed any more, and InvalidInput by the ids of questions.
    """
    with scope.transaction("public") as unit:
        row = order_row(unit, order_id, lock=True)
        outcome = _outcome(unit, row, typed)
        if outcome is None:
            raise Conflict("The answers of this order cannot be changed any more.")
        if outcome.troubles:
            raise InvalidInput({one.id: one.message for one in outcome.troubles})
        row.revision += 1
        unit.session.add(row)
        with followed(unit, row, fields=True):
            return len(change_row(unit, ORDER, order_id, outcome.results().of(ORDER), _SOURCE))
