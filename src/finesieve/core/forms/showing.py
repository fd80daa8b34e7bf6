"""Where the answers of a checkout show afterwards: for the staff, for who ordered, on the papers."""

from collections.abc import Mapping
from typing import Final, Literal, get_args

from finesieve.core.fields.about import ORDER, PERSON
from finesieve.core.fields.definition import Field

__all__ = ["FOR_THE_CUSTOMER", "SHOWN_AT", "ShownAt", "may_show", "usual_places"]

ShownAt = Literal["order", "list", "shop", "customer", "receipt", "account", "invoice", "packing"]

SHOWN_AT: Final[Mapping[str, str]] = {
    "order": "Order page",
    "list": "List of orders",
    "shop": "Message to the shop",
    "customer": "Message to the customer",
    "receipt": "Receipt page",
    "account": "Account page",
    "invoice": "Invoice",
    "packing": "Packing slip",
}
"""The places by key, in words."""
assert set(SHOWN_AT) == {*get_args(ShownAt)}

FOR_THE_CUSTOMER: Final = frozenset({"customer", "receipt", "account", "invoice"})
"""The places that whoever ordered sees."""


def usual_places(about: str) -> tuple[ShownAt, ...]:
    """Where an answer shows when nothing is said of it: one about the person in the house only."""
    return ("order", "shop") if about == PERSON else ("order", "shop", "customer", "receipt", "account", "packing")


def may_show(field: Field, place: str) -> bool:
    """Whether an answer can show there at all: a secret nowhere, one private to staff not for the customer, files, long
    texts and what is asked per piece not as a column."""
    if field.type.kind == "secret" or not field.stores:
        return False
    if place in FOR_THE_CUSTOMER and field.settings.private:
        return False
    short = field.about in (PERSON, ORDER) and field.type_key not in ("long_text", "file", "picture")
    return place != "list" or short
