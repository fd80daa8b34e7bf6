"""The contract of the edge of the shop: what stands behind it must pass these tests."""

from collections.abc import Callable
from contextlib import AbstractContextManager
from typing import Any

from finesieve.core.commerce.port import Payer, PaymentRefused, ShopPort
from finesieve.core.errors import InvalidInput

__all__ = ["ShopContract"]


class ShopContract:
    """Mix this into a test case, and say how to come by a shop.

    `port` opens a shop, `approve` lets the payer of a payment say yes (or no), `cart` fills a cart with lines and gives
    its key, `refused` is a payer whom the payment service does not take.
    """

    port: Callable[[], AbstractContextManager[ShopPort]]
    approve: Callable[..., None]
    cart: Callable[..., str]
    refused: Payer
    assertEqual: Any  # noqa: N815 - as the test case names it
    assertRaises: Any  # noqa: N815
    assertIsNone: Any  # noqa: N815
    assertIsNotNone: Any  # noqa: N815

    def begun(self, key: str, amount: int = 4652) -> None:
        with self.port() as shop:
            shop.start_payment(key, amount, "GBP", Payer("Wren Castellan", "wren@hedgerow.example", {"town": "Tansy"}))

    def test_what_is_sold_and_what_is_in_a_cart(self) -> None:
        key = self.cart(("packet", "", 3), ("kit", "small", 1))
        with self.port() as shop:
            sold = shop.sold()
            assert sold is not None
            self.assertEqual([tuple(line) for line in shop.lines(key)], [("packet", "", 3), ("kit", "small", 1)])
            for product, variant, _ in shop.lines(key):
                self.assertIsNotNone(sold.offer(product, variant))
            self.assertEqual(list(shop.lines("no such cart")), [])

    def test_a_cart_is_begun(self) -> None:
        lines = [("packet", "", 3), ("kit", "small", 1)]
        with self.port() as shop:
            first, second = shop.begin_cart(lines), shop.begin_cart(lines[:1])
        with self.port() as shop:
            self.assertEqual([[tuple(line) for line in shop.lines(one)] for one in (first, second)], [lines, lines[:1]])
        for wrong in ([("spade", "", 1)], [("kit", "", 1)], [("packet", "", 1_000_000)], []):
            with self.assertRaises(InvalidInput), self.port() as shop:
                shop.begin_cart(wrong)

    def test_a_payment_is_begun_once(self) -> None:
        self.begun("a")
        self.begun("a")
        with self.port() as shop:
            found = shop.find_payment("a")
            assert found is not None
            self.assertEqual((found.key, found.amount, found.state, found.returned), ("a", 4652, "started", 0))
            self.assertIsNone(shop.find_payment("b"))
        for amount in (4651, 0, -1):
            with self.assertRaises(ValueError):
                self.begun("a" if amount > 0 else "c", amount)

    def test_whom_it_does_not_take(self) -> None:
        with self.assertRaises(PaymentRefused), self.port() as shop:
            shop.start_payment("refused", 100, "GBP", self.refused)
        with self.port() as shop:
            self.assertIsNone(shop.find_payment("refused"))

    def test_nothing_is_charged_before_it_is_approved_and_confirmed(self) -> None:
        self.begun("a")
        with self.assertRaises(ValueError), self.port() as shop:
            shop.confirm_payment("a")
        self.approve("a", yes=False)
        with self.port() as shop:
            self.assertEqual(shop.find_payment("a").state, "declined")  # type: ignore[union-attr]
        self.approve("a")
        with self.port() as shop:
            self.assertEqual(shop.find_payment("a").state, "approved")  # type: ignore[union-attr]
        for _ in range(2):
            with self.port() as shop:
                self.assertEqual(shop.confirm_payment("a").state, "paid")
        self.approve("a", yes=False)
        with self.port() as shop:
            self.assertEqual(shop.find_payment("a").state, "paid")  # type: ignore[union-attr]

    def test_what_is_given_back(self) -> None:
        self.begun("a", 1000)
        with self.assertRaises(ValueError), self.port() as shop:
            shop.refund_payment("a", 1, "first")
        self.approve("a")
        with self.port() as shop:
            shop.confirm_payment("a")
        for key, amount, returned in (("first", 300, 300), ("first", 300, 300), ("second", 700, 1000)):
            with self.port() as shop:
                self.assertEqual(shop.refund_payment("a", amount, key).returned, returned)
        for key, amount in (("third", 1), ("fourth", 0), ("fifth", -5)):
            with self.assertRaises(ValueError), self.port() as shop:
                shop.refund_payment("a", amount, key)
