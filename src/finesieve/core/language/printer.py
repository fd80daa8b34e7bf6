"""Tree to canonical text: equal trees print the same, and the text parses back to the tree."""

from collections.abc import Mapping
from dataclasses import replace
from functools import singledispatch
from typing import Any, Final

from finesieve.core.language import tree
from finesieve.core.language.typed import OF_HISTORY
from finesieve.core.values import plain_number

__all__ = ["print_expression", "print_text_literal", "print_with_values"]

_OR, _AND, _NOT, _TEST, _ELSE, _JOIN, _SUM, _TERM, _UNARY, _ATOM = range(1, 11)
_LEVELS: Final[dict[type[tree.Node], int]] = {
    tree.Not: _NOT,
    tree.Compare: _TEST,
    tree.Between: _TEST,
    tree.In: _TEST,
    tree.Holds: _TEST,
    tree.TextTest: _TEST,
    tree.IsBlank: _TEST,
    tree.Else: _ELSE,
    tree.Join: _JOIN,
    tree.Negate: _UNARY,
}


def print_expression(node: tree.Node) -> str:
    """The canonical text of a tree."""
    return _print(node)


def print_with_values(node: tree.Node, shown: Mapping[str, str]) -> str:
    """The text with each field replaced by what is shown for it, as a worked example."""
    return _print(_replaced(node, shown))


def _replaced(node: tree.Node, shown: Mapping[str, str]) -> tree.Node:
    if isinstance(node, tree.Filtered):
        return node  # its names are those of the records, not of the person
    if isinstance(node, tree.Call) and node.function in OF_HISTORY:
        return replace(node, arguments=(node.arguments[0], *(_replaced(one, shown) for one in node.arguments[1:])))
    if isinstance(node, tree.Name):
        key = node.path[-1] if node.path[0] == "person" else node.text
        return tree.Name((shown.get(key, node.text),))
    changed: dict[str, Any] = {}
    for slot in node.__dataclass_fields__:
        value = getattr(node, slot)
        if isinstance(value, tree.Node):
            changed[slot] = _replaced(value, shown)
        elif isinstance(value, tuple) and value and isinstance(value[0], tree.Node):
            changed[slot] = tuple(_replaced(part, shown) for part in value)
        else:
            changed[slot] = value
    return type(node)(**changed)


def print_text_literal(text: str) -> str:
    """A text in double quotes, with what must be escaped escaped."""
    body = []
    for place, sign in enumerate(text):
        if sign == "\\":
            # Before other signs a backslash stands for itself and stays as it is written.
            following = text[place + 1 : place + 2]
            body.append("\\\\" if following in ("\\", '"', "'", "n", "t", "\n", "\t", "") else "\\")
        else:
            body.append({'"': '\\"', "\n": "\\n", "\t": "\\t"}.get(sign, sign))
    return f'"{"".join(body)}"'


def _level(node: tree.Node) -> int:
    if isinstance(node, tree.Chain):
        return _AND if node.word == "and" else _OR
    if isinstance(node, tree.Arithmetic):
        return _SUM if node.sign in "+-" else _TERM
    return _LEVELS.get(type(node), _ATOM)


def _at(node: tree.Node, level: int) -> str:
    text = _print(node)
    return text if _level(node) >= level else f"({text})"


@singledispatch
def _print(node: tree.Node) -> str:
    raise TypeError(f"no printing for {type(node).__name__}")


@_print.register
def _(node: tree.Number) -> str:
    return plain_number(node.value.scaleb(2)) + "%" if node.percent else plain_number(node.value)


@_print.register
def _(node: tree.Text) -> str:
    return print_text_literal(node.value)


@_print.register
def _(node: tree.YesNo) -> str:
    return "true" if node.value else "false"


@_print.register
def _(_node: tree.Blank) -> str:
    return "blank"


@_print.register
def _(node: tree.Name) -> str:
    return node.text


@_print.register
def _(node: tree.Call) -> str:
    return f"{node.function}({', '.join(_at(part, _OR) for part in node.arguments)})"


@_print.register
def _(node: tree.Chain) -> str:
    inner = _NOT if node.word == "and" else _AND
    return f" {node.word} ".join(_at(part, inner) for part in node.parts)


@_print.register
def _(node: tree.Not) -> str:
    return f"not {_at(node.operand, _NOT)}"


@_print.register
def _(node: tree.Compare) -> str:
    return f"{_at(node.left, _ELSE)} {node.sign} {_at(node.right, _ELSE)}"


@_print.register
def _(node: tree.Between) -> str:
    return f"{_at(node.operand, _ELSE)} between {_at(node.low, _ELSE)} and {_at(node.high, _ELSE)}"


@_print.register
def _(node: tree.In) -> str:
    items = ", ".join(_at(item, _ELSE) for item in node.items)
    return f"{_at(node.operand, _ELSE)} {'not in' if node.negated else 'in'} ({items})"


@_print.register
def _(node: tree.TextTest) -> str:
    return f"{_at(node.left, _ELSE)} {node.word} {_at(node.right, _ELSE)}"


@_print.register
def _(node: tree.Holds) -> str:
    items = ", ".join(_at(item, _ELSE) for item in node.items)
    return f"{_at(node.operand, _ELSE)} holds {f'{node.word} ({items})' if node.word else items}"


@_print.register
def _(node: tree.Filtered) -> str:
    where = f" where {_at(node.where, _OR)}" if node.where else ""
    by = f" by {_at(node.by, _ELSE)}" if node.by else ""
    return f"{_at(node.operand, _OR)}{where}{by}"


@_print.register
def _(node: tree.IsBlank) -> str:
    return f"{_at(node.operand, _ELSE)} is {'filled' if node.filled else 'blank'}"


@_print.register
def _(node: tree.Else) -> str:
    return " else ".join(_at(part, _JOIN) for part in node.parts)


@_print.register
def _(node: tree.Join) -> str:
    return " & ".join(_at(part, _SUM) for part in node.parts)


@_print.register
def _(node: tree.Arithmetic) -> str:
    level = _level(node)
    return f"{_at(node.left, level)} {node.sign} {_at(node.right, level + 1)}"


@_print.register
def _(node: tree.Negate) -> str:
    operand = _at(node.operand, _UNARY)
    # A minus straight before a number would become part of it.
    glued = isinstance(node.operand, tree.Number | tree.Negate)
    return f"-({operand})" if glued else f"-{operand}"
