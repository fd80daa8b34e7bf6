"""Placeholders: `{…}` in a text, replaced by the value of the expression in it. A literal brace is doubled."""

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Final

from finesieve.core.language.checker import Checked
from finesieve.core.language.evaluator import Moment, compile_python
from finesieve.core.language.problems import Problem, Span
from finesieve.core.language.program import Program
from finesieve.core.language.typed import Typed
from finesieve.core.values import Value

__all__ = ["Piece", "Template", "expressions_in", "fill", "placeholder_problems"]

_PARTS: Final = re.compile(r"\{\{|\}\}|\{([^{}]*)\}|[{}]")


@dataclass(frozen=True, slots=True)
class _Place:
    expression: str
    span: Span


def _places(text: str) -> Iterator[_Place]:
    for match in _PARTS.finditer(text):
        if match[1] is not None:
            yield _Place(match[1], Span(match.start(1), match.end(1)))


def expressions_in(text: str) -> tuple[str, ...]:
    """The expressions that a text holds, in order."""
    return tuple(place.expression for place in _places(text))


def placeholder_problems(text: str, check: Callable[[str], Checked]) -> tuple[Problem, ...]:
    """All that is wrong with the placeholders of a text, at their places in it."""
    found = []
    for place in _places(text):
        for problem in check(place.expression).problems:
            span = Span(problem.span.start + place.span.start, problem.span.end + place.span.start)
            found.append(Problem(problem.code, span, problem.message, problem.hint))
    return tuple(found)


@dataclass(frozen=True, slots=True)
class Piece:
    """A part of a filled text: plain, or what came of an `expression`."""

    text: str
    expression: str = ""


class Template:
    """A text made ready to be filled many times: its placeholders checked and compiled."""

    def __init__(self, text: str, check: Callable[[str], Checked]) -> None:
        self._parts: list[tuple[str, Typed | None, Program | None]] = []
        end = 0
        for match in _PARTS.finditer(text):
            if match.start() > end:
                self._parts.append((text[end : match.start()], None, None))
            end = match.end()
            if match[1] is None:
                self._parts.append((match[0][0], None, None))
                continue
            typed = check(match[1]).typed
            program = compile_python(typed) if typed is not None else _nothing
            self._parts.append((match[1], typed, program))
        if end < len(text):
            self._parts.append((text[end:], None, None))

    def pieces(self, row: Mapping[str, Value], moment: Moment, show: Callable[[Typed, Value], str]) -> Iterator[Piece]:
        """The text with its placeholders filled, in parts; see `fill`."""
        for text, typed, program in self._parts:
            if program is None:
                yield Piece(text)
            else:
                yield Piece(show(typed, program(row, moment)) if typed is not None else "", text)


def _nothing(_row: object, _moment: object) -> None:
    return None


def fill(
    text: str,
    check: Callable[[str], Checked],
    row: Mapping[str, Value],
    moment: Moment,
    show: Callable[[Typed, Value], str],
) -> str:
    """The text with its placeholders filled; one that cannot be worked out becomes the empty text.

    `show` gives a value as people read it. The result is plain text: escaping is for
    whoever puts it somewhere.
    """
    if "{" not in text and "}" not in text:
        return text
    return "".join(piece.text for piece in Template(text, check).pieces(row, moment, show))
