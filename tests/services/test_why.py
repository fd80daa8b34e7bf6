"""Why a person is in a segment or out of it."""

import unittest
from decimal import Decimal

from finesieve.core.language.sentence import Clause
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment, tray_people
from finesieve.services.sift.why import segments_of_person
from tests.support.house import make_house


class Why(unittest.TestCase):
    def test_the_condition_that_decided(self) -> None:
        """The first that is not true, as the sieve would have it; with the person's own values."""
        house = make_house()
        scope = house.scope
        hidden = create_group(scope, GroupInput(name="Money", about="person", seen_by="editors"))
        create_field(scope, hidden, FieldInput(label="Debt", type_key="number"))
        for name, expression in (
            ("Hill", 'zone = "hill" and plot_length > 4'), ("North", 'zone = "north" and plot_length > 4'),
            ("Long", "plot_width > 4 and plot_length > 4"), ("All", ""), ("Debtors", "debt > 0"), ("Broken", "zone ="),
        ):  # fmt: skip
            segment = create_segment(scope, name)
            if name != "Broken":
                change_segment(scope, segment, 1, SegmentInput(name=name, expression=expression))
        person = house.add(zone="hill", plot_length=Decimal(5))
        found = {one.name: one for one in segments_of_person(scope, person)}
        said = {name: one.verdict for name, one in found.items() if name != "Broken"}
        self.assertEqual(
            said, {"Hill": "passes", "North": "caught", "Long": "cant_tell", "All": "passes", "Debtors": "cant_tell"}
        )
        clause = found["North"].clause
        assert isinstance(clause, Clause)
        self.assertEqual((clause.key, clause.values, found["North"].worked), ("zone", ("north",), '"hill" = "north"'))
        self.assertNotIn("Debtors", [one.name for one in segments_of_person(house.as_role("reader"), person)])
        self.assertEqual(segments_of_person(scope, 999_999), ())
        for one in found.values():
            if one.verdict == "passes" and one.name == "Hill":
                people = tray_people(scope, one.segment_id, 1, "passes")
                self.assertIn(person, [line.id for line in people.lines])
