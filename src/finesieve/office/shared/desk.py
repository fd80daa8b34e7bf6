"""Who is at work, in which workspace; every office route takes a desk."""

from dataclasses import dataclass
from typing import Annotated, Final
from urllib.parse import quote

from fastapi import Depends, Request
from starlette.responses import RedirectResponse

from finesieve.services.accounts.staff import SignedIn
from finesieve.services.kernel.scope import Scope
from finesieve.web.posted import Posted, PostedForm
from finesieve.web.security import same_site, same_token
from finesieve.web.site import site_of

__all__ = ["COOKIE", "Desk", "DeskHere", "NotSignedIn", "Staff", "StaffHere", "staff_here", "to_sign_in"]

COOKIE: Final = "finesieve_session"


class NotSignedIn(Exception):
    """The page needs somebody signed in."""


@dataclass(frozen=True, slots=True)
class Staff:
    """A signed-in browser."""

    signed_in: SignedIn
    token: str


@dataclass(frozen=True, slots=True)
class Desk:
    """A staff member at work in a workspace."""

    slug: str
    workspace: str
    zone: str
    language: str
    scope: Scope
    staff: SignedIn

    @property
    def may_edit(self) -> bool:
        return self.scope.may("editor")

    @property
    def may_correct(self) -> bool:
        return self.scope.may("clerk")

    def path(self, rest: str = "") -> str:
        """An address within the workspace: `path("sift/3")`."""
        return f"/w/{self.slug}/{rest}"


def staff_here(request: Request, form: Posted) -> Staff:
    """Who is signed in. A change must carry the session's secret and come from our own pages."""
    token = request.cookies.get(COOKIE, "")
    signed_in = site_of(request).accounts.who(token) if token else None
    if signed_in is None:
        raise NotSignedIn
    _must_come_from_here(request, form, signed_in)
    return Staff(signed_in, token)


def _must_come_from_here(request: Request, form: PostedForm, signed_in: SignedIn) -> None:
    if request.method not in ("GET", "HEAD"):
        same_site(request)
        same_token(request.headers.get("x-csrf") or form.text("csrf"), signed_in.csrf)


StaffHere = Annotated[Staff, Depends(staff_here)]


def desk_here(slug: str, request: Request, form: Posted) -> Desk:
    """The desk in the workspace of the address. Raises NotFound for one that is not theirs."""
    accounts = site_of(request).accounts
    found = accounts.who_enters(request.cookies.get(COOKIE, ""), slug)
    if found is None:
        staff = staff_here(request, form).signed_in
        found = staff, accounts.enter(slug, staff)
    signed_in, opened = found
    _must_come_from_here(request, form, signed_in)
    return Desk(opened.slug, opened.name, opened.zone, opened.language, opened.scope, signed_in)


DeskHere = Annotated[Desk, Depends(desk_here)]


def to_sign_in(request: Request, _error: Exception) -> RedirectResponse:
    """To the sign-in page, and back here afterwards."""
    here = request.url.path + (f"?{request.url.query}" if request.url.query else "")
    target = "/sign-in" + (f"?next={quote(here, safe='')}" if request.method == "GET" and here != "/" else "")
    response = RedirectResponse(target, 303)
    if request.headers.get("hx-request"):
        # A redirect would be followed inside the page; this moves the whole page.
        response.headers["HX-Redirect"] = target
        response.status_code = 200
    return response
