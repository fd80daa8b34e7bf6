"""Round steps in which figures are grouped for a picture."""

from decimal import ROUND_FLOOR, Decimal
from typing import Final

__all__ = ["day_step", "group_start", "round_step"]

_ROUND: Final = (Decimal(1), Decimal(2), Decimal(5), Decimal(10))
_MONTH: Final = 31
_MONTHS: Final = 24


def round_step(low: Decimal, high: Decimal, most: int = 12) -> Decimal:
    """A step of 1, 2 or 5 times a power of ten by which a range comes in at most so many groups."""
    span = high - low
    if span <= 0:
        return Decimal(1)
    power = Decimal(10) ** (span / most).adjusted()
    for factor in _ROUND:
        step = power * factor
        if _groups(low, high, step) <= most:
            return step
    return power * 20


def _groups(low: Decimal, high: Decimal, step: Decimal) -> int:
    return int(group_start(high, step) / step - group_start(low, step) / step) + 1


def group_start(value: Decimal, step: Decimal) -> Decimal:
    """Where the group begins that a figure falls into."""
    return (value / step).to_integral_value(ROUND_FLOOR) * step


def day_step(days: int) -> str:
    """By `month` or by `year`: how days are grouped that lie so many days apart."""
    return "month" if days <= _MONTH * _MONTHS else "year"
