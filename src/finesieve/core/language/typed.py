"""The checked form of an expression: every part has a type, every literal its value.

Both back ends, Python and SQL, read this form, so that what a literal or an
overloaded sign means is decided once, by the checker.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Final

from finesieve.core.language.problems import Span
from finesieve.core.values import Type, Value

__all__ = ["OPERATIONS", "Typed"]

OPERATIONS: Final = frozenset(
    "const name not and or = != < <= > >= between in contains starts_with ends_with is_blank is_filled "
    "add subtract multiply divide negate date_plus date_minus to_date if else "
    "round sum min max years_between age today".split()
)
"""Every operation; a test holds both back ends to this list."""


@dataclass(frozen=True, slots=True)
class Typed:
    """One operation with its type.

    `value` is the constant of a `const`; `items` the constants of an `in`;
    `name` the key of a `name`.
    """

    operation: str
    type: Type
    span: Span
    parts: tuple["Typed", ...] = ()
    value: Value = None
    items: tuple[Value, ...] = ()
    name: str = ""

    def walk(self) -> Iterator["Typed"]:
        """This operation and all below it."""
        waiting = [self]
        while waiting:
            current = waiting.pop()
            yield current
            waiting.extend(current.parts)

    @property
    def names(self) -> frozenset[str]:
        """The keys that the expression reads."""
        return frozenset(part.name for part in self.walk() if part.operation == "name")

    @property
    def volatile(self) -> bool:
        """Whether the result changes as time passes alone."""
        return any(part.operation in ("age", "today") for part in self.walk())
