"""Changing the type of a field, and moving one to what it should have been about."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.types import TYPES
from finesieve.office.define.contents import sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import page
from finesieve.services.define.gathering import begin_gathering, plan_gathering
from finesieve.services.define.groups import read_catalogue, read_field
from finesieve.services.define.moving import begin_move, plan_move
from finesieve.services.define.retyping import begin_type_change, plan_type_change
from finesieve.web.posted import Posted, whole_number
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/define/fields/{field_id:int}")


@router.get("/type")
def show_type(
    request: Request, desk: DeskHere, field_id: int, to: str = "", options: str = "", unit: str = ""
) -> Response:
    """Choose another type; with one chosen, the dry run over the stored values."""
    return _type_page(request, desk, field_id, to, options[:100_000], unit[:20], {}, {})


def _type_page(
    request: Request,
    desk: Desk,
    field_id: int,
    to: str,
    options: str,
    unit: str,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
) -> Response:
    view = read_field(desk.scope, field_id)
    plan = None
    if to:
        try:
            plan = plan_type_change(desk.scope, field_id, to, options, unit)
        except InvalidInput as problem:
            messages = {**problem.messages, **messages}
            status = 422 if status == 200 and (options or to not in TYPES) else status
    return page(
        request,
        desk,
        "office/define/type.html",
        stage="define",
        title=f"Change the type of {view.field.label}",
        sections=sections(desk, read_catalogue(desk.scope), str(view.field.group_id)),
        view=view,
        plan=plan,
        to=to,
        options=options,
        unit=unit,
        types=[
            type_
            for type_ in TYPES.values()
            if type_.stores and type_.key != "secret" and (type_.has_options or type_.key != view.field.type_key)
        ],
        typed=typed,
        messages=messages,
        status=status,
    )


@router.post("/type")
def change_type(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Have the type changed."""
    raws, instead = form.texts("raw"), form.texts("instead")
    replacements = dict(zip(raws, instead, strict=False))
    to, options, unit = form.text("to"), form.text("options"), form.text("unit")
    try:
        task_id = begin_type_change(desk.scope, field_id, to, options, unit, replacements)
    except InvalidInput as problem:
        return _type_page(request, desk, field_id, to, options, unit, replacements, problem.messages, 422)
    return RedirectResponse(desk.path(f"define/tasks/{task_id}"), 303)


@router.get("/mend")
def show_mend(request: Request, desk: DeskHere, field_id: int, group: str = "") -> Response:
    """Choose what the field should be about; with a group chosen, the dry run."""
    return _mend_page(request, desk, field_id, whole_number(group) or 0, {})


def _mend_page(
    request: Request, desk: Desk, field_id: int, group_id: int, messages: Mapping[str, str], status: int = 200
) -> Response:
    view = read_field(desk.scope, field_id)
    catalogue = read_catalogue(desk.scope)
    plan = None
    if group_id:
        try:
            plan = plan_move(desk.scope, field_id, group_id)
        except InvalidInput as problem:
            messages = {**problem.messages, **messages}
    return page(
        request,
        desk,
        "office/define/mend.html",
        stage="define",
        title=f"Move {view.field.label}",
        sections=sections(desk, catalogue, str(view.field.group_id)),
        view=view,
        plan=plan,
        groups=[group for group in catalogue.all_groups if group.about != view.field.about],
        catalogue=catalogue,
        chosen=group_id,
        messages=messages,
        status=status,
    )


@router.post("/mend")
def mend(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Have the field moved."""
    group_id = form.number("group")
    try:
        task_id = begin_move(desk.scope, field_id, group_id, form.text("chosen"))
    except InvalidInput as problem:
        return _mend_page(request, desk, field_id, group_id, problem.messages, 422)
    return RedirectResponse(desk.path(f"define/tasks/{task_id}"), 303)


@router.get("/gather")
def show_gathering(request: Request, desk: DeskHere, field_id: int) -> Response:
    """The dry run of making records of numbered twins."""
    return _gather_page(request, desk, field_id, {}, {})


def _gather_page(
    request: Request,
    desk: Desk,
    field_id: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
) -> Response:
    plan = None
    try:
        plan = plan_gathering(desk.scope, field_id)
    except InvalidInput as problem:
        messages, status = problem.messages, 422
    return page(
        request,
        desk,
        "office/define/gather.html",
        stage="define",
        title="Turn several fields into records",
        sections=sections(desk, read_catalogue(desk.scope)),
        plan=plan,
        typed=typed,
        messages=messages,
        status=status,
    )


@router.post("/gather")
def gather(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Have records made of numbered twins."""
    try:
        task_id = begin_gathering(desk.scope, field_id, form.text("singular"), form.text("plural"))
    except InvalidInput as problem:
        return _gather_page(request, desk, field_id, form.data, problem.messages, 422)
    return RedirectResponse(desk.path(f"define/tasks/{task_id}"), 303)
