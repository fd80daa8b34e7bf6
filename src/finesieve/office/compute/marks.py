"""A formula cut into pieces, those with a problem marked."""

from collections.abc import Iterable
from dataclasses import dataclass

from finesieve.core.language.problems import Problem

__all__ = ["Piece", "marked_text"]


@dataclass(frozen=True, slots=True)
class Piece:
    """A stretch of text; `wrong` where a problem lies in it."""

    text: str
    wrong: bool


def marked_text(text: str, problems: Iterable[Problem]) -> tuple[Piece, ...]:
    """The text in pieces, in order. A problem without width is marked on a space of its own."""
    pieces: list[Piece] = []
    done = 0
    for problem in sorted(problems, key=lambda problem: problem.span.start):
        start, end = max(problem.span.start, done), problem.span.end
        if end < start:
            continue
        pieces.append(Piece(text[done:start], wrong=False))
        pieces.append(Piece(text[start:end] or " ", wrong=True))
        done = max(end, done)
    pieces.append(Piece(text[done:], wrong=False))
    return tuple(piece for piece in pieces if piece.text)
