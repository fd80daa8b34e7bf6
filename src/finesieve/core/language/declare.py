"""How a function of the language is declared."""

from dataclasses import dataclass
from typing import Final, Literal

from finesieve.core.values import Kind

__all__ = ["CHOICE", "CHOICES", "DATE", "NUMBER", "NUMBERS", "ORDERED", "TEXT", "Function"]

ORDERED: Final[frozenset[Kind]] = frozenset(("number", "money", "date", "datetime", "time", "day_of_year"))
"""Kinds whose values have an order."""
NUMBERS: Final[frozenset[Kind]] = frozenset(("number", "money"))
NUMBER: Final[frozenset[Kind]] = frozenset(("number",))
DATE: Final[frozenset[Kind]] = frozenset(("date",))
TEXT: Final[frozenset[Kind]] = frozenset(("text",))
CHOICE: Final[frozenset[Kind]] = frozenset(("choice",))
CHOICES: Final[frozenset[Kind]] = frozenset(("choice", "choices"))


@dataclass(frozen=True, slots=True)
class Function:
    """One function.

    `takes` gives the kinds each argument may have; the last repeats when
    `repeats`. `gives` is the kind of the result, or "same" for that of the
    arguments, which must then agree. One that `collects` takes a collection, or
    one of its columns, as its only argument.
    """

    name: str
    signature: str
    help: str
    example: str
    takes: tuple[frozenset[Kind], ...]
    gives: Kind | Literal["same"]
    least: int
    repeats: bool = False
    collects: bool = False
