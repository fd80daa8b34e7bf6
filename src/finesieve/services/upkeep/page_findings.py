"""How the member pages in force are read: by how many, and which of their placeholders are blank for whom."""

from sqlmodel import col, select

from finesieve.core.language.typed import Typed
from finesieve.core.pages.definition import MemberPage
from finesieve.core.reasoning.pages import PageReading, blank_conditions, readers_condition
from finesieve.services.kernel.scope import Unit
from finesieve.store.reading.people import count_each
from finesieve.store.tables import PageRow, PageVersion, Segment

__all__ = ["pages_in_force"]

_MOST = 200
"""So many conditions are counted; what is beyond them is not looked at."""


def pages_in_force(unit: Unit) -> tuple[PageReading, ...]:
    """All pages in force with who reads them; counted over everybody in one pass, and kept."""
    on = (col(PageVersion.page_id) == col(PageRow.id)) & (col(PageVersion.number) == col(PageRow.published))
    rows = unit.session.exec(select(PageRow, PageVersion).join(PageVersion, on).order_by(col(PageRow.id))).all()
    if not rows:
        return ()
    conditions: dict[str, Typed] = {}

    def wanted(text: str) -> str:
        typed = unit.catalogue.check_segment(text).typed
        if typed is not None and len(conditions) < _MOST:
            conditions[text] = typed
        return text

    found = []
    for row, version in rows:
        page = MemberPage.model_validate(version.document)
        segment = unit.session.get(Segment, page.segment) if page.audience == "segment" else None
        readers = wanted(readers_condition(page, unit.catalogue, segment.expression if segment is not None else ""))
        blanks = [
            (text, wanted(sees), wanted(blank)) for text, sees, blank in blank_conditions(page, unit.catalogue, readers)
        ]
        gone = page.audience == "segment" and segment is None
        found.append((row.id or 0, page.title, "" if gone else readers, blanks))
    _, counts = count_each(unit.session, unit.definitions, tuple(conditions.values()), unit.moment)
    counted: dict[str, int | None] = dict(zip(conditions, counts, strict=True))
    return tuple(
        PageReading(
            page_id, title, counted.get(readers) if readers else 0,
            tuple(
                (text, blank, seen)
                for text, sees, of in blanks
                if (blank := counted.get(of)) is not None and (seen := counted.get(sees)) is not None
            ),
        )
        for page_id, title, readers, blanks in found
    )  # fmt: skip
