"""Pages of the office come at once: figures that take long come first as estimates, and exactly after the page."""

from contextlib import AbstractContextManager, nullcontext

from starlette.datastructures import Headers
from starlette.types import ASGIApp, Receive, Scope, Send

from finesieve.store.reading.kept import in_a_hurry, in_no_hurry

__all__ = ["EXACT", "Hurried"]

EXACT = "x-exact"
"""The header by which a page that has shown estimates asks for itself again."""
_SHOWS = ("/meshes", "/rehearse", "/effect")
"""Posts that answer with a page of figures. All others may decide by them, and have them exact."""


class Hurried:
    """Says of each request whether it is in a hurry."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        with self._pace(scope):
            await self._app(scope, receive, send)

    def _pace(self, scope: Scope) -> AbstractContextManager[object]:
        if scope["type"] != "http" or not scope["path"].startswith(("/w/", "/join/")):
            return nullcontext()
        if EXACT in Headers(scope=scope):
            return in_no_hurry()
        shows = scope["method"] in ("GET", "HEAD") or scope["path"].endswith(_SHOWS)
        return in_a_hurry() if shows or scope["path"].startswith("/join/") else nullcontext()
