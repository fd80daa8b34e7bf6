"""From our errors to answers: the status each deserves, in plain words."""

import logging
from typing import Final

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect
from starlette.responses import HTMLResponse, Response

from finesieve.core.errors import (
    Conflict,
    FineSieveError,
    InvalidInput,
    NotAllowed,
    NotFound,
    TooOften,
    Unavailable,
)
from finesieve.web.templating import render, render_text

__all__ = ["add_error_pages", "plain_page", "status_of"]

_log: Final = logging.getLogger("finesieve")
_STATUS: Final = (
    (NotFound, 404),
    (NotAllowed, 403),
    (Conflict, 409),
    (InvalidInput, 422),
    (TooOften, 429),
    (Unavailable, 503),
)
_TITLES: Final = {
    400: "That could not be read",
    403: "Not for this role",
    404: "Nothing here",
    405: "Not that way",
    409: "It has changed meanwhile",
    413: "Too large",
    415: "Not that kind",
    422: "Something does not fit",
    429: "Too much at once",
    500: "Something broke on our side",
    503: "Try again in a moment",
}


def status_of(error: FineSieveError) -> int:
    """The HTTP status for one of our errors."""
    return next((status for kind, status in _STATUS if isinstance(error, kind)), 500)


def _page(request: Request, status: int, message: str) -> Response:
    title = _TITLES.get(status, "That did not work")
    return render(request, "web/error.html", {"title": title, "message": message, "status": status}, status)


def plain_page(status: int, message: str) -> Response:
    """The page of an error that is met before any route is."""
    title = _TITLES.get(status, "That did not work")
    return HTMLResponse(
        render_text("web/error.html", {"title": title, "message": message, "status": status}), status_code=status
    )


def add_error_pages(app: FastAPI) -> None:
    """Answer every error with a page that says what to do."""

    @app.exception_handler(FineSieveError)
    def ours(request: Request, error: FineSieveError) -> Response:
        status = status_of(error)
        message = (
            str(error)
            if status < 500 or status == 503
            else "Nothing was changed. Try again; if it stays, tell us when it happened."
        )
        return _page(request, status, message)

    @app.exception_handler(HTTPException)
    def http(request: Request, error: HTTPException) -> Response:
        message = "There is no such page." if error.status_code == 404 else str(error.detail)
        return _page(request, error.status_code, message)

    @app.exception_handler(RequestValidationError)
    def address(request: Request, error: RequestValidationError) -> Response:
        in_path = any(problem["loc"][0] == "path" for problem in error.errors())
        if in_path:
            return _page(request, 404, "There is no such page.")
        return _page(request, 422, "A part of the address or the form cannot be read; go back and try again.")

    @app.exception_handler(ClientDisconnect)
    def gone(_request: Request, _error: ClientDisconnect) -> Response:
        # Nobody reads this any more, and nothing is wrong with us.
        return Response(status_code=400)

    @app.exception_handler(Exception)
    def anything(request: Request, error: Exception) -> Response:
        _log.error("unexpected at %s", request.url.path, exc_info=error)
        return _page(request, 500, "Nothing was changed. Try again; if it stays, tell us when it happened.")
