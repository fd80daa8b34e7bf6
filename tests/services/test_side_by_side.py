"""Segments side by side: the regions of their overlap, what the people of one are like; held against Python."""

import unittest
from collections import Counter
from dataclasses import replace
from decimal import Decimal
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.sieve.overlap import condition_of, in_order, regions_of
from finesieve.core.sieve.steps import group_start, round_step
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, change_group, read_catalogue
from finesieve.services.people.profiles import set_values
from finesieve.services.sift.breakdown import break_down
from finesieve.services.sift.over_time import over_time
from finesieve.services.sift.overlap import overlap_of, region_people, save_region
from finesieve.services.sift.segments import SegmentInput, change_segment, count_segment, create_segment, read_segment
from finesieve.services.sift.versions import Strand
from tests.support.house import House, make_house

CONDITIONS = ('zone = "north"', "plot_length > 5", "swaps_seed", "")


class Steps(unittest.TestCase):
    @given(st.decimals(-(10**6), 10**6, places=3), st.decimals(-(10**6), 10**6, places=3), st.integers(3, 20))
    def test_a_range_comes_in_so_many_groups(self, one: Decimal, other: Decimal, most: int) -> None:
        low, high = sorted((one, other))
        step = round_step(low, high, most)
        groups = (group_start(high, step) - group_start(low, step)) / step + 1
        self.assertLessEqual(groups, most)
        self.assertIn(step.normalize().as_tuple().digits, ((1,), (2,), (5,)))

    def test_regions_lie_beside_their_nearest(self) -> None:
        sizes = {(True, False, False): 5, (True, True, False): 4, (False, True, False): 3, (False, True, True): 2}
        self.assertEqual(list(in_order(sizes, sizes)), list(sizes))


