"""Conditions that ask the same and are written differently: one normal form for all of them."""

from collections.abc import Iterable
from dataclasses import fields, replace
from functools import singledispatch
from typing import Any, Final, Literal

from finesieve.core.language import tree
from finesieve.core.language.printer import print_expression

__all__ = ["normal_form"]

Sign = Literal["=", "!=", "<", "<=", ">", ">="]
_OPPOSITE: Final[dict[Sign, Sign]] = {"=": "!=", "!=": "=", "<": ">=", ">=": "<", ">": "<=", "<=": ">"}
_TURNED: Final[dict[Sign, Sign]] = {">": "<", ">=": "<="}
_WORDS: Final[dict[str, Literal["and", "or"]]] = {"and": "or", "or": "and"}


def normal_form(node: tree.Node) -> tree.Node:
    """The tree that stands for every condition with the same answer for everybody, unknown ones too, as far as that is
    told from their form: neither the order of what *and* and *or* join counts, nor on which side of a comparison
    something stands, nor whether *not*, *between* and *in* are written out. Sums are left as they are, since they are
    rounded from left to right. *between* and *in* are written out over a field alone, so that the form stays about as
    large as the condition.
    """
    return _normal(node, False)


@singledispatch
def _normal(node: tree.Node, negated: bool) -> tree.Node:
    return _part_by_part(node, negated)


def _part_by_part(node: tree.Node, negated: bool) -> tree.Node:
    found = replace(node, span=tree.NOWHERE, **{slot.name: _inside(getattr(node, slot.name)) for slot in _slots(node)})
    return tree.Not(found) if negated else found


def _slots(node: tree.Node) -> Iterable[Any]:
    return (slot for slot in fields(node) if slot.name != "span")


def _inside(value: Any) -> Any:
    if isinstance(value, tree.Node):
        return normal_form(value)
    if isinstance(value, tuple):
        return tuple(_inside(one) for one in value)
    return value


@_normal.register
def _not(node: tree.Not, negated: bool) -> tree.Node:
    return _normal(node.operand, not negated)


@_normal.register
def _chain(node: tree.Chain, negated: bool) -> tree.Node:
    return _joined(_WORDS[node.word] if negated else node.word, [_normal(part, negated) for part in node.parts])


def _joined(word: Literal["and", "or"], parts: Iterable[tree.Node]) -> tree.Node:
    known: dict[str, tree.Node] = {}
    for part in parts:
        flat = part.parts if isinstance(part, tree.Chain) and part.word == word else (part,)
        known.update((print_expression(one), one) for one in flat)
    ordered = tuple(known[text] for text in sorted(known))
    return ordered[0] if len(ordered) == 1 else tree.Chain(word, ordered)


@_normal.register
def _compare(node: tree.Compare, negated: bool) -> tree.Node:
    return _compared(_OPPOSITE[node.sign] if negated else node.sign, normal_form(node.left), normal_form(node.right))


def _compared(sign: Sign, left: tree.Node, right: tree.Node) -> tree.Node:
    either = sign in ("=", "!=") and print_expression(right) < print_expression(left)
    if either or sign in _TURNED:
        return tree.Compare(_TURNED.get(sign, sign), right, left)
    return tree.Compare(sign, left, right)


@_normal.register
def _between(node: tree.Between, negated: bool) -> tree.Node:
    if not isinstance(node.operand, tree.Name):
        return _part_by_part(node, negated)
    above, below = tree.Compare(">=", node.operand, node.low), tree.Compare("<=", node.operand, node.high)
    return _chain(tree.Chain("and", (above, below)), negated)


@_normal.register
def _in(node: tree.In, negated: bool) -> tree.Node:
    outside = node.negated != negated
    sign: Sign = "!=" if outside else "="
    operand, items = normal_form(node.operand), _in_order(node.items)
    if isinstance(operand, tree.Name) or len(items) == 1:
        return _joined("and" if outside else "or", [_compared(sign, operand, one) for one in items])
    return tree.In(operand, items, outside)


def _in_order(items: Iterable[tree.Node]) -> tuple[tree.Node, ...]:
    """Each item once, in an order that does not rest on how they were written."""
    known = {print_expression(one): one for one in map(normal_form, items)}
    return tuple(known[text] for text in sorted(known))


@_normal.register
def _holds(node: tree.Holds, negated: bool) -> tree.Node:
    items = _in_order(node.items)
    any_of = node.word in ("", "any") or (node.word == "every" and len(items) == 1)
    word = "any" if any_of else node.word
    if negated and word in ("any", "no"):
        word, negated = ("no" if word == "any" else "any"), False
    found = tree.Holds(word, normal_form(node.operand), items)
    return tree.Not(found) if negated else found


@_normal.register
def _is_blank(node: tree.IsBlank, negated: bool) -> tree.Node:
    return tree.IsBlank(normal_form(node.operand), node.filled != negated)
