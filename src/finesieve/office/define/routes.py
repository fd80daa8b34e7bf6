"""Groups and fields: list, make, change, reorder."""

from collections.abc import Mapping
from typing import Any

from fastapi import APIRouter, Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.catalogue import Catalogue
from finesieve.core.errors import InvalidInput
from finesieve.core.fields.types import TYPES
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import Entry, Section, back_with, page
from finesieve.office.shared.order import new_order
from finesieve.services.define import (
    FieldInput,
    GroupInput,
    change_field,
    change_group,
    create_field,
    create_group,
    read_catalogue,
    read_field,
    read_group,
    reorder_fields,
    reorder_groups,
)
from finesieve.services.inputs import read_input
from finesieve.web.posted import Posted, PostedForm

__all__ = ["router"]

router = APIRouter(prefix="/w/{slug}/define")


def _sections(desk: Desk, catalogue: Catalogue, active: int = 0) -> list[Section]:
    entries = [
        Entry(
            group.name,
            desk.path(f"define/{group.id}"),
            str(len(catalogue.of_group(group.id))),
            group.id == active,
            group.id,
        )
        for group in catalogue.groups
    ]
    return [
        Section("one person", entries, desk.path("define/groups/new"), "New group", desk.path("define/groups/order"))
    ]


@router.get("")
def show_define(desk: DeskHere) -> Response:
    """To the first group."""
    return RedirectResponse(desk.path(f"define/{read_catalogue(desk.scope).groups[0].id}"), 303)


@router.get("/{group_id:int}")
def show_group(request: Request, desk: DeskHere, group_id: int) -> Response:
    """A group with its fields."""
    return _group_page(request, desk, group_id, {}, {})


def _group_page(
    request: Request,
    desk: Desk,
    group_id: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
) -> Response:
    view = read_group(desk.scope, group_id)
    sections = _sections(desk, read_catalogue(desk.scope), group_id)
    editing = bool(messages) or request.query_params.get("edit") == "1"
    return page(
        request,
        desk,
        "office/define/group.html",
        stage="define",
        title=view.group.name,
        sections=sections,
        view=view,
        typed=typed,
        messages=messages,
        editing=editing,
        status=status,
    )


@router.post("/{group_id:int}")
def save_group(request: Request, desk: DeskHere, group_id: int, form: Posted) -> Response:
    """Rename or describe a group."""
    try:
        change = change_group(desk.scope, group_id, read_input(GroupInput, form.data))
    except InvalidInput as problem:
        return _group_page(request, desk, group_id, form.data, problem.messages, 422)
    return back_with(desk.path(f"define/{group_id}"), change)


@router.get("/groups/new")
def new_group(request: Request, desk: DeskHere) -> Response:
    """The form for a new group."""
    return _new_group_page(request, desk, {}, {})


def _new_group_page(
    request: Request, desk: Desk, typed: Mapping[str, str], messages: Mapping[str, str], status: int = 200
) -> Response:
    sections = _sections(desk, read_catalogue(desk.scope))
    return page(
        request,
        desk,
        "office/define/new_group.html",
        stage="define",
        title="New group",
        sections=sections,
        typed=typed,
        messages=messages,
        status=status,
    )


