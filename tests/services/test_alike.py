"""Segments that are another one over again."""

import unittest
from decimal import Decimal

from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group
from finesieve.services.sift.alike import Alike, alike_of
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment
from tests.support.house import make_house


class AlikeSegments(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        for length, zone in ((2, "north"), (9, "north"), (9, "hill"), (None, "north")):
            self.house.add(plot_length=None if length is None else Decimal(length), zone=zone)
        self.large = self.made("Large in the north", 'plot_length > 5 and zone = "north"')

    def made(self, name: str, expression: str) -> int:
        segment = create_segment(self.scope, name)
        change_segment(self.scope, segment, 1, SegmentInput(name=name, expression=expression))
        return segment

    def test_the_same_condition_written_differently(self) -> None:
        other = self.made("Northern and large", 'not (zone != "north") and 5 < plot_length')
        self.assertEqual(alike_of(self.scope, self.large), (Alike(other, "Northern and large", True),))
        self.assertEqual(alike_of(self.scope, other), (Alike(self.large, "Large in the north", True),))

    def test_the_same_people_by_another_condition(self) -> None:
        """As many people are not the same people, and whoever is unknown to one is not in it."""
        other = self.made("Nine by nine", 'plot_length = 9 and zone in ("north", "south")')
        self.made("As many", 'plot_length = 9 and zone = "hill"')
        self.assertEqual(alike_of(self.scope, self.large), (Alike(other, "Nine by nine", False),))

    def test_nobody_is_no_likeness(self) -> None:
        """Two segments that nobody is in have nothing in common, nor do those still without a condition."""
        empty = self.made("Huge", "plot_length > 500")
        self.made("Tiny", "plot_length < 1")
        create_segment(self.scope, "In the making")
        everyone = create_segment(self.scope, "In the making too")
        for segment in (empty, everyone):
            self.assertEqual(alike_of(self.scope, segment), ())

    def test_a_reader_is_told_nothing_of_what_is_not_shown(self) -> None:
        """A segment over what only editors see is not compared for a reader, from neither side."""
        group = create_group(self.scope, GroupInput(name="Kept close", seen_by="editors"))
        create_field(self.scope, group, FieldInput(label="Debt", type_key="number"))
        one, other = self.made("One", "debt is blank"), self.made("Other", "not (debt is filled)")
        everybody = self.made("Everybody", "email is filled")
        reader = self.house.as_role("reader")
        self.assertEqual([alike_of(reader, segment) for segment in (one, other, everybody)], [(), (), ()])
        self.assertEqual([one.name for one in alike_of(self.scope, one)], ["Other", "Everybody"])


if __name__ == "__main__":
    unittest.main()
