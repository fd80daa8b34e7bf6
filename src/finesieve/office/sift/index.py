"""The Index of Sift: the segments with their sizes, folder by folder, and what is looked at over several of them."""

from finesieve.office.shared.desk import Desk
from finesieve.office.shared.frame import Entry, Section
from finesieve.services.sift.segments import SegmentEntry, list_segments

__all__ = ["sift_sections"]


def sift_sections(desk: Desk, active: int = 0, tool: str = "") -> list[Section]:
    """The segments; `active` is the one that is open, `tool` what else is."""
    segments = list_segments(desk.scope)
    folders = sorted({one.folder for one in segments if one.folder}, key=str.casefold)

    def entry(one: SegmentEntry) -> Entry:
        return Entry(one.name, desk.path(f"sift/{one.id}"), one.shown(desk.language), one.id == active)

    loose = [entry(one) for one in segments if not one.folder]
    found = [
        Section("segments", loose, desk.path("sift/new"), "New segment", empty="No segment yet" if not folders else "")
    ]
    found += [Section(name.lower(), [entry(one) for one in segments if one.folder == name]) for name in folders]
    if len(segments) > 1:
        found.append(Section("side by side", [Entry("Overlap", desk.path("sift/overlap"), "", tool == "overlap")]))
    return found
