"""Paying for an order, by the stand-in for a payment service: what it says counts once."""

from dataclasses import dataclass

from sqlmodel import col, select

from finesieve.core.commerce.facts import STATES, State
from finesieve.services.commerce.answers import Answered, answers_at
from finesieve.services.commerce.charged import Shown, move_to, order_row, payment_key, show_charges, state_of
from finesieve.services.commerce.placing import tell_placed
from finesieve.services.kernel.scope import Scope
from finesieve.store.tables import PaymentRow

__all__ = ["Payable", "pay", "read_payable"]


@dataclass(frozen=True, slots=True)
class Payable:
    """An order as the one who pays it sees it."""

    id: int
    number: int
    state: State
    said: str
    shown: Shown
    declined: bool
    answered: Answered


def read_payable(scope: Scope, order_id: int) -> Payable:
    """An order and its payment. Raises NotFound."""
    with scope.reading("public") as unit:
        row = order_row(unit, order_id)
        payment = unit.session.exec(select(PaymentRow).where(col(PaymentRow.key) == payment_key(row))).first()
        declined = payment is not None and payment.state == "declined"
        shown, answered = show_charges(row, unit.manner), answers_at(unit, row, "receipt")
        return Payable(order_id, row.number, state_of(row), STATES[row.state], shown, declined, answered)


def pay(scope: Scope, order_id: int, link: str, *, accepted: bool) -> None:
    """What the payment said. Said twice it counts once; accepted, it stays so, and a message with the `link` goes out.

    Raises NotFound.
    """
    with scope.transaction("public") as unit:
        row = order_row(unit, order_id, lock=True)
        payment = unit.session.exec(
            select(PaymentRow).where(col(PaymentRow.key) == payment_key(row)).with_for_update()
        ).first()
        if payment is None or payment.state == "paid":
            return
        payment.state, payment.at = ("paid" if accepted else "declined"), unit.moment.now
        unit.session.add(payment)
        if accepted and row.state == "awaiting_payment":
            move_to(unit, row, "placed", "payment")
            tell_placed(unit, order_id, link)
