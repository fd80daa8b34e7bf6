"""Rehearsal, cases, the grid, and publishing with what the cases say."""

import unittest
from decimal import Decimal

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.memberships import MembershipInput, create_membership
from finesieve.services.forms.cases import accept_case, keep_case, list_cases, read_case, remove_case
from finesieve.services.forms.composing import SectionInput, change_section
from finesieve.services.forms.grid import make_grid
from finesieve.services.forms.publishing import proof_of, publish
from finesieve.services.forms.rehearsing import Circumstances, rehearse
from finesieve.services.people.listing import list_people
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment
from tests.support.gardens import Garden


class Rehearsing(unittest.TestCase):
    def setUp(self) -> None:
        self.garden = Garden()
        self.scope, self.form = self.garden.scope, self.garden.form
        create_derived(self.scope, DerivedInput(label="Rented", formula="sum(plots.size)"))
        segment = create_segment(self.scope, "North")
        change_segment(self.scope, segment, 1, SegmentInput(name="North", expression='zone = "north"'))
        create_membership(self.scope, "level", MembershipInput(name="Sower"))

    def test_nothing_is_stored_and_all_that_would_change_is_told(self) -> None:
        """Derived values from what to what, segments entered, by someone new; records count."""
        found = rehearse(
            self.scope,
            self.form,
            Circumstances(),
            {"q1": "a@x.example", "q2": "north", "s2": "1 2", "q5.1": "3", "q5.2": "4"},
        )
        self.assertEqual(
            [(one.field.key, one.before, one.after) for one in found.derived], [("rented", Decimal(0), Decimal(7))]
        )
        self.assertEqual([(one.name, one.what) for one in found.segments], [("North", "enters")])
        self.assertEqual(list_people(self.scope).everyone, 0)

    def test_texts_are_filled(self) -> None:
        """Texts read as on the public page, as they would on the day rehearsed."""
        section = SectionInput(title="Plots", intro="{add_days(today(), 1)}, {{all}}")
        self.garden.do(change_section, "s1", section)
        found = rehearse(self.scope, self.form, Circumstances(day="2027-03-01"), {})
        self.assertEqual(found.outcome.sections[0].section.intro, "2 Mar 2027, {all}")

    def test_as_somebody_there_is(self) -> None:
        """What is known begins the form; leaving and not knowing are told as entering is."""
        person = self.garden.house.add(email="wren@x.example", zone="north")
        for zone, what in (("hill", "leaves"), ("", "cant_tell"), ("north", None)):
            found = rehearse(self.scope, self.form, Circumstances(person=person), {"q2": zone})
            self.assertEqual([one.what for one in found.segments], [what] if what else [])
        self.assertEqual(
            rehearse(self.scope, self.form, Circumstances(person=person), {}).outcome.questions[1].raw, "north"
        )
        with self.assertRaises(NotFound):
            rehearse(self.scope, self.form, Circumstances(person=10**6), {})

    def test_circumstances_decide(self) -> None:
        """Level, tags, lists, the day, address parameters and language are what rules see."""
        for rule, circumstances in (
            ('level = "sower"', Circumstances(level="sower")),
            ('tags holds "fair"', Circumstances(tags=("fair",))),
            ('today() = "2027-03-01"', Circumstances(day="2027-03-01")),
            ('page.ref = "spring" and page.language = "en"', Circumstances(page="?ref=spring")),
        ):
            with self.subTest(rule):
                self.garden.question("q3", show_when=rule)
                self.assertIs(rehearse(self.scope, self.form, circumstances, {}).outcome.questions[2].shows, True)
                self.assertIs(rehearse(self.scope, self.form, Circumstances(), {}).outcome.questions[2].shows, False)
        for wrong, place in ((Circumstances(level="none"), "level"), (Circumstances(day="2027-02-30"), "day")):
            with self.assertRaises(InvalidInput) as caught:
                rehearse(self.scope, self.form, wrong, {})
            self.assertIn(place, caught.exception.messages)


