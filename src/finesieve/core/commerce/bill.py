"""What an order comes to: its lines, surcharges, discounts and taxes, to the penny, each with its reason.

The order of the steps is fixed: lines are rounded, discounts lower them in the order of the form, and tax is worked
out once per rate on what is left. Nothing is rounded anywhere else.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Final, Literal

from finesieve.core.commerce.amounts import Amount, rounded, spread
from finesieve.core.commerce.shop import UNTAXED, PriceMode

__all__ = ["BASES", "Basis", "Bill", "BillLine", "Entry", "NoRate", "TaxLine", "bases_of", "make_bill", "rates_of"]

Kind = Literal["goods", "delivery", "payment", "surcharge", "discount"]
Basis = Literal["goods_before", "goods_after", "order_before", "order_after"]
BASES: Final[dict[Basis, str]] = {
    "goods_before": "the goods, before tax",
    "goods_after": "the goods, after tax",
    "order_before": "goods and delivery, before tax",
    "order_after": "goods and delivery, after tax",
}
"""What a share can be a share of, in words; never surcharges or discounts."""
_SHARED: Final[dict[str, tuple[Kind, ...]]] = {"goods": ("goods",), "order": ("goods", "delivery")}
RateOf = Callable[[str], Fraction | None]


class NoRate(ValueError):
    """There is no rate for a tax class where the order is taxed, on its day: it cannot be sent."""

    def __init__(self, tax_class: str) -> None:
        super().__init__(f"No tax rate is known for {tax_class} at this place.")
        self.tax_class = tax_class


@dataclass(frozen=True, slots=True)
class Entry:
    """What goes on a bill: `amount` is exact and in the price mode; that of a discount is how much it takes off.

    `over` is what a discount lowers: the goods, or goods and delivery.
    """

    key: str
    label: str
    kind: Kind
    amount: Amount
    tax_class: str = UNTAXED
    over: Literal["goods", "order"] = "goods"


@dataclass(frozen=True, slots=True)
class BillLine:
    """One line, in smallest units. `amount` is what it costs by itself, `off` what discounts take, `tax` its share of
    the tax, for show. A discount's own amount is negative."""

    key: str
    label: str
    kind: Kind
    amount: int
    tax_class: str = UNTAXED
    off: int = 0
    tax: int = 0

    @property
    def left(self) -> int:
        """What is left of it after discounts, in the price mode."""
        return self.amount - self.off


@dataclass(frozen=True, slots=True)
class TaxLine:
    """The tax of one rate, a share: `tax` on `basis`, which has it in it or not as prices have, in smallest units."""

    rate: Fraction
    basis: int
    tax: int


@dataclass(frozen=True, slots=True)
class Bill:
    """All that is charged, in smallest units."""

    mode: PriceMode
    decimals: int
    lines: tuple[BillLine, ...]
    taxes: tuple[TaxLine, ...]

    @property
    def total(self) -> int:
        """What is to be paid."""
        added = sum(one.tax for one in self.taxes) if self.mode == "added" else 0
        return sum(line.left for line in self.lines if line.kind != "discount") + added


def bases_of(entries: Iterable[Entry], mode: PriceMode, rate_of: RateOf) -> dict[Basis, Amount]:
    """What shares are taken of, unrounded and without surcharges and discounts. Raises NoRate."""
    found: dict[Basis, Amount] = dict.fromkeys(BASES, Fraction(0))
    for entry in entries:
        if entry.kind not in ("goods", "delivery"):
            continue
        with_tax = 1 + (_rate(rate_of, entry.tax_class) or 0)
        before = entry.amount / with_tax if mode == "included" else entry.amount
        after = entry.amount if mode == "included" else entry.amount * with_tax
        found["order_before"] += before
        found["order_after"] += after
        if entry.kind == "goods":
            found["goods_before"] += before
            found["goods_after"] += after
    return found


def make_bill(entries: Sequence[Entry], mode: PriceMode, decimals: int, rate_of: RateOf) -> Bill:
    """The bill of what was put on it, discounts in their order. Raises NoRate."""
    lines = [
        BillLine(one.key, one.label, one.kind, rounded(one.amount, decimals), one.tax_class)
        for one in entries
        if one.kind != "discount"
    ]
    off = [0] * len(lines)
    discounts = []
    for one in entries:
        if one.kind == "discount":
            taken = _lower(lines, off, rounded(one.amount, decimals), _SHARED[one.over])
            discounts.append(BillLine(one.key, one.label, "discount", -taken))
    lines = [replace(line, off=less) if less else line for line, less in zip(lines, off, strict=True)]
    lines, taxes = _taxed(lines, mode, decimals, rate_of)
    return Bill(mode, decimals, (*lines, *discounts), taxes)


def _lower(lines: Sequence[BillLine], off: list[int], amount: int, kinds: tuple[Kind, ...]) -> int:
    """Take a discount off lines, in proportion to what remains of them, never below zero; gives what it took.

    `off` is what has been taken off each line so far, and is changed.
    """
    here = [place for place, line in enumerate(lines) if line.kind in kinds]
    left = [lines[place].amount - off[place] for place in here]
    taken = max(0, min(amount, sum(left)))
    for place, part in zip(here, spread(taken, left), strict=True):
        off[place] += part
    return taken


def _taxed(
    lines: Sequence[BillLine], mode: PriceMode, decimals: int, rate_of: RateOf
) -> tuple[list[BillLine], tuple[TaxLine, ...]]:
    """Tax once per rate, spread over its lines for show."""
    of_rate: dict[Fraction, list[int]] = {}
    for place, line in enumerate(lines):
        rate = _rate(rate_of, line.tax_class)
        if rate is not None:
            of_rate.setdefault(rate, []).append(place)
    taxes: list[TaxLine] = []
    shown: dict[int, int] = {}
    for rate, places in sorted(of_rate.items()):
        basis = sum(lines[place].left for place in places)
        exact = Fraction(basis, 10**decimals) * (rate / (1 + rate) if mode == "included" else rate)
        tax = rounded(exact, decimals)
        taxes.append(TaxLine(rate, basis, tax))
        shown |= dict(zip(places, spread(tax, [lines[place].left for place in places]), strict=True))
    return [replace(line, tax=shown[place]) if shown.get(place) else line for place, line in enumerate(lines)], tuple(
        taxes
    )


def _rate(rate_of: RateOf, tax_class: str) -> Fraction | None:
    """The rate of a class, None for what is untaxed. Raises NoRate."""
    if tax_class == UNTAXED:
        return None
    rate = rate_of(tax_class)
    if rate is None:
        raise NoRate(tax_class)
    return rate


def rates_of(bill: Bill, rate_of: RateOf) -> Mapping[str, Fraction]:
    """The rate of each tax class that the bill names."""
    return {line.tax_class: rate for line in bill.lines if (rate := _rate(rate_of, line.tax_class)) is not None}
