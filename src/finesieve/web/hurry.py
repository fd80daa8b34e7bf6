"""Pages of the office come at once: figures that take long come first as estimates, and exactly after the page."""

from starlette.datastructures import Headers
from starlette.types import ASGIApp, Receive, Scope, Send

from finesieve.store.kept import in_a_hurry, in_no_hurry

__all__ = ["EXACT", "Hurried"]

EXACT = "x-exact"
"""The header by which a page that has shown estimates asks for itself again."""
_SHOWS = ("/meshes", "/rehearse")
"""Posts that answer with a page of figures. All others may decide by them, and have them exact."""


class Hurried:
    """Says of each request whether it is in a hurry."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or not scope["path"].startswith(("/w/", "/join/")):
            await self._app(scope, receive, send)
            return
        shows = scope["method"] in ("GET", "HEAD") or scope["path"].endswith(_SHOWS)
        exact = EXACT in Headers(scope=scope)
        if exact:
            with in_no_hurry():
                await self._app(scope, receive, send)
        elif shows or scope["path"].startswith("/join/"):
            with in_a_hurry():
                await self._app(scope, receive, send)
        else:
            await self._app(scope, receive, send)
