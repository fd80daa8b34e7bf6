"""What is wrong or wasteful in one form: rules that never are true, always are, contradict, ask too early."""

from finesieve.core.forms.definition import Form
from finesieve.core.forms.reasoning import RuleFinding, reason_about
from finesieve.services.collect import form_of
from finesieve.services.scope import Scope, Unit

__all__ = ["findings_of_form", "rule_findings"]


def rule_findings(unit: Unit, document: Form) -> tuple[RuleFinding, ...]:
    """What reasoning finds in a document; what it did not examine is left out."""
    return tuple(one for one in reason_about(document, unit.catalogue, unit.moment) if one.kind != "unexamined")


def findings_of_form(scope: Scope, form_id: int) -> tuple[RuleFinding, ...]:
    """What reasoning finds in the draft of a form. Raises NotFound."""
    with scope.transaction("reader") as unit:
        return rule_findings(unit, Form.model_validate(form_of(unit, form_id).draft))
