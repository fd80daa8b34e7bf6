"""The first page of a workspace, and the search over everything."""

from fastapi import APIRouter, Request
from starlette.responses import Response

from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import Entry, Section, page
from finesieve.services.filling.decisions import KINDS
from finesieve.services.forms.forms import list_forms
from finesieve.services.people.bench import find_anything, read_bench
from finesieve.services.sift.segments import list_segments

__all__ = ["router"]

router = APIRouter(prefix="/w/{slug}")


def _sections(desk: Desk) -> list[Section]:
    segments = [
        Entry(
            segment.name,
            desk.path(f"sift/{segment.id}"),
            segment.shown(desk.language),
        )
        for segment in list_segments(desk.scope)
    ]
    forms = [
        Entry(form.title, desk.path(f"collect/{form.id}"), f"version {form.published}" if form.published else "draft")
        for form in list_forms(desk.scope)
    ]
    return [
        Section("forms", forms, empty="No form yet"),
        Section("segments", segments, empty="No segment yet"),
    ]


@router.get("/")
def show_bench(request: Request, desk: DeskHere) -> Response:
    """What came in and what waits."""
    bench = read_bench(desk.scope)
    return page(
        request,
        desk,
        "office/bench/bench.html",
        stage="bench",
        title="Bench",
        sections=_sections(desk),
        bench=bench,
        kinds=KINDS,
    )


@router.get("/find")
def find(request: Request, desk: DeskHere, q: str = "") -> Response:
    """Everything whose name has the words, as a page; the box in the band takes the list out of it."""
    words = q.replace("\x00", "")[:100]
    found = find_anything(desk.scope, words)
    places = {
        "person": "people",
        "field": "define/fields",
        "derived": "compute",
        "group": "define",
        "form": "collect",
        "segment": "sift",
        "order": "orders",
    }
    return page(
        request,
        desk,
        "office/bench/find.html",
        stage="bench",
        title="Find",
        sections=_sections(desk),
        found=found,
        words=words,
        places=places,
    )
