"""House values, and the answers that set them."""

from collections.abc import Mapping
from urllib.parse import quote

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, Overtaken
from finesieve.office.define.contents import sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.define.groups import read_catalogue
from finesieve.services.filling.mapping import allow_mapping, change_grant, change_mapping, list_grants, read_mapping
from finesieve.services.forms.for_the_house import form_for_house_values
from finesieve.services.sift.segments import list_segments
from finesieve.services.upkeep.readings import find_at
from finesieve.services.values.files import read_shelf, take_files
from finesieve.services.values.house import cancel_scheduled, list_house, read_house_value, set_house_value
from finesieve.web.posted import Posted, takes_files, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.site import site_of

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/define")


@router.get("/house")
def show_house(request: Request, desk: DeskHere) -> Response:
    """All house values, with what they are now."""
    return _house_page(request, desk, {}, {})


def _house_page(
    request: Request, desk: Desk, typed: Mapping[str, str], messages: Mapping[str, str], status: int = 200
) -> Response:
    return page(
        request,
        desk,
        "office/define/house.html",
        stage="define",
        title="House values",
        sections=sections(desk, read_catalogue(desk.scope), "house"),
        groups=list_house(desk.scope),
        grants=list_grants(desk.scope),
        typed=typed,
        messages=messages,
        status=status,
    )


@router.post("/house/ask")
def ask_for_values(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a form that asks for the house values that are ticked."""
    wanted = [number for text in form.texts("value") if (number := whole_number(text)) is not None]
    try:
        form_id = form_for_house_values(desk.scope, wanted, form.text("title"), kept=form.text("kept") == "yes")
    except InvalidInput as problem:
        return _house_page(request, desk, form.data, problem.messages, 422)
    return RedirectResponse(desk.path(f"collect/{form_id}"), 303)


@router.get("/house/new")
def new_house_value(desk: DeskHere) -> Response:
    """To the form for a new field, about the house."""
    return RedirectResponse(desk.path("define/new?about=house"), 303)


@router.get("/house/{field_id:int}")
def show_value(request: Request, desk: DeskHere, field_id: int) -> Response:
    """One house value."""
    return _value_page(request, desk, field_id, {}, {})


def _value_page(
    request: Request,
    desk: Desk,
    field_id: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
    **standing: object,
) -> Response:
    view = read_house_value(desk.scope, field_id)
    return page(
        request,
        desk,
        "office/define/house_value.html",
        stage="define",
        title=view.line.field.label,
        sections=sections(desk, read_catalogue(desk.scope), "house"),
        view=view,
        field=view.line.field,
        typed=typed,
        messages=messages,
        **standing,
        findings=find_at(desk.scope, field_id),
        status=status,
    )


@router.post("/house/{field_id:int}")
@takes_files
def save_value(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Change a house value, now or from a moment on."""
    raw = form.values("").get("v_value", "")
    try:
        field = read_house_value(desk.scope, field_id).line.field
        if "v_value" in form.files:
            files = {"value": form.files["v_value"]}
            raw = take_files(desk.scope, site_of(request).files, files, {"value": field})["value"]
        shown = form.was.get("v_value")
        set_house_value(desk.scope, field_id, raw, read_shelf(desk.scope, [raw]), form.text("effective"), shown)
    except InvalidInput as problem:
        typed = {"value": raw, **form.data}
        return _value_page(request, desk, field_id, typed, problem.messages, 422, was=form.was)
    except Overtaken as clash:
        typed = {"v_value": raw, "effective": form.text("effective")}
        return _value_page(request, desk, field_id, typed, {}, 409, clash=clash)
    return RedirectResponse(desk.path(f"define/house/{field_id}?saved=1"), 303)


@router.post("/house/scheduled/{schedule_id:int}")
def cancel(desk: DeskHere, schedule_id: int, form: Posted) -> Response:
    """Take back a value that was to take effect."""
    return RedirectResponse(desk.path(f"define/house/{cancel_scheduled(desk.scope, schedule_id)}"), 303)


@router.post("/house/grants")
def grant(desk: DeskHere, form: Posted) -> Response:
    """Let another workspace set some house values."""
    change = change_grant(desk.scope, form.text("from_slug").strip(), form.texts("keys"))
    return back_with(desk.path("define/house"), change)


@router.get("/mapping/{form_id:int}")
def show_mapping(request: Request, desk: DeskHere, form_id: int, to: str = "") -> Response:
    """Which answers of a form set which house values."""
    return _mapping_page(request, desk, form_id, to[:80], None, {})


def _mapping_page(
    request: Request,
    desk: Desk,
    form_id: int,
    to: str,
    pairs: Mapping[int, str] | None,
    messages: Mapping[str, str],
    status: int = 200,
    **standing: object,
) -> Response:
    view = read_mapping(desk.scope, form_id, to)
    return page(
        request,
        desk,
        "office/define/mapping.html",
        stage="define",
        title=f"What {view.form} sets",
        sections=sections(desk, read_catalogue(desk.scope), "house"),
        view=view,
        segments=list_segments(desk.scope),
        pairs=view.pairs if pairs is None else pairs,
        messages=messages,
        **standing,
        status=status,
    )


@router.post("/mapping/{form_id:int}/allow")
def allow(request: Request, desk: DeskHere, form_id: int, form: Posted, to: str = "") -> Response:
    """Let those who fill in the form set these house values, or no longer."""
    try:
        allowed = form.text("allowed") == "yes"
        change = allow_mapping(desk.scope, form_id, to[:80], allowed=allowed, who=form.text("who")[:40] or "anyone")
    except InvalidInput as problem:
        return _mapping_page(request, desk, form_id, to[:80], None, problem.messages, 422)
    return back_with(desk.path(f"define/mapping/{form_id}?to={quote(to[:80])}"), change)


@router.post("/mapping/{form_id:int}")
def save_mapping(request: Request, desk: DeskHere, form_id: int, form: Posted, to: str = "") -> Response:
    """Say which answers set which house values."""
    chosen = {whole_number(name) or 0: value for name, value in form.values("pair_").items() if value}
    shown = {whole_number(name[5:]) or 0: text for name, text in form.was.items() if name.startswith("pair_")}
    try:
        change = change_mapping(desk.scope, form_id, to[:80], chosen, shown or None)
    except InvalidInput as problem:
        return _mapping_page(request, desk, form_id, to[:80], chosen, problem.messages, 422, was=form.was)
    except Overtaken as clash:
        return _mapping_page(request, desk, form_id, to[:80], chosen, {}, 409, clash=clash)
    return back_with(desk.path(f"define/mapping/{form_id}?to={quote(to[:80])}"), change)
