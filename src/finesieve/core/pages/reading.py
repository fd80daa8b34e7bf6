"""What a page may name, what is wrong with it, and how it reads for somebody."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import partial

from finesieve.core.fields.about import LEVEL, PERSON
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.names import World
from finesieve.core.language.placeholders import Piece, expressions_in, pieces, placeholder_problems
from finesieve.core.language.program import Moment
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.saying import show_typed
from finesieve.core.pages.definition import MemberPage
from finesieve.core.values import Kind, Value

__all__ = ["PageProblem", "ReadBlock", "Reader", "page_problems", "read_page"]


def _world(catalogue: Catalogue) -> World:
    """What a page may name: all of a person, and what the level that they hold brings."""
    world = catalogue.world(PERSON)
    levels = world.members[LEVEL].names if LEVEL in world.members else {}
    return replace(world, prefixes={**world.prefixes, "level": levels})


def _checker(catalogue: Catalogue) -> Callable[[str], Checked]:
    return lambda text: _check(catalogue, text, None)


def _check(catalogue: Catalogue, text: str, expect: Kind | None) -> Checked:
    return check(text, _world(catalogue), zone=catalogue.zone, expect=expect)


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
        if bool(block.button) != bool(block.to):
            yield PageProblem(number, "to", "A button needs both its words and where it leads.")
    if page.audience == "levels" and not {one.id for one in catalogue.levels} & set(page.levels):
        yield PageProblem(-1, "levels", "Name the levels that may read it; else nobody can see it.")


def _private(number: int, part: str, checked: Checked, catalogue: Catalogue) -> Iterator[PageProblem]:
    reads = checked.typed.reads if checked.typed is not None else ()
    for about, key in sorted(set(reads) & catalogue.not_for_the_person):
        known = catalogue.keys_of(about).get(key)
        yield PageProblem(number, part, f"“{known.label if known else key}” is private to staff and cannot stand here.")


@dataclass(frozen=True, slots=True)
class Reader:
    """Who reads: their values with what is derived, and those of the level that they hold."""

    row: Mapping[str, Value]
    level: Mapping[str, Value]


class _Row(Mapping[str, Value]):
    def __init__(self, reader: Reader) -> None:
        self._reader = reader

    def __getitem__(self, name: str) -> Value:
        prefix, point, key = name.partition(".")
        if point and prefix in ("level", "person"):
            return self._reader.level.get(key) if prefix == "level" else self._reader.row[key]
        return self._reader.row[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._reader.row)

    def __len__(self) -> int:
        return len(self._reader.row)


@dataclass(frozen=True, slots=True)
class ReadBlock:
    """A block as somebody reads it: its text in pieces, plain and filled in by turns; its button and where it leads."""

    number: int
    text: tuple[Piece, ...]
    button: str = ""
    to: str = ""


def read_page(page: MemberPage, catalogue: Catalogue, reader: Reader, moment: Moment) -> Iterator[ReadBlock]:
    """The blocks that somebody sees, in order."""
    row, checked, show = _Row(reader), _checker(catalogue), partial(show_typed, catalogue)
    for number, block in enumerate(page.blocks):
        if block.show_when:
            typed = _check(catalogue, block.show_when, "yes_no").typed
            if typed is None or compile_python(typed)(row, moment) is not True:
                continue

        def said(text: str) -> tuple[Piece, ...]:
            return tuple(pieces(text, checked, row, moment, show))

        button, to = ("".join(piece.text for piece in said(one)) for one in (block.button, block.to))
        yield ReadBlock(number, said(block.text), button, to)
