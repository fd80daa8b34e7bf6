"""Signing in and out, where one is signed in, a password, all that is kept; the account itself is a form."""

from typing import Any

from fastapi import Request
from starlette.background import BackgroundTask
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, NotFound, TooOften, Unavailable
from finesieve.core.forms.wording import Wording, wording_without_form
from finesieve.services.accounts.members import SignedInMember
from finesieve.web.addresses import address_of
from finesieve.web.downloads import as_download
from finesieve.web.errors import status_of
from finesieve.web.languages import accepted_languages
from finesieve.web.members import forget_member, member_of, remember_member
from finesieve.web.posted import Posted, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.security import same_site
from finesieve.web.site import site_of
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter(prefix="/account/{workspace}")


class _Head:
    """What the layout needs of a page."""

    def __init__(self, house: str, language: str, say: Wording) -> None:
        self.house, self.language, self.say = house, language, say


def _say(request: Request, wished: str = "") -> Wording:
    wished = wished or request.query_params.get("lang", "")
    return wording_without_form(
        *((wished[:3],) if wished else accepted_languages(request.headers.get("accept-language", "")))
    )


def _page(request: Request, workspace: str, template: str, status: int = 200, **context: Any) -> Response:
    house, language, _ = site_of(request).members.form_of(workspace)
    say = _say(request)
    head = {"opened": _Head(house, language, say), "say": say, "workspace": workspace}
    return render(request, f"front/account/{template}.html", {**head, **context}, status)


@router.get("")
def show_account(request: Request, workspace: str) -> Response:
    """The account of whoever is signed in, which is a form; else the way in."""
    if member_of(request, workspace) is None:
        return _page(request, workspace, "sign_in", email="", message="", sent=False)
    _, _, form = site_of(request).members.form_of(workspace)
    return RedirectResponse(f"/join/{workspace}/{form}", 303)


@router.get("/files/{field_id:int}")
def open_own_file(request: Request, workspace: str, field_id: int) -> Response:
    """A file that is kept of whoever is signed in, as a download."""
    member = member_of(request, workspace)
    if member is None:
        return RedirectResponse(f"/account/{workspace}", 303)
    site = site_of(request)
    return as_download(site.members.file_of(workspace, member, field_id, site.files))


@router.get("/link/{key}")
def follow_link(request: Request, workspace: str, key: str) -> Response:
    """Where a personal link on a page leads: to its form, by a new link of whoever is signed in."""
    member = member_of(request, workspace)
    if member is None:
        return RedirectResponse(f"/account/{workspace}", 303)
    return RedirectResponse(site_of(request).members.link_to(workspace, member, key[:80]), 303)


@router.post("/link")
def ask_link(request: Request, workspace: str, form: Posted) -> Response:
    """Send a link to sign in by. The answer is the same for every address; it goes out before anything is looked up."""
    same_site(request)
    members, say, email = site_of(request).members, _say(request, form.text("lang")), form.text("email")[:254]
    try:
        members.count_asking(workspace, address_of(request))
    except TooOften as problem:
        return _page(request, workspace, "sign_in", 429, email=email, message=str(problem), sent=False)
    if "@" not in email:
        words = "Write your email address, such as wren@allotment.example."
        return _page(request, workspace, "sign_in", 422, email=email, message=words, sent=False)
    answer = _page(request, workspace, "sign_in", email=email, message="", sent=True)
    answer.background = BackgroundTask(members.ask_link, workspace, email, say)
    return answer


@router.post("/password")
def sign_in(request: Request, workspace: str, form: Posted) -> Response:
    """Sign in by a password."""
    same_site(request)
    members, email = site_of(request).members, form.text("email")[:254]
    members.form_of(workspace)
    try:
        browser = request.headers.get("user-agent", "")
        token = members.sign_in(workspace, email, form.text("password"), address_of(request), browser)
    except (InvalidInput, TooOften, Unavailable) as problem:
        return _page(
            request,
            workspace,
            "sign_in",
            status_of(problem),
            email=email,
            message=str(problem),
            sent=False,
            by="password",
        )
    return remember_member(request, RedirectResponse(f"/account/{workspace}", 303), workspace, token)


@router.get("/enter")
def show_link(request: Request, workspace: str, link: str = "") -> Response:
    """Where the link of a message leads: one button. Looking does not use it, since mail programs look, too."""
    known = site_of(request).members.knows_link(workspace, link[:100])
    return _page(request, workspace, "enter", 200 if known else 404, link=link[:100], known=known)


@router.post("/enter")
def enter(request: Request, workspace: str, form: Posted) -> Response:
    """Sign in by the link."""
    same_site(request)
    members = site_of(request).members
    try:
        token = members.enter(workspace, form.text("link")[:100], request.headers.get("user-agent", ""))
    except NotFound:
        return _page(request, workspace, "enter", 404, link="", known=False)
    return remember_member(request, RedirectResponse(f"/account/{workspace}", 303), workspace, token)


def _member(request: Request, workspace: str) -> SignedInMember | None:
    same_site(request)
    site_of(request).members.form_of(workspace)  # there is no other way to be sure of the address
    return member_of(request, workspace)


@router.post("/out")
def sign_out(request: Request, workspace: str) -> Response:
    """End this session."""
    member = _member(request, workspace)
    if member is not None:
        site_of(request).members.end_sessions(workspace, member)
    return forget_member(RedirectResponse(f"/account/{workspace}", 303), workspace)


@router.post("/sessions")
def end_session(request: Request, workspace: str, form: Posted) -> Response:
    """End one session of theirs, or all but this."""
    member = _member(request, workspace)
    if member is not None:
        one = whole_number(form.text("session")) or 0
        site_of(request).members.end_sessions(workspace, member, one, others=not one)
    return RedirectResponse(f"/account/{workspace}/security", 303)


@router.get("/security")
def show_security(request: Request, workspace: str) -> Response:
    """Where they are signed in, and their password."""
    member = member_of(request, workspace)
    if member is None:
        return RedirectResponse(f"/account/{workspace}", 303)
    return _security(request, workspace, member, {})


def _security(
    request: Request, workspace: str, member: SignedInMember, messages: dict[str, str], status: int = 200
) -> Response:
    view = site_of(request).members.ways_in(workspace, member)
    saved = request.query_params.get("saved", "")
    return _page(request, workspace, "security", status, view=view, messages=messages, saved=saved)


@router.post("/security")
def set_password(request: Request, workspace: str, form: Posted) -> Response:
    """Set a password, change it, or take it away."""
    member = _member(request, workspace)
    if member is None:
        return RedirectResponse(f"/account/{workspace}", 303)
    wanted = "" if form.text("action") == "remove" else form.text("password")
    try:
        if form.text("action") != "remove" and not wanted:
            raise InvalidInput({"password": "Choose a password of at least 10 characters."})
        site_of(request).members.set_password(workspace, member, wanted, form.text("current"))
    except InvalidInput as problem:
        return _security(request, workspace, member, problem.messages, 422)
    return RedirectResponse(f"/account/{workspace}/security?saved=1", 303)


@router.get("/everything.json")
def download(request: Request, workspace: str) -> Response:
    """All that is kept of whoever is signed in."""
    member = member_of(request, workspace)
    if member is None:
        return RedirectResponse(f"/account/{workspace}", 303)
    text = site_of(request).members.everything(workspace, member)
    headers = {"Content-Disposition": 'attachment; filename="kept-of-me.json"'}
    return Response(text, media_type="application/json", headers=headers)
