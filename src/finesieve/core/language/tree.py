"""The tree of an expression: frozen nodes, equal when they mean the same text."""

from collections.abc import Iterator
from dataclasses import dataclass, field, fields
from decimal import Decimal
from typing import Literal as Lit

from finesieve.core.language.problems import Span

__all__ = [
    "Arithmetic",
    "Between",
    "Blank",
    "Call",
    "Chain",
    "Compare",
    "Else",
    "Filtered",
    "Holds",
    "In",
    "IsBlank",
    "Join",
    "Name",
    "Negate",
    "Node",
    "Not",
    "Number",
    "Text",
    "TextTest",
    "YesNo",
    "names_in",
    "walk",
]

NOWHERE = Span(0, 0)


@dataclass(frozen=True, slots=True)
class Node:
    """Any part of an expression. Its place does not count for equality."""

    span: Span = field(default=NOWHERE, compare=False, kw_only=True)


@dataclass(frozen=True, slots=True)
class Number(Node):
    """A number as written, its sign included; `percent` for `15%`."""

    value: Decimal
    percent: bool = False


@dataclass(frozen=True, slots=True)
class Text(Node):
    value: str


@dataclass(frozen=True, slots=True)
class YesNo(Node):
    value: bool


@dataclass(frozen=True, slots=True)
class Blank(Node):
    pass


@dataclass(frozen=True, slots=True)
class Name(Node):
    """A field's key, or a prefix and a key."""

    path: tuple[str, ...]

    @property
    def text(self) -> str:
        return ".".join(self.path)


@dataclass(frozen=True, slots=True)
class Call(Node):
    function: str
    arguments: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Chain(Node):
    """`a and b and c` or `a or b or c`, flat."""

    word: Lit["and", "or"]
    parts: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Not(Node):
    operand: Node


@dataclass(frozen=True, slots=True)
class Compare(Node):
    sign: Lit["=", "!=", "<", "<=", ">", ">="]
    left: Node
    right: Node


@dataclass(frozen=True, slots=True)
class Between(Node):
    operand: Node
    low: Node
    high: Node


@dataclass(frozen=True, slots=True)
class In(Node):
    operand: Node
    items: tuple[Node, ...]
    negated: bool = False


@dataclass(frozen=True, slots=True)
class Holds(Node):
    """`holds "x"`, `holds any (…)`, `holds every (…)`, `holds no (…)`."""

    word: Lit["", "any", "every", "no"]
    operand: Node
    items: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Filtered(Node):
    """A collection, or one of its columns, `where` a condition holds and `by` an order; either may be missing."""

    operand: Node
    where: Node | None = None
    by: Node | None = None


@dataclass(frozen=True, slots=True)
class TextTest(Node):
    """`contains`, `starts with`, `ends with`; `matches`, with its pattern as a literal."""

    word: Lit["contains", "starts with", "ends with", "matches"]
    left: Node
    right: Node


@dataclass(frozen=True, slots=True)
class IsBlank(Node):
    """`is blank`, or `is filled` when `filled`."""

    operand: Node
    filled: bool = False


@dataclass(frozen=True, slots=True)
class Else(Node):
    """The first of the parts that is not blank."""

    parts: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Join(Node):
    """Texts put together, a blank one counting as nothing."""

    parts: tuple[Node, ...]


@dataclass(frozen=True, slots=True)
class Arithmetic(Node):
    sign: Lit["+", "-", "*", "/"]
    left: Node
    right: Node


@dataclass(frozen=True, slots=True)
class Negate(Node):
    operand: Node


def walk(node: Node) -> Iterator[Node]:
    """The node and all its parts, without recursion, in no promised order."""
    waiting = [node]
    while waiting:
        current = waiting.pop()
        yield current
        for slot in fields(current):
            value = getattr(current, slot.name)
            if isinstance(value, Node):
                waiting.append(value)
            elif isinstance(value, tuple):
                waiting.extend(part for part in value if isinstance(part, Node))


def names_in(node: Node) -> frozenset[str]:
    """The keys of the fields that the expression reads."""
    return frozenset(part.path[-1] for part in walk(node) if isinstance(part, Name))
