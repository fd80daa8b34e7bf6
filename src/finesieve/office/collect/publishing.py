"""Publishing: what a draft would change and what its cases say; versions, and going back to one."""

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput
from finesieve.office.collect.contents import pages_of
from finesieve.office.shared.collect import collect_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.forms.cases import accept_case
from finesieve.services.forms.forms import form_versions, read_form, return_to_version
from finesieve.services.forms.publishing import proof_of, publish
from finesieve.services.upkeep.form_findings import findings_of_form
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/collect/{form_id:int}")


@router.get("/publish")
def show_proof(request: Request, desk: DeskHere, form_id: int) -> Response:
    """What publishing would change, what keeps it, and how the cases come out."""
    return _proof(request, desk, form_id)


def _proof(request: Request, desk: Desk, form_id: int, message: str = "", status: int = 200) -> Response:
    proof = proof_of(desk.scope, form_id)
    return page(
        request,
        desk,
        "office/collect/publish.html",
        stage="collect",
        title=f"Publish {proof.view.document.title}",
        sections=collect_sections(desk, form_id),
        view=proof.view,
        proof=proof,
        findings=findings_of_form(desk.scope, form_id),
        tabs=pages_of(proof.view.document),
        message=message,
        status=status,
    )


@router.post("/publish")
def put_in_force(request: Request, desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Put the draft in force; where a case comes out otherwise, only once that is accepted."""
    try:
        version = publish(desk.scope, form_id, form.number("revision"), anyway=form.text("anyway") == "yes")
    except InvalidInput as problem:
        return _proof(request, desk, form_id, next(iter(problem.messages.values())), 422)
    if not version:
        return _proof(
            request, desk, form_id, "The result of a case differs from what is expected. Look at it first.", 409
        )
    return RedirectResponse(desk.path(f"collect/{form_id}?published=1"), 303)


@router.post("/cases/{case_id:int}/accept")
def accept(desk: DeskHere, form_id: int, case_id: int) -> Response:
    """Expect from now on what comes of the draft today."""
    accept_case(desk.scope, form_id, case_id)
    return RedirectResponse(desk.path(f"collect/{form_id}/publish"), 303)


@router.get("/versions")
def show_versions(request: Request, desk: DeskHere, form_id: int) -> Response:
    """All published versions, each with what it changed."""
    view = read_form(desk.scope, form_id)
    return page(
        request,
        desk,
        "office/collect/versions.html",
        stage="collect",
        title=f"Versions of {view.document.title}",
        sections=collect_sections(desk, form_id),
        view=view,
        versions=form_versions(desk.scope, form_id),
        draft=proof_of(desk.scope, form_id).differences,
        tabs=pages_of(view.document),
    )


@router.post("/versions/{number:int}/return")
def go_back(desk: DeskHere, form_id: int, number: int) -> Response:
    """Make an earlier version the draft."""
    return back_with(desk.path(f"collect/{form_id}"), return_to_version(desk.scope, form_id, number))
