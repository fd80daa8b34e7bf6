"""What a formula does to everybody before it is saved, held against Python, person by person."""

import unittest
from collections import Counter
from dataclasses import replace
from decimal import Decimal

from finesieve.core.errors import NotAllowed
from finesieve.services.compute.derived import DerivedInput, TriedOn, change_derived, create_derived, preview_formula
from finesieve.services.define.groups import read_catalogue
from finesieve.services.people.listing import list_people
from finesieve.services.people.profiles import read_profile
from finesieve.services.sift.effect import Effect, effect_of
from finesieve.services.sift.segments import SegmentInput, change_segment, count_segment, create_segment
from tests.support.house import make_house


class Effects(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.lengths = (1, 2, 4, 8, 16, None, 5, None)
        self.people = [
            self.house.add(first_name=f"P{n}", plot_length=None if one is None else Decimal(one), plot_width=Decimal(n) if n < 7 else None)
            for n, one in enumerate(self.lengths, 1)
        ]  # fmt: skip

    def derive(self, label: str, formula: str) -> int:
        return create_derived(self.scope, DerivedInput(label=label, formula=formula))

    def effect(self, formula: str, key: str = "") -> Effect:
        found = effect_of(self.scope, formula, key)
        assert found is not None and not found.failure, found
        return found

    def test_a_new_formula_is_spread_over_everybody(self) -> None:
        found = self.effect("plot_length * 10")
        self.assertEqual([(bar.name, bar.people) for bar in found.bars], [
            ("0 to under 20", 1), ("20 to under 40", 1), ("40 to under 60", 2), ("80 to under 100", 1), ("160 to under 180", 1),
        ])  # fmt: skip
        self.assertEqual((found.everyone, found.blank, found.replaces), (8, 2, False))
        self.assertEqual([(one.name, one.shown) for one in found.largest], [("P5", "160"), ("P4", "80"), ("P7", "50")])
        self.assertEqual([one.name for one in found.smallest], ["P1", "P2", "P3"])

    def test_what_is_missing_is_ranked(self) -> None:
        found = self.effect("plot_length * plot_width")
        self.assertEqual(found.blank, 3)
        self.assertEqual(
            [(one.field.label, one.people) for one in found.missing], [("Plot length", 2), ("Plot width", 2)]
        )

    def test_over_another_derived_field_the_answers_are_named(self) -> None:
        self.derive("Area", "plot_length * plot_width")
        self.assertEqual([one.field.label for one in self.effect("area + 1").missing], ["Plot length", "Plot width"])

    def test_a_changed_formula_against_every_single_person(self) -> None:
        field_id = self.derive("Beds", "plot_length")
        self.derive("Twice", "beds * 2")
        segment = create_segment(self.scope, "Many")
        change_segment(self.scope, segment, 1, SegmentInput(name="Many", expression="twice > 9"))
        was = count_segment(self.scope, segment)
        found = self.effect("if(plot_length > 4, 1, plot_length + 4)", "beds")
        old = dict(zip(self.people, self.lengths, strict=True))
        new = {one: None if length is None else 1 if length > 4 else length + 4 for one, length in old.items()}
        self.assertEqual(found.changed, sum(old[one] != new[one] for one in old))
        self.assertEqual((found.replaces, found.blank), (True, 2))
        (move,) = found.segments
        before, after = (
            {one for one, value in values.items() if value is not None and value * 2 > 9} for values in (old, new)
        )
        self.assertEqual(
            (move.before, move.after, move.came, move.left),
            (len(before), len(after), len(after - before), len(before - after)),
        )
        self.assertEqual(was, len(before))
        flows = Counter({(one.before, one.after): one.people for one in found.flows})
        self.assertEqual(sum(flows.values()) + found.within, found.changed)
        self.assertEqual(
            count_segment(self.scope, segment), was, "nothing is stored, and no count is mistaken for another"
        )
        change_derived(
            self.scope, field_id, DerivedInput(label="Beds", formula="if(plot_length > 4, 1, plot_length + 4)")
        )
        self.assertEqual(count_segment(self.scope, segment), move.after)

    def test_from_one_type_to_another(self) -> None:
        self.derive("Size", "plot_length")
        found = self.effect('if(plot_length > 4, "large", "small")', "size")
        self.assertEqual({bar.name: bar.people for bar in found.bars if bar.people}, {"small": 3, "large": 3})
        self.assertEqual((found.changed, found.within), (6, 0))

    def test_a_segment_that_would_not_fit_any_more(self) -> None:
        self.derive("Size", "plot_length")
        segment = create_segment(self.scope, "Large")
        change_segment(self.scope, segment, 1, SegmentInput(name="Large", expression="size > 4"))
        (move,) = self.effect('if(plot_length > 4, "large", "small")', "size").segments
        self.assertTrue(move.broken)

    def test_nothing_changes_where_it_comes_to_the_same(self) -> None:
        self.derive("Size", "plot_length")
        found = self.effect("plot_length * 2 / 2", "size")
        self.assertEqual((found.replaces, found.changed, found.flows), (True, 0, ()))

    def test_problems_and_what_only_python_can_do(self) -> None:
        self.assertIsNone(effect_of(self.scope, "no_such + 1"))
        self.derive("Size", "plot_length")
        self.assertIsNone(effect_of(self.scope, "size + 1", "size"), "a circle")
        found = effect_of(self.scope, "payment(0.01, plot_length, 100)")
        self.assertTrue(found is not None and (found.failure or found.everyone))
        clerk = self.house.scope
        with self.assertRaises(NotAllowed):
            effect_of(replace(clerk, role="clerk"), "plot_length")

    def test_tried_on_whom_one_likes_as_if(self) -> None:
        before = read_profile(self.scope, self.people[2]).history
        one = preview_formula(self.scope, "plot_length * 2", tried_on=TriedOn("P3", "plot_length = 9"))
        self.assertEqual(
            [(sample.name, sample.worked, sample.shown) for sample in one.samples], [("P3", "9 * 2", "18")]
        )
        self.assertEqual(read_profile(self.scope, self.people[2]).history, before, "nothing was stored")
        for wrong, said in (
            ("no_such = 3", "names no field"),
            ("plot_length = long", "Plot length"),
            ("plot_length", "names no field"),
        ):
            self.assertIn(said, preview_formula(self.scope, "plot_length * 2", tried_on=TriedOn("", wrong)).said)
        self.assertIn("Nobody is found", preview_formula(self.scope, "plot_length * 2", tried_on=TriedOn("zzz")).said)

    def test_nobody_yet(self) -> None:
        found = effect_of(make_house().scope, "plot_length * 2")
        assert found is not None
        self.assertEqual((found.bars, found.everyone, found.failure), ((), 0, ""))

    def test_it_stores_nothing(self) -> None:
        self.derive("Size", "plot_length")
        before = read_catalogue(self.scope).version, read_profile(self.scope, self.people[0]).history
        self.effect("plot_length + 1", "size")
        self.assertEqual((read_catalogue(self.scope).version, read_profile(self.scope, self.people[0]).history), before)
        self.assertEqual(len(list_people(self.scope).lines), 8)


if __name__ == "__main__":
    unittest.main()
