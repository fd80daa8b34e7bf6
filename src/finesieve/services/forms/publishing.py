"""Before publishing: what the draft would change, what keeps it, and what its cases say."""

from dataclasses import dataclass

from finesieve.core.forms.compare import FormDifference
from finesieve.core.forms.definition import Form
from finesieve.services.forms.cases import CaseResult, run_cases
from finesieve.services.forms.forms import FormView, form_of, publish_form, read_form, unpublished_differences
from finesieve.services.kernel.scope import Scope

__all__ = ["Proof", "proof_of", "publish"]


@dataclass(frozen=True, slots=True)
class Proof:
    """A form ready to be looked over before it is published."""

    view: FormView
    differences: tuple[FormDifference, ...]
    cases: tuple[CaseResult, ...]

    @property
    def failing(self) -> tuple[CaseResult, ...]:
        return tuple(case for case in self.cases if not case.passes)


def proof_of(scope: Scope, form_id: int) -> Proof:
    """Compare the draft with the version in force, and run all cases against it. Raises NotFound."""
    view = read_form(scope, form_id)
    with scope.reading("reader") as unit:
        cases = run_cases(unit, form_id, Form.model_validate(form_of(unit, form_id).draft))
    return Proof(view, unpublished_differences(scope, form_id), cases)


def publish(scope: Scope, form_id: int, revision: int, *, anyway: bool) -> int:
    """Publish the draft; gives the version, or 0 where cases came out otherwise and that was not accepted.

    Raises as `publish_form` does.
    """
    if not anyway and proof_of(scope, form_id).failing:
        return 0
    return publish_form(scope, form_id, revision)
