"""What a page may name, what is wrong with it, and how it reads for somebody."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial

from finesieve.core.fields.about import HOUSE
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.placeholders import Piece, Template, expressions_in, placeholder_problems
from finesieve.core.language.program import Moment, Program
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.reader import Reader, ReaderRow, reader_world
from finesieve.core.model.saying import show_typed
from finesieve.core.pages.definition import Block, MemberPage
from finesieve.core.values import Kind

__all__ = ["PageProblem", "PreparedPage", "ReadBlock", "page_problems"]


def _checker(catalogue: Catalogue) -> Callable[[str], Checked]:
    return lambda text: _check(catalogue, text, None)


def _check(catalogue: Catalogue, text: str, expect: Kind | None) -> Checked:
    return check(text, reader_world(catalogue), zone=catalogue.zone, expect=expect)


@dataclass(frozen=True, slots=True)
class PageProblem:
    """What keeps a page from being published: at the block of this number, from 0, in one of its parts."""

    block: int
    part: str
    message: str


def page_problems(page: MemberPage, catalogue: Catalogue) -> Iterator[PageProblem]:
    """All that is wrong with a page: rules and placeholders that cannot work, and what may not be told."""
    checked = _checker(catalogue)
    for number, block in enumerate(page.blocks):
        if block.show_when:
            found = _check(catalogue, block.show_when, "yes_no")
            yield from (PageProblem(number, "show_when", one.message) for one in found.problems)
        for part in ("text", "button", "to"):
            text = getattr(block, part)
            yield from (PageProblem(number, part, one.message) for one in placeholder_problems(text, checked))
            for expression in expressions_in(text):
                yield from _private(number, part, checked(expression), catalogue)
        yield from (PageProblem(number, "picture", message) for message in _picture_problems(block, catalogue))
        if bool(block.button) != bool(block.to):
            yield PageProblem(number, "to", "A button needs both its words and where it leads.")
    if page.audience == "levels" and not {one.id for one in catalogue.levels} & set(page.levels):
        yield PageProblem(-1, "levels", "Name the levels that may read it; else nobody can see it.")


def _picture_problems(block: Block, catalogue: Catalogue) -> Iterator[str]:
    if not block.picture:
        return
    known = catalogue.keys_of(HOUSE).get(block.picture)
    if known is None or known.type_key != "picture":
        yield "This picture of the house is gone; choose another."
    elif (HOUSE, block.picture) in catalogue.not_for_the_person:
        yield f"“{known.label}” is private to staff and cannot stand here."
    elif not block.shows.strip():
        yield "Say what is to be seen on the picture, for those who cannot see it."


def _private(number: int, part: str, checked: Checked, catalogue: Catalogue) -> Iterator[PageProblem]:
    reads = checked.typed.reads if checked.typed is not None else ()
    for about, key in sorted(set(reads) & catalogue.not_for_the_person):
        known = catalogue.keys_of(about).get(key)
        yield PageProblem(number, part, f"“{known.label if known else key}” is private to staff and cannot stand here.")


@dataclass(frozen=True, slots=True)
class ReadBlock:
    """A block as somebody reads it: its text in pieces, plain and filled in by turns; its button and where it leads; a
    picture, by the key of its house value, and what it shows."""

    number: int
    text: tuple[Piece, ...]
    button: str = ""
    to: str = ""
    picture: str = ""
    shows: str = ""


@dataclass(frozen=True, slots=True)
class _Compiled:
    """A block made ready: when it shows (None for always), and its texts."""

    block: Block
    shows: Program | None
    text: Template
    button: Template
    to: Template


class PreparedPage:
    """A page whose rules and texts are compiled, to be read by many."""

    def __init__(self, page: MemberPage, catalogue: Catalogue) -> None:
        self.page, self._show = page, partial(show_typed, catalogue)
        checked = _checker(catalogue)
        self._blocks = tuple(
            _Compiled(
                block,
                _rule(catalogue, block.show_when),
                *(Template(text, checked) for text in (block.text, block.button, block.to)),
            )
            for block in page.blocks
        )

    def read(self, reader: Reader, moment: Moment) -> Iterator[ReadBlock]:
        """The blocks that somebody sees, in order."""
        row = ReaderRow(reader)
        for number, one in enumerate(self._blocks):
            if one.shows is not None and one.shows(row, moment) is not True:
                continue
            text, button, to = (tuple(part.pieces(row, moment, self._show)) for part in (one.text, one.button, one.to))
            picture = one.block.picture
            picture = picture if picture and moment.house.get(picture) is not None else ""
            said, address = ("".join(piece.text for piece in part) for part in (button, to))
            yield ReadBlock(number, text, said, address, picture, one.block.shows)


def _rule(catalogue: Catalogue, text: str) -> Program | None:
    """When a block shows; None for always. One that has lost its meaning shows to nobody."""
    if not text:
        return None
    typed = _check(catalogue, text, "yes_no").typed
    return compile_python(typed) if typed is not None else lambda _row, _moment: None
