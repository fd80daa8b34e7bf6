"""Orders: placed with what was charged, paid for, packed, sent, cancelled, and refunded piece by piece."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction
from typing import Any, Final, Literal

from sqlalchemy import func, text
from sqlmodel import col, select

from finesieve.core.commerce.amounts import in_currency, percent_of
from finesieve.core.commerce.bill import Bill, TaxLine
from finesieve.core.commerce.cart import Cart
from finesieve.core.commerce.refunds import ChargedLine, ChargedOrder, Refund
from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.core.fields.about import ORDER, PERSON
from finesieve.core.fields.manner import Manner
from finesieve.core.model.changes import ORDER_IDS
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.sheets import csv_lines
from finesieve.services.values.value_lines import (
    HistoryLine,
    ValueLine,
    history_of,
    person_name,
    read_values,
    value_lines,
)
from finesieve.services.values.writing import add_row, change_row, note, row_of
from finesieve.standins.mail import Letter, post
from finesieve.store.reading.rows import rows_by_ids, stored_row
from finesieve.store.tables import OrderRow, PaymentRow

__all__ = [
    "NEXT",
    "SAID",
    "OrderLine",
    "OrderPage",
    "OrderView",
    "Payable",
    "Placing",
    "State",
    "claim_order",
    "list_orders",
    "move_order",
    "note_submission",
    "orders_as_csv",
    "orders_of_person",
    "pay",
    "place_order",
    "read_order",
    "read_payable",
    "refund_pieces",
    "set_order_values",
    "tell_placed",
]

State = Literal["awaiting_payment", "placed", "packed", "sent", "cancelled"]
SAID: Final[Mapping[str, str]] = {
    "awaiting_payment": "awaiting payment",
    "placed": "placed",
    "packed": "packed",
    "sent": "sent",
    "cancelled": "cancelled",
}
NEXT: Final[Mapping[str, tuple[State, ...]]] = {
    "awaiting_payment": ("cancelled",),
    "placed": ("packed", "cancelled"),
    "packed": ("sent", "placed", "cancelled"),
    "sent": (),
    "cancelled": (),
}
"""What staff may make of an order in each state."""
_PAGE: Final = 50


@dataclass(frozen=True, slots=True)
class Placing:
    """An order to be placed: by which filling-in, for whom, with which values of its fields."""

    form_id: int
    key: str
    source: str
    person_id: int
    email: str
    values: Mapping[str, Value]
    cart: Cart
    bill: Bill


def place_order(unit: Unit, placing: Placing) -> OrderRow:
    """Place an order in this transaction, under the next number; nothing to pay, and it is placed at once."""
    unit.session.execute(
        text("SELECT pg_advisory_xact_lock(hashtext('order'), :workspace)"), {"workspace": unit.workspace_id}
    )
    last = unit.session.execute(select(func.coalesce(func.max(OrderRow.number), 0))).scalar_one()
    state: State = "awaiting_payment" if placing.bill.total else "placed"
    row = OrderRow(
        workspace_id=unit.workspace_id,
        number=int(last) + 1,
        key=placing.key,
        form_id=placing.form_id,
        person_id=placing.person_id,
        email=placing.email,
        state=state,
        bill=_written(placing.cart, placing.bill),
        total=placing.bill.total,
        placed_at=unit.moment.now,
    )
    unit.session.add(row)
    unit.session.flush()
    add_row(unit, ORDER, placing.values, placing.source, row.id or 0)
    note(unit, ORDER, row.id or 0, ORDER_IDS["state"], None, state, placing.source)
    if row.total:
        unit.session.add(PaymentRow(workspace_id=unit.workspace_id, key=_payment_key(row), amount=row.total))
    return row


def note_submission(unit: Unit, order_id: int, submission_id: int) -> None:
    """Say which submission an order came by."""
    row = _order(unit, order_id)
    row.submission_id = submission_id
    unit.session.add(row)


def claim_order(unit: Unit, submission_id: int, person_id: int) -> None:
    """Somebody has confirmed that what was sent is theirs: so is the order that came by it."""
    for row in unit.session.exec(select(OrderRow).where(col(OrderRow.submission_id) == submission_id)).all():
        row.person_id = person_id
        unit.session.add(row)


def _payment_key(row: OrderRow) -> str:
    return f"order-{row.id}"


def _written(cart: Cart, bill: Bill) -> dict[str, Any]:
    """What was charged, as it is kept: it is never worked out again."""
    pieces = {f"line{number}": line.quantity for number, line in enumerate(cart.lines, 1)}
    rates = {one.tax_class: cart.rate_of(one.tax_class) for one in bill.lines if one.tax_class}
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


# Paying ---------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Payable:
    """An order as the one who pays it sees it."""

    id: int
    number: int
    state: State
    said: str
    shown: "Shown"
    declined: bool


def read_payable(scope: Scope, order_id: int) -> Payable:
    """An order and its payment. Raises NotFound."""
    with scope.reading("public") as unit:
        row = _order(unit, order_id)
        payment = unit.session.exec(select(PaymentRow).where(col(PaymentRow.key) == _payment_key(row))).first()
        declined = payment is not None and payment.state == "declined"
        return Payable(order_id, row.number, _state(row), SAID[row.state], _shown(row, unit.manner), declined)


def pay(scope: Scope, order_id: int, link: str, *, accepted: bool) -> None:
    """What the payment said. Said twice it counts once; accepted, it stays so, and a message with the `link` goes out.

    Raises NotFound.
    """
    with scope.transaction("public") as unit:
        row = _order(unit, order_id, lock=True)
        payment = unit.session.exec(
            select(PaymentRow).where(col(PaymentRow.key) == _payment_key(row)).with_for_update()
        ).first()
        if payment is None or payment.state == "paid":
            return
        payment.state, payment.at = ("paid" if accepted else "declined"), unit.moment.now
        unit.session.add(payment)
        if accepted and row.state == "awaiting_payment":
            _move(unit, row, "placed", "payment")
            tell_placed(unit, order_id, link)


def tell_placed(unit: Unit, order_id: int, link: str) -> None:
    """Write to whoever ordered, once the order is placed."""
    row = _order(unit, order_id)
    if row.state != "placed":
        return
    lines = "\n".join(f"{one.label}: {one.amount}" for one in _shown(row, unit.manner).lines)
    total = unit.manner.money(in_currency(row.total, int(row.bill["decimals"])))
    body = f"Thank you. Your order {row.number} is placed.\n\n{lines}\nTotal: {total}"
    letter = Letter("order", row.email, f"Your order {row.number}", body, link)
    post(unit.session, unit.workspace_id, row.person_id, letter, unit.moment.now)


def _move(unit: Unit, row: OrderRow, state: State, source: str) -> None:
    note(unit, ORDER, row.id or 0, ORDER_IDS["state"], row.state, state, source)
    row.state = state
    unit.session.add(row)


def _order(unit: Unit, order_id: int, *, lock: bool = False) -> OrderRow:
    row = unit.session.get(OrderRow, order_id, with_for_update=True if lock else None)
    if row is None:
        raise NotFound("There is no such order.")
    return row


def _state(row: OrderRow) -> State:
    return row.state  # type: ignore[return-value]  # written by this module alone


# What staff see and do ------------------------------------------------------------------------


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


@dataclass(frozen=True, slots=True)
class Shown:
    """What was charged, as people read it: lines, taxes as (per cent, basis, tax), the total; and what came back."""

    lines: tuple[ChargeLine, ...]
    taxes: tuple[tuple[str, str, str], ...]
    total: str
    added: bool
    returned: str


def _shown(row: OrderRow, manner: Manner) -> Shown:
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
    back = _back(row)
    return Shown(lines, taxes, money(row.total), row.bill["mode"] == "added", money(back) if back else "")


def _charged(row: OrderRow) -> ChargedOrder:
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


def _paid_back(row: OrderRow, refund: Refund) -> int:
    """What is given back: the tax comes on top where prices are without it."""
    return refund.amount + (refund.tax if row.bill["mode"] == "added" else 0)


def _back(row: OrderRow) -> int:
    """All that has been given back so far."""
    order = _charged(row)
    order.returned = {}
    return sum(_paid_back(row, order.refund(key, pieces)) for key, pieces in row.returned.items() if pieces)


@dataclass(frozen=True, slots=True)
class OrderLine:
    """An order in a list."""

    id: int
    number: int
    at: datetime
    state: State
    said: str
    name: str
    person_id: int
    total: str


@dataclass(frozen=True, slots=True)
class OrderPage:
    """A page of orders, the newest first. `before` continues it; None at the end."""

    lines: tuple[OrderLine, ...]
    before: int | None


def list_orders(scope: Scope, state: str = "", search: str = "", before: int | None = None) -> OrderPage:
    """Orders in a state, "" for all, whose number or email has these words, the newest first."""
    with scope.reading("reader") as unit:
        query = select(OrderRow).order_by(col(OrderRow.id).desc())
        if state in SAID:
            query = query.where(col(OrderRow.state) == state)
        words = search.strip().lower()[:100]
        if words.isascii() and words.isdigit() and len(words) < 10:
            query = query.where(col(OrderRow.number) == int(words))
        elif words:
            query = query.where(func.strpos(func.lower(OrderRow.email), words) > 0)
        if before is not None:
            query = query.where(col(OrderRow.id) < before)
        rows = unit.session.exec(query.limit(_PAGE + 1)).all()
        return OrderPage(_lines(unit, rows[:_PAGE]), rows[_PAGE - 1].id if len(rows) > _PAGE else None)


def orders_as_csv(scope: Scope, state: str = "") -> Iterator[str]:
    """All orders in a state, "" for all, as CSV, line by line: what was charged, and the values of their fields."""
    return csv_lines(_csv_rows(scope, state))


def _csv_rows(scope: Scope, state: str) -> Iterator[list[str]]:
    with scope.separate("reader") as unit:
        fields = [
            one
            for one in unit.catalogue.stored_about(ORDER)
            if unit.sees(one) and one.type.kind not in ("file", "secret")
        ]
        yield ["number", "placed_at", "state", "email", "total", "refunded", "lines", *(one.key for one in fields)]
        before = None
        while True:
            query = select(OrderRow).order_by(col(OrderRow.id).desc()).limit(_EXPORTED)
            query = query.where(col(OrderRow.state) == state) if state in SAID else query
            query = query.where(col(OrderRow.id) < before) if before is not None else query
            rows = unit.session.exec(query).all()
            keys = [one.key for one in fields]
            values = rows_by_ids(unit.session, unit.definitions, ORDER, keys, [row.id or 0 for row in rows])
            for row in rows:
                kept = values.get(row.id or 0, {})
                yield [*_exported(row), *(one.show(kept.get(one.key)) for one in fields)]
            if len(rows) < _EXPORTED:
                return
            before = rows[-1].id


_EXPORTED: Final = 500


def _exported(row: OrderRow) -> list[str]:
    decimals = int(row.bill["decimals"])
    goods = [f"{one['pieces']} × {one['label']}" for one in row.bill["lines"] if one["kind"] == "goods"]
    amounts = [str(in_currency(amount, decimals)) for amount in (row.total, _back(row))]
    return [str(row.number), row.placed_at.isoformat(), SAID[row.state], row.email, *amounts, "; ".join(goods)]


def orders_of_person(scope: Scope, person_id: int) -> tuple[OrderLine, ...]:
    """The last orders of a person."""
    with scope.reading("reader") as unit:
        query = select(OrderRow).where(col(OrderRow.person_id) == person_id).order_by(col(OrderRow.id).desc())
        return _lines(unit, unit.session.exec(query.limit(20)).all())


def _lines(unit: Unit, rows: Any) -> tuple[OrderLine, ...]:
    keys = ["first_name", "last_name", "email"]
    people = rows_by_ids(unit.session, unit.definitions, PERSON, keys, {row.person_id for row in rows if row.person_id})
    return tuple(
        OrderLine(
            row.id or 0, row.number, row.placed_at, _state(row), SAID[row.state],
            person_name(people[row.person_id]) if row.person_id in people else row.email, row.person_id,
            unit.manner.money(in_currency(row.total, int(row.bill["decimals"]))),
        )
        for row in rows
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class OrderView:
    """One order with all that belongs to it."""

    line: OrderLine
    shown: Shown
    next: tuple[State, ...]
    groups: tuple[tuple[Any, tuple[ValueLine, ...]], ...]
    history: tuple[HistoryLine, ...]
    delivery: str
    payment: str
    form_id: int
    submission_id: int | None


def read_order(scope: Scope, order_id: int) -> OrderView:
    """One order. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = _order(unit, order_id)
        (line,) = _lines(unit, [row])
        stored = stored_row(unit.session, unit.definitions, ORDER, order_id) or {}
        shop = unit.catalogue.shop
        delivery = shop.way_of_delivery(row.bill["delivery"]) if shop else None
        payment = shop.way_of_payment(row.bill["payment"]) if shop else None
        return OrderView(
            line,
            _shown(row, unit.manner),
            NEXT[row.state],
            value_lines(unit, ORDER, row_of(unit, ORDER, order_id, stored)),
            history_of(unit, ORDER, order_id),
            delivery.label if delivery else row.bill["delivery"],
            payment.label if payment else row.bill["payment"],
            row.form_id,
            row.submission_id,
        )


