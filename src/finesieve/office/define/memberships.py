"""Lists, levels, tags, and families of tags."""

from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, NotFound, Overtaken
from finesieve.core.model.level_ends import UNITS
from finesieve.office.define.contents import sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.joining_days import keep_joining_day
from finesieve.services.define.level_ends import LevelEndInput, set_level_end, shown_level_end
from finesieve.services.define.level_fees import LevelFeeInput, set_level_fee, shown_level_fee
from finesieve.services.define.memberships import (
    MembershipInput,
    change_membership,
    create_membership,
    list_levels,
    list_lists,
    list_tags,
    move_level,
    read_level,
    remove_membership,
    set_level_values,
    set_tag_end,
)
from finesieve.services.define.tag_families import begin_family, plan_family, tag_families
from finesieve.services.define.tagging import plan_tag_off, take_tag_off
from finesieve.services.kernel.inputs import Input, read_input, read_shown
from finesieve.services.kernel.scope import Scope
from finesieve.web.posted import Posted, PostedForm
from finesieve.web.routing import PrefixRouter

__all__ = ["level_router", "router"]

router = PrefixRouter(prefix="/w/{slug}/define")
_Asked = TypeVar("_Asked", bound=Input)
_KINDS = {"lists": "list", "levels": "level"}


@router.get("/{page_name:str}")
def show_memberships(request: Request, desk: DeskHere, page_name: str) -> Response:
    """All lists, or all levels."""
    if page_name not in _KINDS:
        raise NotFound("There is no such page.")
    return _memberships_page(request, desk, page_name, {}, {})


def _memberships_page(
    request: Request,
    desk: Desk,
    page_name: str,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
    **standing: object,
) -> Response:
    kind = _KINDS[page_name]
    lines = list_lists(desk.scope) if kind == "list" else list_levels(desk.scope)
    return page(
        request,
        desk,
        "office/define/memberships.html",
        stage="define",
        title=page_name.capitalize(),
        sections=sections(desk, read_catalogue(desk.scope), page_name),
        kind=kind,
        page_name=page_name,
        **{"editing": 0, **standing},
        lines=lines,
        level_names={line.key: line.name for line in lines},
        typed=typed,
        messages=messages,
        status=status,
    )


@router.post("/{page_name:str}")
def make_membership(request: Request, desk: DeskHere, page_name: str, form: Posted) -> Response:
    """Make a list or a level."""
    if page_name not in _KINDS:
        raise NotFound("There is no such page.")
    try:
        create_membership(desk.scope, _KINDS[page_name], read_input(MembershipInput, form.data))
    except InvalidInput as problem:
        return _memberships_page(request, desk, page_name, form.data, problem.messages, 422)
    return RedirectResponse(desk.path(f"define/{page_name}"), 303)


@router.post("/{page_name:str}/{membership_id:int}")
def save_membership(request: Request, desk: DeskHere, page_name: str, membership_id: int, form: Posted) -> Response:
    """Rename, describe, move or remove a list or a level, or have the day kept on which people join a list."""
    if page_name not in _KINDS:
        raise NotFound("There is no such page.")
    kind = _KINDS[page_name]
    try:
        if form.text("remove"):
            change = remove_membership(desk.scope, kind, membership_id)
        elif kind == "list" and form.text("keep_day"):
            change = keep_joining_day(desk.scope, membership_id)
        elif kind == "level" and form.text("move") in ("up", "down"):
            change = move_level(desk.scope, membership_id, up=form.text("move") == "up")
        else:
            was = read_shown(MembershipInput, form.was)
            change = change_membership(desk.scope, kind, membership_id, read_input(MembershipInput, form.data), was)
    except InvalidInput as problem:
        messages = {f"{name or 'name'}_{membership_id}": words for name, words in problem.messages.items()}
        return _memberships_page(
            request, desk, page_name, form.data, messages, 422, was=form.was, editing=membership_id
        )
    except Overtaken as clash:
        return _memberships_page(request, desk, page_name, form.changed(), {}, 409, clash=clash, editing=membership_id)
    return back_with(desk.path(f"define/{page_name}"), change)


level_router = PrefixRouter(prefix="/w/{slug}/define")


@level_router.get("/levels/{level_id:int}")
def show_level(request: Request, desk: DeskHere, level_id: int) -> Response:
    """A level with the values of its fields."""
    return _level_page(request, desk, level_id, {}, {})


def _level_page(
    request: Request,
    desk: Desk,
    level_id: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
    **standing: Any,
) -> Response:
    view = read_level(desk.scope, level_id)
    shown = shown_level_end(view.level.lasts).model_dump(mode="json")
    shown_fee = shown_level_fee(view.level.fee).model_dump(mode="json")
    shop = read_catalogue(desk.scope).shop
    return page(
        request,
        desk,
        "office/define/level.html",
        stage="define",
        title=view.level.name,
        sections=sections(desk, read_catalogue(desk.scope), "levels"),
        view=view,
        typed=typed,
        messages=messages,
        status=status,
        shown_end=shown,
        level_names={one.key: one.name for one in view.others},
        units=UNITS,
        shown_fee=shown_fee,
        tax_classes=shop.tax_classes if shop is not None else None,
        **{
            **standing,
            "end": {**shown, **standing.get("end", {})},
            "fee": {**shown_fee, **standing.get("fee", {})},
        },
    )


