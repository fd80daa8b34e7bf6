"""Placeholders: `{…}` in a text, replaced by the value of the expression in it. A literal brace is doubled."""

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Final

from finesieve.core.language.checker import Checked
from finesieve.core.language.evaluator import Moment, compile_python
from finesieve.core.language.problems import Problem, Span
from finesieve.core.language.typed import Typed
from finesieve.core.values import Value

__all__ = ["Piece", "expressions_in", "fill", "pieces", "placeholder_problems"]

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


def pieces(
    text: str,
    check: Callable[[str], Checked],
    row: Mapping[str, Value],
    moment: Moment,
    show: Callable[[Typed, Value], str],
) -> Iterator[Piece]:
    """A text with its placeholders filled, in parts; see `fill`."""
    end = 0
    for match in _PARTS.finditer(text):
        if match.start() > end:
            yield Piece(text[end : match.start()])
        end = match.end()
        if match[1] is None:
            yield Piece(match[0][0])
            continue
        typed = check(match[1]).typed
        yield Piece(show(typed, compile_python(typed)(row, moment)) if typed is not None else "", match[1])
    if end < len(text):
        yield Piece(text[end:])


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
    return "".join(piece.text for piece in pieces(text, check, row, moment, show))
