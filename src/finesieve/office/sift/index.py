"""The Index of Sift: the segments with their sizes, and what is looked at over several of them."""

from finesieve.office.shared.desk import Desk
from finesieve.office.shared.frame import Entry, Section
from finesieve.services.sift.segments import list_segments

__all__ = ["sift_sections"]


def sift_sections(desk: Desk, active: int = 0, tool: str = "") -> list[Section]:
    """The segments; `active` is the one that is open, `tool` what else is."""
    entries = [
        Entry(segment.name, desk.path(f"sift/{segment.id}"), segment.shown(desk.language), segment.id == active)
        for segment in list_segments(desk.scope)
    ]
    found = [Section("segments", entries, desk.path("sift/new"), "New segment", empty="No segment yet")]
    if len(entries) > 1:
        found.append(Section("side by side", [Entry("Overlap", desk.path("sift/overlap"), "", tool == "overlap")]))
    return found
