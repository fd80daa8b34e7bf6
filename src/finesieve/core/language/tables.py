"""Formulas that are tables: bands of a number, and points for answers. Written from a table, and read back into one."""

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

from finesieve.core.language import tree
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_expression
from finesieve.core.values import plain_number

__all__ = ["Band", "Bands", "Points", "PointsOf", "bands_from", "bands_text", "points_from", "points_text"]


@dataclass(frozen=True, slots=True)
class Band:
    """Values below `below` that no earlier band has; None for the last one, which has all others."""

    below: Decimal | None
    name: str


@dataclass(frozen=True, slots=True)
class Bands:
    """Bands of the number that a field has, from the lowest."""

    key: str
    bands: tuple[Band, ...]


@dataclass(frozen=True, slots=True)
class PointsOf:
    """The points for the answers of one field, by stored value; for a yes/no field of `yes` alone."""

    key: str
    points: tuple[tuple[str, Decimal], ...]
    yes_no: bool = False


@dataclass(frozen=True, slots=True)
class Points:
    """Points over several answers, added up; a blank answer has none."""

    parts: tuple[PointsOf, ...]


def bands_text(table: Bands) -> str:
    """The formula of bands: `if(score < 10, "Sprouting", score < 25, "Growing", "Flowering")`.

    Raises ValueError, with a sentence, for fewer than two bands, limits that do not rise, or a band without a name.
    """
    *lower, last = table.bands if table.bands else ()
    if not lower:
        raise ValueError("Give at least two bands.")
    if any(not one.name.strip() for one in table.bands):
        raise ValueError("Each band needs a name.")
    limits = [one.below for one in lower]
    if any(one is None for one in limits) or last.below is not None:
        raise ValueError("Each band but the last needs a limit.")
    rising = sorted({one for one in limits if one is not None})
    if limits != rising:
        raise ValueError("The limits must rise from band to band.")
    name = tree.Name((table.key,))
    arguments: list[tree.Node] = []
    for one in lower:
        limit = parse(plain_number(one.below or Decimal(0))).tree
        assert limit is not None
        arguments += [tree.Compare("<", name, limit), tree.Text(one.name.strip())]
    return print_expression(tree.Call("if", (*arguments, tree.Text(last.name.strip()))))


def _value(node: tree.Node) -> Decimal | None:
    """The number that a node says outright."""
    if isinstance(node, tree.Negate):
        below = _value(node.operand)
        return None if below is None else -below
    return node.value if isinstance(node, tree.Number) and not node.percent else None


def bands_from(text: str) -> Bands | None:
    """The table that a formula says; None where it is none."""
    node = parse(text).tree
    if (
        not isinstance(node, tree.Call)
        or node.function != "if"
        or len(node.arguments) < 3
        or not len(node.arguments) % 2
    ):
        return None
    *pairs, last = node.arguments
    found: list[Band] = []
    keys: set[str] = set()
    for condition, name in zip(pairs[::2], pairs[1::2], strict=True):
        below = _below(condition)
        if below is None or not isinstance(name, tree.Text):
            return None
        keys.add(below[0])
        found.append(Band(below[1], name.value))
    if len(keys) != 1 or not isinstance(last, tree.Text):
        return None
    table = Bands(keys.pop(), (*found, Band(None, last.value)))
    try:
        return table if parse(bands_text(table)).tree == node else None
    except ValueError:
        return None


def _below(node: tree.Node) -> tuple[str, Decimal] | None:
    if not isinstance(node, tree.Compare) or node.sign != "<" or not isinstance(node.left, tree.Name):
        return None
    value = _value(node.right)
    return (node.left.text, value) if value is not None else None


def points_text(table: Points) -> str:
    """The formula of points: `(pick(watering, "hand", 3, 0) else 0) + if(swaps_seed else false, 5, 0)`.

    Raises ValueError, with a sentence, where no answer has points.
    """
    parts = [_points_of(one) for one in table.parts if any(points for _, points in one.points)]
    if not parts:
        raise ValueError("Give points to an answer.")
    text = " + ".join(parts)
    found = parse(text).tree
    return print_expression(found) if found is not None else text


def _points_of(one: PointsOf) -> str:
    if one.yes_no:
        return f"if({one.key} else false, {plain_number(one.points[0][1])}, 0)"
    chosen = (f"{print_expression(tree.Text(value))}, {plain_number(points)}" for value, points in one.points if points)
    return f"(pick({one.key}, {', '.join(chosen)}, 0) else 0)"


def points_from(text: str) -> Points | None:
    """The table that a formula says; None where it is none."""
    node = parse(text).tree
    parts: list[PointsOf] = []
    for term in _terms(node) if node is not None else ():
        found = _read_points(term)
        if found is None:
            return None
        parts.append(found)
    table = Points(tuple(parts))
    try:
        return table if parts and parse(points_text(table)).tree == node else None
    except ValueError:
        return None


def _terms(node: tree.Node) -> Sequence[tree.Node]:
    if isinstance(node, tree.Arithmetic) and node.sign == "+":
        return [*_terms(node.left), node.right]
    return [node]


def _read_points(node: tree.Node) -> PointsOf | None:
    text = print_expression(node)
    inner = parse(text).tree
    if isinstance(inner, tree.Call) and inner.function == "if" and len(inner.arguments) == 3:
        asked, points = inner.arguments[0], _value(inner.arguments[1])
        key = print_expression(asked).removesuffix(" else false")
        return PointsOf(key, (("yes", points),), yes_no=True) if points is not None and key.isidentifier() else None
    if isinstance(inner, tree.Else) and len(inner.parts) == 2 and isinstance(inner.parts[0], tree.Call):
        call = inner.parts[0]
        if call.function != "pick" or len(call.arguments) < 4 or not isinstance(call.arguments[0], tree.Name):
            return None
        pairs = call.arguments[1:-1]
        found = []
        for option, given in zip(pairs[::2], pairs[1::2], strict=False):
            value = _value(given)
            if not isinstance(option, tree.Text) or value is None:
                return None
            found.append((option.value, value))
        return PointsOf(call.arguments[0].text, tuple(found))
    return None
