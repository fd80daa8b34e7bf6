"""Which forms ask for a field, set in one place."""

from collections.abc import Collection
from dataclasses import dataclass

from finesieve.core.fields.about import ORDER
from finesieve.core.forms.definition import Form, Question
from finesieve.core.model.catalogue import field_of
from finesieve.services.forms.composing import add_question, remove_part
from finesieve.services.forms.forms import read_form
from finesieve.services.kernel.scope import Scope
from finesieve.services.usage.documents import rows_of_forms
from finesieve.store.tables import FormRow

__all__ = ["AskingForm", "forms_asking", "set_forms_asking"]


@dataclass(frozen=True, slots=True)
class AskingForm:
    """A form, whether it asks for the field, and what its question overrides, in words."""

    id: int
    title: str
    asks: bool
    overrides: tuple[str, ...]


def forms_asking(scope: Scope, field_id: int) -> tuple[AskingForm, ...]:
    """The forms that can ask for a field, in its light: of one about the order, the checkouts."""
    with scope.reading("reader") as unit:
        of_order = field_of(unit.catalogue, field_id).about == ORDER
        rows = (row for row, _ in rows_of_forms(unit) if row.channel == "checkout" or not of_order)
        return tuple(_asking(row, field_id) for row in rows)


def _asking(row: FormRow, field_id: int) -> AskingForm:
    document = Form.model_validate(row.draft)
    questions = [one for one in document.questions if one.field_id == field_id]
    overrides = tuple(dict.fromkeys(word for question in questions for word in _overrides(question)))
    return AskingForm(row.id or 0, document.title, bool(questions), overrides)


def _overrides(question: Question) -> list[str]:
    named = {
        "its label": question.label,
        "its help": question.help,
        "whether it is required": question.required is not None,
        "a rule": question.show_when,
        "its sample text": question.sample,
        "its width": question.width,
        "its default": question.default,
        "when it is required": question.required_when,
        "which options show": question.options_when,
        "a check": question.checks,
        "a surcharge": question.surcharges,
    }
    return [words for words, there in named.items() if there]


def set_forms_asking(scope: Scope, field_id: int, form_ids: Collection[int]) -> int:
    """Have exactly these forms ask for a field, in their drafts; gives how many changed.

    Raises NotFound for no such field, and InvalidInput where a form cannot ask it, or cannot do without.
    """
    with scope.transaction("editor") as unit:
        field_of(unit.catalogue, field_id)
        wrong = [form for form in forms_asking(scope, field_id) if form.asks != (form.id in form_ids)]
        for form in wrong:
            view = read_form(scope, form.id)
            if form.asks:
                for question in view.document.questions:
                    if question.field_id == field_id:
                        remove_part(scope, form.id, read_form(scope, form.id).revision, question.id)
            else:
                add_question(scope, form.id, view.revision, field_id)
        return len(wrong)
