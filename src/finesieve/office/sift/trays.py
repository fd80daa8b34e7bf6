"""A tray of a segment: who lies on it, working with them, a segment made of it."""

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput
from finesieve.core.limits import EXPRESSION
from finesieve.core.values import whole_number
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import page
from finesieve.office.shared.sentences import draft_of, words_of_segments
from finesieve.office.sift.index import sift_sections
from finesieve.services.sift.segments import read_segment
from finesieve.services.sift.trays import missing_at, save_tray, tray_condition, tray_people
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter

__all__ = ["looked_without", "router"]

router = PrefixRouter(prefix="/w/{slug}/sift/{segment_id:int}/tray/{place:int}")


def looked_without(written: str) -> list[int]:
    """The places of the meshes that are off for a look, from their numbers; what is no number counts as none."""
    return [number - 1 for one in written[:200].split(",") if (number := whole_number(one))]


@router.get("/{verdict}")
def show_tray(
    request: Request,
    desk: DeskHere,
    segment_id: int,
    place: int,
    verdict: str,
    before: int | None = None,
    off: str = "",
) -> Response:
    """Who lies on a tray, or falls through it."""
    return _tray_page(request, desk, segment_id, place, verdict, before, off)


def _tray_page(
    request: Request,
    desk: Desk,
    segment_id: int,
    place: int,
    verdict: str,
    before: int | None,
    off: str,
    typed: str | None = None,
    message: str = "",
    status: int = 200,
) -> Response:
    without = looked_without(off)
    people = tray_people(desk.scope, segment_id, place, verdict, before, off=without)
    condition = tray_condition(desk.scope, segment_id, place, verdict, without)
    view = read_segment(desk.scope, segment_id, off=without)
    draft = draft_of(view.meshes[place].clause, words_of_segments(view.catalogue, view.key)) if view.meshes else None
    return page(
        request,
        desk,
        "office/sift/tray.html",
        stage="sift",
        title=view.name,
        sections=sift_sections(desk, segment_id),
        view=view,
        people=people,
        place=place,
        verdict=verdict,
        draft=draft,
        condition=condition if len(condition) <= EXPRESSION else "",
        missing=missing_at(desk.scope, segment_id, place) if verdict == "cant_tell" else (),
        typed=typed,
        message=message,
        status=status,
    )


@router.post("/{verdict}/save")
def keep_tray(request: Request, desk: DeskHere, segment_id: int, place: int, verdict: str, form: Posted) -> Response:
    """Make a segment of a tray."""
    off, name = form.text("off"), form.text("name")
    try:
        made = save_tray(desk.scope, segment_id, place, verdict, name, looked_without(off))
    except InvalidInput as problem:
        message = next(iter(problem.messages.values()))
        return _tray_page(request, desk, segment_id, place, verdict, None, off, name, message, 422)
    return RedirectResponse(desk.path(f"sift/{made}"), 303)
