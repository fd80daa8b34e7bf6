"""A checkout tried by a file alone: rules that see the cart, surcharges, shares, discounts, taxes and the total."""

import copy
import json
import unittest
from datetime import UTC, datetime
from typing import Any

from finesieve.core.errors import InvalidInput
from finesieve.core.setup.schema import read_schema, to_schema
from finesieve.core.setup.trial import FormTrial

NOW = datetime(2026, 11, 27, 10, tzinfo=UTC)
SHOP = {
    "country": "GB",
    "tax_classes": {"standard": "Standard", "seed": "Seed"},
    "surcharge_tax_class": "standard",
    "rates": [
        {"tax_class": "standard", "percent": "20", "country": "GB"},
        {"tax_class": "seed", "percent": "5", "country": "GB"},
        {"tax_class": "standard", "percent": "25", "country": "NO"},
    ],
    "products": [
        {"key": "packet", "label": "Seed packet", "price": "2.99", "tax_class": "seed", "categories": ["seed"], "tags": ["new"]},
        {
            "key": "kit", "label": "Raised-bed kit", "price": "34.50", "tax_class": "standard", "categories": ["kits"],
            "variants": [{"key": "small", "label": "Small"}, {"key": "large", "label": "Large", "price": "49.00"}],
        },
    ],
    "delivery": [
        {"key": "van", "label": "Van", "price": "4.95", "tax_class": "standard"},
        {"key": "gate", "label": "Collected at the gate"},
    ],
    "payment": [{"key": "card", "label": "Card"}],
}  # fmt: skip


def question(number: int, field: str, **more: Any) -> dict[str, Any]:
    return {"kind": "question", "id": f"q{number}", "field": field, **more}


ITEMS = [
    question(1, "email"),
    question(2, "plaque", show_when='any(cart.lines where product = "kit")', surcharges=[
        {"label": "Engraving", "amount": "length(plaque) * 0.35"},
    ]),
    question(3, "gate_hour", about="order", show_when='cart.delivery = "gate"'),
    question(4, "friend", show_when="cart.goods >= 40", surcharges=[
        {"label": "10 % off", "share": "-10"},
    ]),
    question(5, "care", surcharges=[{"label": "Care", "share": "2.5", "basis": "order_after", "taxed": False}]),
]  # fmt: skip
SCHEMA: dict[str, Any] = {
    "$schema": "https://json-schema.org/draft/2020-12/schema",
    "x-sieve-format": 1,
    "type": "object",
    "x-sieve-groups": [{"name": "Who", "about": "person"}, {"name": "Order", "about": "order"}],
    "properties": {
        "plaque": {"title": "Plaque", "x-sieve-type": "short_text", "x-sieve-group": "Who"},
        "friend": {"title": "Friend", "x-sieve-type": "yes_no", "x-sieve-group": "Who", "type": "boolean"},
        "care": {"title": "Care", "x-sieve-type": "yes_no", "x-sieve-group": "Who", "type": "boolean"},
    },
    "$defs": {
        "order": {
            "type": "object",
            "properties": {"gate_hour": {"title": "Hour", "x-sieve-type": "short_text", "x-sieve-group": "Order"}},
        }
    },
    "x-sieve-shop": SHOP,
    "x-sieve-forms": [
        {"slug": "checkout", "document": {"title": "Checkout", "channel": "checkout", "sections": [{"id": "s1", "items": ITEMS}]}},
        {"slug": "join", "document": {"title": "Join", "sections": [{"id": "s1", "items": ITEMS[:1]}]}},
    ],
}  # fmt: skip


def lines(*given: tuple[str, int] | tuple[str, int, str]) -> list[dict[str, Any]]:
    return [{"product": one[0], "quantity": one[1], **({"variant": one[2]} if len(one) > 2 else {})} for one in given]


