"""Levels that are held for a time: who gets which last day, who falls, and to what."""

import unittest
from datetime import UTC, date, datetime, timedelta

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound, Overtaken
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.core.model.level_ends import LevelEnd
from finesieve.services.define.level_ends import LevelEndInput, let_levels_end, set_level_end
from finesieve.services.define.memberships import (
    MembershipInput,
    create_membership,
    list_levels,
    read_level,
    remove_membership,
    set_person_level,
)
from finesieve.services.filling.signup import PublicForms
from finesieve.services.forms.composing import add_question
from finesieve.services.forms.forms import create_form, publish_form, read_draft
from finesieve.services.kernel.changes import undo_change
from finesieve.services.people.bulk import BulkInput, Chosen, change_in_bulk
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment
from finesieve.services.transfer.setups import export_setup, load_setup
from finesieve.store.reading.rows import find_by_email
from finesieve.store.tables import Task
from tests.support.database import store
from tests.support.house import NOW, House, make_house
from tests.support.work import done, later

YEAR = LevelEndInput(ends="after", after=1, unit="years", falls_to="sower")


class HowLong(unittest.TestCase):
    def test_days_months_and_years(self) -> None:
        for after, unit, got, last in (
            (30, "days", date(2026, 12, 15), date(2027, 1, 14)),
            (1, "months", date(2027, 1, 31), date(2027, 2, 28)),
            (13, "months", date(2026, 11, 25), date(2027, 12, 25)),
            (1, "years", date(2028, 2, 29), date(2029, 2, 28)),
            (1000, "years", date(9500, 1, 1), date.max),
            (1000, "days", date(9999, 12, 1), date.max),
        ):
            with self.subTest(after=after, unit=unit):
                self.assertEqual(LevelEnd.model_validate({"after": after, "unit": unit}).last_day(got), last)
        self.assertEqual(LevelEnd(on=date(2027, 3, 1)).last_day(date(2026, 1, 1)), date(2027, 3, 1))

    def test_one_way_or_the_other(self) -> None:
        for wrong in ({}, {"after": 3, "on": "2027-01-01"}, {"after": -1}, {"after": 1, "unit": "weeks"}):
            with self.subTest(wrong), self.assertRaises(ValueError):
                LevelEnd.model_validate(wrong)


