"""How much goes on at once: office and front have each their share of threads, so that neither starves the other."""

import asyncio
from typing import Final
from weakref import WeakKeyDictionary

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from finesieve.core.errors import Unavailable
from finesieve.web.errors import plain_page

__all__ = ["Admission"]

_SHARES: Final = {"office": 16, "front": 12, "answers": 3, "talk": 2, "door": 4, "health": 2}
"""Requests at once; together fewer than the forty threads that run them.

Working out a form for the answers so far, and taking a reply, wait for nothing but the database, and briefly: more of
them at once only take turns, and each comes later for it.
"""
_WAIT: Final = 10
_FULL: Final = "The server is busy right now; try again in a moment."


def _share_of(path: str) -> str:
    """Whose share a request takes; "" for files, which run in no thread of ours."""
    if path.startswith("/static/"):
        return ""
    if path.endswith("/password") and path.startswith("/account/"):
        return "door"
    if path.startswith("/join/") and path.endswith("/answers"):
        return "answers"
    if path.startswith("/chat/"):
        return "talk"
    if path.startswith(("/join/", "/shop/", "/account/", "/pages/", "/answer/", "/handset/")):
        return "front"
    # Passwords take their time, and must not take that of those who are signed in.
    return "door" if path.startswith("/sign-in") else "health" if path == "/healthz" else "office"


class Admission:
    """Lets so many requests in at once; who waits longer than ten seconds is told to come back."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app
        self._gates: WeakKeyDictionary[asyncio.AbstractEventLoop, dict[str, asyncio.Semaphore]] = WeakKeyDictionary()

    def _gate(self, share: str) -> asyncio.Semaphore:
        gates = self._gates.setdefault(asyncio.get_running_loop(), {})
        return gates.setdefault(share, asyncio.Semaphore(_SHARES[share]))

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        share = _share_of(scope["path"]) if scope["type"] == "http" else ""
        if not share:
            await self._app(scope, receive, send)
            return
        gate = self._gate(share)
        try:
            await asyncio.wait_for(gate.acquire(), _WAIT)
        except TimeoutError:
            await plain_page(503, _FULL)(scope, receive, send)
            return

        held, sent_whole = True, False

        async def receive_outside() -> Message:
            # Whoever sends slowly takes no share while we wait for them; what comes later only says that they left.
            nonlocal held, sent_whole
            if sent_whole:
                return await receive()
            gate.release()
            held = False
            message = await receive()
            try:
                await asyncio.wait_for(gate.acquire(), _WAIT)
            except TimeoutError:
                raise Unavailable(_FULL) from None
            held, sent_whole = True, not message.get("more_body", False)
            return message

        try:
            await self._app(scope, receive_outside, send)
        finally:
            if held:
                gate.release()
