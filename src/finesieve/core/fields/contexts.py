"""The words that may stand before a point in an expression, each declared once: what it means, and where it stands."""

from dataclasses import dataclass
from typing import Final

__all__ = ["CONTEXTS", "Context"]


@dataclass(frozen=True, slots=True)
class Context:
    """A word before a point. `means` is said beside each name after it, `where` says where it has a meaning."""

    prefix: str
    means: str
    where: str


CONTEXTS: Final = {
    one.prefix: one
    for one in (
        Context("person", "what is stored of the person", "wherever a person is in reach"),
        Context("record", "of the innermost record", "in the functions of records, and in sections that repeat"),
        Context("house", "one value for everybody", "everywhere"),
        Context("form", "the answer alone", "in forms"),
        Context("page", "an address parameter", "in forms"),
        Context("order", "of the order", "nowhere yet"),
        Context("cart", "of what is in the cart", "nowhere yet"),
        Context("level", "of the membership level", "nowhere yet"),
        Context("old", "the value before the change", "nowhere yet"),
    )
}
"""By prefix. No field may be called like one of them."""
