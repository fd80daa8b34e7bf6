"""Groups: list, make, change, order, remove."""

from collections.abc import Mapping
from typing import Any

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import Conflict, InvalidInput, Overtaken
from finesieve.core.fields.about import HOUSE, PERSON, record_type_of
from finesieve.core.fields.definition import Field
from finesieve.core.fields.groups import GROUP_SETTINGS
from finesieve.office.define.contents import sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.office.shared.order import new_order
from finesieve.services.define.fields import reorder_fields
from finesieve.services.define.groups import (
    GroupInput,
    change_group,
    create_group,
    delete_group,
    read_catalogue,
    read_group,
    reorder_groups,
)
from finesieve.services.define.printing import address_of_group
from finesieve.services.kernel.inputs import read_input, read_shown
from finesieve.web.posted import Posted, PostedForm
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/define")


@router.get("")
def show_define(desk: DeskHere) -> Response:
    """To the first group about people."""
    return RedirectResponse(desk.path(f"define/{read_catalogue(desk.scope).groups[0].id}"), 303)


@router.get("/search")
def search(request: Request, desk: DeskHere, q: str = "") -> Response:
    """What in Define has these words: a part of the Index."""
    words = q.replace("\x00", "")[:60].lower().split()
    catalogue = read_catalogue(desk.scope)
    found: list[tuple[str, str, Field | None]] = []
    for field in catalogue.all_fields:
        if words and all(word in f"{field.label} {' '.join(field.names)}".lower() for word in words):
            found.append((field.label, desk.path(_home(field.id, field.derived, field.about)), field))
    for known in catalogue.record_types:
        if words and all(word in f"{known.singular} {known.plural}".lower() for word in words):
            found.append((known.plural, desk.path(f"define/records/{known.id}"), None))
    for group in catalogue.all_groups:
        if words and all(word in group.name.lower() for word in words):
            found.append((group.name, desk.path(f"define/{group.id}"), None))
    return page(
        request,
        desk,
        "office/define/search.html",
        stage="define",
        title="Search",
        sections=sections(desk, catalogue),
        found=found[:40],
        more=max(len(found) - 40, 0),
        words=" ".join(words),
    )


def _home(field_id: int, derived: bool, about: str) -> str:
    if about == HOUSE:
        return f"define/house/{field_id}"
    return f"{'compute' if derived else 'define/fields'}/{field_id}"


@router.get("/{group_id:int}")
def show_group(request: Request, desk: DeskHere, group_id: int) -> Response:
    """A group with its fields."""
    return _group_page(request, desk, group_id, {}, {})


def _group_page(
    request: Request,
    desk: Desk,
    group_id: int,
    typed: Mapping[str, Any],
    messages: Mapping[str, str],
    status: int = 200,
    **standing: object,
) -> Response:
    view = read_group(desk.scope, group_id)
    catalogue = read_catalogue(desk.scope)
    record_type = record_type_of(view.group.about)
    return page(
        request,
        desk,
        "office/define/group.html",
        stage="define",
        title=view.group.name,
        sections=sections(desk, catalogue, f"records/{record_type}" if record_type else str(group_id)),
        view=view,
        about=catalogue.say_about(view.group.about),
        record_type=catalogue.record_types_by_id.get(record_type),
        address=address_of_group(catalogue, view.group),
        levels=catalogue.levels,
        typed=typed,
        messages=messages,
        settings=GROUP_SETTINGS,
        editing=bool(messages or standing) or request.query_params.get("edit") == "1",
        status=status,
        **standing,
    )


def _read(form: PostedForm, about: str = PERSON) -> GroupInput:
    ticks = {name: form.text(name) == "true" for name in ("on_profile", "folded")}
    ticks["on_profile"] = ticks["on_profile"] or "seen_by" not in form
    return read_input(GroupInput, {"about": about, **form.data, **ticks, **_levels(form)})


def _levels(form: PostedForm) -> dict[str, str]:
    """The levels that are ticked, as a group keeps them."""
    return {"change_levels": " ".join(form.texts("change_levels"))}


@router.post("/{group_id:int}")
def save_group(request: Request, desk: DeskHere, group_id: int, form: Posted) -> Response:
    """Rename or describe a group, or change its settings."""
    try:
        change = change_group(desk.scope, group_id, _read(form), read_shown(GroupInput, form.was))
    except InvalidInput as problem:
        typed = {**form.data, **_levels(form)}
        return _group_page(request, desk, group_id, typed, problem.messages, 422, was=form.was)
    except Overtaken as clash:
        return _group_page(request, desk, group_id, {**form.changed(), **_levels(form)}, {}, 409, clash=clash)
    return back_with(desk.path(f"define/{group_id}"), change)


@router.post("/{group_id:int}/remove")
def remove_group(request: Request, desk: DeskHere, group_id: int, form: Posted) -> Response:
    """Remove a group that holds nothing."""
    try:
        change = delete_group(desk.scope, group_id)
    except Conflict as problem:
        return _group_page(request, desk, group_id, form.data, {"": str(problem)}, 409)
    return back_with(desk.path("define/history"), change)


@router.get("/groups/new")
def new_group(request: Request, desk: DeskHere, about: str = PERSON) -> Response:
    """The form for a new group."""
    return _new_group_page(request, desk, {"about": about}, {})


def _new_group_page(
    request: Request, desk: Desk, typed: Mapping[str, str], messages: Mapping[str, str], status: int = 200
) -> Response:
    catalogue = read_catalogue(desk.scope)
    return page(
        request,
        desk,
        "office/define/new_group.html",
        stage="define",
        title="New group",
        sections=sections(desk, catalogue),
        typed=typed,
        about=catalogue.say_about(typed.get("about", PERSON)),
        messages=messages,
        status=status,
    )


@router.post("/groups/new")
def make_group(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a group."""
    try:
        group_id = create_group(desk.scope, _read(form, form.text("about", PERSON)))
    except InvalidInput as problem:
        return _new_group_page(request, desk, form.data, problem.messages, 422)
    return RedirectResponse(desk.path(f"define/{group_id}"), 303)


@router.post("/groups/order")
def order_groups(desk: DeskHere, form: Posted) -> Response:
    """Put the groups about one thing in another order."""
    catalogue = read_catalogue(desk.scope)
    named = form.text("move").rpartition(":")[0] or form.text("order").partition(",")[0]
    group = next((known for known in catalogue.all_groups if str(known.id) == named), None)
    if group is None:
        raise InvalidInput({"order": "The list has changed meanwhile; load it again."})
    present = [known.id for known in catalogue.groups_about(group.about)]
    change = reorder_groups(desk.scope, new_order(form, present))
    return back_with(desk.path(f"define/{present[0]}"), change)


@router.post("/{group_id:int}/order")
def order_fields(desk: DeskHere, group_id: int, form: Posted) -> Response:
    """Put the fields of a group in another order."""
    present = [field.id for field in read_catalogue(desk.scope).of_group(group_id)]
    return back_with(desk.path(f"define/{group_id}"), reorder_fields(desk.scope, group_id, new_order(form, present)))
