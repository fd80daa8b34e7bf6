"""What a shop sells and how it is taxed, as a file may say it."""

from collections.abc import Iterator
from datetime import date
from decimal import Decimal
from fractions import Fraction
from functools import cached_property
from typing import Annotated, Final, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from finesieve.core.limits import LABEL

__all__ = ["UNTAXED", "Method", "Offer", "Place", "PriceMode", "Product", "Shop", "TaxRate", "Variant", "sold_in"]

Key = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9_-]{0,59}$")]
Price = Annotated[Decimal, Field(ge=0, lt=10**12, max_digits=22, decimal_places=10)]
PriceMode = Literal["included", "added"]
UNTAXED: Final = ""
"""In place of a tax class: no tax at all, which is not the same as 0 %."""


class _Document(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class TaxRate(_Document):
    """What a tax class is taxed by, in per cent, where and from which day on.

    Without a `country` it holds everywhere, without a `region` in the whole country; the more exact one counts, of
    equal ones that of the later day.
    """

    tax_class: Key
    percent: Annotated[Decimal, Field(ge=0, le=100, decimal_places=4)]
    country: str = Field(default="", pattern=r"^([A-Z]{2})?$")
    region: str = Field(default="", max_length=10)
    since: date = date.min


class Variant(_Document):
    """One of the forms that a product comes in; without a `price` it costs what the product costs."""

    key: Key
    label: str = Field(min_length=1, max_length=LABEL)
    price: Price | None = None


class Product(_Document):
    """Something that is sold. `tax_class` is empty for what is not taxed."""

    key: Key
    label: str = Field(min_length=1, max_length=LABEL)
    price: Price
    tax_class: str = UNTAXED
    categories: tuple[Key, ...] = Field(default=(), max_length=50)
    tags: tuple[Key, ...] = Field(default=(), max_length=50)
    variants: tuple[Variant, ...] = Field(default=(), max_length=200)


class Method(_Document):
    """A way of delivery or of payment, and what it costs."""

    key: Key
    label: str = Field(min_length=1, max_length=LABEL)
    price: Price = Decimal(0)
    tax_class: str = UNTAXED


class Place(_Document):
    """Where an order is taxed: the delivery address, else that of the bill, else the house."""

    country: str = ""
    region: str = ""


class Offer(_Document):
    """A product in one of its variants, at its price."""

    product: Product
    variant: Variant | None
    price: Decimal

    @property
    def name(self) -> str:
        """What it is known by, unlike every other: `raised-bed.large`."""
        return f"{self.product.key}.{self.variant.key}" if self.variant is not None else self.product.key

    @property
    def label(self) -> str:
        """What it is called: `Raised-bed kit, large`."""
        return f"{self.product.label}, {self.variant.label}" if self.variant is not None else self.product.label


class Shop(_Document):
    """A shop: what it sells, how it delivers and is paid, and its taxes.

    Prices, amounts, floors and ceilings have the tax in them (`included`) or not (`added`). `country` and `region`
    are those of the house.
    """

    mode: PriceMode = "included"
    currency_decimals: int = Field(default=2, ge=0, le=4)
    country: str = Field(default="", pattern=r"^([A-Z]{2})?$")
    region: str = Field(default="", max_length=10)
    tax_classes: dict[Key, str] = Field(default_factory=dict, max_length=50)
    surcharge_tax_class: str = UNTAXED
    rates: tuple[TaxRate, ...] = Field(default=(), max_length=2_000)
    products: tuple[Product, ...] = Field(default=(), max_length=500)
    delivery: tuple[Method, ...] = Field(default=(), max_length=100)
    payment: tuple[Method, ...] = Field(default=(), max_length=100)

    @model_validator(mode="after")
    def _fits_together(self) -> Self:
        for what, keys in (
            ("product", [one.key for one in self.products]),
            ("way of delivery", [one.key for one in self.delivery]),
            ("way of payment", [one.key for one in self.payment]),
            *((f"variant of {one.label}", [variant.key for variant in one.variants]) for one in self.products),
        ):
            twice = next((key for key in keys if keys.count(key) > 1), "") if len(set(keys)) < len(keys) else ""
            if twice:
                raise ValueError(f"Two of what is sold are the {what} {twice}.")
        for tax_class in self._named_classes():
            if tax_class != UNTAXED and tax_class not in self.tax_classes:
                raise ValueError(f"There is no tax class {tax_class}.")
        return self

    def _named_classes(self) -> Iterator[str]:
        yield self.surcharge_tax_class
        yield from (one.tax_class for one in self.rates)
        yield from (one.tax_class for one in self.products)
        yield from (one.tax_class for one in (*self.delivery, *self.payment))

    @cached_property
    def _products(self) -> dict[str, Product]:
        return {one.key: one for one in self.products}

    def offer(self, product: str, variant: str = "") -> Offer | None:
        """What is sold under these keys; None where there is nothing like it, or a variant has to be chosen."""
        known = self._products.get(product)
        if known is None:
            return None
        chosen = next((one for one in known.variants if one.key == variant), None)
        if chosen is None and (variant or known.variants):
            return None
        price = chosen.price if chosen is not None and chosen.price is not None else known.price
        return Offer(product=known, variant=chosen, price=price)

    def way_of_delivery(self, key: str) -> Method | None:
        """The way of delivery of this key."""
        return next((one for one in self.delivery if one.key == key), None)

    def way_of_payment(self, key: str) -> Method | None:
        """The way of payment of this key."""
        return next((one for one in self.payment if one.key == key), None)

    def place(self, delivery: Place | None = None, billing: Place | None = None) -> Place:
        """Where it is taxed: where it is delivered, else where the bill goes, else where the house is."""
        own = Place(country=self.country, region=self.region)
        return next((one for one in (delivery, billing) if one is not None and one.country), own)

    def rate(self, tax_class: str, place: Place, day: date) -> Fraction | None:
        """The rate of a tax class at a place on a day, as a share; None where none is known."""
        fits = [
            one
            for one in self.rates
            if one.tax_class == tax_class
            and one.since <= day
            and one.country in ("", place.country)
            and (not one.region or (one.country and one.region == place.region))
        ]
        best = max(fits, key=lambda one: (bool(one.region), bool(one.country), one.since), default=None)
        return Fraction(best.percent) / 100 if best is not None else None


def sold_in(shop: Shop) -> dict[str, dict[str, str]]:
    """What is sold, by key with what it is called: `products`, `variants`, `categories` and `tags`.

    A variant stands by the name of its offer, as two products may have variants of one key.
    """
    offers = [shop.offer(product.key, variant.key) for product in shop.products for variant in product.variants]
    variants = {one.name: one.label for one in offers if one is not None}
    categories = sorted({one for product in shop.products for one in product.categories})
    tags = sorted({one for product in shop.products for one in product.tags})
    return {
        "categories": {one: one for one in categories},
        "tags": {one: one for one in tags},
        "products": {one.key: one.label for one in shop.products},
        "variants": variants,
    }
