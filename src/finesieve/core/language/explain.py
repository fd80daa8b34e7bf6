"""Why an expression gives what it gives: every part with its value, and the parts that decided.

A part decided when the result would not be known without it: of an `and` that is
false the parts that are false, of an `if` the conditions up to the branch taken
and that branch, of `a else b` the first that is filled and the blanks before it.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

from finesieve.core.language.evaluator import compile_python, from_results
from finesieve.core.language.problems import Span
from finesieve.core.language.program import Moment
from finesieve.core.language.typed import Typed
from finesieve.core.values import Kind, Value

__all__ = ["Explained", "explain"]


@dataclass(frozen=True, slots=True)
class Explained:
    """One part of an expression, at its place in the text.

    `decided` tells whether the whole rests on it. What stands inside a function
    over records has no one value, and is not taken apart.
    """

    operation: str
    span: Span
    kind: Kind
    value: Value
    decided: bool
    parts: tuple["Explained", ...] = ()


def explain(typed: Typed, values: Mapping[str, Value], moment: Moment) -> Explained:
    """Work out every part of a checked expression for these values."""
    return _decided(_worked(typed, values, moment), decided=True)


def _worked(typed: Typed, values: Mapping[str, Value], moment: Moment) -> Explained:
    """Every part with its value, each worked out once from those below it; what decided is not known yet."""
    if typed.operation == "collect":
        return Explained("collect", typed.span, typed.type.kind, compile_python(typed)(values, moment), False)
    parts = tuple(_worked(part, values, moment) for part in typed.parts)
    value = from_results(typed, [part.value for part in parts], values, moment)
    return Explained(typed.operation, typed.span, typed.type.kind, value, False, parts)


def _decided(part: Explained, *, decided: bool) -> Explained:
    results = [below.value for below in part.parts]
    deciding = _DECIDING.get(part.operation, _everything)(part.value, results) if decided else frozenset()
    parts = tuple(_decided(below, decided=place in deciding) for place, below in enumerate(part.parts))
    return _as_written(replace(part, decided=decided, parts=parts))


def _as_written(part: Explained) -> Explained:
    """A part without what the checker put in: such a step stands at the very place of the part that it serves."""
    same = [below for below in part.parts if below.span == part.span]
    if not same:
        return part
    if part.operation in _UNSEEN:
        return same[0]
    operation = "not_in" if (part.operation, same[0].operation) == ("not", "in") else part.operation
    parts = tuple(inner for below in part.parts for inner in (below.parts if below.span == part.span else (below,)))
    return replace(part, operation=operation, parts=parts)


_UNSEEN: Final = frozenset(("negate", "to_date", "step_of"))
"""Steps that bring a part to what its place needs: days turned round, the day of a moment, a step's place."""


_Results = Sequence[Value]
_Decides = Callable[[Value, _Results], frozenset[int]]


def _everything(_value: Value, results: _Results) -> frozenset[int]:
    """Where one part is blank and the whole is, the blanks decided; else all did."""
    blanks = frozenset(place for place, result in enumerate(results) if result is None)
    return blanks if _value is None and blanks else frozenset(range(len(results)))


def _chain(value: Value, results: _Results) -> frozenset[int]:
    """Of `and` and `or`: those that agree with the whole."""
    return frozenset(place for place, result in enumerate(results) if result is value)


def _branches(_value: Value, results: _Results) -> frozenset[int]:
    """Of `if`: the conditions up to the one that was not false, and the branch beside it."""
    deciding: set[int] = set()
    for place in range(0, len(results) - 1, 2):
        deciding.add(place)
        if results[place] is None:
            return frozenset(deciding)
        if results[place] is True:
            return frozenset(deciding | {place + 1})
    return frozenset(deciding | {len(results) - 1})


def _first_filled(_value: Value, results: _Results) -> frozenset[int]:
    """Of `else`: the blanks, and the first that is not."""
    filled = next((place for place, result in enumerate(results) if result is not None), len(results) - 1)
    return frozenset(range(filled + 1))


def _filled(_value: Value, results: _Results) -> frozenset[int]:
    """Of what leaves blanks out: those that are filled, or all where none is."""
    filled = frozenset(place for place, result in enumerate(results) if result is not None)
    return filled or frozenset(range(len(results)))


def _extreme(value: Value, results: _Results) -> frozenset[int]:
    """Of `min` and `max`: those that are it."""
    return frozenset(place for place, result in enumerate(results) if result == value)


_DECIDING: Final[dict[str, _Decides]] = {
    "and": _chain,
    "or": _chain,
    "if": _branches,
    "else": _first_filled,
    "sum": _filled,
    "mean": _filled,
    "concat": _filled,
    "min": _extreme,
    "max": _extreme,
}