class SideBySide(unittest.TestCase):
    house: House

    @classmethod
    def setUpClass(cls) -> None:
        cls.house = make_house()
        cls.people: dict[int, tuple[Any, Any, Any]] = {}
        for zone in ("north", "hill", None):
            for length in (2, 10, None):
                for swaps in (True, False, None):
                    person = cls.house.add(
                        zone=zone, plot_length=None if length is None else Decimal(length), swaps_seed=swaps
                    )
                    cls.people[person] = (zone, length, swaps)
        cls.ids = []
        for number, condition in enumerate(CONDITIONS):
            cls.ids.append(Strand(create_segment(cls.house.scope, f"S{number}")))
            if condition:
                asked = SegmentInput(name=f"S{number}", expression=condition)
                change_segment(cls.house.scope, cls.ids[-1].segment_id, 1, asked)

    def setUp(self) -> None:
        self.scope = self.house.scope

    def by_hand(self, places: list[int]) -> Counter[tuple[bool, ...]]:
        found: Counter[tuple[bool, ...]] = Counter()
        for zone, length, swaps in self.people.values():
            told = (zone == "north", length is not None and length > 5, swaps is True, True)
            found[tuple(told[place] for place in places)] += 1
        return found

    def test_every_region_is_that_of_python(self) -> None:
        for places in ([0, 1], [0, 1, 2], [2, 0], [0, 1, 2, 3], [1, 3]):
            found = overlap_of(self.scope, [self.ids[place] for place in places])
            by_hand = self.by_hand(places)
            self.assertEqual(
                {one.region: one.people for one in found.regions}, {key: n for key, n in by_hand.items() if any(key)}
            )
            self.assertEqual(found.outside, by_hand.get((False,) * len(places), 0))
            for place, segment in enumerate(places):
                self.assertEqual(found.size(place), count_segment(self.scope, self.ids[segment].segment_id))
            self.assertEqual(found.union + found.outside, len(self.people))

    def test_each_region_is_listed_and_saved(self) -> None:
        ids = self.ids[:3]
        for one in overlap_of(self.scope, ids).regions:
            words, page = region_people(self.scope, ids, one.region)
            self.assertEqual(len(page.lines), one.people, words)
            saved = save_region(self.scope, ids, one.region, words[:120])
            view = read_segment(self.scope, saved)
            self.assertEqual((view.passing, view.problems), (one.people, ()), view.expression)

    def test_two_versions_of_one(self) -> None:
        house = make_house()
        ids = [house.add(plot_length=Decimal(length)) for length in (2, 5, 9)]
        segment = create_segment(house.scope, "Long")
        for revision, condition in enumerate(("plot_length > 3", "plot_length > 7", "plot_length < 7"), 1):
            change_segment(house.scope, segment, revision, SegmentInput(name="Long", expression=condition))
        versions = over_time(house.scope, segment).versions
        self.assertEqual([one.expression for one in versions], ["plot_length > 7", "plot_length > 3"])
        self.assertEqual({one.by for one in versions}, {"Maud Ellery"})
        chosen = [Strand(segment), Strand(segment, versions[1].change_id)]
        found = overlap_of(house.scope, chosen)
        self.assertEqual([name for _, name in found.segments], ["Long", "Long until 25 Nov 2026, 10:30"])
        self.assertEqual(
            {one.region: one.people for one in found.regions}, {(True, False): 1, (True, True): 1, (False, True): 1}
        )
        words, page = region_people(house.scope, chosen, (False, True))
        self.assertEqual(
            (words, [line.id for line in page.lines]), ("only Long until 25 Nov 2026, 10:30, not Long", ids[2:])
        )
        kept = save_region(house.scope, chosen, (True, True), "Both times")
        self.assertEqual(read_segment(house.scope, kept).expression, "plot_length < 7 and plot_length > 3")
        with self.assertRaises(NotFound):  # a change of another segment
            overlap_of(house.scope, [Strand(segment), Strand(kept, versions[0].change_id)])
        group = next(one for one in read_catalogue(house.scope).groups if one.id == house.group_id())
        change_group(house.scope, group.id, GroupInput(name=group.name, seen_by="editors"))
        clerk = replace(house.scope, role="clerk")
        self.assertIn("not shown to you", overlap_of(clerk, chosen).failure)
        self.assertEqual([(one.expression, one.shown) for one in over_time(clerk, segment).versions], [("", False)] * 2)

    def test_words(self) -> None:
        words = {one.region: one.words for one in overlap_of(self.scope, self.ids[:3]).regions}
        self.assertEqual(words[True, False, False], "only S0, not S1 nor S2")
        self.assertEqual(words[True, True, False], "S0 and S1, not S2")
        self.assertEqual(words[True, True, True], "all of S0, S1 and S2")

    def test_what_cannot_be(self) -> None:
        for ids in (
            [self.ids[0]],
            [self.ids[0], Strand(self.ids[0].segment_id + 90)],
            [self.ids[0], replace(self.ids[0], until_change=9)],
            self.ids[:1] * 2,
        ):
            with self.assertRaises((InvalidInput, NotFound)):
                overlap_of(self.scope, ids)
        with self.assertRaises(NotFound):
            region_people(self.scope, self.ids[:2], (True, False, True))
        for ids, region in ((self.ids[:2], (False, False)), ([self.ids[3], self.ids[0]], (False, True))):
            with self.assertRaises(NotFound):
                save_region(self.scope, ids, region, "Nobody")
        other = make_house()
        with self.assertRaises(NotFound):
            overlap_of(other.scope, self.ids[:2])

    def test_the_groups_of_a_choice(self) -> None:
        field = next(one.id for one in read_catalogue(self.scope).fields if one.key == "zone")
        found, _ = break_down(self.scope, self.ids[1].segment_id, field)
        self.assertEqual(
            [(one.name, one.inside, one.everyone) for one in found.lines],
            [("North", 3, 9), ("Hill", 3, 9), ("blank", 3, 9)],
        )
        self.assertEqual((found.people, found.everyone), (9, 27))

    def test_figures_come_in_round_groups(self) -> None:
        field = next(one.id for one in read_catalogue(self.scope).fields if one.key == "plot_length")
        found, _ = break_down(self.scope, self.ids[0].segment_id, field)
        self.assertEqual(
            [(one.name, one.inside) for one in found.lines],
            [("2 to under 3 m", 3), ("10 to under 11 m", 3), ("blank", 3)],
        )
        self.assertEqual(sum(one.inside for one in found.lines), found.people)

    def test_two_fields_crossed_add_up(self) -> None:
        fields = {one.key: one.id for one in read_catalogue(self.scope).fields}
        _, crossed = break_down(self.scope, self.ids[3].segment_id, fields["zone"], fields["swaps_seed"])
        assert crossed is not None
        self.assertEqual((crossed.rows, crossed.columns), (("North", "Hill", "blank"), ("yes", "no", "blank")))
        self.assertEqual(crossed.cells, ((3, 3, 3),) * 3)

    def test_a_text_and_several_choices(self) -> None:
        house = make_house()
        group = house.group_id()
        create_field(house.scope, group, FieldInput(label="Crops", type_key="choices", options="Beans\nPeas\nLeeks"))
        one, other, _ = (house.add() for _ in range(3))
        set_values(house.scope, one, {"crops": "beans\npeas"})
        set_values(house.scope, other, {"crops": "peas"})
        segment = create_segment(house.scope, "All")
        field = next(one.id for one in read_catalogue(house.scope).fields if one.key == "crops")
        found, _ = break_down(house.scope, segment, field)
        self.assertEqual([(line.name, line.inside) for line in found.lines], [("Beans", 1), ("Peas", 2), ("blank", 1)])
        self.assertTrue(found.several)

    def test_what_is_not_seen_is_not_told(self) -> None:
        house = make_house()
        house.add(zone="north")
        catalogue = read_catalogue(house.scope)
        field = next(one for one in catalogue.fields if one.key == "zone")
        segment = create_segment(house.scope, "North")
        change_segment(house.scope, segment, 1, SegmentInput(name="North", expression='zone = "north"'))
        other = create_segment(house.scope, "All")
        group = next(one for one in catalogue.groups if one.id == field.group_id)
        change_group(house.scope, group.id, GroupInput(name=group.name, seen_by="editors"))
        clerk = replace(house.scope, role="clerk")
        with self.assertRaises(NotFound):
            break_down(clerk, other, field.id)
        self.assertIn("not shown to you", overlap_of(clerk, [Strand(segment), Strand(other)]).failure)


class Conditions(unittest.TestCase):
    @given(st.lists(st.sampled_from(CONDITIONS), min_size=2, max_size=4), st.data())
    @settings(suppress_health_check=[HealthCheck.too_slow])
    def test_a_region_says_all_of_its_segments(self, expressions: list[str], data: Any) -> None:
        region = tuple(data.draw(st.booleans()) for _ in expressions)
        text = condition_of(expressions, region)
        for expression, is_in in zip(expressions, region, strict=True):
            if not is_in:
                self.assertIn(f"not (({expression}) else false)", text)

    def test_unknown_is_not_in(self) -> None:
        self.assertEqual(
            regions_of({(True, None): 3, (True, False): 2, (None, None): 4}), {(True, False): 5, (False, False): 4}
        )


if __name__ == "__main__":
    unittest.main()
