"""Why a person is in a segment or out of it."""

import unittest
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal

from finesieve.core.errors import NotFound
from finesieve.core.language.sentence import Clause
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.memberships import set_tags
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.people.records import add_record, change_record
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment
from finesieve.services.sift.trays import tray_people
from finesieve.services.sift.why import segments_of_person
from finesieve.services.values.steps import StepLine, open_beside, open_then, open_value, way_to_difference
from finesieve.services.values.writing import add_person
from tests.support.gardens import Garden
from tests.support.house import NOW, make_house


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


class StepByStep(unittest.TestCase):
    """A derived value opened into its parts and records, and the true reason of a blank."""

    def setUp(self) -> None:
        self.garden = Garden()
        self.house, self.scope = self.garden.house, self.garden.scope
        for label, formula in (
            ("Area", "plot_length * plot_width"), ("Share", "area / (plot_width - 2)"), ("Sandy", 'sum(plots.size where soil = "sand")'),
        ):  # fmt: skip
            create_derived(self.scope, DerivedInput(label=label, formula=formula))

    def test_derived_on_derived_and_records(self) -> None:
        person = self.house.add(plot_length=Decimal(6), plot_width=Decimal(3))
        link = read_catalogue(self.scope).record_types[0].main_link
        for soil, size in (("sand", "4"), ("clay", "9")):
            add_record(self.scope, self.garden.type, {"soil": soil, "size": size}, {link.id: [person]})  # type: ignore[union-attr]
        share = open_value(self.scope, person, "share")
        self.assertEqual((share.shown, share.reason), ("18", ""))
        area = share.root.parts[0]
        self.assertEqual((area.label, area.formula, area.shown), ("Area", "plot_length * plot_width", "18"))
        self.assertEqual([part.shown for part in area.parts], ["6 m", "3 m"])
        members = open_value(self.scope, person, "sandy").root.members
        self.assertEqual([(one.counts, one.shown) for one in members], [(True, "4 m"), (False, "9 m")])

    def test_beside_somebody_else(self) -> None:
        """The first part in which they differ, into the derived value that it rests on; nobody beside oneself."""
        wren = self.house.add(
            first_name="Wren", email="wren@hedgerow.example", plot_length=Decimal(6), plot_width=Decimal(3)
        )
        self.house.add(
            first_name="Finch", email="finch@hedgerow.example", plot_length=Decimal(8), plot_width=Decimal(3)
        )
        twin = self.house.add(
            first_name="Jay", email="jay@hedgerow.example", plot_length=Decimal(6), plot_width=Decimal(3)
        )
        finch = open_beside(self.scope, wren, "share", "finch")
        assert finch is not None
        self.assertEqual((finch.opened.person, finch.opened.shown, finch.way), ("Finch", "24", (0, 0)))
        jay = open_beside(self.scope, wren, "share", "jay")
        assert jay is not None
        self.assertEqual((jay.person_id, jay.way), (twin, None))
        self.assertEqual(open_beside(self.scope, wren, "share", twin), jay)
        self.assertIsNone(open_beside(self.scope, wren, "share", "wren@hedgerow.example"))
        self.assertIsNone(open_beside(self.scope, wren, "share", wren))
        with self.assertRaises(NotFound):
            open_beside(self.scope, wren, "gone", "jay")
        with self.assertRaises(NotFound):
            open_beside(self.scope, wren, "share", 999_999)

    def test_beside_what_it_was(self) -> None:
        """As it was when a day began, tags and the clock of that day included; nobody is told of before they came."""
        now = [NOW - timedelta(days=30)]
        scope = replace(self.scope, clock=lambda: now[0])
        formula = 'plot_length * 2 + if(tags holds "early", 100, 0) + days_between(date("2026-11-01"), today())'
        create_derived(scope, DerivedInput(label="Score", formula=formula))
        with scope.transaction("editor") as unit:
            person = add_person(unit, {"email": "wren@hedgerow.example", "plot_length": Decimal(6)}, "form: test")
        now[0] = NOW - timedelta(days=20)
        set_values(scope, person, {"plot_length": "9"})
        set_tags(scope, person, "early")
        now[0] = NOW
        today = NOW.date()
        self.assertEqual(open_value(scope, person, "score").shown, "142")
        for days, shown, first in ((10, "132", 1), (20, "16", 0), (29, "7", 0)):
            found = open_then(scope, person, "score", today - timedelta(days=days))
            assert found is not None
            self.assertEqual((found.opened.shown, found.way and found.way[0]), (shown, first), days)
        for day in (today - timedelta(days=30), date.min):
            self.assertIsNone(open_then(scope, person, "score", day))
        later = open_then(scope, person, "score", date.max)
        assert later is not None
        self.assertEqual((later.opened.shown, later.way), ("142", None))

    def test_what_decided_differs_first(self) -> None:
        """Down to the value that turns the first condition; where nothing inside differs, it is the part itself."""
        formula = 'if(plot_length > 5, "large", plot_width > 1, "wide", "small")'
        create_derived(self.scope, DerivedInput(label="Kind", formula=formula))
        large = self.house.add(first_name="Wren", plot_length=Decimal(6), plot_width=Decimal(3))
        self.house.add(email="finch@hedgerow.example", plot_length=Decimal(2), plot_width=Decimal(1))
        found = open_beside(self.scope, large, "kind", "finch@hedgerow.example")
        assert found is not None
        self.assertEqual((found.opened.shown, found.way), ("small", (0, 0)))
        leaf, idle = StepLine("a", "1", True), StepLine("b", "2", False)
        one = StepLine("f", "1", True, parts=(idle, leaf))
        other = StepLine("f", "2", True, parts=(replace(idle, shown="3"), replace(leaf, shown="2")))
        self.assertEqual(way_to_difference(one, other), (1,))
        self.assertEqual(way_to_difference(leaf, replace(leaf, shown="2")), ())

    def test_reasons_of_blanks(self) -> None:
        blank = self.house.add(plot_width=Decimal(2))
        reasons = read_profile(self.scope, blank).reasons
        self.assertEqual(reasons, {"area": "no plot length", "share": "no area"})
        zero = self.house.add(plot_length=Decimal(1), plot_width=Decimal(2))
        self.assertEqual(open_value(self.scope, zero, "share").reason, "division by zero in area / (plot_width - 2)")

    def test_what_may_not_be_seen_is_not_opened(self) -> None:
        money = create_group(self.scope, GroupInput(name="Money", about="person", seen_by="editors"))
        create_field(self.scope, money, FieldInput(label="Debt", type_key="number"))
        create_derived(self.scope, DerivedInput(label="Doubled", formula="debt * 2 + 1"))
        person = self.house.add(debt=Decimal(21))
        reader = self.house.as_role("reader")
        self.assertEqual(open_value(self.scope, person, "doubled").shown, "43")
        self.assertNotIn("doubled", read_profile(reader, self.house.add()).reasons)
        for key in ("plot_length", "debt", "doubled", "gone"):
            with self.assertRaises(NotFound):
                open_value(reader, person, key)

    def test_the_history_of_a_person_knows_their_records(self) -> None:
        """In the words of the page, what is hidden left out; the history of one field is that field's alone."""
        person = self.house.add(favourite="Kale")
        link = read_catalogue(self.scope).record_types[0].main_link
        record = add_record(self.scope, self.garden.type, {"name": "A1", "size": "4"}, {link.id: [person]})  # type: ignore[union-attr]
        change_record(self.scope, self.garden.type, record, {"size": "5"})
        lines = read_profile(self.scope, person).history
        self.assertEqual((lines[0].label, lines[0].old, lines[0].new), ("Plot A1: Size", "4 m", "5 m"))
        self.assertFalse(lines[0].returnable)
        self.assertEqual({line.key for line in read_profile(self.scope, person, "favourite").history}, {"favourite"})
