"""Record types: their names, links and groups."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, Overtaken
from finesieve.office.define.contents import sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.record_types import (
    LinkInput,
    RecordTypeInput,
    add_link,
    change_record_type,
    create_record_type,
    put_away_record_type,
    read_record_type,
    remove_link,
)
from finesieve.services.kernel.inputs import read_input, read_shown
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/define/records")


@router.get("/new")
def new_type(request: Request, desk: DeskHere) -> Response:
    """The form for a new record type."""
    return _new_page(request, desk, {"holder": "Holder"}, {})


def _new_page(
    request: Request, desk: Desk, typed: Mapping[str, str], messages: Mapping[str, str], status: int = 200
) -> Response:
    return page(
        request,
        desk,
        "office/define/new_record_type.html",
        stage="define",
        title="New record type",
        sections=sections(desk, read_catalogue(desk.scope)),
        typed=typed,
        messages=messages,
        status=status,
    )


@router.post("/new")
def make_type(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a record type."""
    try:
        type_id = create_record_type(desk.scope, read_input(RecordTypeInput, form.data))
    except InvalidInput as problem:
        return _new_page(request, desk, form.data, problem.messages, 422)
    return RedirectResponse(desk.path(f"define/records/{type_id}"), 303)


@router.get("/{type_id:int}")
def show_type(request: Request, desk: DeskHere, type_id: int) -> Response:
    """A record type."""
    return _type_page(request, desk, type_id, {}, {})


def _type_page(
    request: Request,
    desk: Desk,
    type_id: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
    **standing: object,
) -> Response:
    view = read_record_type(desk.scope, type_id)
    catalogue = read_catalogue(desk.scope)
    return page(
        request,
        desk,
        "office/define/record_type.html",
        stage="define",
        title=view.record_type.plural,
        sections=sections(desk, catalogue, f"records/{type_id}"),
        view=view,
        known=view.record_type,
        catalogue=catalogue,
        typed=typed,
        messages=messages,
        editing=bool(set(messages) - {"link", "back_name", "target", ""})
        or request.query_params.get("edit") == "1"
        or bool(standing),
        status=status,
        **standing,
    )


@router.post("/{type_id:int}")
def save_type(request: Request, desk: DeskHere, type_id: int, form: Posted) -> Response:
    """Rename or describe a record type."""
    try:
        was = read_shown(RecordTypeInput, form.was)
        change = change_record_type(desk.scope, type_id, read_input(RecordTypeInput, form.data), was)
    except InvalidInput as problem:
        return _type_page(request, desk, type_id, form.data, problem.messages, 422, was=form.was)
    except Overtaken as clash:
        return _type_page(request, desk, type_id, form.changed(), {}, 409, clash=clash)
    return back_with(desk.path(f"define/records/{type_id}"), change)


@router.post("/{type_id:int}/links")
def make_link(request: Request, desk: DeskHere, type_id: int, form: Posted) -> Response:
    """Add a link."""
    try:
        asked = read_input(LinkInput, {**form.data, "many": form.text("many") == "true"})
        change = add_link(desk.scope, type_id, asked)
    except InvalidInput as problem:
        messages = {"link": " ".join(problem.messages.values())}
        return _type_page(request, desk, type_id, form.data, messages, 422)
    return back_with(desk.path(f"define/records/{type_id}"), change)


@router.post("/{type_id:int}/links/{link_id:int}/remove")
def take_link(request: Request, desk: DeskHere, type_id: int, link_id: int, form: Posted) -> Response:
    """Take a link away."""
    try:
        change = remove_link(desk.scope, link_id)
    except InvalidInput as problem:
        return _type_page(request, desk, type_id, {}, {"link": " ".join(problem.messages.values())}, 422)
    return back_with(desk.path(f"define/records/{type_id}"), change)


@router.post("/{type_id:int}/away")
def put_away(request: Request, desk: DeskHere, type_id: int, form: Posted) -> Response:
    """Take a record type out of use; its records stay."""
    try:
        change = put_away_record_type(desk.scope, type_id, form.text("typed"))
    except InvalidInput as problem:
        return _type_page(request, desk, type_id, {}, problem.messages, 422)
    return back_with(desk.path("define/history"), change)
