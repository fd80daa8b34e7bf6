"""What was charged for an order, as it was charged: as it is kept, as it is shown, as it is given back."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from fractions import Fraction
from typing import Any, Final

from finesieve.core.commerce.amounts import in_currency, percent_of
from finesieve.core.commerce.bill import Bill, TaxLine, rates_of
from finesieve.core.commerce.cart import Cart
from finesieve.core.commerce.facts import STATES, State
from finesieve.core.commerce.refunds import ChargedLine, ChargedOrder, Refund
from finesieve.core.errors import NotFound
from finesieve.core.fields.about import ORDER
from finesieve.core.fields.manner import Manner
from finesieve.core.model.changes import ORDER_IDS
from finesieve.services.commerce.following import followed
from finesieve.services.commerce.giving import give_what_is_paid
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.writing import note
from finesieve.store.definitions.state import mark_changed
from finesieve.store.tables import OrderRow, Submission

__all__ = [
    "NEXT",
    "ChargeLine",
    "Shown",
    "charged_order",
    "given_back",
    "money_of",
    "more_to_pay",
    "move_to",
    "order_row",
    "paid_back",
    "payment_key",
    "payment_keys",
    "show_charges",
    "state_of",
    "submission_of",
    "written",
]

NEXT: Final[Mapping[str, tuple[State, ...]]] = {
    "held": ("cancelled",),
    "awaiting_payment": ("placed", "cancelled"),
    "placed": ("packed", "cancelled"),
    "packed": ("sent", "placed", "cancelled"),
    "sent": (),
    "cancelled": (),
}
"""What staff may make of an order in each state."""


def order_row(unit: Unit, order_id: int, *, lock: bool = False) -> OrderRow:
    row = unit.session.get(OrderRow, order_id, with_for_update=True if lock else None)
    if row is None:
        raise NotFound("There is no such order.")
    return row


def move_to(unit: Unit, row: OrderRow, state: State, source: str) -> None:
    note(unit, ORDER, row.id or 0, ORDER_IDS["state"], STATES[row.state], STATES[state], source)
    with followed(unit, row):
        row.state = state
        unit.session.add(row)
    give_what_is_paid(unit, row)
    mark_changed(unit.session, unit.workspace_id, ORDER, [row.id or 0])


def state_of(row: OrderRow) -> State:
    return row.state  # type: ignore[return-value]  # written by this module alone


def payment_key(row: OrderRow) -> str:
    """The key of the payment that was begun last."""
    return payment_keys(row)[0]


def payment_keys(row: OrderRow) -> tuple[str, ...]:
    """The keys of all payments that were begun for an order, the last first."""
    again = (f"order-{row.id}-{number}" for number in range(row.asked_again, 0, -1))
    return (*again, f"order-{row.id}")


def more_to_pay(row: OrderRow) -> int:
    """What is still to be paid, in the smallest unit: all of it, or what a correction has added."""
    return row.total if row.state == "awaiting_payment" else row.due


def written(cart: Cart, bill: Bill) -> dict[str, Any]:
    """What was charged, as it is kept: it is never worked out again."""
    pieces = {f"line{number}": line.quantity for number, line in enumerate(cart.lines, 1)}
    rates = rates_of(bill, cart.rate_of)
    return {
        "mode": bill.mode,
        "decimals": bill.decimals,
        "lines": [
            {
                "key": one.key, "label": one.label, "kind": one.kind,
                "amount": one.amount, "off": one.off, "tax": one.tax,
                "pieces": pieces.get(one.key, 1), "rate": str(rates[one.tax_class]) if one.tax_class else None,
            }
            for one in bill.lines
        ],
        "taxes": [{"rate": str(one.rate), "basis": one.basis, "tax": one.tax} for one in bill.taxes],
        "delivery": cart.delivery.key if cart.delivery else "",
        "payment": cart.payment.key if cart.payment else "",
    }  # fmt: skip


@dataclass(frozen=True, slots=True)
class ChargeLine:
    """A line of an order, amounts as people read them; `left` pieces of it can be refunded."""

    key: str
    label: str
    kind: str
    pieces: int
    left: int
    amount: str
    off: str
    percent: str

    @property
    def said(self) -> str:
        """What it is called, with how many: `2 × Raised-bed kit`."""
        return self.said_by(str)

    def said_by(self, say: Callable[[str], str]) -> str:
        """The same in a language."""
        return f"{self.pieces} × {say(self.label)}" if self.pieces > 1 else say(self.label)


@dataclass(frozen=True, slots=True)
class Shown:
    """What was charged, as people read it: lines, taxes as (per cent, basis, tax), the total; and what came back."""

    lines: tuple[ChargeLine, ...]
    taxes: tuple[tuple[str, str, str], ...]
    total: str
    added: bool
    returned: str


def money_of(unit: Unit, row: OrderRow, smallest: int) -> str:
    """An amount of an order, in the smallest unit, as people read it."""
    return unit.manner.money(in_currency(smallest, int(row.bill["decimals"])))


def show_charges(row: OrderRow, manner: Manner) -> Shown:
    decimals = int(row.bill["decimals"])

    def money(smallest: int) -> str:
        return manner.money(in_currency(smallest, decimals))

    def percent(rate: str | None) -> str:
        return f"{percent_of(Fraction(rate))} %" if rate is not None else ""

    lines = tuple(
        ChargeLine(
            one["key"], one["label"], one["kind"], one["pieces"],
            0 if one["kind"] == "discount" else one["pieces"] - row.returned.get(one["key"], 0),
            money(one["amount"]), money(one["off"]) if one["off"] else "", percent(one["rate"]),
        )
        for one in row.bill["lines"]
    )  # fmt: skip
    taxes = tuple((percent(one["rate"]), money(one["basis"]), money(one["tax"])) for one in row.bill["taxes"])
    back = given_back(row)
    return Shown(lines, taxes, money(row.total), row.bill["mode"] == "added", money(back) if back else "")


def submission_of(unit: Unit, row: OrderRow) -> Submission | None:
    """What an order came by, as it was sent; None where that is not known any more."""
    return unit.session.get(Submission, row.submission_id) if row.submission_id else None


def charged_order(row: OrderRow) -> ChargedOrder:
    lines = {
        one["key"]: ChargedLine(
            one["key"], one["pieces"], one["amount"] - one["off"], Fraction(one["rate"]) if one["rate"] else None
        )
        for one in row.bill["lines"]
        if one["kind"] != "discount"
    }
    taxes = {
        Fraction(one["rate"]): TaxLine(Fraction(one["rate"]), one["basis"], one["tax"]) for one in row.bill["taxes"]
    }
    return ChargedOrder(lines, taxes, dict(row.returned))


def paid_back(row: OrderRow, refund: Refund) -> int:
    """What is given back: the tax comes on top where prices are without it."""
    return refund.amount + (refund.tax if row.bill["mode"] == "added" else 0)


def given_back(row: OrderRow) -> int:
    """All that has been given back so far."""
    order = charged_order(row)
    order.returned = {}
    return sum(paid_back(row, order.refund(key, pieces)) for key, pieces in row.returned.items() if pieces)
