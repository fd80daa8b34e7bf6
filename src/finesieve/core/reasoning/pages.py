"""What is wasteful in member pages: placeholders that most readers see blank, pages that nobody sees."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from finesieve.core.fields.about import PERSON
from finesieve.core.language.placeholders import expressions_in
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.pages.definition import MemberPage

__all__ = ["PageReading", "blank_conditions", "often_blank", "readers_condition"]

_TENTH = 10


@dataclass(frozen=True, slots=True)
class PageReading:
    """A page in force: how many may read it (None where that was not counted), and for each of its placeholders, how
    many of those who see it find it blank, as (expression, blank, seen)."""

    id: int
    title: str
    readers: int | None
    blanks: Sequence[tuple[str, int, int]] = field(default=())


def readers_condition(page: MemberPage, catalogue: Catalogue, segment: str) -> str:
    """Who may read a page, as an expression about people; `segment` is that of its segment, "" for everybody."""
    if page.audience == "levels":
        keys = [f'"{one.key}"' for one in catalogue.levels if one.id in page.levels]
        return f"level in ({', '.join(keys)})" if keys else "false"
    return (segment or "true") if page.audience == "segment" else "true"


def blank_conditions(page: MemberPage, catalogue: Catalogue, readers: str) -> Iterator[tuple[str, str, str]]:
    """The placeholders of a page that can be blank: (the expression, who sees it, for whom of those it is blank).

    What has a fallback of its own is never blank; what the level brings, and links, are not about one person alone.
    """
    for block in page.blocks:
        sees = " and ".join(f"({part})" for part in (readers, block.show_when) if part)
        for text in (block.text, block.button):
            for expression in expressions_in(text):
                known = catalogue.by_key.get(expression.strip())
                typed = catalogue.check(expression, about=PERSON).typed
                fallback = known is not None and bool(known.settings.fallback)
                if typed is not None and not typed.type.never_blank and not fallback:
                    yield expression, sees, f"{sees} and ({expression}) is blank"


def often_blank(page: PageReading) -> Iterator[tuple[str, int]]:
    """The placeholders that are blank for more than a tenth of those who see them, with the share in per cent."""
    for expression, blank, seen in dict.fromkeys(page.blanks):
        if seen and blank * _TENTH > seen:
            yield expression, round(100 * blank / seen)
