"""Handing out a form: its address, a picture of it to scan, and a snippet for pages of other sites."""

from collections.abc import Mapping
from io import BytesIO

import segno
from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.office.collect.contents import pages_of
from finesieve.office.shared.collect import collect_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.forms.forms import FormView, read_form
from finesieve.services.forms.sharing import embed_on
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/collect/{form_id:int}/share")


def _address(request: Request, desk: Desk, view: FormView) -> str:
    """Where the form is, as one hands it out."""
    return f"{request.url.scheme}://{request.url.netloc}/join/{desk.slug}/{view.slug}"


@router.get("")
def show_sharing(request: Request, desk: DeskHere, form_id: int) -> Response:
    """The address, the picture, the snippet."""
    return _page(request, desk, form_id, None, {})


def _page(
    request: Request, desk: Desk, form_id: int, typed: str | None, messages: Mapping[str, str], status: int = 200
) -> Response:
    view = read_form(desk.scope, form_id)
    if view.document.channel != "sign-up":
        return RedirectResponse(desk.path(f"collect/{form_id}"), 303)
    return page(
        request, desk, "office/collect/share.html", stage="collect", title=f"Share: {view.document.title}",
        sections=collect_sections(desk, form_id), view=view, tabs=pages_of(view.document),
        address=_address(request, desk, view),
        sites="\n".join(view.document.embed_on) if typed is None else typed, messages=messages, status=status,
        origin=f"{request.url.scheme}://{request.url.netloc}",
    )  # fmt: skip


@router.post("")
def save_sites(request: Request, desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Name the sites that may embed it."""
    try:
        change = embed_on(desk.scope, form_id, form.number("revision"), form.text("sites"))
    except InvalidInput as problem:
        return _page(request, desk, form_id, form.text("sites"), problem.messages, 422)
    return back_with(desk.path(f"collect/{form_id}/share"), change)


@router.get("/code.svg")
def show_code(request: Request, desk: DeskHere, form_id: int) -> Response:
    """The address as a picture to scan."""
    view = read_form(desk.scope, form_id)
    if view.document.channel != "sign-up":
        raise NotFound("There is no such picture.")
    made = BytesIO()
    segno.make(_address(request, desk, view), error="m").save(made, kind="svg", scale=6, border=3, light="#ffffff")
    headers = {"Content-Disposition": f'inline; filename="{view.slug}.svg"'}
    return Response(made.getvalue(), media_type="image/svg+xml", headers=headers)
