"""The checked form of an expression: every part has a type, every literal its value.

Both back ends, Python and SQL, read this form, so that what a literal or an
overloaded sign means is decided once, by the checker.
"""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Final

from finesieve.core.language.library import AT_A_MOMENT, LIBRARY
from finesieve.core.language.problems import Span
from finesieve.core.values import Type, Value

__all__ = ["HISTORY", "OF_HISTORY", "OPERATIONS", "Typed", "unplaced"]

OF_HISTORY: Final = frozenset(("last_change", "ever_held", "value_on"))
"""The operations that read how a value has changed; each is called as its function is."""
HISTORY: Final = "history:"
"""Before the key of a field, how a row is asked for the changes of its value."""

OPERATIONS: Final = (
    frozenset(
        "const name not and or = != < <= > >= between in contains starts_with ends_with is_blank is_filled "
        "add subtract multiply divide negate date_plus date_minus to_date if else "
        "round sum min max years_between age today "
        "house collect holds_any holds_every holds_no count_items step_of mean count_values date_of "
        "label score join concat replace matches text payment".split()
    )
    | frozenset(LIBRARY)
    | OF_HISTORY
)
"""Every operation; a test holds both back ends to this list."""

_READING: Final = OF_HISTORY | {"name", "collect"}


@dataclass(frozen=True, slots=True)
class Typed:
    """One operation with its type.

    `value` is the constant of a `const`; `items` the constants of an `in`, at
    `item_spans`; `name` the key of a `name`, which is of the field `about` what
    it says. A `collect` has the function as `name`, the collection as
    `collection`, what its members are as `about`, and `roles` tells its parts
    apart: column, where, by. `level` counts the collections around: 0 is
    where the expression stands; `inner` is the level of the members of a
    `collect`. `prefix` is the word before the point. What reads the history has the key of the field as `name`.
    """

    operation: str
    type: Type
    span: Span
    parts: tuple["Typed", ...] = ()
    value: Value = None
    items: tuple[Value, ...] = ()
    name: str = ""
    about: str = ""
    level: int = 0
    collection: str = ""
    roles: tuple[str, ...] = ()
    item_spans: tuple[Span, ...] = ()
    prefix: str = ""
    inner: int = 1

    @property
    def key(self) -> str:
        """How a row is asked for this name or collection: at level 0 by it alone, after a prefix with that."""
        if self.prefix:
            return f"{self.prefix}.{self.name}"
        word = self.collection or (HISTORY if self.operation in OF_HISTORY else "") + self.name
        return f"{self.level}:{word}" if self.level else word

    def walk(self) -> Iterator["Typed"]:
        """This operation and all below it."""
        waiting = [self]
        while waiting:
            current = waiting.pop()
            yield current
            waiting.extend(current.parts)

    @property
    def names(self) -> frozenset[str]:
        """The names of where it stands that the expression reads, collections and histories included."""
        return frozenset(part.key for part in self.walk() if part.operation in _READING and not part.level)

    @property
    def house(self) -> frozenset[str]:
        """The keys of the house values that the expression reads."""
        return frozenset(part.name for part in self.walk() if part.operation == "house")

    @property
    def reads(self) -> frozenset[tuple[str, str]]:
        """All that the expression reads, as (about, key); a whole collection as (about, "")."""
        found = set()
        for part in self.walk():
            if part.operation in ("name", "house") or part.operation in OF_HISTORY:
                found.add((part.about, part.name))
            elif part.operation == "collect":
                found.add((part.about, ""))
        return frozenset(found)

    @property
    def volatile(self) -> bool:
        """Whether the result changes as time passes alone."""
        return any(part.operation in ("age", "today", *AT_A_MOMENT) for part in self.walk())


_NOWHERE: Final = Span(0, 0)


def unplaced(typed: Typed) -> Typed:
    """The expression without the places where its parts stand: equal for all that mean the same."""
    return replace(typed, span=_NOWHERE, item_spans=(), parts=tuple(map(unplaced, typed.parts)))
