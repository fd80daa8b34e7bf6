"""The page of a checkout: the parts it always has, in their order, and the slots beside them that sections lie in."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Final, Generic, Literal, TypeVar, get_args

__all__ = ["FIRST_SLOT", "PARTS", "SLOTS", "STEPS", "Place", "Slot", "Station", "places", "rank", "slot_of"]

Slot = Literal[
    "", "before_contact", "contact", "after_contact", "before_billing", "billing", "after_billing", "before_address",
    "address", "after_address", "before_delivery", "after_delivery", "before_payment", "after_payment", "before_note",
    "note", "after_note", "by_line", "before_totals", "above_button",
]  # fmt: skip
"""The named places that take sections, in the order of the page; "" lies where `FIRST_SLOT` does."""

T = TypeVar("T")
FIRST_SLOT: Final[Slot] = "contact"


@dataclass(frozen=True, slots=True)
class Station:
    """A place of the page from top to bottom: a slot, or a part with `own` content. `step` is the one it belongs to."""

    key: str
    label: str
    step: str
    own: bool = False


STEPS: Final[Mapping[str, str]] = {
    "contact": "Contact", "billing": "Billing", "delivery": "Delivery", "payment": "Payment", "order": "Your order",
}  # fmt: skip
"""The steps of a checkout that goes step by step, by key, in order."""

_STATIONS: Final = (
    Station("before_contact", "Before the contact", "contact"),
    Station("contact", "Contact", "contact"),
    Station("after_contact", "After the contact", "contact"),
    Station("before_billing", "Before the billing address", "billing"),
    Station("billing", "Billing address", "billing"),
    Station("after_billing", "After the billing address", "billing"),
    Station("before_address", "Before the delivery address", "delivery"),
    Station("address", "Delivery address", "delivery"),
    Station("after_address", "After the delivery address", "delivery"),
    Station("before_delivery", "Before the delivery methods", "delivery"),
    Station("delivery", "Delivery methods", "delivery", own=True),
    Station("after_delivery", "After the delivery methods", "delivery"),
    Station("before_payment", "Before the payment methods", "payment"),
    Station("payment", "Payment methods", "payment", own=True),
    Station("after_payment", "After the payment methods", "payment"),
    Station("before_note", "Before the note for the packer", "order"),
    Station("note", "Note for the packer", "order"),
    Station("after_note", "After the note for the packer", "order"),
    Station("by_line", "By each line", "order"),
    Station("before_totals", "Before the totals", "order"),
    Station("totals", "Totals", "order", own=True),
    Station("above_button", "Above the order button", "order"),
    Station("button", "The order button", "order", own=True),
)
SLOTS: Final[Mapping[str, Station]] = {one.key: one for one in _STATIONS if not one.own}
"""The slots by key, in the order of the page."""
PARTS: Final[Mapping[str, Station]] = {one.key: one for one in _STATIONS if one.own}
"""The parts a checkout has by itself, by key, in the order of the page."""
_ORDER: Final[Mapping[str, int]] = {one.key: number for number, one in enumerate(_STATIONS)}
assert {FIRST_SLOT, *SLOTS} == {*get_args(Slot)} - {""}


def slot_of(slot: str) -> str:
    """The slot that a section lies in, where it names none, too."""
    return slot or FIRST_SLOT


@dataclass(frozen=True, slots=True)
class Place(Generic[T]):
    """A station with the sections that lie in it."""

    station: Station
    sections: tuple[T, ...] = ()


def places(sections: Iterable[tuple[str, T]]) -> tuple[Place[T], ...]:
    """The whole page from top to bottom: each station with what lies in its slot, of pairs of slot and section."""
    held: dict[str, list[T]] = {}
    for slot, section in sections:
        held.setdefault(slot_of(slot), []).append(section)
    return tuple(Place(one, tuple(held.get(one.key, ()))) for one in _STATIONS)


def rank(slot: str) -> int:
    """Where a slot comes on the page: sections are kept in this order."""
    return _ORDER[slot_of(slot)]