@level_router.post("/levels/{level_id:int}/values")
def save_level(request: Request, desk: DeskHere, level_id: int, form: Posted) -> Response:
    """Set values of a level."""
    typed = form.values("v_")
    try:
        was = {name.removeprefix("v_"): text for name, text in form.was.items() if name.startswith("v_")}
        changed = set_level_values(desk.scope, level_id, typed, was)
    except InvalidInput as problem:
        return _level_page(request, desk, level_id, typed, problem.messages, 422, was=form.was)
    except Overtaken as clash:
        mine = {key: text for key, text in typed.items() if form.was.get(f"v_{key}") != text}
        return _level_page(request, desk, level_id, mine, {}, 409, clash=clash)
    return RedirectResponse(desk.path(f"define/levels/{level_id}?changed={changed}"), 303)


@level_router.post("/levels/{level_id:int}/end")
def save_level_end(request: Request, desk: DeskHere, level_id: int, form: Posted) -> Response:
    """Say how long a level is held."""
    return _save_part(request, desk, level_id, form, "end", LevelEndInput, set_level_end)


@level_router.post("/levels/{level_id:int}/fee")
def save_level_fee(request: Request, desk: DeskHere, level_id: int, form: Posted) -> Response:
    """Say what a level costs."""
    return _save_part(request, desk, level_id, form, "fee", LevelFeeInput, set_level_fee)


def _save_part(
    request: Request,
    desk: Desk,
    level_id: int,
    form: PostedForm,
    part: str,
    model: type[_Asked],
    change: Callable[[Scope, int, _Asked, _Asked | None], int],
) -> Response:
    """Change a part of a level by its own form; one that fails, or clashes, shows again as it was typed."""
    try:
        changed = change(desk.scope, level_id, read_input(model, form.data), read_shown(model, form.was))
    except InvalidInput as problem:
        return _level_page(request, desk, level_id, {}, problem.messages, 422, was=form.was, **{part: form.data})
    except Overtaken as clash:
        return _level_page(request, desk, level_id, {}, {}, 409, clash=clash, **{part: form.changed()})
    return back_with(desk.path(f"define/levels/{level_id}"), changed)


@level_router.get("/tags")
def show_tags(request: Request, desk: DeskHere) -> Response:
    """All tags, and the families among them."""
    return page(
        request,
        desk,
        "office/define/tags.html",
        stage="define",
        title="Tags",
        sections=sections(desk, read_catalogue(desk.scope), "tags"),
        tags=list_tags(desk.scope),
        families=tag_families(desk.scope),
        taken=request.query_params.get("taken", ""),
    )


@level_router.get("/tags/remove")
def show_removal(request: Request, desk: DeskHere, name: str = "") -> Response:
    """What taking a tag off everyone would do; nothing is done yet."""
    return page(
        request,
        desk,
        "office/define/tag.html",
        stage="define",
        title="Remove a tag",
        sections=sections(desk, read_catalogue(desk.scope), "tags"),
        plan=plan_tag_off(desk.scope, name),
    )


@level_router.post("/tags")
def change_tag(desk: DeskHere, form: Posted) -> Response:
    """Give a tag a last day, or take it off everyone."""
    if form.text("take_off"):
        taken = take_tag_off(desk.scope, form.text("name"))
        if taken.task:
            return RedirectResponse(desk.path(f"define/tasks/{taken.task}"), 303)
        return back_with(desk.path(f"define/tags?taken={taken.people}"), taken.change)
    set_tag_end(desk.scope, form.text("name"), form.text("ends_on"), form.was.get("ends_on"))
    return RedirectResponse(desk.path("define/tags"), 303)


@level_router.get("/tags/family")
def show_family(request: Request, desk: DeskHere, stem: str = "") -> Response:
    """The dry run of turning a family of tags into a progress field."""
    order = [part for part in request.query_params.getlist("order") if part]
    move = request.query_params.get("move", "")
    catalogue = read_catalogue(desk.scope)
    plan = plan_family(desk.scope, stem, _moved(order, move))
    return page(
        request,
        desk,
        "office/define/family.html",
        stage="define",
        title=f"Tags “{stem}…”",
        sections=sections(desk, catalogue, "tags"),
        plan=plan,
        groups=catalogue.groups,
    )


def _moved(order: list[str], move: str) -> list[str]:
    name, _, direction = move.rpartition(":")
    if name in order and direction in ("up", "down"):
        here = order.index(name)
        order.insert(max(here + (-1 if direction == "up" else 1), 0), order.pop(here))
    return order


@level_router.post("/tags/family")
def begin(desk: DeskHere, form: Posted) -> Response:
    """Have a family turned into a field."""
    task_id = begin_family(
        desk.scope,
        form.text("stem"),
        form.texts("order"),
        form.text("label"),
        form.number("group"),
        take_off=form.text("take_off") == "true",
    )
    return RedirectResponse(desk.path(f"define/tasks/{task_id}"), 303)
