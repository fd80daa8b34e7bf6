"""Sections of a checkout that are asked once per line or piece of the cart, tried by a file alone."""

import copy
import json
import unittest
from decimal import Decimal
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from finesieve.core.errors import InvalidInput
from finesieve.core.setup.schema import read_schema, to_schema
from tests.core.test_checkout import SCHEMA, lines, question, tried

PLAQUES = {
    "id": "s2", "title": "Plaques",
    "repeat": {"record_type": "plaque", "per": "piece", "one": "Plaque", "among": {"products": ["kit"]}},
    "items": [
        question(11, "engraving", required=True, surcharges=[{"label": "Engraving", "amount": "length(engraving) * 0.35"}]),
        question(12, "slate", show_when='variant = "large"', surcharges=[{"label": "Slate", "amount": "price * 0.1"}]),
    ],
}  # fmt: skip
SOWING = {
    "id": "s3", "title": "Sowing",
    "repeat": {"record_type": "sowing", "per": "line", "among": {"categories": ["seed"]}},
    "items": [question(21, "beds")],
}  # fmt: skip
ALL_BEDS = {
    "id": "s4",
    "items": [question(31, "friend", show_when="sum(cart.lines.beds) > 3 and any(cart.lines where beds is blank)")],
}


def with_pieces(*sections: dict[str, Any]) -> Any:
    def change(schema: dict[str, Any]) -> None:
        schema["x-sieve-record-types"] = [
            {"key": "plaque", "singular": "Plaque", "plural": "Plaques"},
            {"key": "sowing", "singular": "Sowing", "plural": "Sowings"},
        ]
        schema["x-sieve-links"] = [
            {"record_type": one, "name": "Holder", "target": "person", "back_name": name, "back_key": name.lower()}
            for one, name in (("plaque", "Plaques"), ("sowing", "Sowings"))
        ]
        schema["x-sieve-groups"] += [{"name": one, "about": f"record:{one}"} for one in ("plaque", "sowing")]
        for about, key, kind in (
            ("plaque", "engraving", "short_text"), ("plaque", "slate", "yes_no"), ("sowing", "beds", "number"),
        ):  # fmt: skip
            made = {"title": key.capitalize(), "x-sieve-type": kind, "x-sieve-group": about}
            schema["$defs"].setdefault(f"record-{about}", {"type": "object", "properties": {}})["properties"][key] = (
                made
            )
        schema["x-sieve-forms"][0]["document"]["sections"] = [
            {"id": "s1", "items": [question(1, "email")]}, *copy.deepcopy(sections),
        ]  # fmt: skip

    return change


def kit(many: int, *names: str, variant: str = "small") -> dict[str, Any]:
    answers = [{"engraving": name} for name in names]
    return {"product": "kit", "variant": variant, "quantity": many, "answers": answers}


