"""A conversation on the web: opening it, replying, and what a clerk says meanwhile."""

import secrets
from typing import Any, Final
from urllib.parse import urlencode

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.chat.turn import Reply
from finesieve.core.errors import LinkEnded, NotFound
from finesieve.core.forms.wording import wording_without_form
from finesieve.services.chat.holding import OpenChat, Visitor
from finesieve.web.addresses import address_of
from finesieve.web.languages import accepted_languages
from finesieve.web.members import member_of
from finesieve.web.posted import Posted, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.security import framed_by
from finesieve.web.site import site_of
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter(prefix="/chat/{workspace}/{script}")
_DAYS: Final = 30
_INPUTS: Final = {
    "number": ("text", "decimal"), "money": ("text", "decimal"), "email": ("email", "email"), "phone": ("tel", "tel"),
    "date": ("text", "text"), "url": ("url", "url"),
}  # fmt: skip


def _cookie(workspace: str, script: str) -> str:
    return f"chat_{workspace}_{script}"[:120]


def _visitor(
    request: Request, workspace: str, script: str, token: str = "", me: str = "", begins: bool = False
) -> Visitor:
    member = member_of(request, workspace)
    wished = request.query_params.get("lang", "")[:3]
    languages = (wished,) if wished else accepted_languages(request.headers.get("accept-language", ""))
    known = token or request.cookies.get(_cookie(workspace, script), "")[:100]
    person = member.person_id if member is not None else 0
    return Visitor(
        known, person, tuple(one[:3] for one in languages), me or request.query_params.get("me", "")[:200], begins
    )


def _context(request: Request, workspace: str, script: str, opened: OpenChat, me: str = "") -> dict[str, Any]:
    kind = opened.expects["kind"] if opened.expects else ""
    framed_by(request, opened.embed_on)
    return {
        "opened": opened, "say": opened.say, "workspace": workspace, "script": script, "key": secrets.token_urlsafe(9),
        "input": _INPUTS.get(kind, ("text", "text")), "embedded": "embed" in request.query_params,
        "waits": opened.mode == "clerk" or (opened.mode == "script" and opened.expects is None),
        "base": f"/chat/{workspace}/{script}", "me": me or request.query_params.get("me", "")[:200],
        "language": opened.say.language,
    }  # fmt: skip


@router.get("")
def show_chat(request: Request, workspace: str, script: str) -> Response:
    """The conversation, or the beginning of one; nothing is kept before somebody replies."""
    try:
        opened = site_of(request).public_chats.open(workspace, script, _visitor(request, workspace, script))
    except LinkEnded as ended:
        return _ended(request, ended)
    return render(request, "front/chat/chat.html", _context(request, workspace, script, opened))


def _ended(request: Request, ended: LinkEnded) -> Response:
    say = wording_without_form(*accepted_languages(request.headers.get("accept-language", "")))
    context = {"why": str(ended), "say": say, "without": request.url.path}
    return render(request, "front/signup/ended.html", context, 404)


@router.post("")
def reply(request: Request, workspace: str, script: str, form: Posted) -> Response:
    """Take a reply: a part of the page with what was said since; without scripts, the whole page again."""
    visitor = _visitor(
        request, workspace, script, form.text("token")[:100], form.text("me")[:200], form.text("begins") == "1"
    )
    pressed = form.text("press")[:200]
    said = Reply(
        form.text("key")[:60] or secrets.token_urlsafe(9), "" if pressed else form.text("text")[:2_000], pressed
    )
    chats = site_of(request).public_chats
    try:
        opened = chats.reply(workspace, script, visitor, said, address_of(request))
    except LinkEnded as ended:
        return _ended(request, ended)
    if request.headers.get("hx-request"):
        answer: Response = render(
            request, "front/chat/_said.html", _context(request, workspace, script, opened, visitor.me)
        )
    else:
        query = {"embed": "1"} if "embed" in request.query_params else {}
        query |= {"me": visitor.me} if visitor.me else {}
        answer = RedirectResponse(f"/chat/{workspace}/{script}?{urlencode(query)}".rstrip("?"), 303)
    answer.set_cookie(
        _cookie(workspace, script), visitor.token, max_age=_DAYS * 86_400, path=f"/chat/{workspace}/{script}",
        httponly=True, samesite="lax",
        secure=request.url.scheme == "https" or site_of(request).settings.secure_cookies,
    )  # fmt: skip
    return answer


@router.get("/news")
def news(request: Request, workspace: str, script: str, after: str = "0") -> Response:
    """What a clerk has said since, or what came of a wait; nothing where nothing has."""
    visitor = _visitor(request, workspace, script, request.headers.get("x-talk", "")[:100])
    try:
        last = whole_number(after) or 0
        opened = site_of(request).public_chats.news(workspace, script, visitor, last)
    except NotFound:
        return Response(status_code=204)
    waits = opened.mode == "clerk" or (opened.mode == "script" and opened.expects is None)
    if not opened.lines and waits:
        return Response(status_code=204)
    return render(request, "front/chat/_said.html", _context(request, workspace, script, opened))


@router.get("/pictures/{key}")
def picture(request: Request, workspace: str, script: str, key: str) -> Response:
    """A picture of the house that the conversation shows."""
    opened = site_of(request).public_chats.picture(workspace, script, key[:80])
    headers = {"Cache-Control": "private, max-age=300", "Content-Disposition": "inline"}
    return Response(opened.data, media_type=opened.file.media_type, headers=headers)
