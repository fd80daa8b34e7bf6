"""What is in a cart: its lines at the shop's prices, how it is delivered and paid, and what rules read of it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from fractions import Fraction
from functools import cached_property
from typing import Final, Literal

from finesieve.core.commerce.bill import Basis, Entry, bases_of
from finesieve.core.commerce.shop import UNTAXED, Method, Offer, Place, Shop, sold_in
from finesieve.core.fields.families.places import country_codes, country_names
from finesieve.core.language.names import Place as Names
from finesieve.core.values import Type, Value

__all__ = ["LINES", "MOST_LINES", "MOST_PIECES", "Cart", "CartLine", "cart_names", "line_names"]

LINES: Final = "cart_line"
"""What the members of `cart.lines` are about."""
MOST_LINES: Final = 200
MOST_PIECES: Final = 10_000
_MONEY: Final = Type("money")
_NUMBER: Final = Type("number")


def cart_names(shop: Shop, language: str) -> dict[str, Type]:
    """What may stand after `cart.`, but for its lines."""
    return {
        "total": _MONEY,
        "goods": _MONEY,
        "quantity": _NUMBER,
        "delivery": _choice("cart.delivery", shop.delivery),
        "payment": _choice("cart.payment", shop.payment),
        "country": Type("choice", country_codes(), "cart.country", labels=country_names(language)),
    }


def line_names(shop: Shop) -> Names:
    """The names within `cart.lines`."""
    variants = {one.key: one.label for product in shop.products for one in product.variants}
    sold = sold_in(shop)
    names = {
        "product": _choice("cart.product", shop.products),
        "variant": Type("choice", tuple(variants), "cart.variant", labels=tuple(variants.values())),
        "categories": Type("choices", tuple(sold["categories"]), "cart.categories", never_blank=True),
        "product_tags": Type("choices", tuple(sold["tags"]), "cart.product_tags", never_blank=True),
        "quantity": _NUMBER,
        "price": _MONEY,
        "total": _MONEY,
    }
    return Names(LINES, names)


def _choice(source: str, among: Sequence[Method] | Sequence[object]) -> Type:
    return Type(
        "choice",
        tuple(one.key for one in among),  # type: ignore[attr-defined]  # products and methods have keys and labels
        source,
        labels=tuple(one.label for one in among),  # type: ignore[attr-defined]
    )


@dataclass(frozen=True)
class CartLine:
    """So many pieces of one thing."""

    offer: Offer
    quantity: int

    @property
    def total(self) -> Decimal:
        """Price × quantity, in the price mode."""
        return self.offer.price * self.quantity

    @property
    def label(self) -> str:
        """What it is called: `Raised-bed kit, large`."""
        return self.offer.label

    def values(self) -> dict[str, Value]:
        """What rules read of it."""
        product, variant = self.offer.product, self.offer.variant
        return {
            "product": product.key,
            "variant": variant.key if variant is not None else None,
            "categories": product.categories,
            "product_tags": product.tags,
            "quantity": Decimal(self.quantity),
            "price": self.offer.price,
            "total": self.total,
        }


@dataclass(frozen=True)
class Cart:
    """A cart in a shop, on a day, to be taxed at a place. `fee` is what a membership costs besides, if anything."""

    shop: Shop
    lines: tuple[CartLine, ...]
    delivery: Method | None
    payment: Method | None
    place: Place
    day: date
    fee: Entry | None = None

    def rate_of(self, tax_class: str) -> Fraction | None:
        """The rate of a tax class here, as a share; None where none is known."""
        if tax_class not in self._rates:
            self._rates[tax_class] = self.shop.rate(tax_class, self.place, self.day)
        return self._rates[tax_class]

    @cached_property
    def _rates(self) -> dict[str, Fraction | None]:
        return {}

    @cached_property
    def names(self) -> tuple[str, ...]:
        """What each line is named by among the answers: by what it is, so that it keeps them when others come or go."""
        found: list[str] = []
        for line in self.lines:
            same = sum(1 for one in found if one.partition("~")[0] == line.offer.name)
            found.append(f"{line.offer.name}~{same + 1}" if same else line.offer.name)
        return tuple(found)

    @property
    def goods(self) -> Decimal:
        """All lines together, in the price mode."""
        return sum((line.total for line in self.lines), Decimal(0))

    @property
    def total(self) -> Decimal:
        """Goods and delivery, in the price mode."""
        return self.goods + (self.delivery.price if self.delivery is not None else 0)

    @cached_property
    def values(self) -> Mapping[str, Value]:
        """What rules read after `cart.`, its lines included."""
        return {
            "total": self.total,
            "goods": self.goods,
            "quantity": Decimal(sum(line.quantity for line in self.lines)),
            "delivery": self.delivery.key if self.delivery is not None else None,
            "payment": self.payment.key if self.payment is not None else None,
            "country": self.place.country or None,
            "lines": tuple(line.values() for line in self.lines),  # type: ignore[misc]  # rows, for collecting
        }

    @cached_property
    def entries(self) -> tuple[Entry, ...]:
        """What goes on its bill besides surcharges and discounts."""
        goods = [
            Entry(f"line{number}", line.label, "goods", Fraction(line.total), line.offer.product.tax_class)
            for number, line in enumerate(self.lines, 1)
        ]
        fee = (self.fee,) if self.fee is not None else ()
        return (*goods, *fee, *_cost("delivery", self.delivery), *_cost("payment", self.payment))

    @cached_property
    def bases(self) -> dict[Basis, Fraction]:
        """What shares are taken of. Raises NoRate."""
        return bases_of(self.entries, self.shop.mode, self.rate_of)

    def tax_class_of(self, tax_class: str, *, taxed: bool) -> str:
        """The class of a surcharge: its own, else that of the shop; none where it is not taxed."""
        return (tax_class or self.shop.surcharge_tax_class) if taxed else UNTAXED


def _cost(kind: Literal["delivery", "payment"], method: Method | None) -> tuple[Entry, ...]:
    if method is None or not method.price:
        return ()
    return (Entry(kind, method.label, kind, Fraction(method.price), method.tax_class),)
