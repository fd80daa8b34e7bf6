"""Headers on every answer, and the checks that a change was meant."""

import secrets
from collections.abc import Sequence
from typing import Final

from fastapi import Request
from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from finesieve.core.errors import NotAllowed

__all__ = ["SecurityHeaders", "framed_by", "same_site", "same_token", "style_nonce"]

CSP: Final = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'"
)
_HEADERS: Final = {
    "Content-Security-Policy": CSP,
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Permissions-Policy": "camera=(), geolocation=(), microphone=()",
}


class SecurityHeaders:
    """Puts the headers on every answer, and keeps all but static files out of caches."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return

        async def send_with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in _HEADERS.items():
                    headers[name] = value
                state = scope.get("state", {})
                sites, nonce = state.get("framed_by"), state.get("style_nonce")
                policy = CSP
                if sites:
                    del headers["X-Frame-Options"]  # which knows no sites
                    policy = policy.replace("frame-ancestors 'none'", f"frame-ancestors {sites}")
                if nonce:
                    policy = policy.replace("style-src 'self'", f"style-src 'self' 'nonce-{nonce}'")
                headers["Content-Security-Policy"] = policy
                if not scope["path"].startswith("/static/"):
                    headers["Cache-Control"] = "no-store"
                elif scope["query_string"].startswith(b"v="):
                    # Its address changes with what is in it.
                    headers["Cache-Control"] = "public, max-age=31536000, immutable"
            await send(message)

        await self._app(scope, receive, send_with_headers)


def framed_by(request: Request, sites: Sequence[str]) -> None:
    """Let pages of these sites, and of no other, show the answer within them."""
    if sites:
        request.state.framed_by = " ".join(sites)


def style_nonce(request: Request) -> str:
    """What a script of ours must know to add styles to the page that is answered with."""
    nonce = secrets.token_urlsafe(16)
    request.state.style_nonce = nonce
    return nonce


def same_site(request: Request) -> None:
    """Refuse a change that another site has sent the browser to make. Raises NotAllowed."""
    origin = request.headers.get("origin")
    site = request.headers.get("sec-fetch-site", "same-origin")
    if site not in ("same-origin", "none") or (origin and origin.partition("://")[2] != request.headers.get("host")):
        raise NotAllowed("This change came from another site and was not made.")


def same_token(given: str, known: str) -> None:
    """Refuse a change whose form does not carry the secret of the session. Raises NotAllowed."""
    if not secrets.compare_digest(given.encode(), known.encode()):
        raise NotAllowed("This page is from an earlier session; load it again and repeat the change.")