def tried(change: Any = None, slug: str = "checkout", **situation: Any) -> dict[str, Any]:
    schema = copy.deepcopy(SCHEMA)
    if change:
        change(schema)
    trial = FormTrial(read_schema(json.dumps(schema)), slug)
    answers = {"email": "wren@hedgerow.example", **situation.pop("answers", {})}
    return next(trial.results([json.dumps({"answers": answers, **situation})], NOW))


class Checkout(unittest.TestCase):
    maxDiff = None

    def test_rules_see_the_orders_that_somebody_has(self) -> None:
        """As sums and counts of what was ordered before, the house's own fields of an order among them."""

        def asks_regulars(schema: dict[str, Any]) -> None:
            rule = 'sum(orders.total where state = "sent") > 80 and any(orders where gate_hour = "8")'
            schema["x-sieve-forms"][0]["document"]["sections"][0]["items"][3]["show_when"] = rule

        def outcome(*orders: dict[str, Any]) -> dict[str, Any]:
            known = {"person": {"plaque": "Moss"}, "records": {"orders": list(orders)}}
            return tried(asks_regulars, cart={"lines": lines(("packet", 2)), "delivery": "van"}, **known)

        first = {"number": 1, "placed_at": "2026-03-01T10:00:00+00:00", "state": "sent", "total": 50.5}
        for orders, shows in (
            ([{**first, "gate_hour": "8"}, {**first, "number": 2, "total": 29.51}], True),
            ([{**first, "gate_hour": "8"}, {**first, "number": 2, "total": 29.5}], False),
            ([first, {**first, "number": 2, "total": 50}], False),
        ):
            self.assertEqual("friend" in outcome(*orders)["shows"], shows)
        self.assertIn("records.orders.0.weight", str(outcome({"weight": 3})))

    def test_rules_see_the_cart(self) -> None:
        plain = tried(cart={"lines": lines(("packet", 2)), "delivery": "van"})
        self.assertEqual(plain["shows"], ["email", "care"])
        self.assertEqual(plain["hidden"], {"plaque": "rule", "gate_hour": "rule", "friend": "rule"})
        kit = tried(cart={"lines": lines(("packet", 2), ("kit", 1, "large")), "delivery": "gate"})
        self.assertEqual(kit["shows"], ["email", "plaque", "gate_hour", "friend", "care"])

    def test_the_bill(self) -> None:
        """The figures of a bill with tax in its prices, worked out by hand: 46.52, of it 0.38 and 6.41 of tax."""
        found = tried(
            answers={"plaque": "Kestrel", "friend": "yes", "care": "no"},
            cart={"lines": lines(("packet", 3), ("kit", 1, "small")), "delivery": "van", "country": "GB"},
        )
        self.assertTrue(found["taken"], found["problems"])
        self.assertEqual(found["total"], "46.52")
        self.assertEqual(
            found["taxes"],
            [{"percent": "5", "basis": "8.07", "tax": "0.38"}, {"percent": "20", "basis": "38.45", "tax": "6.41"}],
        )
        self.assertEqual(
            [(one["label"], one["kind"], one["amount"], one["off"]) for one in found["lines"]],
            [
                ("Seed packet", "goods", "8.97", "0.90"), ("Raised-bed kit, Small", "goods", "34.50", "3.45"),
                ("Van", "delivery", "4.95", "0.00"), ("Engraving", "surcharge", "2.45", "0.00"),
                ("10 % off", "discount", "-4.35", "0.00"),
            ],
        )  # fmt: skip
        self.assertEqual(
            found["charges"],
            [{"label": "Engraving", "amount": "2.45", "question": "plaque"}, {"label": "10 % off", "amount": "-4.347", "question": "friend"}],
        )  # fmt: skip

    def test_what_is_about_the_order_is_stored_there(self) -> None:
        found = tried(answers={"gate_hour": "ten"}, cart={"lines": lines(("packet", 1)), "delivery": "gate"})
        self.assertEqual(found["stores"]["order"], {"gate_hour": "ten"})
        self.assertEqual(found["stores"]["person"], {"email": "wren@hedgerow.example"})

    def test_an_untaxed_share_of_the_whole(self) -> None:
        """2.5 % of goods and delivery after tax: of 2.99 and 4.95 that is 0.1985, charged as 0.20, and no tax on it."""
        found = tried(answers={"care": "yes"}, cart={"lines": lines(("packet", 1)), "delivery": "van"})
        self.assertEqual([(one["amount"], one["tax"]) for one in found["lines"]][-1], ("0.20", "0.00"))
        self.assertEqual(found["total"], "8.14")

    def test_where_it_is_taxed(self) -> None:
        """Where no rate is known it cannot be sent; elsewhere the rate of that place counts."""
        abroad = tried(cart={"lines": lines(("packet", 1)), "country": "NO"})
        self.assertEqual([(one["path"], one["code"]) for one in abroad["problems"]], [("cart", "no_rate")])
        self.assertFalse(abroad["taken"])
        kit = tried(cart={"lines": lines(("kit", 1, "small")), "country": "NO"})
        self.assertEqual(kit["taxes"], [{"percent": "25", "basis": "34.50", "tax": "6.90"}])

    def test_an_empty_cart_is_not_sent(self) -> None:
        for cart in (None, {"lines": []}):
            found = tried(**({"cart": cart} if cart else {}))
            self.assertEqual([(one["path"], one["code"]) for one in found["problems"]], [("cart", "empty")])

    def test_what_does_not_fit_is_said_at_its_place(self) -> None:
        for cart, place in (
            ({"lines": lines(("spade", 1))}, "cart.lines.0"), ({"lines": lines(("packet", 1), ("kit", 1))}, "cart.lines.1"),
            ({"lines": lines(("packet", 0))}, "cart.lines.0.quantity"), ({"lines": lines(("packet", 1)), "delivery": "owl"}, "cart.delivery"),
            ({"lines": lines(("packet", 1)), "payment": "shells"}, "cart.payment"), ({"lines": lines(("packet", 20_000))}, "quantity"),
        ):  # fmt: skip
            self.assertIn(place, tried(cart=cart)["error"])
        self.assertIn("cart", tried(slug="join", cart={"lines": lines(("packet", 1))})["error"])
        self.assertNotIn("lines", tried(slug="join"))

    def test_problems_of_the_definition(self) -> None:
        def rule(text: str) -> Any:
            def change(schema: dict[str, Any]) -> None:
                schema["x-sieve-forms"][0]["document"]["sections"][0]["items"][4]["show_when"] = text

            return change

        def as_sign_up(schema: dict[str, Any]) -> None:
            schema["x-sieve-forms"][0]["document"]["channel"] = "sign-up"

        def no_shop(schema: dict[str, Any]) -> None:
            del schema["x-sieve-shop"]

        def other_class(schema: dict[str, Any]) -> None:
            schema["x-sieve-forms"][0]["document"]["sections"][0]["items"][4]["surcharges"][0]["tax_class"] = "luxury"

        for change in (
            rule('cart.delivery = "owl"'), rule("cart.weight > 3"), rule("count(cart.lines where colour = 3) > 1"),
            rule("cart.lines"), rule("sum(cart.lines.product) > 3"), rule("sum(cart.lines.colour) > 3"), as_sign_up, no_shop, other_class,
        ):  # fmt: skip
            with self.assertRaises(InvalidInput):
                tried(change, cart={"lines": lines(("packet", 1))})
        for text in (
            'sum(cart.lines.total where categories holds "seed") > 5', "count(cart.lines) = 1 and cart.quantity = 2",
            'cart.total = 10.93 and cart.country = "GB"', 'all(cart.lines where product_tags holds "new")', "max(cart.lines.price) < 3",
        ):  # fmt: skip
            found = tried(rule(text), cart={"lines": lines(("packet", 2)), "delivery": "van"})
            self.assertIn("care", found["shows"], text)

    def test_a_file_comes_back_as_it_was(self) -> None:
        setup = read_schema(json.dumps(SCHEMA))
        self.assertEqual(read_schema(json.dumps(to_schema(setup))), setup)


if __name__ == "__main__":
    unittest.main()
