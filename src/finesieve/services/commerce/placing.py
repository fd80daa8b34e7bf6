"""Placing an order: under the next number, with what is charged and the values of its fields; and whose it is."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import func, select, text
from sqlmodel import col
from sqlmodel import select as select_rows

from finesieve.core.commerce.bill import Bill
from finesieve.core.commerce.cart import Cart
from finesieve.core.commerce.facts import STATES, State
from finesieve.core.commerce.port import Payer
from finesieve.core.fields.about import ORDER
from finesieve.core.forms.wording import Wording, wording_without_form
from finesieve.core.model.changes import ORDER_IDS
from finesieve.core.phrases import Phrase, phrase
from finesieve.core.values import Value
from finesieve.services.commerce.answers import answers_at, form_of_order, words_of_order
from finesieve.services.commerce.behind import shop_behind
from finesieve.services.commerce.charged import money_of, order_row, payment_key, show_charges, written
from finesieve.services.commerce.filled import Filled
from finesieve.services.commerce.following import followed
from finesieve.services.commerce.giving import give_what_is_paid
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.writing import add_row, note
from finesieve.standins.mail import Letter, post
from finesieve.store.tables import OrderRow

__all__ = ["Placing", "note_submission", "order_of", "place_order", "tell_corrected", "tell_placed"]


@dataclass(frozen=True, slots=True)
class Placing:
    """An order to be placed: by which filling-in, for whom, with which values of its fields.

    `gives` is what it is for besides goods; see `giving`. `held` lets it wait for approval before it is paid.
    """

    form_id: int
    key: str
    source: str
    person_id: int
    email: str
    values: Mapping[str, Value]
    cart: Cart
    bill: Bill
    payer: Payer = field(default_factory=Payer)
    gives: Mapping[str, Any] = field(default_factory=dict)
    held: bool = False


def place_order(unit: Unit, placing: Placing) -> OrderRow:
    """Place an order in this transaction, under the next number; nothing to pay, and it is placed at once.

    Raises PaymentRefused where its payment cannot be started.
    """
    unit.session.execute(
        text("SELECT pg_advisory_xact_lock(hashtext('order'), :workspace)"), {"workspace": unit.workspace_id}
    )
    last = unit.session.execute(select(func.coalesce(func.max(OrderRow.number), 0))).scalar_one()
    state: State = "held" if placing.held else "awaiting_payment" if placing.bill.total else "placed"
    row = OrderRow(
        workspace_id=unit.workspace_id,
        number=int(last) + 1,
        key=placing.key,
        form_id=placing.form_id,
        person_id=placing.person_id,
        email=placing.email,
        state=state,
        bill=written(placing.cart, placing.bill),
        gives=dict(placing.gives),
        total=placing.bill.total,
        placed_at=unit.moment.now,
    )
    with followed(unit, row):
        unit.session.add(row)
        unit.session.flush()
        add_row(unit, ORDER, placing.values, placing.source, row.id or 0)
    note(unit, ORDER, row.id or 0, ORDER_IDS["state"], None, STATES[state], placing.source)
    if row.state == "awaiting_payment":
        shop_behind(unit).start_payment(payment_key(row), row.total, unit.manner.currency, placing.payer)
    give_what_is_paid(unit, row)
    return row


def note_submission(unit: Unit, order_id: int, submission_id: int, filled: Filled) -> None:
    """Say which submission an order came by, and how its checkout was filled in."""
    row = order_row(unit, order_id)
    row.submission_id, row.filled = submission_id, filled.model_dump(mode="json")
    unit.session.add(row)


def order_of(unit: Unit, submission_id: int) -> OrderRow | None:
    """The order that came by a submission, locked; None for none."""
    query = select_rows(OrderRow).where(col(OrderRow.submission_id) == submission_id)
    return unit.session.exec(query.with_for_update()).first()


def tell_corrected(unit: Unit, row: OrderRow, more: int, link: str) -> None:
    """Write to whoever ordered that a correction has changed what their order costs, by so much `more`."""
    say = words_of_order(unit, row)
    number, amount = str(row.number), money_of(unit, row, abs(more))
    body = [
        say(phrase("We have corrected your order {number}.", number=number)),
        say(phrase("Total: {amount}", amount=money_of(unit, row, row.total))),
        say(phrase("{amount} more is to be paid. Follow the link to pay it.", amount=amount))
        if more > 0
        else say(phrase("{amount} is given back to you.", amount=amount)),
    ]
    subject = say(phrase("Your order {number} has changed", number=number))
    letter = Letter("order", row.email, subject, "\n\n".join(body), link)
    post(unit.session, unit.workspace_id, row.person_id, letter, unit.moment.now)


def tell_placed(unit: Unit, order_id: int, link: str) -> None:
    """Write to whoever ordered, once the order is placed, and to the shop where its form says so."""
    row = order_row(unit, order_id)
    if row.state != "placed":
        return
    form, say = form_of_order(unit, row), words_of_order(unit, row)
    number = str(row.number)
    subject, opening = (
        phrase("Your order {number}", number=number),
        phrase("Thank you. Your order {number} is placed.", number=number),
    )
    _write(unit, row, say, "customer", row.email, (subject, opening), link)
    if form is not None and form.tell:
        slug = unit.workspace.slug
        subject = phrase("Order {number}", number=number)
        opening = phrase("{email} has placed order {number}.", email=row.email, number=number)
        link = f"/w/{slug}/orders/{order_id}"
        _write(unit, row, wording_without_form(unit.manner.language[:2]), "shop", form.tell, (subject, opening), link)


def _write(
    unit: Unit, row: OrderRow, say: Wording, place: str, to: str, words: tuple[Phrase, Phrase], link: str
) -> None:
    """Write about an order in somebody's language: what was charged, and the answers that show at a place."""
    subject, opening = words
    charged = [f"{one.said_by(say)}: {one.amount}" for one in show_charges(row, unit.manner).lines]
    charged.append(say(phrase("Total: {amount}", amount=money_of(unit, row, row.total))))
    parts = [say(opening), "\n".join(charged), "\n".join(answers_at(unit, row, place, say=say).lines)]
    letter = Letter("order", to, say(subject), "\n\n".join(part for part in parts if part), link)
    post(unit.session, unit.workspace_id, row.person_id, letter, unit.moment.now)
