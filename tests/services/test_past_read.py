"""Segments, derived fields, messages and forms that read what somebody's values were in the past."""

import unittest
from dataclasses import replace
from datetime import timedelta
from decimal import Decimal

from finesieve.core.forms.rows import FormRow
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.memberships import set_tags
from finesieve.services.define.options import OptionInput, change_options
from finesieve.services.filling.situation import person_situation
from finesieve.services.people.messages import fill_message
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.sift.over_time import over_time
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment, read_segment
from finesieve.services.sift.why import segments_of_person
from finesieve.services.values.past import histories_of
from finesieve.services.values.steps import open_then, open_value
from finesieve.services.values.writing import change_many
from finesieve.store.reading.rows import stored_row
from tests.support.house import NOW, make_house


class PastRead(unittest.TestCase):
    """Wren moved from Hill to North ten days ago; Maud has always been in North; Ash has said nothing."""

    def setUp(self) -> None:
        self.house = make_house()
        self.now = NOW - timedelta(days=30)
        self.scope = replace(self.house.scope, clock=lambda: self.now)
        self.house = replace(self.house, scope=self.scope)
        self.wren = self.house.add(zone="hill", plot_length=Decimal(4))
        self.maud = self.house.add(zone="north", plot_length=Decimal(6))
        self.ash = self.house.add()
        self.now = NOW - timedelta(days=10)
        set_values(self.scope, self.wren, {"zone": "north"})
        self.now = NOW

    def passing(self, expression: str) -> set[int]:
        segment = create_segment(self.scope, "Looked back")
        change_segment(self.scope, segment, 1, SegmentInput(name="Looked back", expression=expression))
        view = read_segment(self.scope, segment)
        assert view.people is not None, (view.failure, view.problems)
        found = {one.id for one in view.people.lines}
        verdicts = {
            person: one.verdict
            for person in (self.wren, self.maud, self.ash)
            for one in segments_of_person(self.scope, person)
            if one.segment_id == segment
        }
        self.assertEqual(found, {person for person, verdict in verdicts.items() if verdict == "passes"})
        return found

    def test_conditions(self) -> None:
        """One person at a time and all at once, the same."""
        ten_days_ago = (NOW - timedelta(days=10)).date()
        for expression, expected in (
            ('ever_held(zone, "hill")', {self.wren}),
            ('not ever_held(zone, "hill")', {self.maud, self.ash}),
            ("last_change(zone) between add_days(today(), -14) and today()", {self.wren}),
            ("last_change(zone) is blank", {self.ash}),
            (f'value_on(zone, "{ten_days_ago}") = "hill"', {self.wren}),
            (f'value_on(zone, add_days("{ten_days_ago}", 1)) = zone', {self.wren, self.maud}),
            ("value_on(plot_length, add_days(today(), -31)) is blank", {self.wren, self.maud, self.ash}),
        ):
            with self.subTest(expression):
                self.assertEqual(self.passing(expression), expected)

    def test_tags_once_held(self) -> None:
        set_tags(self.scope, self.maud, "helper")
        set_tags(self.scope, self.maud, "")
        self.assertEqual(self.passing('ever_held(tags, "helper")'), {self.maud})

    def test_who_came_in(self) -> None:
        """Over time a condition about the past is told by what was known on the day."""
        segment = create_segment(self.scope, "Moved")
        change_segment(
            self.scope, segment, 1, SegmentInput(name="Moved", expression='zone = "north" and ever_held(zone, "hill")')
        )
        found = over_time(self.scope, segment, (NOW - timedelta(days=20)).date())
        self.assertEqual([(one.person_id, one.what) for one in found.came], [(self.wren, "Zone")])

    def test_a_derived_field_follows_at_once(self) -> None:
        """Its history says the new value with the change it came from, one by one and in bulk; new people too."""
        create_derived(self.scope, DerivedInput(label="Was on the hill", formula='ever_held(zone, "hill")'))
        create_derived(self.scope, DerivedInput(label="Moved on", formula="date(last_change(zone))"))
        set_values(self.scope, self.maud, {"zone": "hill"})
        with self.scope.transaction("editor") as unit:
            change_many(unit, "person", {self.ash: {"zone": "hill"}}, "bulk: test")
        new = self.house.add(zone="hill")
        for person, before in ((self.maud, "no"), (self.ash, "no"), (new, "")):
            with self.subTest(person):
                told = {one.key: (one.old, one.new) for one in reversed(read_profile(self.scope, person).history)}
                self.assertEqual(told["was_on_the_hill"], (before, "yes"))
                self.assertEqual(told["moved_on"][1], "25 Nov 2026")

    def test_then_and_now(self) -> None:
        """As it was on a day, a derived value knows nothing of what came later."""
        create_derived(self.scope, DerivedInput(label="Was in the north", formula='ever_held(zone, "north")'))
        found = open_then(self.scope, self.wren, "was_in_the_north", (NOW - timedelta(days=20)).date())
        assert found is not None
        self.assertEqual(
            (found.opened.shown, open_value(self.scope, self.wren, "was_in_the_north").shown), ("no", "yes")
        )

    def test_in_a_message(self) -> None:
        """What was, and what derived values make of it, is told; so are records, which stood as none before."""
        create_derived(self.scope, DerivedInput(label="Zone in autumn", formula='value_on(zone, "2026-11-01")'))
        text = '{label(value_on(zone, "2026-11-01")) else "nowhere"}, {label(zone_in_autumn)}, {last_change(favourite) else now()}'
        with self.scope.transaction("editor") as unit:
            stored = stored_row(unit.session, unit.definitions, "person", self.wren) or {}
            said = fill_message(unit, text, self.wren, stored)
        self.assertTrue(said.startswith("Hill, Hill, "), said)

    def test_not_in_the_rules_of_forms(self) -> None:
        """A derived field that looks back is read there all the same, of whom it is known."""
        create_derived(self.scope, DerivedInput(label="Was on the hill", formula='ever_held(zone, "hill")'))
        with self.scope.reading("reader") as unit:
            lines = histories_of(unit, self.wren)["zone"]
            for person, expected in ((self.wren, True), (self.maud, False)):
                row = FormRow(person_situation(unit, person, {}, None), unit.catalogue.derivation, unit.moment, {})
                self.assertIs(row.get("was_on_the_hill"), expected)
        self.assertEqual(
            [(one.value, sorted(one.held)) for one in lines], [("hill", ["hill"]), ("north", ["hill", "north"])]
        )

    def test_an_option_renamed(self) -> None:
        """It is renamed where the past is asked for it, and found by what it is called now."""
        segment = create_segment(self.scope, "Hill once")
        change_segment(self.scope, segment, 1, SegmentInput(name="Hill once", expression='ever_held(zone, "hill")'))
        zone = read_catalogue(self.scope).by_key["zone"]
        rows = [
            OptionInput(
                was=one.stored_value, label=one.label, value={"hill": "moor"}.get(one.stored_value, one.stored_value)
            )
            for one in zone.options
        ]
        change_options(self.scope, zone.id, rows)
        view = read_segment(self.scope, segment)
        self.assertEqual(
            (view.expression, [one.id for one in view.people.lines]), ('ever_held(zone, "moor")', [self.wren])
        )  # type: ignore[union-attr]
        self.assertEqual(self.passing('value_on(zone, "2026-11-01") = "moor"'), {self.wren})