class Cases(unittest.TestCase):
    def setUp(self) -> None:
        self.garden = Garden()
        self.scope, self.form = self.garden.scope, self.garden.form
        self.answers = {"q1": "a@x.example", "q2": "north", "s2": "1", "q5.1": "3"}
        self.case = keep_case(self.scope, self.form, "newcomer", Circumstances(), self.answers)

    def test_a_case_that_still_comes_out_passes(self) -> None:
        self.garden.question("q3", label="Seed?")
        self.assertEqual([case.passes for case in proof_of(self.scope, self.form).cases], [True])
        self.assertTrue(publish(self.scope, self.form, self.revision(), anyway=False))

    def revision(self) -> int:
        return proof_of(self.scope, self.form).view.revision

    def test_what_comes_out_otherwise_is_shown_and_stops_publishing(self) -> None:
        """Shown or not, what is wrong, what would be stored, how often a section is asked: expected and now."""
        self.garden.question("q2", show_when="swaps_seed")
        self.garden.do(change_section, "s2", SectionInput(title="Plots", repeat=str(self.garden.type), least=2, most=3))
        (case,) = proof_of(self.scope, self.form).failing
        found = [(one.where, one.what, one.expected, one.now) for one in case.differences]
        self.assertIn(("Zone", "shows", "yes", "no"), found)
        self.assertIn(("Zone", "would be stored", "North", "blank"), found)
        self.assertIn(("Plots", "asked", "once", "2 times"), found)
        self.assertEqual(publish(self.scope, self.form, self.revision(), anyway=False), 0)
        self.assertEqual(proof_of(self.scope, self.form).view.published, 0)
        accept_case(self.scope, self.form, self.case)
        self.assertEqual(publish(self.scope, self.form, self.revision(), anyway=False), 1)

    def test_publishing_anyway(self) -> None:
        self.garden.question("q2", show_when="swaps_seed")
        self.assertEqual(publish(self.scope, self.form, self.revision(), anyway=True), 1)

    def test_a_case_of_a_person_stays_when_they_change(self) -> None:
        """What was stored of them, and their records, are kept with the case."""
        person = self.garden.house.add(email="wren@x.example", zone="north")
        keep_case(self.scope, self.form, "wren", Circumstances(person=person), {"q3": "yes"})
        with self.scope.transaction("clerk") as unit:
            from finesieve.services.values.writing import change_person

            change_person(unit, person, {"zone": "hill"}, "staff")
        self.assertEqual([case.passes for case in proof_of(self.scope, self.form).cases], [True, True])

    def test_cases_are_read_replaced_and_removed(self) -> None:
        self.assertEqual(read_case(self.scope, self.form, self.case), ("newcomer", Circumstances(), self.answers))
        again = keep_case(self.scope, self.form, " newcomer ", Circumstances(language="en"), {"q1": "b@x.example"})
        self.assertEqual((again, len(list_cases(self.scope, self.form))), (self.case, 1))
        with self.assertRaises(InvalidInput):
            keep_case(self.scope, self.form, " ", Circumstances(), {})
        with self.assertRaises(NotFound):
            read_case(Garden().scope, self.form, self.case)
        with self.assertRaises(NotAllowed):
            keep_case(self.garden.house.as_role("clerk"), self.form, "x", Circumstances(), {})
        remove_case(self.scope, self.form, self.case)
        self.assertEqual(list_cases(self.scope, self.form), ())


class Grids(unittest.TestCase):
    def test_all_combinations(self) -> None:
        """A verdict for each, and what shows nowhere or everywhere; too many are refused with their number."""
        garden = Garden()
        garden.question("q2", show_when="swaps_seed")
        grid = make_grid(garden.scope, garden.form, ["q3"])
        self.assertEqual(grid.columns, (("blank",), ("yes",), ("no",)))
        rows = {row.label: row for row in grid.rows}
        self.assertEqual(rows["Zone"].verdicts, (None, True, False))
        self.assertTrue(rows["Email"].always)
        garden.question("q2", show_when="swaps_seed and not swaps_seed")
        self.assertTrue({row.label: row for row in make_grid(garden.scope, garden.form, ["q3"]).rows}["Zone"].never)
        self.assertEqual(len(make_grid(garden.scope, garden.form, ["q3", "q2"]).columns), 12)
        with self.assertRaises(InvalidInput):
            make_grid(garden.scope, garden.form, ["q99"])
        # Nothing chosen: what the rules name, already run.
        garden.question("q2", show_when="swaps_seed")
        self.assertEqual([axis.key for axis in make_grid(garden.scope, garden.form).chosen], ["q3"])
        garden.question("q2", show_when="")
        self.assertEqual(make_grid(garden.scope, garden.form).chosen, ())
