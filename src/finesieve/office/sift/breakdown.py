"""What the people of a segment are like: by the values of a field, and crossed with another."""

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import NotFound
from finesieve.office.shared.desk import DeskHere
from finesieve.office.shared.frame import page
from finesieve.office.sift.index import sift_sections
from finesieve.services.sift.breakdown import break_down, list_fields_to_break_by
from finesieve.web.posted import whole_number
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/sift/{segment_id:int}/by")


@router.get("")
def choose_field(desk: DeskHere, segment_id: int) -> Response:
    """To the first field that tells something: a choice, where there is one."""
    fields = list_fields_to_break_by(desk.scope, segment_id)
    if not fields:
        raise NotFound("There is no field yet to look at them by.")
    first = next((one for one in fields if one.value_type.kind == "choice"), fields[0])
    return RedirectResponse(desk.path(f"sift/{segment_id}/by/{first.id}"), 303)


@router.get("/go")
def go_to_field(request: Request, desk: DeskHere, segment_id: int) -> Response:
    """To the field chosen from the menu, and the one it is crossed with."""
    known = {one.id for one in list_fields_to_break_by(desk.scope, segment_id)}
    field = whole_number(request.query_params.get("field", "")[:9]) or 0
    if field not in known:
        return choose_field(desk, segment_id)
    crossed = whole_number(request.query_params.get("cross", "")[:9]) or 0
    more = f"?cross={crossed}" if crossed and crossed != field else ""
    return RedirectResponse(desk.path(f"sift/{segment_id}/by/{field}{more}"), 303)


@router.get("/{field_id:int}")
def show_breakdown(request: Request, desk: DeskHere, segment_id: int, field_id: int, cross: int = 0) -> Response:
    """A segment by a field."""
    found, crossed = break_down(desk.scope, segment_id, field_id, cross if cross != field_id else 0)
    most = max((max(one.share, one.share_of_all) for one in found.lines), default=0.0) or 1.0
    return page(
        request, desk, "office/sift/breakdown.html", stage="sift", title=found.name,
        sections=sift_sections(desk, segment_id), found=found, crossed=crossed, cross_id=cross, most=most,
        fields=list_fields_to_break_by(desk.scope, segment_id),
    )  # fmt: skip
