"""What is known of every order besides the fields that a house gives it: as expressions read it."""

from collections.abc import Mapping
from typing import Final, Literal

from finesieve.core.values import Type

__all__ = ["ORDERS", "ORDER_FACTS", "PLACED", "STATES", "State"]

State = Literal["held", "awaiting_payment", "placed", "packed", "sent", "cancelled"]
STATES: Final[Mapping[str, str]] = {
    "held": "held until approved",
    "awaiting_payment": "awaiting payment",
    "placed": "placed",
    "packed": "packed",
    "sent": "sent",
    "cancelled": "cancelled",
}
"""The states of an order, in words."""
PLACED: Final[tuple[State, ...]] = ("placed", "packed", "sent")
"""The states in which an order counts among somebody’s `orders`: it is paid, or nothing was to be paid."""

ORDERS: Final = "orders"
"""The name of the collection of a person’s orders."""
ORDER_FACTS: Final[Mapping[str, Type]] = {
    "number": Type("number", never_blank=True),
    "placed_at": Type("datetime", never_blank=True),
    "state": Type("choice", tuple(STATES), "state", never_blank=True, labels=tuple(STATES.values())),
    "total": Type("money", never_blank=True),
}
"""By their names; a field of the house’s own with such a key stands in for one."""
