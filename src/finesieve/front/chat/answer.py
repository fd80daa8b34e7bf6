"""A page of its own for what cannot be typed in a conversation."""

from fastapi import Request
from starlette.responses import Response

from finesieve.core.errors import LinkEnded
from finesieve.core.forms.wording import wording_without_form
from finesieve.services.chat.on_a_page import AskedOnPage
from finesieve.web.addresses import address_of
from finesieve.web.languages import accepted_languages
from finesieve.web.posted import Posted, takes_files
from finesieve.web.routing import PrefixRouter
from finesieve.web.site import site_of
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter(prefix="/answer/{workspace}/{token}")


@router.get("")
def show_question(request: Request, workspace: str, token: str) -> Response:
    """The question that a link leads to."""
    try:
        return _page(request, site_of(request).answer_pages.open(workspace, token))
    except LinkEnded as ended:
        return _ended(request, ended)


@router.post("")
@takes_files
def give_answer(request: Request, workspace: str, token: str, form: Posted) -> Response:
    """Take what was given; the page tells that it arrived, or what is wrong with it."""
    sent = {name.removeprefix("f_"): file for name, file in form.files.items()}
    pages = site_of(request).answer_pages
    try:
        asked = pages.give(workspace, token, form.values("a_"), sent, address_of(request))
    except LinkEnded as ended:
        return _ended(request, ended)
    return _page(request, asked, given=not asked.messages, status=422 if asked.messages else 200)


def _page(request: Request, asked: AskedOnPage, *, given: bool = False, status: int = 200) -> Response:
    return render(request, "front/chat/answer.html", {"asked": asked, "say": asked.say, "given": given}, status)


def _ended(request: Request, ended: LinkEnded) -> Response:
    say = wording_without_form(*accepted_languages(request.headers.get("accept-language", "")))
    return render(request, "front/signup/ended.html", {"why": str(ended), "say": say, "without": ""}, 404)
