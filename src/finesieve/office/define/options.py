"""Options row by row, pasted, and shared by several fields."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import Conflict, InvalidInput, Overtaken
from finesieve.core.fields.options import options_to_lines
from finesieve.office.define.contents import sections
from finesieve.office.define.fields import options_page
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.options import (
    OptionInput,
    OptionListInput,
    change_option_list,
    change_options,
    create_option_list,
    list_option_lists,
    paste_options,
    read_option_list,
    remove_option_list,
    share_options,
)
from finesieve.services.kernel.inputs import read_input, read_shown
from finesieve.web.posted import Posted, PostedForm, whole_number
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/define")
MOST_ROWS = 600


def _rows(form: PostedForm) -> list[dict[str, str]]:
    """The rows of the table as typed, in the order of their numbers; a row without a label is left out."""
    parts = form.lists("o_")
    numbers = [text for text in form.text("rows").split(",") if whole_number(text) is not None][:MOST_ROWS]
    names = ("was", "label", "value", "score", "price", "retired")
    rows = [{name: (parts.get(f"{number}_{name}") or [""])[-1].strip() for name in names} for number in numbers]
    return _moved([row for row in rows if row["label"] or row["was"]], form.text("move"))


def _moved(rows: list[dict[str, str]], move: str) -> list[dict[str, str]]:
    which, _, direction = move.partition(":")
    place = whole_number(which)
    if place is not None and place < len(rows) and direction in ("up", "down", "remove"):
        row = rows.pop(place)
        if direction != "remove":
            rows.insert(max(place + (-1 if direction == "up" else 1), 0), row)
    return rows


@router.post("/fields/{field_id:int}/options")
def save_options(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Change the options."""
    rows = _rows(form)
    try:
        asked = [read_input(OptionInput, {**row, "retired": row["retired"] == "true"}) for row in rows]
        seen = whole_number(form.text("seen"))
        change = change_options(desk.scope, field_id, asked, seen)
    except Overtaken as clash:
        return options_page(request, desk, field_id, rows, {}, 409, clash=clash)
    except InvalidInput as problem:
        messages = {"options": next(iter(problem.messages.values()))}
        return options_page(request, desk, field_id, rows, messages, 422)
    return back_with(desk.path(f"define/fields/{field_id}/options"), change)


@router.post("/fields/{field_id:int}/options/paste")
def paste(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Put pasted lines in the place of the options."""
    try:
        change = paste_options(desk.scope, field_id, form.text("options"))
    except InvalidInput as problem:
        return options_page(request, desk, field_id, None, {"pasted": next(iter(problem.messages.values()))}, 422)
    return back_with(desk.path(f"define/fields/{field_id}/options"), change)


@router.post("/fields/{field_id:int}/options/share")
def share(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Make the options a list that other fields can use."""
    try:
        list_id = share_options(desk.scope, field_id, form.text("name"))
    except InvalidInput as problem:
        return options_page(request, desk, field_id, None, {"shared": next(iter(problem.messages.values()))}, 422)
    return RedirectResponse(desk.path(f"define/options/{list_id}"), 303)


@router.get("/options")
def show_lists(request: Request, desk: DeskHere) -> Response:
    """All shared lists of options."""
    return _lists_page(request, desk, {}, {})


def _lists_page(
    request: Request, desk: Desk, typed: Mapping[str, str], messages: Mapping[str, str], status: int = 200
) -> Response:
    return page(
        request,
        desk,
        "office/define/option_lists.html",
        stage="define",
        title="Shared options",
        sections=sections(desk, read_catalogue(desk.scope), "options"),
        lists=list_option_lists(desk.scope),
        typed=typed,
        messages=messages,
        status=status,
    )


@router.post("/options")
def make_list(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a shared list."""
    try:
        list_id = create_option_list(desk.scope, read_input(OptionListInput, form.data))
    except InvalidInput as problem:
        return _lists_page(request, desk, form.data, problem.messages, 422)
    return RedirectResponse(desk.path(f"define/options/{list_id}"), 303)


@router.get("/options/{list_id:int}")
def show_list(request: Request, desk: DeskHere, list_id: int) -> Response:
    """A shared list."""
    return _list_page(request, desk, list_id, {}, {})


def _list_page(
    request: Request,
    desk: Desk,
    list_id: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
    **standing: object,
) -> Response:
    view = read_option_list(desk.scope, list_id)
    return page(
        request,
        desk,
        "office/define/option_list.html",
        stage="define",
        title=view.name,
        sections=sections(desk, read_catalogue(desk.scope), "options"),
        view=view,
        lines=options_to_lines(view.options),
        typed=typed,
        messages=messages,
        status=status,
        **standing,
    )


@router.post("/options/{list_id:int}")
def save_list(request: Request, desk: DeskHere, list_id: int, form: Posted) -> Response:
    """Rename a shared list or change its options."""
    try:
        was = read_shown(OptionListInput, form.was)
        change = change_option_list(desk.scope, list_id, read_input(OptionListInput, form.data), was)
    except InvalidInput as problem:
        return _list_page(request, desk, list_id, form.data, problem.messages, 422, was=form.was)
    except Overtaken as clash:
        return _list_page(request, desk, list_id, form.changed(), {}, 409, clash=clash)
    return back_with(desk.path(f"define/options/{list_id}"), change)


@router.post("/options/{list_id:int}/remove")
def remove_list(request: Request, desk: DeskHere, list_id: int, form: Posted) -> Response:
    """Remove a shared list that no field uses."""
    try:
        change = remove_option_list(desk.scope, list_id)
    except Conflict as problem:
        return _list_page(request, desk, list_id, {}, {"": str(problem)}, 409)
    return back_with(desk.path("define/options"), change)
