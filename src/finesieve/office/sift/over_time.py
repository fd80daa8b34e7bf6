"""A segment over time: the picture of its sizes, who came in and who left."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Annotated, Final

from fastapi import Query, Request
from starlette.responses import Response

from finesieve.core.values import day_written
from finesieve.office.shared.desk import DeskHere
from finesieve.office.shared.frame import page
from finesieve.office.sift.index import sift_sections
from finesieve.services.sift.over_time import DaySize, over_time, sizes_beside
from finesieve.services.sift.segments import list_segments
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/sift/{segment_id:int}/time")
_WIDTH: Final = 700.0
_HEIGHT: Final = 130.0
_AGO: Final = (("yesterday", 1), ("a week ago", 7), ("a month ago", 30), ("ninety days ago", 90))


@dataclass(frozen=True, slots=True)
class _Picture:
    """Sizes as a line of steps, the area below it, the line of another segment beside it, the days when the definition
    changed, and where days are named."""

    line: str
    area: str
    beside: str
    marks: tuple[tuple[float, date], ...]
    days: tuple[tuple[float, date], ...]
    most: int


def _draw(sizes: Sequence[DaySize], beside: Sequence[DaySize] = ()) -> _Picture | None:
    if len(sizes) < 2:
        return None
    every = (*sizes, *beside)
    first, last = min(one.day for one in every), max(one.day for one in every)
    span = max((last - first).days, 1)
    most = max(one.people for one in every) or 1

    def x(day: date) -> float:
        return round(_WIDTH * (day - first).days / span, 1)

    def y(people: int) -> float:
        return round(_HEIGHT * (1 - people / most), 1)

    def steps(drawn: Sequence[DaySize]) -> str:
        begin = "".join(f"M{x(one.day)} {y(one.people)}" for one in drawn[:1])
        return begin + "".join(f"H{x(one.day)}V{y(one.people)}" for one in drawn[1:])

    line = steps(sizes)
    named = sorted({round(span * part / 4) for part in range(5)})
    return _Picture(
        line, f"{line}V{_HEIGHT}H{x(sizes[0].day)}Z", steps(beside),
        tuple((x(one.day), one.day) for one in sizes if one.changed),
        tuple((x(first + timedelta(days=one)), first + timedelta(days=one)) for one in named), most,
    )  # fmt: skip


@router.get("")
def show_over_time(
    request: Request,
    desk: DeskHere,
    segment_id: int,
    since: str = "",
    other: Annotated[str, Query(alias="with", max_length=20)] = "",
) -> Response:
    """The segment over the last ninety days, another one beside it, and its movements since a day."""
    others = [one for one in list_segments(desk.scope) if one.id != segment_id]
    beside = sizes_beside(desk.scope, int(other)) if other in {str(one.id) for one in others} else None
    found = over_time(desk.scope, segment_id, day_written(since))
    today = found.sizes[-1].day if found.sizes else found.since
    return page(
        request, desk, "office/sift/over_time.html", stage="sift", title=found.name,
        sections=sift_sections(desk, segment_id), found=found, others=others,
        beside=beside, picture=_draw(found.sizes, beside.sizes if beside else ()),
        today=today, ago=[(words, today - timedelta(days=days)) for words, days in _AGO],
    )  # fmt: skip
