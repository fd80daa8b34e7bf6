"""Signing in and out, choosing and making a workspace."""

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, NotFound, TooOften, Unavailable
from finesieve.core.fields.manner import PLAIN
from finesieve.core.setup.schema import read_schema
from finesieve.core.setup.workspace import workspace_of
from finesieve.office.shared.desk import COOKIE, DeskHere, StaffHere
from finesieve.services.accounts.staff import NewWorkspace
from finesieve.services.kernel.changes import undo_change
from finesieve.services.kernel.inputs import read_input
from finesieve.services.people.putting_back import put_back
from finesieve.services.transfer.setups import list_starters, load_setup, starter_text
from finesieve.web.addresses import address_of
from finesieve.web.errors import status_of
from finesieve.web.posted import Posted, PostedForm, takes_files
from finesieve.web.routing import PrefixRouter
from finesieve.web.security import same_site
from finesieve.web.site import Site, site_of
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter()

DEMO_EMAIL = "maud@brackenfold.example"
DEVICE = "finesieve_device"
_DEVICE_SECONDS = 180 * 24 * 3_600


def _local(path: str, otherwise: str = "/") -> str:
    """The path if it is one of ours, so that nobody is led elsewhere after signing in."""
    safe = path.startswith("/") and not path.startswith(("//", "/\\")) and not any(sign in path for sign in "\r\n\\")
    return path if safe else otherwise


def _with_session(response: Response, token: str, site: Site) -> Response:
    response.set_cookie(COOKIE, token, httponly=True, samesite="lax", secure=site.settings.secure_cookies, path="/")
    return response


def _sign_in_page(request: Request, status: int = 200, **context: str) -> Response:
    context = {"email": "", "message": "", "next": request.query_params.get("next", "")} | context
    return render(request, "office/access/sign_in.html", {**context, "demo": site_of(request).settings.demo}, status)


@router.get("/")
def front_door(request: Request, staff: StaffHere) -> Response:
    """Straight into the only workspace of whoever is signed in, or to the choice of several."""
    entries = site_of(request).accounts.workspaces(staff.signed_in.staff_id)
    return RedirectResponse(f"/w/{entries[0].slug}/" if len(entries) == 1 else "/workspaces", 303)


@router.get("/sign-in")
def show_sign_in(request: Request) -> Response:
    """The sign-in page."""
    return _sign_in_page(request)


@router.post("/sign-in")
def sign_in(request: Request, form: Posted) -> Response:
    """Sign in with email and password."""
    same_site(request)
    site = site_of(request)
    try:
        signed_in = site.accounts.sign_in(
            form.text("email")[:200], form.text("password")[:200], address_of(request), request.cookies.get(DEVICE, "")
        )
    except (InvalidInput, TooOften, Unavailable) as problem:
        context = {"email": form.text("email"), "message": str(problem), "next": form.text("next")}
        return _sign_in_page(request, status_of(problem), **context)
    response = _with_session(RedirectResponse(_local(form.text("next")), 303), signed_in.token, site)
    response.set_cookie(
        DEVICE,
        signed_in.device,
        max_age=_DEVICE_SECONDS,
        httponly=True,
        samesite="lax",
        secure=site.settings.secure_cookies,
        path="/sign-in",
    )
    return response


@router.post("/sign-in/demo")
def sign_in_demo(request: Request, form: Posted) -> Response:
    """Sign in as the demo's specialist, where this is the demo."""
    same_site(request)
    site = site_of(request)
    if not site.settings.demo:
        raise NotFound("This is not the demo.")
    token = site.accounts.sign_in_as(DEMO_EMAIL)
    return _with_session(RedirectResponse(_local(form.text("next")), 303), token, site)


@router.post("/sign-out")
def sign_out(request: Request, staff: StaffHere) -> Response:
    """End the session."""
    site_of(request).accounts.sign_out(staff.token)
    response = RedirectResponse("/sign-in", 303)
    response.delete_cookie(COOKIE, path="/")
    return response


@router.get("/workspaces")
def show_workspaces(request: Request, staff: StaffHere) -> Response:
    """The workspaces of whoever is signed in, and a form for a new one."""
    return _workspaces_page(request, staff, {"name": "", "zone": "Europe/London", "begin": ""}, {})


def _workspaces_page(
    request: Request, staff: StaffHere, typed: dict[str, str], messages: dict[str, str], status: int = 200
) -> Response:
    entries = site_of(request).accounts.workspaces(staff.signed_in.staff_id)
    context = {"entries": entries, "staff": staff.signed_in, "typed": typed, "messages": messages}
    context["starters"] = list_starters()
    return render(request, "office/access/workspaces.html", {**context, "csrf": staff.signed_in.csrf}, status)


@router.post("/workspaces")
@takes_files
def make_workspace(request: Request, staff: StaffHere, form: Posted) -> Response:
    """Make a workspace, empty or with a setup of a trade or of a file, and enter it."""
    typed = {"name": form.text("name"), "zone": form.text("zone"), "begin": form.text("begin")}
    accounts = site_of(request).accounts
    try:
        setup = _setup_to_begin_with(form)
        asked = read_input(NewWorkspace, {"name": typed["name"], "zone": typed["zone"]})
        slug = accounts.create_workspace(asked, staff.signed_in.staff_id)
        if setup:
            load_setup(accounts.enter(slug, staff.signed_in).scope, setup)
    except InvalidInput as problem:
        return _workspaces_page(request, staff, typed, problem.messages, 422)
    return RedirectResponse(f"/w/{slug}/", 303)


def _setup_to_begin_with(form: PostedForm) -> str:
    """The text of the setup that was chosen, "" for none. Raises InvalidInput for a file that is none, or whose parts
    do not fit together: no workspace is left half made."""
    chosen = form.text("begin")
    if chosen != "file":
        return starter_text(chosen) if chosen in {name for name, *_ in list_starters()} else ""
    try:
        text = form.files["file"][1].decode("utf-8-sig")
    except (KeyError, UnicodeDecodeError):
        raise InvalidInput({"file": "Choose a file that was exported from a workspace."}) from None
    workspace_of(read_schema(text), PLAIN)
    return text


@router.post("/w/{slug}/undo")
def undo(desk: DeskHere, form: Posted) -> Response:
    """Take a change back, and return to where it was made."""
    change_id = form.number("change")
    done = undo_change(desk.scope, change_id, again=form.text("way") == "again")
    if done.task:
        return RedirectResponse(desk.path(f"define/tasks/{done.task}"), 303)
    back = _local(form.text("back"), desk.path())
    return RedirectResponse(f"{back}?done={change_id}", 303)


@router.post("/w/{slug}/put-back")
def put_value_back(desk: DeskHere, form: Posted) -> Response:
    """Put a value of the history back, and return to where it was looked at."""
    put_back(desk.scope, form.number("line"))
    return RedirectResponse(f"{_local(form.text('back'), desk.path())}#history", 303)
