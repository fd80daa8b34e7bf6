"""Personal links: their kinds, what has become of those that were sent, and taking them back."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, Overtaken
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.follow_up import follow_up_sections
from finesieve.office.shared.frame import back_with, page
from finesieve.services.follow_up.personal_links import (
    PersonalLinkInput,
    change_personal_link,
    chats_to_open,
    create_personal_link,
    forms_to_open,
    list_personal_links,
    remove_personal_link,
    revoke_all,
)
from finesieve.services.kernel.inputs import read_input, read_shown
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/follow-up/links")


@router.get("")
def show_links(request: Request, desk: DeskHere) -> Response:
    """All kinds of personal links, and a new one."""
    return _page(request, desk, 0, {}, {})


def _page(
    request: Request,
    desk: Desk,
    editing: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
    clash: Overtaken | None = None,
) -> Response:
    lines = list_personal_links(desk.scope)
    return page(
        request, desk, "office/follow_up/links.html", stage="follow-up", title="Personal links",
        sections=follow_up_sections(desk, "links"), lines=lines, forms=forms_to_open(desk.scope),
        chats=chats_to_open(desk.scope), editing=editing,
        typed=typed, messages=messages, clash=clash, status=status, revoked=request.query_params.get("revoked", ""),
        new=PersonalLinkInput.model_construct(name=""), asked={one.id: one.asked for one in lines},
    )  # fmt: skip


@router.post("")
def make_link(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a kind."""
    try:
        create_personal_link(desk.scope, read_input(PersonalLinkInput, form.data))
    except InvalidInput as problem:
        return _page(request, desk, 0, form.data, problem.messages, 422)
    return RedirectResponse(desk.path("follow-up/links"), 303)


@router.post("/{personal_id:int}")
def save_link(request: Request, desk: DeskHere, personal_id: int, form: Posted) -> Response:
    """Change a kind, take back all that were sent, or remove it."""
    try:
        if form.text("action") == "revoke":
            return RedirectResponse(desk.path(f"follow-up/links?revoked={revoke_all(desk.scope, personal_id)}"), 303)
        if form.text("action") == "remove":
            remove_personal_link(desk.scope, personal_id)
            return RedirectResponse(desk.path("follow-up/links"), 303)
        asked, was = read_input(PersonalLinkInput, form.data), read_shown(PersonalLinkInput, form.was)
        return back_with(desk.path("follow-up/links"), change_personal_link(desk.scope, personal_id, asked, was))
    except InvalidInput as problem:
        return _page(request, desk, personal_id, form.data, problem.messages, 422)
    except Overtaken as clash:
        return _page(request, desk, personal_id, form.data, {}, 409, clash)
