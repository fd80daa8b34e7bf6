"""Setting a form's questions against the options of a choice: changes of its draft."""

from collections.abc import Sequence
from typing import Any

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.forms.definition import Form, Question
from finesieve.core.forms.sowing import Asked, asked_of, must_ask, name_in, rules_for, sowable
from finesieve.core.model.catalogue import LEVEL_QUESTION, Catalogue
from finesieve.services.forms.drafting import change_draft, sections_changed
from finesieve.services.kernel.scope import Scope, Unit

__all__ = ["choices_to_sow_by", "set_asked"]


def choices_to_sow_by(catalogue: Catalogue, form: Form) -> list[Field]:
    """The choices that questions can be set against: those that the form asks first, then the role."""
    asked = {question.field_id for question in form.questions}
    level = [catalogue.by_id[LEVEL_QUESTION]] if LEVEL_QUESTION in asked and LEVEL_QUESTION in catalogue.by_id else []
    known = [*level, *catalogue.stored_about(PERSON)]
    fitting = [one for one in known if sowable(one) and not one.settings.resting]
    return sorted(fitting, key=lambda one: (one.id not in asked, one.key != "role"))


def set_asked(
    scope: Scope, form_id: int, revision: int, by: int, questions: Sequence[str], columns: Sequence[str], how: Asked
) -> int:
    """Let these questions be asked like this of whoever has chosen one of these options of a field.

    Gives the id for undoing. Questions whose rules read something else are passed over, as is one that must be asked
    where several are changed. Raises NotFound for no such field, question or option, and InvalidInput where nobody
    would be asked any more.
    """

    def change(unit: Unit, form: Form) -> tuple[str, dict[str, Any]]:
        field = next((one for one in choices_to_sow_by(unit.catalogue, form) if one.id == by), None)
        if field is None or not set(questions) <= {one.id for one in form.questions}:
            raise NotFound("There is no such question, or no such choice.")

        def one(item: Any) -> Any:
            if not isinstance(item, Question) or item.id not in questions or item.field_id == by:
                return item
            known = unit.catalogue.by_id.get(item.field_id)
            now = asked_of(item, known, field, form, unit.catalogue) if known is not None else None
            if known is None or now is None:
                return item
            if not set(columns) <= set(now):
                raise NotFound("There is no such option.")
            if must_ask(known, form) and how != "required":
                if len(questions) > 1:
                    return item  # of a whole column it is left as it is
                raise InvalidInput({"sow": "A person is known by the email: ask it always, and require it."})
            try:
                return item.model_copy(update=rules_for(now | dict.fromkeys(columns, how), field, name_in(form, field)))
            except ValueError as problem:
                raise InvalidInput({"sow": f"{item.label or known.label}: {problem}"}) from None

        changed = sections_changed(form, lambda part: part.model_copy(update={"items": tuple(map(one, part.items))}))
        return f"Changed who is asked, by {field.label.lower()}", changed

    return change_draft(scope, form_id, revision, change, "none")
