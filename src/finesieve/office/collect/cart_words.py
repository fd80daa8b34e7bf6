"""What sentences say of a cart: its total, how it is delivered and paid, and its lines."""

from dataclasses import replace

from finesieve.core.commerce.shop import Shop, sold_in
from finesieve.core.fields.definition import Field
from finesieve.core.fields.manner import Manner
from finesieve.core.fields.options import Option
from finesieve.core.model.catalogue import Catalogue
from finesieve.office.shared.sentences import Records, Vocabulary

__all__ = ["with_cart", "with_line"]


def with_cart(words: Vocabulary, catalogue: Catalogue) -> Vocabulary:
    """The words with those of the cart, where there is a shop."""
    shop = catalogue.shop
    if shop is None:
        return words
    lines = Records("Lines of the cart", Vocabulary(_line(shop, catalogue.manner)))
    fields = {**words.fields, **_cart(shop, catalogue.manner)}
    return replace(words, fields=fields, records={**words.records, "cart.lines": lines})


def with_line(words: Vocabulary, catalogue: Catalogue) -> Vocabulary:
    """The words of a record with those of the line of the cart that it is for; the record's own count first."""
    of_line = _line(catalogue.shop, catalogue.manner) if catalogue.shop is not None else {}
    return replace(words, fields={**of_line, **words.fields})


def _cart(shop: Shop, manner: Manner) -> dict[str, Field]:
    plain = (
        ("total", "Total of the cart", "money"),
        ("goods", "Goods in the cart", "money"),
        ("quantity", "Pieces in the cart", "number"),
        ("country", "Country of delivery", "country"),
    )
    found = {f"cart.{key}": Field(0, f"cart.{key}", label, type_, 0, manner=manner) for key, label, type_ in plain}
    for key, label, methods in (("delivery", "Delivery", shop.delivery), ("payment", "Payment", shop.payment)):
        options = tuple(Option(one.label, one.key) for one in methods)
        found[f"cart.{key}"] = Field(0, f"cart.{key}", label, "choice", 0, options=options)
    return found


def _line(shop: Shop, manner: Manner) -> dict[str, Field]:
    products = tuple(Option(one.label, one.key) for one in shop.products)
    sold = sold_in(shop)
    variants = {one.key: one.label for product in shop.products for one in product.variants}
    fields = (
        Field(0, "product", "Product", "choice", 0, options=products),
        Field(0, "variant", "Variant", "choice", 0, options=tuple(Option(variants[one], one) for one in variants)),
        Field(0, "categories", "Category", "choices", 0, options=tuple(Option(one, one) for one in sold["categories"])),
        Field(0, "product_tags", "Product tag", "choices", 0, options=tuple(Option(one, one) for one in sold["tags"])),
        Field(0, "quantity", "Quantity", "number", 0),
        Field(0, "price", "Price", "money", 0, manner=manner),
        Field(0, "total", "Total", "money", 0, manner=manner),
    )
    return {one.key: one for one in fields}
