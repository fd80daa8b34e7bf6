"""The carts of the stand-in shop: known by a key that the browser keeps, filled line by line."""

import secrets
from datetime import datetime
from typing import Any, Final

from sqlalchemy import bindparam, delete
from sqlmodel import Session, col, select

from finesieve.core.commerce.cart import MOST_LINES, MOST_PIECES
from finesieve.core.commerce.port import CartLines
from finesieve.core.errors import InvalidInput
from finesieve.core.phrases import phrase
from finesieve.store.tables import CartRow

__all__ = ["lines_of", "put_into", "sweep"]


_CART: Final = select(CartRow).where(col(CartRow.key) == bindparam("key"))


def _row(session: Session, key: str, *, lock: bool = False) -> CartRow | None:
    return session.scalars(_CART.with_for_update() if lock else _CART, {"key": key}).first()


def lines_of(session: Session, key: str) -> CartLines:
    """See `ShopPort.lines`."""
    row = _row(session, key) if key else None
    return [(str(product), str(variant), int(many)) for product, variant, many in row.lines] if row else []


def put_into(
    session: Session, workspace_id: int, key: str, line: tuple[str, str, int], now: datetime, *, more: bool
) -> str:
    """Put pieces into a cart, `more` or in all; gives the key of the cart. Raises InvalidInput for too many."""
    product, variant, quantity = line
    row = _row(session, key, lock=True) or CartRow(workspace_id=workspace_id, key=secrets.token_urlsafe(18))
    lines: dict[tuple[str, str], Any] = {(str(one), str(kind)): int(many) for one, kind, many in row.lines}
    wanted = quantity + (lines.get((product, variant), 0) if more else 0)
    if len({*lines, (product, variant)}) > MOST_LINES:
        raise InvalidInput({"quantity": phrase("A cart holds at most {many} different things.", many=str(MOST_LINES))})
    if not 0 <= wanted <= MOST_PIECES:
        raise InvalidInput({"quantity": phrase("At most {many} pieces of one thing.", many=str(MOST_PIECES))})
    lines[(product, variant)] = wanted
    row.lines, row.changed_at = [[one, kind, many] for (one, kind), many in lines.items() if many], now
    session.add(row)
    return row.key


def sweep(session: Session, before: datetime) -> int:
    """Remove carts that nobody has touched since; gives how many."""
    old = delete(CartRow).where(col(CartRow.changed_at) < before)
    return len(session.execute(old.returning(col(CartRow.id))).all())
