"""The payment service of the stand-in: a ledger, and what a payer answers on its page."""

from datetime import datetime
from typing import Final, Literal

from sqlmodel import Session, col, select

from finesieve.core.commerce.port import Payer, Payment, PaymentRefused
from finesieve.store.tables import PaymentRow

__all__ = ["answer_payment", "confirm", "find", "refund", "start"]

_REFUSED: Final = "nowhere"
"""A billing town of this name is refused, so that a refusal can be tried."""


def _row(session: Session, key: str, *, lock: bool = False) -> PaymentRow | None:
    query = select(PaymentRow).where(col(PaymentRow.key) == key)
    return session.exec(query.with_for_update() if lock else query).first()


def _payment(row: PaymentRow, now: datetime) -> Payment:
    """A payment as the service tells of it: an answer that is slow is not told before its time."""
    state = "started" if row.state == "approved" and row.at > now else row.state
    return Payment(row.key, row.amount, state, row.returned, row.at)  # type: ignore[arg-type]  # written here alone


def start(session: Session, workspace_id: int, key: str, amount: int, payer: Payer, now: datetime) -> Payment:
    """See `ShopPort.start_payment`."""
    if amount <= 0:
        raise ValueError("There is nothing to pay.")
    if payer.address.get("town", "").strip().lower() == _REFUSED:
        raise PaymentRefused("The payment service does not take payments from this billing address.")
    row = _row(session, key)
    if row is None:
        row = PaymentRow(workspace_id=workspace_id, key=key, amount=amount, at=now)
        session.add(row)
        session.flush()
    if row.amount != amount:
        raise ValueError("This payment was begun with another amount.")
    return _payment(row, now)


def find(session: Session, key: str, now: datetime) -> Payment | None:
    """See `ShopPort.find_payment`."""
    row = _row(session, key)
    return _payment(row, now) if row is not None else None


def answer_payment(session: Session, key: str, answer: Literal["approved", "declined"], at: datetime) -> None:
    """What the payer says on the page of the service, told from a moment on; what is approved or paid stays so."""
    row = _row(session, key, lock=True)
    if row is not None and row.state in ("started", "declined"):
        row.state, row.at = answer, at
        session.add(row)


def confirm(session: Session, key: str, now: datetime) -> Payment:
    """See `ShopPort.confirm_payment`."""
    row = _row(session, key, lock=True)
    if row is None or _payment(row, now).state not in ("approved", "paid"):
        raise ValueError("Nobody has approved this payment.")
    if row.state == "approved":
        row.state, row.at = "paid", now
        session.add(row)
    return _payment(row, now)


def refund(session: Session, key: str, amount: int, refund_key: str, now: datetime) -> Payment:
    """See `ShopPort.refund_payment`."""
    row = _row(session, key, lock=True)
    if row is None or row.state != "paid":
        raise ValueError("Nothing was paid.")
    if refund_key in row.refunds:
        return _payment(row, now)
    if not 0 < amount <= row.amount - row.returned:
        raise ValueError("So much is not left to give back.")
    row.refunds, row.returned = {**row.refunds, refund_key: amount}, row.returned + amount
    session.add(row)
    return _payment(row, now)
