"""The edge of the shop: all that Fine Sieve asks of a shop, and of who takes the money for it.

See docs/shop-port.md. Whatever stands behind it must pass `tests/support/shop_port.py`.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal, Protocol

from finesieve.core.commerce.shop import Shop
from finesieve.core.errors import FineSieveError

__all__ = ["CartLines", "Payer", "Payment", "PaymentRefused", "PaymentState", "ShopPort"]

CartLines = Sequence[tuple[str, str, int]]
"""What is in a cart: product, variant ("" for none), pieces."""
PaymentState = Literal["started", "declined", "approved", "paid"]
"""`started`: nobody has said yet; `declined`: it can be tried again; `approved`: the payer has said yes, and nothing is
charged before it is confirmed; `paid`: it has been charged."""


class PaymentRefused(FineSieveError):
    """A payment cannot be started for this payer; the text says why, for them to read."""


@dataclass(frozen=True, slots=True)
class Payer:
    """Who pays: the name, the email and the billing address as they are known, by the parts of an address."""

    name: str = ""
    email: str = ""
    address: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Payment:
    """A payment by our key. Amounts are in the smallest unit of the currency; `returned` is what was given back, `at`
    when its state last changed."""

    key: str
    amount: int
    state: PaymentState
    returned: int = 0
    at: datetime | None = None


class ShopPort(Protocol):
    """A shop. What is asked twice with one key is done once."""

    def sold(self) -> Shop | None:
        """Products with variants, categories, tags, prices and tax classes; ways of delivery and payment; None for no
        shop."""

    def lines(self, cart: str) -> CartLines:
        """What is in a cart; nothing for one that is not known."""

    def begin_cart(self, lines: CartLines) -> str:
        """A new cart with these lines; gives its key. Raises InvalidInput for what is not sold like this, or for too
        many, and for none."""

    def start_payment(self, key: str, amount: int, currency: str, payer: Payer) -> Payment:
        """Begin a payment under our key, or give the one begun with it. Raises PaymentRefused, and ValueError for an
        amount that is not above 0, or another than it was begun with."""

    def find_payment(self, key: str) -> Payment | None:
        """A payment by our key; None for none."""

    def confirm_payment(self, key: str) -> Payment:
        """Charge what was approved. Raises ValueError for a payment that was not."""

    def refund_payment(self, key: str, amount: int, refund: str) -> Payment:
        """Give so much of a paid one back, once for each key `refund`. Raises ValueError for more than is left."""
