"""What is still to be paid for an order, and what is given back: in payments, each begun and refunded once."""

from contextlib import suppress

from finesieve.core.commerce.port import Payer
from finesieve.core.fields.about import ORDER
from finesieve.core.fields.built_in import address_keys
from finesieve.core.model.changes import ORDER_IDS
from finesieve.core.values import Value
from finesieve.services.commerce.behind import shop_behind
from finesieve.services.commerce.charged import money_of, more_to_pay, payment_key, payment_keys
from finesieve.services.commerce.filled import filled_of
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.writing import note
from finesieve.store.tables import OrderRow

__all__ = ["ask_to_pay", "count_as_paid", "give_back", "payer_known", "payer_of"]


def payer_of(answers: dict[str, Value]) -> Payer:
    """Who pays, as answered: the billing address, or where there is none that of the delivery."""
    name = " ".join(str(answers[key]) for key in ("first_name", "last_name") if answers.get(key))
    for kind in ("billing", "delivery"):
        address = {line: str(answers[key]) for line, key in address_keys(kind).items() if answers.get(key)}
        if set(address) - {"country"}:
            return Payer(name, str(answers.get("email") or ""), address)
    return Payer(name, str(answers.get("email") or ""))


def payer_known(unit: Unit, row: OrderRow) -> Payer:
    """Who pays, by what was answered with an order when it was placed."""
    answers: dict[str, Value] = {}
    for key, data in filled_of(row).answers.items():
        known = unit.catalogue.by_key.get(key)
        if known is not None and known.type.kind in ("text", "choice"):
            with suppress(ValueError):
                answers[key] = known.from_kept(data)
    return payer_of({**answers, "email": row.email})


def ask_to_pay(unit: Unit, row: OrderRow, payer: Payer) -> None:
    """Begin the payment of what is still to be paid; one that was begun for another amount is begun anew.

    What was approved for another amount is never charged. Raises PaymentRefused.
    """
    shop, wanted = shop_behind(unit), more_to_pay(row)
    if not wanted:
        return
    begun = shop.find_payment(payment_key(row))
    if begun is not None and (begun.amount != wanted or begun.state == "paid"):
        row.asked_again += 1
    shop.start_payment(payment_key(row), wanted, unit.manner.currency, payer)
    unit.session.add(row)


def give_back(unit: Unit, row: OrderRow, amount: int, key: str) -> None:
    """Give money back: less is left to pay, and the rest is refunded, from the last payment on, under a key of its own.

    What was paid another way is given back that way, and stands in no payment.
    """
    less = min(amount, row.due)
    row.due -= less
    unit.session.add(row)
    shop, left = shop_behind(unit), amount - less
    for payment in map(shop.find_payment, payment_keys(row)):
        part = min(left, payment.amount - payment.returned) if payment is not None and payment.state == "paid" else 0
        if payment is not None and part:
            shop.refund_payment(payment.key, part, key)
            left -= part


def count_as_paid(unit: Unit, row: OrderRow, source: str) -> None:
    """What a correction has added is paid."""
    note(unit, ORDER, row.id or 0, ORDER_IDS["paid"], None, money_of(unit, row, row.due), source)
    row.due = 0
    unit.session.add(row)