class Pieces(unittest.TestCase):
    maxDiff = None

    def test_each_piece_is_asked_charged_and_stored(self) -> None:
        cart = {"lines": [kit(2, "Kestrel", "Moss"), *lines(("packet", 3))], "delivery": "gate"}
        found = tried(with_pieces(PLAQUES), cart=cart)
        self.assertEqual(found["shows"], ["email", "s2.0.engraving", "s2.1.engraving"])
        self.assertEqual([one["amount"] for one in found["charges"]], ["2.45", "1.4"])
        self.assertEqual([one["question"] for one in found["charges"]], ["s2.0.engraving", "s2.1.engraving"])
        charged = [(one["label"], one["amount"]) for one in found["lines"] if one["kind"] == "surcharge"]
        self.assertEqual(charged, [("Engraving", "2.45"), ("Engraving", "1.40")])
        self.assertEqual(found["total"], "81.82")
        self.assertEqual(
            [one["values"] for one in found["stores"]["records"]], [{"engraving": "Kestrel"}, {"engraving": "Moss"}]
        )

    def test_the_label_of_a_surcharge_says_what_it_is_for(self) -> None:
        """Its placeholders read the answers for the piece, the line and the cart; what cannot be read is refused."""

        def labelled(label: str) -> Any:
            named = copy.deepcopy(PLAQUES)
            named["items"][0]["surcharges"][0]["label"] = label
            return with_pieces(named)

        cart = {"lines": [kit(2, "Kestrel", "Moss")], "delivery": "gate"}
        label = "{length(engraving)} letters on {engraving}, {variant}, of {cart.quantity} {{kits}}"
        found = tried(labelled(label), cart=cart)
        said = ["7 letters on Kestrel, Small, of 2 {kits}", "4 letters on Moss, Small, of 2 {kits}"]
        self.assertEqual([one["label"] for one in found["charges"]], said)
        self.assertEqual([one["label"] for one in found["lines"] if one["kind"] == "surcharge"], said)
        with self.assertRaises(InvalidInput) as refused:
            tried(labelled("For {weight}"), cart=cart)
        self.assertIn("weight", str(refused.exception.messages))

    def test_a_piece_left_empty_stands_in_the_way(self) -> None:
        found = tried(with_pieces(PLAQUES), cart={"lines": [kit(2, "Kestrel")], "delivery": "gate"})
        self.assertEqual([(one["path"], one["code"]) for one in found["problems"]], [("s2.1.engraving", "missing")])

    def test_rules_within_read_the_line(self) -> None:
        large = kit(1, "Fern", variant="large")
        large["answers"][0]["slate"] = True
        found = tried(with_pieces(PLAQUES), cart={"lines": [kit(1, "Moss"), large], "delivery": "gate"})
        self.assertEqual(found["shows"], ["email", "s2.0.engraving", "s2.1.engraving", "s2.1.slate"])
        self.assertEqual(found["charges"][-1], {"label": "Slate", "amount": "4.9", "question": "s2.1.slate"})

    def test_a_variant_is_one_of_its_product_alone(self) -> None:
        """Two products have variants of one key; only that of the product that is named is meant."""

        def change(schema: dict[str, Any]) -> None:
            small = copy.deepcopy(PLAQUES)
            small["repeat"]["among"] = {"variants": ["kit.small"]}
            with_pieces(small)(schema)
            box = {"key": "box", "label": "Box", "price": "9", "variants": [{"key": "small", "label": "Small"}]}
            schema["x-sieve-shop"]["products"].append(box)

        goods = [kit(1, "Moss"), kit(1, variant="large"), {"product": "box", "variant": "small", "quantity": 2}]
        found = tried(change, cart={"lines": goods, "delivery": "gate"})
        self.assertEqual((found["shows"], found["taken"]), (["email", "s2.0.engraving"], True))

    def test_a_field_of_the_record_is_not_what_the_line_says(self) -> None:
        """A field of the record that is called like something of the line is its own, and blank where nobody asks it."""

        def change(schema: dict[str, Any]) -> None:
            own = copy.deepcopy(PLAQUES)
            own["items"] = [question(11, "engraving", show_when="price is blank and quantity = 1")]
            with_pieces(own)(schema)
            made = {"title": "Price", "x-sieve-type": "number", "x-sieve-group": "plaque"}
            schema["$defs"]["record-plaque"]["properties"]["price"] = made

        found = tried(change, cart={"lines": [kit(1, "Moss")], "delivery": "gate"})
        self.assertEqual(found["shows"], ["email", "s2.0.engraving"])

    def test_nothing_meant_in_the_cart_asks_nothing(self) -> None:
        found = tried(with_pieces(PLAQUES), cart={"lines": lines(("packet", 3)), "delivery": "gate"})
        self.assertEqual((found["shows"], found["taken"]), (["email"], True))

    def test_no_more_than_fifty(self) -> None:
        found = tried(with_pieces(PLAQUES), cart={"lines": [kit(49), kit(4, variant="large")], "delivery": "gate"})
        self.assertEqual(len([one for one in found["shows"] if one.endswith("engraving")]), 50)

    def test_per_line_and_read_by_other_rules(self) -> None:
        cart = {"lines": [{**lines(("packet", 3))[0], "answers": {"beds": "4"}}, kit(1)], "delivery": "gate"}
        found = tried(with_pieces(ALL_BEDS, SOWING), cart=cart)
        self.assertEqual(found["shows"], ["email", "friend", "s3.0.beds"])
        cart["lines"][0]["answers"] = {"beds": "3"}
        self.assertEqual(tried(with_pieces(ALL_BEDS, SOWING), cart=cart)["shows"], ["email", "s3.0.beds"])

    def test_what_is_not_asked_of_a_line_is_said(self) -> None:
        for answers, words in (({"beds": 3}, "does not ask this"), ([{}] * 3, "more of them than pieces")):
            cart = {"lines": [{**kit(2), "answers": answers}], "delivery": "gate"}
            self.assertIn(words, tried(with_pieces(PLAQUES, SOWING), cart=cart)["error"])

    def test_what_is_not_sold_is_a_problem_and_so_is_a_form_without_cart(self) -> None:
        lost = copy.deepcopy(PLAQUES)
        lost["repeat"]["among"] = {"products": ["kites"]}
        with self.assertRaises(InvalidInput) as caught:
            tried(with_pieces(lost), cart={"lines": lines(("packet", 1))})
        self.assertIn("kites", str(caught.exception.messages))

        def no_checkout(schema: dict[str, Any]) -> None:
            with_pieces(PLAQUES)(schema)
            schema["x-sieve-forms"][0]["document"]["channel"] = "sign-up"

        with self.assertRaises(InvalidInput) as caught:
            tried(no_checkout)
        self.assertIn("lines and pieces", str(caught.exception.messages))

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.tuples(st.sampled_from(("small", "large")), st.text("abc ", max_size=6)), max_size=6))
    def test_every_piece_is_charged_for_its_own_letters(self, wanted: list[tuple[str, str]]) -> None:
        by_variant: dict[str, list[str]] = {}
        for variant, name in wanted:
            by_variant.setdefault(variant, []).append(name)
        goods = [kit(len(names), *names, variant=variant) for variant, names in by_variant.items()]
        found = tried(with_pieces(PLAQUES), cart={"lines": [*goods, *lines(("packet", 1))], "delivery": "gate"})
        expected = [len(name.strip()) for names in by_variant.values() for name in names if name.strip()]
        self.assertEqual(
            [Decimal(one["amount"]) for one in found["charges"]], [many * Decimal("0.35") for many in expected]
        )


class Portable(unittest.TestCase):
    def test_the_file_keeps_what_it_is_asked_for(self) -> None:
        schema = copy.deepcopy(SCHEMA)
        with_pieces(PLAQUES, SOWING)(schema)
        again = to_schema(read_schema(json.dumps(schema)))
        kept = next(one for one in again["x-sieve-forms"] if one["slug"] == "checkout")["document"]["sections"][1][
            "repeat"
        ]
        self.assertEqual((kept["per"], kept["among"]), ("piece", {"products": ["kit"]}))
