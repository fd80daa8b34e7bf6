"""Giving money back: pieces of a line, a delivery, a surcharge; what was charged is never worked out again."""

from dataclasses import dataclass, field
from fractions import Fraction

from finesieve.core.commerce.amounts import rounded
from finesieve.core.commerce.bill import TaxLine

__all__ = ["ChargedLine", "ChargedOrder", "Refund"]


@dataclass(frozen=True, slots=True)
class ChargedLine:
    """A line as it was charged: `pieces` of it for `amount` in all, after discounts, taxed by `rate`; None untaxed."""

    key: str
    pieces: int
    amount: int
    rate: Fraction | None = None


@dataclass(frozen=True, slots=True)
class Refund:
    """Money given back for pieces of a line, in smallest units; added tax comes on top."""

    amount: int
    tax: int


@dataclass(slots=True)
class ChargedOrder:
    """What was charged, and how many pieces of each line were given back so far.

    Both the line and its tax are rounded as sums from the start on, and the difference is paid: given back piece by
    piece, an order gives back exactly what it cost.
    """

    lines: dict[str, ChargedLine]
    taxes: dict[Fraction, TaxLine]
    returned: dict[str, int] = field(default_factory=dict)

    def refund(self, key: str, pieces: int) -> Refund:
        """Give back so many more pieces of a line. Raises ValueError for more than are left, or none."""
        line = self.lines[key]
        before = self.returned.get(key, 0)
        if not 0 < pieces <= line.pieces - before:
            raise ValueError(f"{line.pieces - before} of it are left to refund.")
        tax_before = self._tax(line.rate)
        amount_before = _part(line, before)
        self.returned[key] = before + pieces
        return Refund(_part(line, before + pieces) - amount_before, self._tax(line.rate) - tax_before)

    def _tax(self, rate: Fraction | None) -> int:
        """The tax of a rate that has been given back in all."""
        if rate is None or not self.taxes[rate].basis:
            return 0
        given = sum(_part(line, self.returned.get(key, 0)) for key, line in self.lines.items() if line.rate == rate)
        return rounded(Fraction(self.taxes[rate].tax * given, self.taxes[rate].basis), 0)


def _part(line: ChargedLine, pieces: int) -> int:
    return rounded(Fraction(line.amount * pieces, line.pieces), 0)