class Ends(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.ids = {
            name: create_membership(self.scope, "level", MembershipInput(name=name.capitalize()))
            for name in ("sprout", "sower", "steward")
        }

    def last_day(self, person: int) -> str:
        groups = read_profile(self.scope, person).groups
        return next(line.raw for _, lines in groups for line in lines if line.field.key == "level_ends")

    def level(self, person: int) -> str:
        return read_profile(self.scope, person).memberships.level

    def after(self, days: int) -> House:
        return later(self.house, NOW + timedelta(days=days))

    def fill_in(self) -> str:
        with store().transaction(self.scope.workspace_id) as session:
            query = select(Task.id).where(col(Task.kind) == "level_ends").order_by(col(Task.id).desc())
            task = session.exec(query).first() or 0
        return done(self.house, task).message

    def test_whoever_changes_the_level_the_last_day_follows(self) -> None:
        set_level_end(self.scope, self.ids["steward"], YEAR)
        one, other = self.house.add(level="steward"), self.house.add()
        self.assertEqual(self.last_day(one), "2027-11-25")
        self.assertEqual(self.last_day(other), "")
        change = change_in_bulk(self.after(9).scope, Chosen((one, other)), BulkInput(what="level", value="steward"))
        self.assertEqual((self.last_day(one), self.last_day(other)), ("2027-11-25", "2027-12-04"))
        undo_change(self.scope, change.change)
        self.assertEqual((self.level(other), self.last_day(other)), ("", ""))
        set_person_level(self.scope, one, "sower")
        self.assertEqual(self.last_day(one), "")

    def test_who_holds_it_already_is_counted_from_when_they_got_it(self) -> None:
        before, never, put_off = self.house.add(), self.house.add(level="sower"), self.house.add()
        set_person_level(self.after(-40).scope, before, "steward")
        set_level_end(self.scope, self.ids["steward"], YEAR)
        set_person_level(self.scope, put_off, "steward")
        set_values(self.scope, put_off, {"level_ends": "2030-01-01"})
        self.assertEqual(self.fill_in(), "1 changed.")
        self.assertEqual([self.last_day(one) for one in (before, never, put_off)], ["2027-10-16", "", "2030-01-01"])
        set_level_end(self.scope, self.ids["steward"], LevelEndInput())
        self.assertEqual(self.fill_in(), "2 changed.")
        self.assertEqual(self.last_day(put_off), "")

    def test_it_is_said_who_would_fall_at_once(self) -> None:
        long_ago, today = self.house.add(), self.house.add()
        set_person_level(self.after(-400).scope, long_ago, "steward")
        set_person_level(self.scope, today, "steward")
        change = set_level_end(self.scope, self.ids["steward"], YEAR)
        self.assertIn("2 changed. The last day of 1 of them has passed", self.fill_in())
        undo_change(self.scope, change)
        let_levels_end(self.after(1).scope)
        self.assertEqual(self.level(long_ago), "steward")

    def test_the_day_after_the_last_one_they_fall(self) -> None:
        set_level_end(self.scope, self.ids["steward"], YEAR)
        set_level_end(self.scope, self.ids["sower"], LevelEndInput(ends="after", after=30, unit="days"))
        person, put_off = self.house.add(level="steward"), self.house.add(level="steward")
        set_values(self.scope, put_off, {"level_ends": "2027-12-24"})
        self.assertEqual(let_levels_end(self.after(365).scope), 0)
        self.assertEqual(let_levels_end(self.after(366).scope), 1)
        self.assertEqual((self.level(person), self.last_day(person)), ("sower", "2027-12-26"))
        self.assertEqual(self.level(put_off), "steward")
        self.assertEqual(let_levels_end(self.after(366).scope), 0)
        self.assertEqual(let_levels_end(self.after(400).scope), 2)
        self.assertEqual((self.level(person), self.level(put_off)), ("", "sower"))
        history = [line.source for line in read_profile(self.scope, person).history]
        self.assertIn("the end of the level", history)

    def test_two_that_fall_to_one_another_fall_once_a_day(self) -> None:
        gone = {"ends": "on", "on": "2026-01-01"}
        set_level_end(self.scope, self.ids["steward"], LevelEndInput(**gone, falls_to="sower"))
        set_level_end(self.scope, self.ids["sower"], LevelEndInput(**gone, falls_to="steward"))
        person = self.house.add(level="steward")
        self.assertEqual(let_levels_end(self.scope), 2)
        self.assertEqual(self.level(person), "steward")

    def test_what_they_would_fall_to_is_gone(self) -> None:
        """Undone, the level it fell to removed, and done again: they hold none then."""
        change = set_level_end(self.scope, self.ids["steward"], YEAR)
        person = self.house.add(level="steward")
        undo_change(self.scope, change)
        remove_membership(self.scope, "level", self.ids["sower"])
        undo_change(self.scope, change, again=True)
        self.assertEqual(let_levels_end(self.after(400).scope), 1)
        self.assertEqual(self.level(person), "")

    def test_undone_nobody_falls(self) -> None:
        change = set_level_end(self.scope, self.ids["steward"], YEAR)
        person = self.house.add(level="steward")
        undo_change(self.scope, change)
        self.assertIsNone(read_level(self.scope, self.ids["steward"]).level.lasts)
        self.assertEqual(let_levels_end(self.after(800).scope), 0)
        self.assertEqual(self.level(person), "steward")

    def test_what_cannot_be_is_said_at_its_place(self) -> None:
        level = self.ids["steward"]
        for asked, place in (
            (LevelEndInput(ends="on", on="soon"), "on"),
            (LevelEndInput(ends="on", on="2027-01-01", falls_to="steward"), "falls_to"),
            (LevelEndInput(ends="after", falls_to="mayor"), "falls_to"),
        ):
            with self.subTest(asked=asked), self.assertRaises(InvalidInput) as caught:
                set_level_end(self.scope, level, asked)
            self.assertEqual([*caught.exception.messages], [place])
        with self.assertRaises(NotFound):
            set_level_end(self.scope, 999_999, YEAR)
        with self.assertRaises(NotAllowed):
            set_level_end(self.house.as_role("clerk"), level, YEAR)
        with self.assertRaises(NotFound):
            set_level_end(make_house().scope, level, YEAR)
        self.assertEqual(set_level_end(self.scope, level, LevelEndInput()), 0)

    def test_two_at_once(self) -> None:
        level, shown = self.ids["steward"], LevelEndInput()
        set_level_end(self.scope, level, YEAR, shown)
        with self.assertRaises(Overtaken):
            set_level_end(self.scope, level, LevelEndInput(ends="on", on="2027-01-01"), shown)

    def test_a_level_that_another_falls_to_stays(self) -> None:
        set_level_end(self.scope, self.ids["steward"], YEAR)
        with self.assertRaises(InvalidInput) as caught:
            remove_membership(self.scope, "level", self.ids["sower"])
        self.assertIn("Steward", str(caught.exception.messages))

    def test_segments_see_it_and_files_carry_it(self) -> None:
        set_level_end(self.scope, self.ids["steward"], YEAR)
        segment = create_segment(self.scope, "Ending soon")
        soon = SegmentInput(name="Ending soon", expression="days_between(today(), level_ends) < 366")
        change_segment(self.scope, segment, 1, soon)
        other = make_house(fields=False).scope
        load_setup(other, export_setup(self.scope)[1])
        lasts = {line.key: line.lasts for line in list_levels(other)}
        self.assertEqual(lasts["steward"], LevelEnd(after=1, unit="years", falls_to="sower"))
        self.assertIsNone(lasts["sower"])
        with self.assertRaises(InvalidInput):
            load_setup(other, export_setup(self.scope)[1].replace('"falls_to": "sower"', '"falls_to": "mayor"'))

    def test_who_chooses_it_on_a_form_sees_how_long_it_is_held_and_holds_it_so(self) -> None:
        set_level_end(self.scope, self.ids["steward"], YEAR)
        form = create_form(self.scope, "Join us")
        add_question(self.scope, form, read_draft(self.scope, form).revision, LEVEL_QUESTION)
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        public = PublicForms(store(), lambda: NOW, "s")
        opened = public.open(self.house.slug, "join-us")
        self.assertEqual(str(opened.levels["steward"].lasts.how_long), "1 year")
        self.assertIsNone(opened.levels["sprout"].lasts)
        asked = frozenset(one.id for one in opened.outcome.showing)
        answers = {"q1": "fern@hedgerow.example", "q2": "steward"}
        self.assertTrue(public.send(self.house.slug, "join-us", opened.token, answers, asked).sent)
        with self.scope.reading("reader") as unit:
            person = find_by_email(unit.session, unit.definitions, "fern@hedgerow.example") or 0
        self.assertEqual((self.level(person), self.last_day(person)), ("steward", "2027-11-25"))

    def test_the_day_is_that_of_the_house(self) -> None:
        """A person who gets the level late in the evening of Greenwich has it from that day on."""
        set_level_end(self.scope, self.ids["steward"], LevelEndInput(ends="after", after=1, unit="days"))
        evening = later(self.house, datetime(2026, 11, 30, 23, 30, tzinfo=UTC))
        person = self.house.add()
        set_person_level(evening.scope, person, "steward")
        self.assertEqual(self.last_day(person), "2026-12-01")
