"""Names beside keys: every name of a field means its key, wherever it stands, and nothing else does."""

import unittest

from finesieve.core.language.checker import check
from finesieve.core.language.names import Place, World
from finesieve.core.language.reference import words_of
from finesieve.core.language.typed import unplaced
from finesieve.core.values import Type

NUMBER = Type("number")
WORLD = World(
    Place("person", {"length": NUMBER, "born": Type("date")}, {"plots": "record:1"}),
    {"record:1": Place("record:1", {"size": NUMBER, "length": NUMBER}), "lines": Place("lines", {"pieces": NUMBER})},
    gone={"old_name": "“Old” was deleted."},
    prefixes={
        "person": {"length": NUMBER}, "form": {"length": NUMBER, "level.packets": NUMBER}, "house": {"price": NUMBER},
        "level": {"packets": NUMBER}, "page": None,
    },
    collections={"cart.lines": "lines"},
    remembered=frozenset(("length", "born")),
    called={
        "person": {"bed_length": "length", "born": "length", "size": "length", "away": "gone_key"},
        "record:1": {"area": "size"}, "house": {"cost": "price"}, "level": {"packs": "packets"}, "lines": {"many": "pieces"},
    },
    names={"person": {"length": "bed_length"}, "record:1": {"size": "area"}, "house": {"price": "cost"}},
)  # fmt: skip


class Names(unittest.TestCase):
    def test_the_same_by_every_name(self) -> None:
        for by_key, by_name in (
            ("length * 2", "bed_length * 2"), ("person.length", "person.bed_length"), ("form.length", "Form.Bed_Length"),
            ("house.price", "house.cost"), ("level.packets", "level.packs"), ("form.level.packets", "form.level.packs"),
            ("sum(plots.size)", "sum(plots.area)"), ("count(plots where size > 2)", "count(plots where area > 2)"),
            ("latest(plots by size)", "latest(plots by area)"), ("sum(cart.lines.pieces)", "sum(cart.lines.many)"),
            ("any(plots where person.length > size)", "any(plots where person.bed_length > area)"),
            ("last_change(length)", "last_change(bed_length)"), ("value_on(length, today())", "value_on(bed_length, today())"),
        ):  # fmt: skip
            with self.subTest(by_name):
                key, name = check(by_key, WORLD), check(by_name, WORLD)
                self.assertEqual([one.message for one in name.problems], [one.message for one in key.problems])
                self.assertEqual(name.typed and unplaced(name.typed), key.typed and unplaced(key.typed))

    def test_a_key_comes_before_a_name_and_each_thing_has_its_own(self) -> None:
        def read(text: str) -> str:
            typed = check(text, WORLD).typed
            return typed.name if typed is not None else ""

        self.assertEqual(read("born"), "born")  # a key, though another field is called so
        self.assertEqual(read("size"), "length")  # of the person here
        inside = check("count(plots where size > 2)", WORLD).typed
        assert inside is not None
        self.assertIn(("record:1", "size"), inside.reads)
        for text in ("away", "area", "cost", "person.area", "sum(plots.bed_length)", "house.bed_length", "old_name"):
            with self.subTest(text):
                self.assertEqual(check(text, WORLD).typed, None)
        self.assertIn("is called away", check("person.away", WORLD).problems[0].message)
        self.assertIn("was deleted", check("old_name", WORLD).problems[0].message)
        self.assertEqual(read("page.bed_length"), "bed_length")

    def test_the_present_name_is_offered(self) -> None:
        words = {word.text for word in words_of(WORLD)}
        self.assertLessEqual({"bed_length", "person.bed_length", "house.cost", "plots.area", "level.packets"}, words)
        self.assertFalse({"length", "house.price", "plots.size", "size"} & words)


if __name__ == "__main__":
    unittest.main()
