"""Checking arithmetic: numbers, money, dates and what they give together."""

from typing import Final

from finesieve.core.language import tree
from finesieve.core.language.fitting import NUMERIC, Fitter, say_kind
from finesieve.core.language.typed import Typed
from finesieve.core.values import Kind, Type

__all__ = ["Sums"]

_NUMBER: Final = Type("number")
_MONEY: Final = Type("money")
_DATE: Final = Type("date")
_DAYS: Final[frozenset[Kind]] = frozenset(("date", "datetime"))
_COUNT: Final[frozenset[Kind]] = frozenset(("number",))


class Sums:
    """Types sums and products of parts that are typed already."""

    def __init__(self, fit: Fitter) -> None:
        self._fit = fit

    def sum(self, node: tree.Arithmetic, left: Typed, right: Typed) -> Typed | None:
        if left.type.kind in _DAYS and node.sign == "-" and self._dates(left, right):
            pair = [self._fit.fitted(left, _DATE), self._fit.fitted(right, _DATE)]
            return self._fit.made("date_minus", _NUMBER, node, pair)
        if left.type.kind in _DAYS:
            days = self._numeric(right, node, only=_COUNT)
            if days is not None and node.sign == "-":
                days = Typed("negate", _NUMBER, right.span, (days,))
            return days and self._fit.made("date_plus", _DATE, node, [self._fit.fitted(left, _DATE), days])
        if right.type.kind in _DAYS and node.sign == "+":
            days = self._numeric(left, node, only=_COUNT)
            return days and self._fit.made("date_plus", _DATE, node, [self._fit.fitted(right, _DATE), days])
        if not (self._numeric(left, node) and self._numeric(right, node)):
            return None
        money = "money" in (left.type.kind, right.type.kind)
        if money and any(isinstance(side, tree.Number) and side.percent for side in (node.left, node.right)):
            message = "A percentage cannot be added to money; multiply: … * (1 + 10%)."
            self._fit.say("money-arithmetic", node.span, message, "* (1 + 10%)")
            return None
        return self._fit.made(
            "add" if node.sign == "+" else "subtract", _MONEY if money else _NUMBER, node, [left, right]
        )

    def product(self, node: tree.Arithmetic, left: Typed, right: Typed) -> Typed | None:
        if not (self._numeric(left, node) and self._numeric(right, node)):
            return None
        kinds = (left.type.kind, right.type.kind)
        if node.sign == "*":
            if kinds == ("money", "money"):
                self._fit.say(
                    "money-arithmetic", node.span, "Money cannot be multiplied by money; one must be a number."
                )
                return None
            return self._fit.made("multiply", _MONEY if "money" in kinds else _NUMBER, node, [left, right])
        if kinds == ("number", "money"):
            self._fit.say("money-arithmetic", node.span, "A number cannot be divided by money.")
            return None
        return self._fit.made("divide", _MONEY if kinds == ("money", "number") else _NUMBER, node, [left, right])

    def _dates(self, left: Typed, right: Typed) -> bool:
        literal = right.name == "literal"
        return right.type.kind in _DAYS or (literal and left.type.kind == "date")

    def _numeric(self, part: Typed, node: tree.Arithmetic, only: frozenset[Kind] = NUMERIC) -> Typed | None:
        if part.type.kind in only:
            return part
        self._not_numeric(part, node.sign)
        return None

    def _not_numeric(self, part: Typed, sign: str) -> None:
        subject = (
            f"“{part.name}” is {say_kind(part.type.kind)}"
            if part.operation == "name"
            else (f"This is {say_kind(part.type.kind)}")
        )
        verb = {"+": "added", "-": "subtracted", "*": "multiplied", "/": "divided"}[sign]
        hint = ""
        name = part.name if part.operation == "name" else "…"
        ways = {"choice": f"pick({name}, …)", "choices": f"score({name})", "yes_no": f"if({name}, 1, 0)"}
        hint = ways.get(part.type.kind, "")
        each = "give each option a number" if part.type.kind == "choice" else "give it a number"
        remedy = f"; {each} with {hint}" if hint else ""
        self._fit.say("wrong-type", part.span, f"{subject} and cannot be {verb}{remedy}.", hint)
