"""Exact amounts: rounded half away from zero to the currency, and spread without losing a penny."""

from collections.abc import Sequence
from decimal import Decimal
from fractions import Fraction

__all__ = ["Amount", "in_currency", "percent_of", "rounded", "spread"]

Amount = Fraction
"""Money before it is rounded, in whole units of the currency."""


def rounded(amount: Fraction, decimals: int) -> int:
    """An amount in the currency's smallest unit, half away from zero: 18.115 with two decimals is 1812."""
    over, under = 2 * abs(amount.numerator) * 10**decimals, 2 * amount.denominator
    whole: int = (over + amount.denominator) // under
    return whole if amount.numerator >= 0 else -whole


def in_currency(smallest: int, decimals: int) -> Decimal:
    """So many of the smallest unit as an amount: 1812 is 18.12."""
    return Decimal(smallest).scaleb(-decimals)


def percent_of(rate: Fraction) -> str:
    """A rate in per cent, as people read it: 1/5 is `20`. Rates are given in per cent, so it comes out even."""
    exact = Decimal((rate * 100).numerator) / Decimal((rate * 100).denominator)
    return f"{exact.normalize():f}"


def spread(amount: int, over: Sequence[int]) -> list[int]:
    """An amount spread in proportion, in smallest units: each part down, what is left over to the largest remainders,
    of equal ones to the earlier. Over nothing at all it goes to nobody.

    This is the method of largest remainders (Hamilton's).
    """
    whole = sum(over)
    if not whole:
        return [0] * len(over)
    parts = [amount * one // whole for one in over]
    left = amount - sum(parts)
    ranked = sorted(range(len(over)), key=lambda place: (-(amount * over[place] % whole), place))
    for place in ranked[:left]:
        parts[place] += 1
    return parts
