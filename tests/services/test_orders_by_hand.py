"""Orders that staff place by hand, through the same checkout."""

import unittest
from dataclasses import replace
from urllib.parse import parse_qs, urlsplit

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.services.commerce.orders import list_orders, move_order, read_order, refund_pieces
from finesieve.services.filling.open_form import Visit
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.people.profiles import read_profile
from tests.support.house import make_house
from tests.support.shop import Trade

PACKETS = ("packet", "", 3)


class ByHand(unittest.TestCase):
    def setUp(self) -> None:
        self.trade = Trade(make_house())
        self.scope = self.trade.house.scope
        self.clerk = replace(self.trade.as_clerk().scope, actor="Nerys Tarn")

    def begin(self, person: int = 0) -> Visit:
        path = self.trade.shop().begin_for(self.clerk, [PACKETS, ("kit", "small", 0), ("spade", "", 1)], person)
        given = {name: values[0] for name, values in parse_qs(urlsplit(path).query).items()}
        self.assertEqual(urlsplit(path).path, f"/join/{self.trade.house.slug}/{self.trade.slug}")
        return Visit(cart=given["cart"], me=given["me"])

    def placed(self, person: int = 0, **answers: str) -> int:
        opened = self.trade.forms().open(self.trade.house.slug, self.trade.slug, self.begin(person))
        with_methods = {"delivery": "van", "payment": "pay"}
        forms, slug = self.trade.forms(), self.trade.slug
        seen = forms.answer(self.trade.house.slug, slug, opened.token, answers, "", with_methods)
        asked = frozenset(one.id for one in seen.outcome.showing)
        sent = forms.send(
            self.trade.house.slug, slug, opened.token, answers, asked, total=seen.total, methods=with_methods
        )
        self.assertTrue(sent.sent, (sent.outcome.troubles, sent.unchosen))
        return list_orders(self.scope).lines[0].id

    def test_for_somebody_known_and_said_to_be_by_whom(self) -> None:
        self.trade.order(PACKETS)
        person = list_orders(self.scope).lines[0].person_id
        order = self.placed(person, q2="Wren")
        view = read_order(self.scope, order)
        self.assertEqual((view.line.person_id, view.line.number), (person, 2))
        self.assertEqual({line.actor for line in view.history}, {"Nerys Tarn"})
        changed = [line for line in read_profile(self.scope, person).history if line.label == "First name"]
        self.assertEqual([(line.new, line.actor) for line in changed], [("Wren", "Nerys Tarn")])

    def test_for_somebody_new_and_paid_another_way(self) -> None:
        order = self.placed(q1="fern@hedgerow.example")
        move_order(self.clerk, order, "placed")
        self.assertEqual(read_order(self.scope, order).line.state, "placed")
        (letter,) = [one for one in read_outbox(self.scope).letters if one.recipient == "fern@hedgerow.example"]
        self.assertIn("is placed", letter.body)
        refund_pieces(self.clerk, order, "line1", 1)
        self.assertEqual(read_order(self.scope, order).shown.returned, "£2.99")

    def test_who_may_not_and_what_cannot_be(self) -> None:
        shop = self.trade.shop()
        with self.assertRaises(NotAllowed):
            shop.begin_for(self.trade.house.as_role("reader"), [PACKETS], 0)
        with self.assertRaises(NotFound):
            shop.begin_for(self.clerk, [PACKETS], 999_999)
        for lines in ([], [("packet", "", 0)], [("spade", "", 2)]):
            with self.assertRaises(InvalidInput):
                shop.begin_for(self.clerk, lines, 0)


if __name__ == "__main__":
    unittest.main()
