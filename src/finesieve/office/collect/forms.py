"""Forms: the list, and making one."""

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput
from finesieve.office.shared.collect import collect_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import page
from finesieve.services.define.groups import read_catalogue
from finesieve.services.forms.beginning import create_account_form, create_checkout
from finesieve.services.forms.forms import create_form, list_forms
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/collect")


@router.get("")
def show_collect(request: Request, desk: DeskHere) -> Response:
    """To the first form, or to making one."""
    forms = list_forms(desk.scope)
    if forms:
        return RedirectResponse(desk.path(f"collect/{forms[0].id}"), 303)
    return _new_page(request, desk, "", "")


@router.get("/new")
def new_form(request: Request, desk: DeskHere) -> Response:
    """The page that makes a form."""
    return _new_page(request, desk, "", "")


def _new_page(request: Request, desk: Desk, title: str, message: str, status: int = 200) -> Response:
    return page(
        request,
        desk,
        "office/collect/new.html",
        stage="collect",
        title="New form",
        sections=collect_sections(desk),
        typed=title,
        shop=read_catalogue(desk.scope).shop,
        message=message,
        status=status,
    )


@router.post("/new")
def make_form(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a form."""
    try:
        if form.text("channel") == "checkout":
            form_id = create_checkout(desk.scope, form.text("title"))
            return RedirectResponse(desk.path(f"collect/{form_id}/plan"), 303)
        make = create_account_form if form.text("channel") == "account" else create_form
        form_id = make(desk.scope, form.text("title"))
    except InvalidInput as problem:
        words = next(iter(problem.messages.values()))
        return _new_page(request, desk, form.text("title"), words, 422)
    return RedirectResponse(desk.path(f"collect/{form_id}"), 303)
