"""The words that may stand before a point in an expression, each declared once: what it means, and where it stands."""

from dataclasses import dataclass
from typing import Final, Literal

__all__ = ["CONTEXTS", "Context", "answer_read"]

Source = Literal["level", "held", "answers", "stored", "address", "house", "cart", "order", "link"]


@dataclass(frozen=True, slots=True)
class Context:
    """A word before a point. `means` is said beside each name after it, `where` says where it has a meaning.

    `source` is where the values come from: a `level` around (the person, the record), the membership level `held`, the
    `answers` being given, what is `stored`, the `address`, the `cart`, the `order` being placed, a `link` of the
    reader, or the `house`, whose values are the same for every row. `what` is what a name after it is called, `about`
    whose fields they are, where these are not those of the thing that the expression is about.
    """

    prefix: str
    means: str
    where: str
    source: Source = "level"
    what: str = "field"
    about: str = ""

    @property
    def operation(self) -> str:
        """The operation of the language that reads a name after it."""
        return "house" if self.source == "house" else "name"


CONTEXTS: Final = {
    one.prefix: one
    for one in (
        Context("person", "what is stored of the person", "wherever a person is in reach", "stored"),
        Context("record", "of the innermost record", "in the functions of records, and in sections that repeat"),
        Context("house", "one value for everybody", "everywhere", "house", "house value", "house"),
        Context("form", "the answer alone", "in forms", "answers"),
        Context("page", "an address parameter", "in forms", "address", "address parameter", "page"),
        Context("order", "the answer, of the order", "in checkouts", "order", about="order"),
        Context("cart", "of what is in the cart", "in checkouts", "cart", about="cart"),
        Context("level", "of the membership level held", "in forms, messages and pages", "held", about="level"),
        Context("link", "a personal link", "in messages and pages", "link", "personal link", "link"),
        Context("segment", "whether somebody is in a segment", "in segments", what="segment"),
        Context("old", "the value before the change", "nowhere yet"),
    )
}
"""By prefix. No field may be called like one of them."""


def answer_read(name: str) -> str | None:
    """The key of the answer that a name of a form reads: `x` and `form.x` read x; what is stored is no answer."""
    prefix, point, key = name.partition(".")
    if not point:
        return name
    return key if CONTEXTS[prefix].source == "answers" else None
