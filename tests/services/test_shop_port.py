"""The edge of the shop: the stand-in keeps its contract, and so can another; payments that go wrong lose nothing."""

import unittest
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from datetime import timedelta

from sqlmodel import select

from finesieve.core.commerce.port import Payer, Payment, PaymentRefused, ShopPort
from finesieve.core.commerce.shop import Shop
from finesieve.core.errors import InvalidInput
from finesieve.services.commerce.behind import shop_behind
from finesieve.services.commerce.orders import list_orders, move_order
from finesieve.services.commerce.paying import settle_all
from finesieve.services.commerce.public import PublicShop
from finesieve.services.define.built_ins import use_part
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.forms.composing import add_question
from finesieve.services.forms.forms import publish_form
from finesieve.standins.shop.payments import answer_payment
from finesieve.store.tables import PaymentRow
from tests.support.database import store
from tests.support.house import NOW, make_house
from tests.support.shop import SECRET, SHOP, Trade
from tests.support.shop_port import ShopContract

PACKETS = ("packet", "", 3)
SOLD = Shop.model_validate(SHOP)


class StandIn(ShopContract, unittest.TestCase):
    refused = Payer("Wren Castellan", "wren@hedgerow.example", {"town": "Nowhere"})

    def setUp(self) -> None:
        self.trade = Trade(make_house())

    @contextmanager
    def port(self) -> Iterator[ShopPort]:
        with self.trade.house.scope.transaction("owner") as unit:
            yield shop_behind(unit)

    def approve(self, key: str, *, yes: bool = True) -> None:
        with self.trade.house.scope.transaction("owner") as unit:
            answer_payment(unit.session, key, "approved" if yes else "declined", unit.moment.now)

    def cart(self, *lines: tuple[str, str, int]) -> str:
        return self.trade.cart(*lines)


class InMemory(ShopContract, unittest.TestCase):
    """Another shop behind the same edge."""

    refused = Payer("Nobody")

    def setUp(self) -> None:
        self.shop = _Remembered()

    @contextmanager
    def port(self) -> Iterator[ShopPort]:
        yield self.shop

    def approve(self, key: str, *, yes: bool = True) -> None:
        known = self.shop.payments[key]
        if known.state != "paid":
            self.shop.payments[key] = replace(known, state="approved" if yes else "declined")

    def cart(self, *lines: tuple[str, str, int]) -> str:
        self.shop.carts["mine"] = lines
        return "mine"


class _Remembered:
    def __init__(self) -> None:
        self.carts: dict[str, Sequence[tuple[str, str, int]]] = {}
        self.payments: dict[str, Payment] = {}
        self.refunds: set[str] = set()

    def sold(self) -> Shop | None:
        return SOLD

    def lines(self, cart: str) -> Sequence[tuple[str, str, int]]:
        return self.carts.get(cart, ())

    def begin_cart(self, lines: Sequence[tuple[str, str, int]]) -> str:
        if not lines or any(SOLD.offer(*line[:2]) is None or line[2] > 10_000 for line in lines):
            raise InvalidInput({"": "Not like this."})
        self.carts[f"cart {len(self.carts)}"] = lines
        return f"cart {len(self.carts) - 1}"

    def start_payment(self, key: str, amount: int, currency: str, payer: Payer) -> Payment:
        if payer.name == "Nobody":
            raise PaymentRefused("Not from here.")
        known = self.payments.setdefault(key, Payment(key, amount, "started")) if amount > 0 else None
        if known is None or known.amount != amount:
            raise ValueError("Another amount.")
        return known

    def find_payment(self, key: str) -> Payment | None:
        return self.payments.get(key)

    def confirm_payment(self, key: str) -> Payment:
        if self.payments[key].state not in ("approved", "paid"):
            raise ValueError("Not approved.")
        self.payments[key] = replace(self.payments[key], state="paid")
        return self.payments[key]

    def refund_payment(self, key: str, amount: int, refund: str) -> Payment:
        known = self.payments[key]
        if refund not in self.refunds:
            if known.state != "paid" or not 0 < amount <= known.amount - known.returned:
                raise ValueError("So much is not there.")
            self.refunds.add(refund)
            self.payments[key] = replace(known, returned=known.returned + amount)
        return self.payments[key]


class GoingWrong(unittest.TestCase):
    """A payment that is refused, slow, silent, answered twice, or approved for an order that was cancelled."""

    def setUp(self) -> None:
        self.trade = Trade(make_house())
        self.scope, self.slug = self.trade.house.scope, self.trade.house.slug

    def state(self) -> str:
        return list_orders(self.scope).lines[0].state

    def charged(self) -> list[str]:
        with self.scope.reading("reader") as unit:
            return list(unit.session.exec(select(PaymentRow.state)).all())

    def test_refused_before_it_is_placed(self) -> None:
        use_part(self.scope, "billing")
        with self.scope.reading("reader") as unit:
            town = unit.catalogue.by_key["billing_town"].id
        add_question(self.scope, self.trade.form, self.trade.revision(), town)
        publish_form(self.scope, self.trade.form, self.trade.revision())
        opened = self.trade.open(self.trade.cart(PACKETS))
        refused = self.trade.send(opened, q5="Nowhere")
        self.assertFalse(refused.sent)
        self.assertIn("does not take payments", refused.unchosen["payment"])
        self.assertEqual((list_orders(self.scope).lines, self.charged(), refused.given["q5"]), ((), [], "Nowhere"))
        self.assertTrue(self.trade.send(opened, q5="Tansy").sent)

    def test_slow_then_found_by_looking(self) -> None:
        link = self.trade.order(PACKETS)
        self.trade.shop().pay(self.slug, link, accepted=True, late=timedelta(seconds=8))
        self.assertEqual(self.state(), "awaiting_payment")
        later = PublicShop(store(), lambda: NOW + timedelta(seconds=9), SECRET)
        for _ in range(2):
            later.settle(self.slug, link)
        self.assertEqual((self.state(), self.charged()), ("placed", ["paid"]))
        self.assertEqual(len([one for one in read_outbox(self.scope).letters if one.subject == "Your order 1"]), 1)

    def test_silent_then_found_by_the_worker(self) -> None:
        link = self.trade.order(PACKETS)
        self.trade.shop().pay(self.slug, link, accepted=True, told=False)
        self.assertEqual((self.state(), self.charged()), ("awaiting_payment", ["approved"]))
        self.assertEqual([settle_all(self.scope, SECRET), settle_all(self.scope, SECRET)], [1, 0])
        self.assertEqual((self.state(), self.charged()), ("placed", ["paid"]))
        other = self.trade.order(PACKETS, q1="fern@hedgerow.example")
        self.trade.shop().pay(self.slug, other, accepted=True, told=False)
        self.assertEqual(self.trade.shop().order(self.slug, other)[2].state, "placed")
        (letter,) = [one for one in read_outbox(self.scope).letters if one.subject == "Your order 1"]
        self.assertTrue(letter.link.startswith(f"/shop/{self.slug}/order/"))

    def test_approved_for_an_order_that_was_cancelled(self) -> None:
        link = self.trade.order(PACKETS)
        move_order(self.scope, list_orders(self.scope).lines[0].id, "cancelled")
        self.trade.shop().pay(self.slug, link, accepted=True)
        self.assertEqual((self.state(), self.charged(), settle_all(self.scope, SECRET)), ("cancelled", ["approved"], 0))


if __name__ == "__main__":
    unittest.main()
