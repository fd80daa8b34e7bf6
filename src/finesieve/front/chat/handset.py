"""The stand-in for a text channel: a handset that sends messages to the house and shows what comes back."""

import secrets
from dataclasses import replace
from typing import Final

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.chat.plain import as_texts
from finesieve.core.errors import NotFound
from finesieve.core.forms.wording import wording_without_form
from finesieve.services.chat.holding import Line
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter
from finesieve.web.site import site_of
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter(prefix="/handset/{workspace}")
_FIRST: Final = "+447700900123"


def _address(text: str) -> str:
    """A number as it is known by: digits and a plus."""
    return "".join(sign for sign in text[:20] if sign.isdigit() or sign == "+") or _FIRST


@router.get("")
def show_handset(request: Request, workspace: str, number: str = _FIRST) -> Response:
    """The exchange with a number. Only where the demo runs: elsewhere a channel of one's own takes its place."""
    if not site_of(request).settings.demo:
        raise NotFound("There is no such page.")
    chats, address = site_of(request).public_chats, _address(number)
    lines, found = chats.texts(workspace, address)
    origin = str(request.base_url).rstrip("/")
    offers = [replace(one, target=origin + one.target) if one.kind == "apart" else one for one in found]
    shown: list[tuple[Line, tuple[str, ...]]] = []
    for place, line in enumerate(lines):
        last = place == len(lines) - 1
        texts = as_texts(line.text, line.more, offers if last and line.speaker == "house" else ())
        shown.append((line, (line.text,) if line.speaker == "person" else texts))
    context = {
        "workspace": workspace, "number": address, "lines": shown, "scripts": chats.by_text(workspace),
        "key": secrets.token_urlsafe(9), "say": wording_without_form("en"),
    }  # fmt: skip
    return render(request, "front/chat/handset.html", context)


@router.post("")
def send_text(request: Request, workspace: str, form: Posted) -> Response:
    """Send a text message from a number."""
    if not site_of(request).settings.demo:
        raise NotFound("There is no such page.")
    address = _address(form.text("number"))
    chats = site_of(request).public_chats
    chats.text(workspace, address, form.text("text"), form.text("key")[:60], form.text("script")[:60])
    return RedirectResponse(f"/handset/{workspace}?number={address.replace('+', '%2B')}", 303)