def move_order(scope: Scope, order_id: int, state: str) -> None:
    """Pack, send or cancel an order; cancelled, all of it is refunded. Raises NotFound, Conflict."""
    with scope.transaction("clerk") as unit:
        row = _order(unit, order_id, lock=True)
        if row.state == state:
            return
        wanted = next((one for one in NEXT[row.state] if one == state), None)
        if wanted is None:
            raise Conflict(f"The order is {SAID[row.state]}; it cannot become {SAID.get(state, state)} from there.")
        if wanted == "cancelled" and row.state != "awaiting_payment":
            for line in _charged(row).lines.values():
                left = line.pieces - row.returned.get(line.key, 0)
                if left:
                    _refund(unit, row, line.key, left)
        _move(unit, row, wanted, "staff")


def refund_pieces(scope: Scope, order_id: int, key: str, pieces: int) -> None:
    """Give back so many pieces of a line. Raises NotFound, Conflict before it is paid, InvalidInput for too many."""
    with scope.transaction("clerk") as unit:
        row = _order(unit, order_id, lock=True)
        if row.state in ("awaiting_payment", "cancelled"):
            raise Conflict(f"The order is {SAID[row.state]}; there is nothing to refund.")
        _refund(unit, row, key, pieces)


def _refund(unit: Unit, row: OrderRow, key: str, pieces: int) -> None:
    order = _charged(row)
    if key not in order.lines:
        raise InvalidInput({"line": "The order has no such line."})
    try:
        back = _paid_back(row, order.refund(key, pieces))
    except ValueError as problem:
        raise InvalidInput({"pieces": str(problem)}) from None
    row.returned = order.returned
    unit.session.add(row)
    payment = unit.session.exec(
        select(PaymentRow).where(col(PaymentRow.key) == _payment_key(row)).with_for_update()
    ).first()
    if payment is not None:
        payment.returned += back
        unit.session.add(payment)
    label = next(one["label"] for one in row.bill["lines"] if one["key"] == key)
    said = f"{unit.manner.money(in_currency(back, int(row.bill['decimals'])))} for {pieces} × {label}"
    note(unit, ORDER, row.id or 0, ORDER_IDS["refund"], None, said, "staff")


def set_order_values(scope: Scope, order_id: int, typed: Mapping[str, str]) -> int:
    """Correct values of an order as typed, by field key; gives how many changed. Raises InvalidInput, NotFound."""
    with scope.transaction("clerk") as unit:
        _order(unit, order_id)
        stored = stored_row(unit.session, unit.definitions, ORDER, order_id, lock=True) or {}
        return len(change_row(unit, ORDER, order_id, read_values(unit, ORDER, typed, stored), "staff"))
