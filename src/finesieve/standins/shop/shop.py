"""The stand-in shop behind the port."""

from datetime import datetime

from sqlmodel import Session

from finesieve.core.commerce.port import CartLines, Payer, Payment
from finesieve.core.commerce.shop import Shop
from finesieve.core.errors import InvalidInput
from finesieve.standins.shop import carts, payments

__all__ = ["StandInShop"]


class StandInShop:
    """The shop of a workspace, in a transaction; see `ShopPort`."""

    def __init__(self, session: Session, workspace_id: int, shop: Shop | None, now: datetime) -> None:
        self._session, self._workspace_id, self._shop, self._now = session, workspace_id, shop, now

    def sold(self) -> Shop | None:
        """What stands in the workspace's file."""
        return self._shop

    def lines(self, cart: str) -> CartLines:
        """See `ShopPort.lines`."""
        return carts.lines_of(self._session, cart)

    def begin_cart(self, lines: CartLines) -> str:
        """See `ShopPort.begin_cart`."""
        if not lines:
            raise InvalidInput({"quantity": "Write how many of something."})
        key = ""
        for product, variant, many in lines:
            if self._shop is None or self._shop.offer(product, variant) is None:
                raise InvalidInput({"variant": "Choose one of the kinds it comes in."})
            line = (product, variant, many)
            key = carts.put_into(self._session, self._workspace_id, key, line, self._now, more=True)
            self._session.flush()
        return key

    def start_payment(self, key: str, amount: int, currency: str, payer: Payer) -> Payment:
        """See `ShopPort.start_payment`. The currency is that of the house, whatever it is."""
        return payments.start(self._session, self._workspace_id, key, amount, payer, self._now)

    def find_payment(self, key: str) -> Payment | None:
        """See `ShopPort.find_payment`."""
        return payments.find(self._session, key, self._now)

    def confirm_payment(self, key: str) -> Payment:
        """See `ShopPort.confirm_payment`."""
        return payments.confirm(self._session, key, self._now)

    def refund_payment(self, key: str, amount: int, refund: str) -> Payment:
        """See `ShopPort.refund_payment`."""
        return payments.refund(self._session, key, amount, refund, self._now)
