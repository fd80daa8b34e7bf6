"""A segment over time: who came in and who left, held against what it was on that day; sizes noted and drawn."""

import random
import unittest
from dataclasses import replace
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from finesieve.core.errors import NotFound
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.memberships import set_tags
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.people.profiles import set_values
from finesieve.services.people.records import add_record
from finesieve.services.sift.over_time import Beside, DaySize, OverTime, note_sizes, over_time, past_sizes, sizes_beside
from finesieve.services.sift.segments import (
    SegmentInput,
    change_segment,
    create_segment,
    read_segment,
)
from finesieve.services.sift.trays import tray_people
from finesieve.services.values.writing import add_person
from tests.support.house import NOW, make_house

TODAY = NOW.date()


class Moving(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.now = NOW - timedelta(days=30)
        self.scope = replace(self.house.scope, clock=lambda: self.now)
        self.segment = create_segment(self.scope, "Large plots")
        self.condition('plot_length > 5 and zone = "north"')

    def condition(self, expression: str) -> None:
        revision = read_segment(self.scope, self.segment).revision
        change_segment(self.scope, self.segment, revision, SegmentInput(name="Large plots", expression=expression))

    def add(self, **values: Any) -> int:
        """Somebody new, by a form, so that the history begins with them."""
        with self.scope.transaction("editor") as unit:
            return add_person(unit, values, "form: test")

    def members(self) -> set[int]:
        view = read_segment(self.scope, self.segment)
        return {
            one.id for one in tray_people(self.scope, self.segment, len(view.meshes) - 1, "passes", limit=500).lines
        }

    def on(self, days: int) -> None:
        self.now = NOW - timedelta(days=days)

    def told(self, days: int) -> OverTime:
        self.now = NOW
        found = over_time(self.scope, self.segment, TODAY - timedelta(days=days))
        self.assertEqual(found.failure, "")
        return found

    def test_who_came_and_left_and_by_which_change(self) -> None:
        wren = self.add(email="wren@hedgerow.example", first_name="Wren", zone="north", plot_length=Decimal(2))
        finch = self.add(email="finch@hedgerow.example", first_name="Finch", zone="north", plot_length=Decimal(9))
        jay = self.add(email="jay@hedgerow.example", first_name="Jay", zone="hill", plot_length=Decimal(9))
        self.on(10)
        set_values(self.scope, wren, {"plot_length": "8"})
        set_values(self.scope, jay, {"zone": "north"})
        self.on(5)
        set_values(self.scope, finch, {"zone": "hill"})
        set_values(self.scope, jay, {"zone": "hill"})
        self.on(2)
        self.add(email="rook@hedgerow.example", first_name="Rook", zone="north", plot_length=Decimal(7))
        found = self.told(20)
        self.assertEqual([one.name for one in found.came], ["Rook", "Wren"])
        self.assertEqual(
            [(one.name, one.what, one.before, one.after) for one in found.left], [("Finch", "Zone", "North", "Hill")]
        )
        wrens = found.came[1]
        self.assertEqual((wrens.what, wrens.before, wrens.after, wrens.source), ("Plot length", "2 m", "8 m", "staff"))
        self.assertEqual([one.name for one in self.told(3).came], ["Rook"])
        self.assertEqual((self.told(1).came, self.told(1).left), ((), ()))

    def test_against_what_it_was_on_every_day(self) -> None:
        """Came in and left are the differences of the sets, after random changes over a month."""
        dice = random.Random(1848)
        derived = create_derived(self.scope, DerivedInput(label="Area", formula="plot_length * plot_width"))
        self.assertTrue(derived)
        self.condition('area > 12 and (zone in ("north", "hill") or swaps_seed) and not (tags holds "trade")')
        people = [self.add(email=f"p{n}@hedgerow.example", plot_length=Decimal(n)) for n in range(12)]
        was: dict[int, set[int]] = {}
        for days in range(29, -1, -1):
            self.on(days)
            was[days] = self.members()
            for _ in range(4):
                one = dice.choice(people)
                key, value = dice.choice([
                    ("plot_length", str(dice.randrange(1, 9))), ("plot_width", str(dice.randrange(1, 6))), ("plot_width", ""),
                    ("zone", dice.choice(["north", "hill", "south", ""])), ("swaps_seed", dice.choice(["yes", "no", ""])),
                ])  # fmt: skip
                set_values(self.scope, one, {key: value})
            if days % 3 == 0:
                set_tags(self.scope, dice.choice(people), dice.choice(("trade", "")))
            if days % 7 == 0:
                people.append(
                    self.add(
                        email=f"q{days}@hedgerow.example", plot_length=Decimal(6), plot_width=Decimal(4), zone="hill"
                    )
                )
        self.now = NOW
        now = self.members()
        for days in (1, 3, 8, 15, 29):
            # What was at the beginning of that day is what was before its changes, which come at noon.
            found = self.told(days)
            self.assertEqual({one.person_id for one in found.came}, now - was[days], days)
            self.assertEqual({one.person_id for one in found.left}, was[days] - now, days)
        past_sizes(self.scope, 30)
        sizes = {one.day: one.people for one in self.told(1).sizes}
        for days in range(1, 29):
            self.assertEqual(sizes[TODAY - timedelta(days=days)], len(was[days - 1]), days)

    def test_a_changed_condition_is_told_apart(self) -> None:
        self.add(email="wren@hedgerow.example", zone="north", plot_length=Decimal(9))
        self.add(email="finch@hedgerow.example", zone="hill", plot_length=Decimal(9))
        self.on(4)
        self.condition("plot_length > 5")
        found = self.told(10)
        assert found.by_definition is not None
        self.assertEqual((found.by_definition.came, found.by_definition.left), (1, 0))
        self.assertIsNone(self.told(2).by_definition)

    def test_time_alone(self) -> None:
        create_field(self.scope, self.house.group_id(), FieldInput(label="Born on", key="born_on", type_key="date"))
        self.condition("age(born_on) >= 18")
        self.add(email="wren@hedgerow.example", born_on=date(TODAY.year - 18, TODAY.month, TODAY.day))
        found = self.told(10)
        assert found.by_time is not None
        self.assertEqual((found.by_time.came, found.by_time.left, found.came), (1, 0, ()))

    def test_records(self) -> None:
        plots = create_record_type(self.scope, RecordTypeInput(singular="Plot", plural="Plots", symbol="▦"))
        catalogue = read_catalogue(self.scope)
        group = next(one.id for one in catalogue.all_groups if one.about == f"record:{plots}")
        create_field(self.scope, group, FieldInput(label="Size", key="size", type_key="number"))
        create_derived(self.scope, DerivedInput(label="Land", formula="sum(plots.size)"))
        link = read_catalogue(self.scope).record_types_by_id[plots].links[0].id
        wren = self.add(email="wren@hedgerow.example")
        self.condition("land > 5")
        self.on(3)
        add_record(self.scope, plots, {"size": "9"}, {link: [wren]})
        found = self.told(10)
        self.assertEqual([(one.person_id, one.what, one.after) for one in found.came], [(wren, "Land", "9")])
        self.assertFalse(found.partly)
        self.now = NOW
        self.condition("any(plots where size > 5)")
        self.assertTrue(self.told(10).partly)

    def test_sizes_are_noted_once_a_day_and_late(self) -> None:
        self.add(email="wren@hedgerow.example", zone="north", plot_length=Decimal(9))
        self.now = datetime(2026, 11, 20, 12, 50, tzinfo=NOW.tzinfo)
        self.assertEqual(note_sizes(self.scope, late=True), 0)
        self.now = datetime(2026, 11, 20, 23, 50, tzinfo=NOW.tzinfo)
        self.assertEqual((note_sizes(self.scope, late=True), note_sizes(self.scope, late=True)), (1, 1))
        found = self.told(1)
        self.assertEqual([(one.day, one.people) for one in found.sizes], [(date(2026, 11, 20), 1), (TODAY, 1)])

    def test_another_segment_beside_it(self) -> None:
        """Its own sizes of the same days; none where its condition is not shown."""
        self.add(email="wren@hedgerow.example", zone="north", plot_length=Decimal(9))
        other = create_segment(self.scope, "Everybody")
        self.now = datetime(2026, 11, 20, 23, 50, tzinfo=NOW.tzinfo)
        note_sizes(self.scope, late=True)
        self.now = NOW
        self.add(email="finch@hedgerow.example", zone="hill", plot_length=Decimal(9))
        found = sizes_beside(self.scope, other)
        self.assertEqual(found, Beside(other, "Everybody", (DaySize(date(2026, 11, 20), 1), DaySize(TODAY, 2))))
        group = create_group(self.scope, GroupInput(name="Kept close", seen_by="editors"))
        create_field(self.scope, group, FieldInput(label="Debt", type_key="number"))
        change_segment(self.scope, other, 1, SegmentInput(name="Everybody", expression="debt is blank"))
        self.assertEqual(sizes_beside(self.house.as_role("reader"), other), Beside(other, "Everybody"))
        with self.assertRaises(NotFound):
            sizes_beside(make_house().scope, other)

    def test_what_cannot_be_told(self) -> None:
        with self.assertRaises(NotFound):
            over_time(self.scope, self.segment + 99)
        other = make_house()
        with self.assertRaises(NotFound):
            over_time(other.scope, self.segment)
        self.now = NOW
        far = over_time(self.scope, self.segment, date(1800, 1, 1))
        self.assertGreater(far.since.year, 2000)
        self.assertEqual(over_time(self.scope, self.segment, date(2999, 1, 1)).since, TODAY)


if __name__ == "__main__":
    unittest.main()
