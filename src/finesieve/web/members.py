"""The cookie that a person is signed in by, in one workspace."""

from fastapi import Request
from starlette.responses import Response

from finesieve.services.accounts.members import SignedInMember
from finesieve.web.site import site_of

__all__ = ["forget_member", "member_of", "remember_member"]

_DAYS = 30


def _cookie(workspace: str) -> str:
    return f"member_{workspace}"[:80]


def member_of(request: Request, workspace: str) -> SignedInMember | None:
    """Who is signed in with this browser, None for nobody; looked up once for each request."""
    known: dict[str, SignedInMember | None] = request.scope.setdefault("finesieve.members", {})
    if workspace not in known:
        token = request.cookies.get(_cookie(workspace), "")[:100]
        known[workspace] = site_of(request).members.who(workspace, token) if token else None
    return known[workspace]


def remember_member(request: Request, response: Response, workspace: str, token: str) -> Response:
    """The answer, with the cookie of a new session."""
    response.set_cookie(
        _cookie(workspace), token, max_age=_DAYS * 86_400, path="/", httponly=True, samesite="lax",
        secure=request.url.scheme == "https" or site_of(request).settings.secure_cookies,
    )  # fmt: skip
    return response


def forget_member(response: Response, workspace: str) -> Response:
    """The answer, without the cookie."""
    response.delete_cookie(_cookie(workspace), path="/")
    return response
