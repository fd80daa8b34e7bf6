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

__all__ = ["expressions_in", "fill", "placeholder_problems"]

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

    def one(match: re.Match[str]) -> str:
        if match[1] is None:
            return match[0][0]
        typed = check(match[1]).typed
        if typed is None:
            return ""
        return show(typed, compile_python(typed)(row, moment))

    return _PARTS.sub(one, text)
