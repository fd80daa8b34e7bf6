"""The outbox: letters that would be sent."""

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.office.shared.desk import DeskHere
from finesieve.office.shared.follow_up import follow_up_sections
from finesieve.office.shared.frame import page
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.web.posted import whole_number
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/follow-up")


@router.get("")
def show_follow_up(desk: DeskHere) -> Response:
    """To the outbox."""
    return RedirectResponse(desk.path("follow-up/outbox"), 303)


@router.get("/outbox")
def show_outbox(request: Request, desk: DeskHere) -> Response:
    """The letters, newest first."""
    before = whole_number(request.query_params.get("before", ""))
    outbox = read_outbox(desk.scope, before)
    return page(
        request,
        desk,
        "office/follow_up/outbox.html",
        stage="follow-up",
        title="Outbox",
        sections=follow_up_sections(desk, "outbox"),
        outbox=outbox,
    )
