"""The overlap of segments: its picture, its people, a segment made of a region."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.manner import write_figure
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import page
from finesieve.office.sift.index import sift_sections
from finesieve.services.sift.overlap import MOST, Overlap, overlap_of, region_people, save_region
from finesieve.services.sift.segments import list_segments
from finesieve.services.sift.versions import Strand
from finesieve.web.posted import Posted, whole_number
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/sift/overlap")
_WIDTH: Final = 700.0
_LETTER: Final = 7.5


@dataclass(frozen=True, slots=True)
class _Column:
    """A region as it is drawn: from x on, as wide as it has people; the figure, where there is room for it."""

    key: str
    x: float
    width: float
    people: int
    words: str
    label: str


@dataclass(frozen=True, slots=True)
class _Strip:
    """A segment as it is drawn: the stretches over the regions that it takes part in."""

    name: str
    size: int
    stretches: tuple[tuple[float, float], ...]


def _chosen(given: Sequence[str]) -> list[Strand]:
    """Segments by their id, `12`, and versions of them, `12-190`."""
    parts = (one[:20].partition("-") for one in given[:20])
    return [Strand(number, whole_number(change) or 0) for first, _, change in parts if (number := whole_number(first))]


@router.get("")
def show_overlap(request: Request, desk: DeskHere) -> Response:
    """What the chosen segments share; before any are chosen, what there is to choose from."""
    chosen = _chosen(request.query_params.getlist("s"))
    return _page(request, desk, chosen)


def _page(request: Request, desk: Desk, chosen: Sequence[Strand], message: str = "", status: int = 200) -> Response:
    found: Overlap | None = None
    columns: tuple[_Column, ...] = ()
    strips: tuple[_Strip, ...] = ()
    if 2 <= len(chosen) <= MOST:
        found = overlap_of(desk.scope, chosen)
        columns = _columns(found, desk.language)
        strips = _strips(found, columns)
    elif len(chosen) > MOST:
        message = message or f"Choose {MOST} at the most: of more, nobody can read the picture."
    elif len(chosen) == 1:
        message = message or "Choose another one beside it."
    return page(
        request, desk, "office/sift/overlap.html", stage="sift", title="Overlap",
        sections=sift_sections(desk, tool="overlap"),
        entries=list_segments(desk.scope), chosen=[str(one) for one in chosen], found=found,
        versions=[(str(one), name) for one, name in found.segments if one.until_change] if found else (),
        columns=columns, strips=strips, message=message,
        height=len(strips) * 46 + 22, status=status,
    )  # fmt: skip


def _columns(found: Overlap, language: str) -> tuple[_Column, ...]:
    scale, x, columns = _WIDTH / found.union if found.union else 0.0, 0.0, []
    for one in found.regions:
        width = one.people * scale
        figure = write_figure(one.people, language)
        label = figure if len(figure) * _LETTER + 4 <= width else ""
        key = "".join("1" if is_in else "0" for is_in in one.region)
        words = one.words[:1].upper() + one.words[1:]
        columns.append(_Column(key, round(x, 1), round(width, 1), one.people, words, label))
        x += width
    return tuple(columns)


def _strips(found: Overlap, columns: Sequence[_Column]) -> tuple[_Strip, ...]:
    strips = []
    for place, (_, name) in enumerate(found.segments):
        stretches: list[tuple[float, float]] = []
        for column in columns:
            if column.key[place] == "1":
                if stretches and abs(stretches[-1][0] + stretches[-1][1] - column.x) < 0.2:
                    stretches[-1] = (stretches[-1][0], round(column.x + column.width - stretches[-1][0], 1))
                else:
                    stretches.append((column.x, column.width))
        strips.append(_Strip(name, found.size(place), tuple(stretches)))
    return tuple(strips)


def _region(text: str) -> tuple[bool, ...]:
    if not 2 <= len(text) <= MOST or set(text) - {"0", "1"}:
        raise NotFound("There is no such region.")
    return tuple(one == "1" for one in text)


@router.get("/people")
def show_region(request: Request, desk: DeskHere, region: str = "", before: int | None = None) -> Response:
    """Who is in one region."""
    chosen = _chosen(request.query_params.getlist("s"))
    if not region:
        return RedirectResponse(desk.path("sift/overlap"), 303)
    words, people = region_people(desk.scope, chosen, _region(region), before)
    return page(
        request, desk, "office/sift/region.html", stage="sift", title=words,
        sections=sift_sections(desk, tool="overlap"), words=words, people=people,
        chosen=[str(one) for one in chosen], region=region,
    )  # fmt: skip


@router.post("/save")
def keep_region(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a segment of a region."""
    chosen = _chosen(form.texts("s"))
    try:
        segment_id = save_region(desk.scope, chosen, _region(form.text("region")), form.text("name"))
    except InvalidInput as problem:
        return _page(request, desk, chosen, next(iter(problem.messages.values())), 422)
    return RedirectResponse(desk.path(f"sift/{segment_id}"), 303)
