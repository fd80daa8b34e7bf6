"""What formulas call a field: a page of its own, which says where that stands."""

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.about import record_type_of
from finesieve.office.define.contents import sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.define.groups import read_catalogue, read_field
from finesieve.services.define.naming import call_field
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/define/fields/{field_id:int}/name")


@router.get("")
def show_name(request: Request, desk: DeskHere, field_id: int) -> Response:
    """What formulas call a field, and where; who may not change it sees the field."""
    if not desk.may_edit or read_field(desk.scope, field_id).field.built_in:
        return RedirectResponse(desk.path(f"define/fields/{field_id}"), 303)
    return _page(request, desk, field_id)


def _page(request: Request, desk: Desk, field_id: int, typed: str | None = None, message: str = "") -> Response:
    view, catalogue = read_field(desk.scope, field_id), read_catalogue(desk.scope)
    record_type = record_type_of(view.field.about)
    return page(
        request, desk, "office/define/name.html", stage="define", title=f"What formulas call {view.field.label}",
        sections=sections(desk, catalogue, f"records/{record_type}" if record_type else str(view.field.group_id)),
        field=view.field, about=catalogue.say_about(view.field.about),
        typed=view.field.name if typed is None else typed,
        message=message, uses_of_it=[use for use in view.uses if use.expression], back=_back(desk, view.field.id),
        status=422 if message else 200,
    )  # fmt: skip


def _back(desk: Desk, field_id: int) -> str:
    field = read_field(desk.scope, field_id).field
    return desk.path(f"compute/{field_id}" if field.derived else f"define/fields/{field_id}")


@router.post("")
def save_name(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Give it another name, everywhere."""
    typed = form.text("name")
    try:
        change = call_field(desk.scope, field_id, typed)
    except InvalidInput as problem:
        return _page(request, desk, field_id, typed[:200], problem.messages["name"])
    return back_with(_back(desk, field_id), change)
