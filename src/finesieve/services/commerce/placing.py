"""Placing an order: under the next number, with what is charged and the values of its fields; and whose it is."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from sqlalchemy import func, select, text
from sqlmodel import col
from sqlmodel import select as select_rows

from finesieve.core.commerce.amounts import in_currency
from finesieve.core.commerce.bill import Bill
from finesieve.core.commerce.cart import Cart
from finesieve.core.commerce.facts import STATES, State
from finesieve.core.commerce.port import Payer
from finesieve.core.fields.about import ORDER
from finesieve.core.model.changes import ORDER_IDS
from finesieve.core.values import Value
from finesieve.services.commerce.answers import answers_at, form_of_order
from finesieve.services.commerce.behind import shop_behind
from finesieve.services.commerce.charged import order_row, payment_key, show_charges, written
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.writing import add_row, note
from finesieve.standins.mail import Letter, post
from finesieve.store.tables import OrderRow, Workspace

__all__ = ["Placing", "claim_order", "note_submission", "place_order", "tell_placed"]


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
    payer: Payer = field(default_factory=Payer)


def place_order(unit: Unit, placing: Placing) -> OrderRow:
    """Place an order in this transaction, under the next number; nothing to pay, and it is placed at once.

    Raises PaymentRefused where its payment cannot be started.
    """
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
        bill=written(placing.cart, placing.bill),
        total=placing.bill.total,
        placed_at=unit.moment.now,
    )
    unit.session.add(row)
    unit.session.flush()
    add_row(unit, ORDER, placing.values, placing.source, row.id or 0)
    note(unit, ORDER, row.id or 0, ORDER_IDS["state"], None, STATES[state], placing.source)
    if row.total:
        shop_behind(unit).start_payment(payment_key(row), row.total, unit.manner.currency, placing.payer)
    return row


def note_submission(unit: Unit, order_id: int, submission_id: int) -> None:
    """Say which submission an order came by."""
    row = order_row(unit, order_id)
    row.submission_id = submission_id
    unit.session.add(row)


def claim_order(unit: Unit, submission_id: int, person_id: int) -> list[int]:
    """Somebody has confirmed that what was sent is theirs: so is the order that came by it; gives its id, if any."""
    claimed = []
    for row in unit.session.exec(select_rows(OrderRow).where(col(OrderRow.submission_id) == submission_id)).all():
        row.person_id = person_id
        unit.session.add(row)
        claimed.append(row.id or 0)
    return claimed


def tell_placed(unit: Unit, order_id: int, link: str) -> None:
    """Write to whoever ordered, once the order is placed, and to the shop where its form says so."""
    row = order_row(unit, order_id)
    if row.state != "placed":
        return
    shown = show_charges(row, unit.manner).lines
    lines = "\n".join(f"{one.said}: {one.amount}" for one in shown)
    total = unit.manner.money(in_currency(row.total, int(row.bill["decimals"])))
    charged = f"{lines}\nTotal: {total}"

    def write(to: str, subject: str, opening: str, place: str, link: str) -> None:
        parts = [opening, charged, "\n".join(answers_at(unit, row, place).lines)]
        letter = Letter("order", to, subject, "\n\n".join(part for part in parts if part), link)
        post(unit.session, unit.workspace_id, row.person_id, letter, unit.moment.now)

    opening = f"Thank you. Your order {row.number} is placed."
    write(row.email, f"Your order {row.number}", opening, "customer", link)
    form = form_of_order(unit, row)
    if form is not None and form.tell:
        opening = f"{row.email} has placed order {row.number}."
        slug = unit.session.exec(select_rows(Workspace.slug).where(col(Workspace.id) == unit.workspace_id)).one()
        write(form.tell, f"Order {row.number}", opening, "shop", f"/w/{slug}/orders/{order_id}")
