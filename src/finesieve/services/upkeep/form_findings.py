"""What is wrong or wasteful in the rules of forms: never true, always true, contradicting, asking too early."""

from typing import Final

from finesieve.core.forms.definition import Form
from finesieve.core.reasoning.findings import FormRule
from finesieve.core.reasoning.rules import RuleFinding, reason_about
from finesieve.services.forms.forms import form_of
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.usage.documents import documents_of_forms

__all__ = ["findings_of_form", "rules_of_forms"]

_MOST_KEPT: Final = 32
_kept: dict[tuple[str, int, int], tuple[FormRule, ...]] = {}


def findings_of_form(scope: Scope, form_id: int, only: str = "") -> tuple[RuleFinding, ...]:
    """What reasoning finds in the draft of a form, or at one part of it. Raises NotFound."""
    with scope.reading("reader") as unit:
        document = Form.model_validate(form_of(unit, form_id).draft)
        found = reason_about(document, unit.catalogue, unit.moment, only)
        return tuple(one for one in found if one.kind != "unexamined")


def rules_of_forms(unit: Unit) -> tuple[FormRule, ...]:
    """What reasoning finds in all forms, drafts and versions in force; kept for as long as no definition changes."""
    database = str(unit.session.get_bind().engine.url.render_as_string(hide_password=True))
    key = (database, unit.workspace_id, unit.catalogue.version)
    if key not in _kept:
        while len(_kept) >= _MOST_KEPT:
            _kept.pop(next(iter(_kept)), None)
        _kept[key] = _found(unit)
    return _kept[key]


def _found(unit: Unit) -> tuple[FormRule, ...]:
    found = []
    for form in documents_of_forms(unit):
        for one in reason_about(form.document, unit.catalogue, unit.moment):
            if one.kind != "unexamined":
                question = form.document.question(one.place)
                field_id = question.field_id if question and question.field_id in unit.catalogue.by_id else 0
                found.append(FormRule(form.id, form.name, field_id, one))
    return tuple(found)
