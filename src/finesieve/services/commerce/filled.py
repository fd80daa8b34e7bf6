"""The checkout of an order as it stands: filled in by whoever ordered, and corrected by staff since."""

from collections.abc import Iterator
from decimal import Decimal
from typing import Any

from pydantic import BaseModel, ConfigDict

from finesieve.core.commerce.cart import Cart
from finesieve.store.tables import OrderRow

__all__ = ["Filled", "OrderedLine", "filled_of", "lines_of"]


class OrderedLine(BaseModel):
    """So many pieces of a product, as it was called, priced and taxed when it was ordered."""

    model_config = ConfigDict(frozen=True)

    product: str
    variant: str = ""
    pieces: int
    price: Decimal
    tax_class: str = ""


class Filled(BaseModel):
    """How a checkout was filled in.

    `typed` are the answers by the names of their inputs, without secrets and files; None for an order of before they
    were kept, which cannot be opened again. `lines` are what was in the cart, `page` the parameters of the address;
    `known` tells that it was opened for somebody who is known. `answers`, `records` and `charges` are as a submission
    keeps them; a record also has its `id`.
    """

    model_config = ConfigDict(frozen=True)

    typed: dict[str, str] | None = None
    lines: tuple[OrderedLine, ...] = ()
    page: dict[str, str] = {}
    known: bool = False
    answers: dict[str, Any] = {}
    records: list[dict[str, Any]] = []
    charges: list[list[Any]] = []

    @property
    def language(self) -> str:
        """The language of the page that it was filled in on, "" where that is not known."""
        return self.page.get("language", "")


def filled_of(row: OrderRow) -> Filled:
    """The checkout of an order."""
    return Filled.model_validate(row.filled)


def lines_of(cart: Cart) -> Iterator[OrderedLine]:
    """What is in a cart, as an order keeps it."""
    for line in cart.lines:
        product, variant = line.offer.product, line.offer.variant
        yield OrderedLine(
            product=product.key, variant=variant.key if variant is not None else "",
            pieces=line.quantity, price=line.offer.price, tax_class=product.tax_class,
        )  # fmt: skip
