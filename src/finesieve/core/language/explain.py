"""Why an expression gives what it gives: every part with its value, and the parts that decided.

A part decided when the result would not be known without it: of an `and` that is
false the parts that are false, of an `if` the conditions up to the branch taken
and that branch, of `a else b` the first that is filled and the blanks before it.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from finesieve.core.language.evaluator import compile_python
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
    return _explained(typed, values, moment, decided=True)


def _explained(typed: Typed, values: Mapping[str, Value], moment: Moment, *, decided: bool) -> Explained:
    below = () if typed.operation == "collect" else typed.parts
    results = [compile_python(part)(values, moment) for part in below]
    value = compile_python(typed)(values, moment)
    deciding = _DECIDING.get(typed.operation, _everything)(value, results) if decided else frozenset()
    parts = tuple(_explained(part, values, moment, decided=place in deciding) for place, part in enumerate(below))
    return Explained(typed.operation, typed.span, typed.type.kind, value, decided, parts)


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
