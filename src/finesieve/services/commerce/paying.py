"""Paying for an order: what has become of its payment is looked up, and counts once."""

from dataclasses import dataclass
from datetime import timedelta
from typing import Final

from sqlmodel import col, select

from finesieve.core.commerce.facts import STATES, State
from finesieve.services.commerce.answers import Answered, answers_at
from finesieve.services.commerce.behind import shop_behind
from finesieve.services.commerce.charged import (
    Shown,
    money_of,
    more_to_pay,
    move_to,
    order_row,
    payment_key,
    show_charges,
    state_of,
)
from finesieve.services.commerce.owing import count_as_paid
from finesieve.services.commerce.placing import tell_placed
from finesieve.services.kernel.links import Links
from finesieve.services.kernel.scope import Scope
from finesieve.store.tables import OrderRow

__all__ = ["Payable", "read_payable", "settle", "settle_all"]


@dataclass(frozen=True, slots=True)
class Payable:
    """An order as the one who pays it sees it; `payment` is the state of its payment, "" for none, `to_pay` what is
    still to be paid."""

    id: int
    number: int
    state: State
    said: str
    shown: Shown
    payment: str
    answered: Answered
    to_pay: str = ""


def read_payable(scope: Scope, order_id: int) -> Payable:
    """An order and its payment. Raises NotFound."""
    with scope.reading("public") as unit:
        row = order_row(unit, order_id)
        payment = shop_behind(unit).find_payment(payment_key(row))
        state = payment.state if payment is not None else ""
        shown, answered = show_charges(row, unit.manner), answers_at(unit, row, "receipt")
        left = more_to_pay(row)
        to_pay = money_of(unit, row, left) if left else ""
        return Payable(order_id, row.number, state_of(row), STATES[row.state], shown, state, answered, to_pay)


def settle(scope: Scope, order_id: int, link: str) -> None:
    """Look at what has become of an order's payment: approved, it is confirmed, the order is placed, and a message
    with the `link` goes out; or what a correction has added is paid.

    Looked at twice, it counts once; an order that was cancelled charges nothing.

    Raises NotFound.
    """
    with scope.transaction("public") as unit:
        row = order_row(unit, order_id, lock=True)
        shop = shop_behind(unit)
        payment = shop.find_payment(payment_key(row))
        if not more_to_pay(row) or payment is None or payment.state not in ("approved", "paid"):
            return
        if payment.amount != more_to_pay(row):
            return  # begun before a correction, for another amount
        shop.confirm_payment(payment.key)
        if row.state != "awaiting_payment":
            count_as_paid(unit, row, "payment")
            return
        move_to(unit, row, "placed", "payment")
        tell_placed(unit, order_id, link)


def settle_all(scope: Scope, secret: str) -> int:
    """Settle the orders of the last week that wait for a payment that has been approved: whoever paid may never have
    come back. Gives how many. Without the `secret` that signs links, the messages have none."""
    links = Links(secret) if secret else None
    with scope.transaction("owner") as unit:
        since = unit.moment.now - _LOOKED_AFTER
        unpaid = (col(OrderRow.state) == "awaiting_payment") & (col(OrderRow.placed_at) > since)
        waiting = select(OrderRow).where(unpaid | (col(OrderRow.due) > 0))
        slug = unit.workspace.slug
        shop, found = shop_behind(unit), []
        for row in unit.session.exec(waiting.order_by(col(OrderRow.id).desc()).limit(_MOST_LOOKED_AFTER)).all():
            payment = shop.find_payment(payment_key(row))
            if payment is not None and payment.state in ("approved", "paid"):
                token = links.give("order", unit.moment.now, row.id) if links is not None else ""
                found.append((row.id or 0, f"/shop/{slug}/order/{token}" if token else ""))
    for order_id, link in found:
        settle(scope, order_id, link)
    return len(found)


_LOOKED_AFTER: Final = timedelta(days=7)
_MOST_LOOKED_AFTER: Final = 500