@router.post("/groups/new")
def make_group(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a group."""
    try:
        group_id = create_group(desk.scope, read_input(GroupInput, form.data))
    except InvalidInput as problem:
        return _new_group_page(request, desk, form.data, problem.messages, 422)
    return RedirectResponse(desk.path(f"define/{group_id}"), 303)


@router.post("/groups/order")
def order_groups(desk: DeskHere, form: Posted) -> Response:
    """Put the groups in another order."""
    present = [group.id for group in read_catalogue(desk.scope).groups]
    change = reorder_groups(desk.scope, new_order(form, present))
    return back_with(desk.path("define"), 0) if not change else back_with(desk.path(f"define/{present[0]}"), change)


@router.post("/{group_id:int}/order")
def order_fields(desk: DeskHere, group_id: int, form: Posted) -> Response:
    """Put the fields of a group in another order."""
    present = [field.id for field in read_catalogue(desk.scope).of_group(group_id)]
    return back_with(desk.path(f"define/{group_id}"), reorder_fields(desk.scope, group_id, new_order(form, present)))


@router.get("/{group_id:int}/new")
def new_field(request: Request, desk: DeskHere, group_id: int) -> Response:
    """The form for a new field."""
    return _new_field_page(request, desk, group_id, {"type_key": "short_text"}, {})


def _new_field_page(
    request: Request,
    desk: Desk,
    group_id: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
) -> Response:
    catalogue = read_catalogue(desk.scope)
    view = read_group(desk.scope, group_id)
    sections = _sections(desk, catalogue, group_id)
    return page(
        request,
        desk,
        "office/define/new_field.html",
        stage="define",
        title="New field",
        sections=sections,
        view=view,
        types=TYPES.values(),
        typed=typed,
        messages=messages,
        twin=_twin(catalogue, typed),
        status=status,
    )


def _twin(catalogue: Catalogue, typed: Mapping[str, str]) -> str:
    """The label of a field that the typed label seems to repeat; "" where there is none."""
    words = typed.get("label", "").casefold().strip()
    return next((field.label for field in catalogue.fields if words and field.label.casefold() == words), "")


@router.post("/{group_id:int}/new")
def make_field(request: Request, desk: DeskHere, group_id: int, form: Posted) -> Response:
    """Make a field."""
    try:
        field_id = create_field(desk.scope, group_id, read_input(FieldInput, _field_data(form)))
    except InvalidInput as problem:
        return _new_field_page(request, desk, group_id, form.data, problem.messages, 422)
    return RedirectResponse(desk.path(f"define/{group_id}?made={field_id}"), 303)


def _field_data(form: PostedForm) -> dict[str, Any]:
    return {**form.data, "required": form.one("required") == "true"}


@router.get("/fields/{field_id:int}")
def show_field(request: Request, desk: DeskHere, field_id: int) -> Response:
    """A field with its settings."""
    return _field_page(request, desk, field_id, None, {})


def _field_page(
    request: Request,
    desk: Desk,
    field_id: int,
    typed: Mapping[str, Any] | None,
    messages: Mapping[str, str],
    status: int = 200,
) -> Response:
    view = read_field(desk.scope, field_id)
    field = view.field
    if field.derived:
        return RedirectResponse(desk.path(f"compute/{field_id}"), 303)
    catalogue = read_catalogue(desk.scope)
    lines = "\n".join(
        option.label if option.stored_value == option.label.lower() else f"{option.label} = {option.stored_value}"
        for option in field.options
    )
    stored = {
        "label": field.label,
        "help": field.help,
        "required": field.required,
        "unit": field.unit,
        "options": lines,
    }
    return page(
        request,
        desk,
        "office/define/field.html",
        stage="define",
        title=field.label,
        sections=_sections(desk, catalogue, field.group_id),
        view=view,
        typed={**stored, **(typed or {})},
        messages=messages,
        group=next(group for group in catalogue.groups if group.id == field.group_id),
        groups=catalogue.groups,
        status=status,
    )


@router.post("/fields/{field_id:int}")
def save_field(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Change the settings of a field."""
    try:
        change = change_field(desk.scope, field_id, read_input(FieldInput, _field_data(form)))
    except InvalidInput as problem:
        return _field_page(request, desk, field_id, _field_data(form), problem.messages, 422)
    return back_with(desk.path(f"define/fields/{field_id}"), change)


@router.post("/fields/{field_id:int}/move")
def move_field(desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Move a field to the end of another group."""
    group_id = form.number("group")
    present = [field.id for field in read_catalogue(desk.scope).of_group(group_id) if field.id != field_id]
    change = reorder_fields(desk.scope, group_id, [*present, field_id])
    return back_with(desk.path(f"define/fields/{field_id}"), change)
