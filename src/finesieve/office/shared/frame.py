"""The frame of an office page: band, index, sheet, margin."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Final, Literal

from fastapi import Request
from starlette.responses import HTMLResponse, RedirectResponse

from finesieve.office.shared.desk import Desk
from finesieve.services.kernel.changes import read_change
from finesieve.web.posted import whole_number
from finesieve.web.templating import render

__all__ = ["Entry", "Section", "back_with", "page"]

Stage = Literal["bench", "define", "collect", "compute", "sift", "follow-up", "people"]
STAGES: Final[tuple[tuple[Stage, str], ...]] = (
    ("define", "Define"),
    ("collect", "Collect"),
    ("compute", "Compute"),
    ("sift", "Sift"),
    ("follow-up", "Follow up"),
)


@dataclass(frozen=True, slots=True)
class Entry:
    """A line of the Index: a name, leader dots, a figure or state."""

    name: str
    href: str
    figure: str = ""
    active: bool = False
    id: int = 0


@dataclass(frozen=True, slots=True)
class Section:
    """A part of the Index. `add` is the address that makes a new entry; `order` takes a new order; `head`
    stands before the entries and stays there."""

    title: str
    entries: Sequence[Entry]
    add: str = ""
    add_label: str = ""
    order: str = ""
    empty: str = ""
    head: Entry | None = None


@dataclass(frozen=True, slots=True)
class Frame:
    """What the layout needs."""

    desk: Desk
    stage: Stage
    sections: Sequence[Section]
    title: str
    undo: Any = None
    search: str = ""
    stages: Sequence[tuple[Stage, str]] = field(default=STAGES)


def page(
    request: Request,
    desk: Desk,
    template: str,
    *,
    stage: Stage,
    title: str,
    sections: Sequence[Section],
    status: int = 200,
    **context: Any,
) -> HTMLResponse:
    """One page of the office. A change just made is offered for undoing in the Margin.

    `was` in the context is what the page that was sent had shown; `clash` the change of somebody else that it met.
    """
    change = whole_number(request.query_params.get("done", "")[:9])
    undo = read_change(desk.scope, change) if change else None
    frame = Frame(desk, stage, sections, title, undo, desk.path("define/search") if stage == "define" else "")
    standing = {"frame": frame, "desk": desk, "csrf": desk.staff.csrf, "was": {}, "clash": None}
    return render(request, template, {**standing, **context}, status)


def back_with(path: str, change_id: int = 0) -> RedirectResponse:
    """Back to a page after a change, offering to undo it where it can be."""
    sign = "&" if "?" in path else "?"
    return RedirectResponse(f"{path}{sign}done={change_id}" if change_id else path, 303)
