"""Built-in parts: taken into use and back, and what they do by themselves."""

import unittest
from dataclasses import replace
from datetime import timedelta

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.core.fields.built_in import PARTS
from finesieve.core.fields.groups import PrintedLine
from finesieve.services.define.built_ins import built_in_parts, use_part
from finesieve.services.define.deletion import delete_field, plan_deletion, restore_field
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, change_group, read_catalogue, read_field
from finesieve.services.define.joining_days import keep_joining_day
from finesieve.services.define.memberships import (
    MembershipInput,
    create_membership,
    remove_membership,
    set_lists,
)
from finesieve.services.define.printing import change_printing, read_printing
from finesieve.services.filling.signup import PublicForms
from finesieve.services.forms.composing import (
    FormSettings,
    QuestionInput,
    add_question,
    change_form_settings,
    change_question,
    set_phrases,
)
from finesieve.services.forms.forms import create_form, publish_form, read_draft, read_form
from finesieve.services.forms.sendings import SentQuery, list_sendings
from finesieve.services.kernel.changes import undo_change
from finesieve.services.people.bulk import BulkInput, Chosen, change_in_bulk
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.transfer.setups import export_setup, load_setup, plan_setup
from finesieve.store.tables import Task
from tests.support.database import store
from tests.support.house import NOW, House, make_house
from tests.support.work import done


def values_of(house: House, person: int) -> dict[str, str]:
    return {line.field.key: line.shown for _, lines in read_profile(house.scope, person).groups for line in lines}


class TakingIntoUse(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope

    def test_every_part_and_back(self) -> None:
        changes = [use_part(self.scope, one.part.key)[1] for one in built_in_parts(read_catalogue(self.scope))]
        catalogue = read_catalogue(self.scope)
        self.assertTrue(all(one.whole for one in built_in_parts(catalogue)))
        for part in PARTS:
            for known in part.fields:
                field = catalogue.by_key[known.key]
                self.assertEqual((field.type_key, field.built_in), (known.type_key, True))
                self.assertEqual(catalogue.groups_by_id[field.group_id].name, part.group)
        for change in reversed(changes):
            undo_change(self.scope, change)
        self.assertFalse(any(one.fields for one in built_in_parts(read_catalogue(self.scope))))

    def test_asked_for_twice_it_is_there_once(self) -> None:
        group, change = use_part(self.scope, "billing")
        self.assertEqual(use_part(self.scope, "billing"), (group, 0))
        self.assertTrue(change)

    def test_a_field_of_ones_own_called_like_one_that_is_kept_by_itself_can_be_asked(self) -> None:
        own = create_field(self.scope, self.house.group_id(), FieldInput(label="Last seen", type_key="datetime"))
        form = create_form(self.scope, "Join us")
        self.assertIn(own, [one.id for one in read_form(self.scope, form).unasked])
        use_part(self.scope, "seen")
        self.assertNotIn(own, [one.id for one in read_form(self.scope, form).unasked])

    def test_a_field_of_ones_own_becomes_the_built_in_one_with_its_values(self) -> None:
        create_field(self.scope, self.house.group_id(), FieldInput(label="Company"))
        person = self.house.add(company="Ash & Co")
        _, change = use_part(self.scope, "work")
        self.assertTrue(read_catalogue(self.scope).by_key["company"].built_in)
        self.assertEqual(values_of(self.house, person)["company"], "Ash & Co")
        undo_change(self.scope, change)
        self.assertFalse(read_catalogue(self.scope).by_key["company"].built_in)
        self.assertEqual(values_of(self.house, person)["company"], "Ash & Co")
        undo_change(self.scope, change, again=True)
        self.assertTrue(read_catalogue(self.scope).by_key["company"].built_in)

    def test_one_of_another_type_is_said_and_nothing_is_made(self) -> None:
        create_field(self.scope, self.house.group_id(), FieldInput(label="Company", type_key="number"))
        with self.assertRaisesRegex(InvalidInput, "key company, and is of type number"):
            use_part(self.scope, "work")
        self.assertNotIn("role", read_catalogue(self.scope).by_key)
        with self.assertRaises(NotFound):
            use_part(self.scope, "nothing")

    def test_a_deleted_one_comes_back_with_its_values(self) -> None:
        use_part(self.scope, "work")
        person = self.house.add(company="Ash & Co")
        company = read_catalogue(self.scope).by_key["company"]
        delete_field(self.scope, company.id, "Company")
        use_part(self.scope, "work")
        self.assertEqual(values_of(self.house, person)["company"], "Ash & Co")
        with self.assertRaises(InvalidInput):
            plan_deletion(self.scope, read_catalogue(self.scope).by_key["email"].id)
        with self.assertRaises(NotFound):
            restore_field(self.scope, company.id)

    def test_it_goes_by_file(self) -> None:
        use_part(self.scope, "work")
        use_part(self.scope, "delivery")
        text = export_setup(self.scope)[1]
        other = make_house()
        self.assertEqual([one.name for one in plan_setup(other.scope, text).of("conflict")], [])
        load_setup(other.scope, text)
        there = read_catalogue(other.scope).by_key
        self.assertTrue(there["role"].built_in and there["delivery_postcode"].built_in)
        self.assertEqual(there["delivery_postcode"].settings.country_from, "delivery_country")


class Addresses(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        use_part(self.scope, "billing")
        self.person = self.house.add(first_name="Wren", last_name="Ash")

    def test_checked_beside_the_country_and_printed(self) -> None:
        typed = {"billing_street": "Hauptstr. 5", "billing_town": "Jena", "billing_postcode": "D-07743", "billing_region": "Thüringen"}  # fmt: skip
        with self.assertRaises(InvalidInput) as refused:
            set_values(self.scope, self.person, typed)
        self.assertEqual(set(refused.exception.messages), {"billing_postcode", "billing_region"})
        set_values(self.scope, self.person, {**typed, "billing_country": "DE"})
        profile = read_profile(self.scope, self.person)
        self.assertEqual(list(profile.addresses.values()), [("Wren Ash", "Hauptstr. 5", "07743 JENA", "GERMANY")])

    def test_a_country_does_not_leave_its_region_behind(self) -> None:
        set_values(self.scope, self.person, {"billing_region": "Devon", "billing_country": "GB"})
        with self.assertRaisesRegex(InvalidInput, "Devon, which is not there"):
            set_values(self.scope, self.person, {"billing_country": "DE"})
        set_values(self.scope, self.person, {"billing_country": "DE", "billing_region": "Bayern"})
        self.assertEqual(values_of(self.house, self.person)["billing_region"], "Bayern")

    def test_who_may_not_see_a_line_is_not_printed_it(self) -> None:
        set_values(self.scope, self.person, {"billing_street": "1 Barn Lane", "billing_town": "Ely"})
        group = read_catalogue(self.scope).by_key["billing_street"].group_id
        change_group(self.scope, group, GroupInput(name="Billing address", seen_by="editors"))
        self.assertEqual(read_profile(self.house.as_role("reader", "Corin Yeo"), self.person).addresses, {})


class Printing(unittest.TestCase):
    """Lines of one's own in an address, by country."""

    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        use_part(self.scope, "delivery")
        catalogue = read_catalogue(self.scope)
        self.group = catalogue.by_key["delivery_street"].group_id
        for key in ("gate", "code"):
            create_field(self.scope, self.group, FieldInput(label=key.capitalize(), key=key, type_key="short_text"))

    def printed(self, **values: str) -> tuple[str, ...]:
        person = self.house.add(**{key: value for key, value in values.items() if not key.startswith("delivery_")})
        set_values(self.scope, person, values)
        return read_profile(self.scope, person).addresses[self.group]

    def test_where_and_in_which_country(self) -> None:
        lines = [
            PrintedLine(text="Gate {gate}, code {code}", place="street"),
            PrintedLine(text="{code}", place="first"),
            PrintedLine(text="Ring twice", country="DE"),
        ]
        change_printing(self.scope, self.group, lines)
        home = {"delivery_street": "7 Low Field", "delivery_town": "Tansy"}
        self.assertEqual(self.printed(**home), ("7 Low Field", "TANSY"))
        self.assertEqual(self.printed(**home, gate="4"), ("7 Low Field", "Gate 4, code", "TANSY"))
        abroad = self.printed(**home, delivery_country="DE", code="12")
        self.assertEqual(abroad, ("12", "7 Low Field", "Gate , code 12", "TANSY", "Ring twice", "GERMANY"))
        examples = read_printing(self.scope, self.group).examples
        self.assertEqual([one.lines[-1] for one in examples], ["GERMANY", "GERMANY"])
        change_group(self.scope, self.group, GroupInput(name="Where to"))
        self.assertEqual(read_printing(self.scope, self.group).lines, tuple(lines))
        gate = read_catalogue(self.scope).by_key["gate"].id
        self.assertIn("address", {use.kind for use in read_field(self.scope, gate).uses})

    def test_of_nobody_the_names_of_fields(self) -> None:
        (example,) = read_printing(self.scope, self.group).examples
        self.assertEqual((example.person, example.lines[0]), ("", "Delivery street"))

    def test_undone_refused_and_by_file(self) -> None:
        change = change_printing(self.scope, self.group, [PrintedLine(text="Gate {gate}")])
        document = export_setup(self.scope)[1]
        undo_change(self.scope, change)
        self.assertEqual(read_printing(self.scope, self.group).lines, ())
        with self.assertRaises(InvalidInput) as refused:
            change_printing(self.scope, self.group, [PrintedLine(text="Gate"), PrintedLine(text="{gates}")])
        self.assertEqual(list(refused.exception.messages), ["text_1"])
        for group in read_catalogue(self.scope).groups:
            if group.id != self.group:
                self.assertRaises(NotFound, lambda group=group: read_printing(self.scope, group.id))
        clerk = self.house.as_role("clerk")
        self.assertRaises(NotAllowed, lambda: change_printing(clerk, self.group, []))
        other = make_house()
        load_setup(other.scope, document)
        group = read_catalogue(other.scope).by_key["delivery_street"].group_id
        self.assertEqual([one.text for one in read_printing(other.scope, group).lines], ["Gate {gate}"])


class ByItself(unittest.TestCase):
    """What a form sent in German, with a consent ticked, leaves behind."""

    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        for part in ("seen", "language", "consent_email", "delivery"):
            use_part(self.scope, part)
        self.form = create_form(self.scope, "Join us")
        self.do(change_form_settings, FormSettings(languages=("en", "de")))
        for key in ("consent_email", "delivery_region", "delivery_postcode", "delivery_country"):
            self.do(add_question, self.house.field_id(key))
        questions = read_form(self.scope, self.form).document.questions
        self.ids = {self.key(one.field_id): one.id for one in questions}
        self.do(change_question, self.ids["consent_email"], QuestionInput(label="Send me news"))
        self.do(set_phrases, "de", {"Send me news": "Neues bitte an mich", "Join us": "Mitmachen"})
        self.do(publish_form)
        self.now = NOW
        self.public = PublicForms(store(), lambda: self.now, "s")

    def key(self, field_id: int) -> str:
        return read_catalogue(self.scope).by_id[field_id].key

    def do(self, change, *rest):  # type: ignore[no-untyped-def]
        return change(self.scope, self.form, read_draft(self.scope, self.form).revision, *rest)

    def send(self, language: str = "", **answers: str):  # type: ignore[no-untyped-def]
        token = self.public.open(self.house.slug, "join-us").token
        given = {self.ids[key]: text for key, text in answers.items()}
        return self.public.send(
            self.house.slug, "join-us", token, given, frozenset(self.ids.values()), language=language
        )

    def person(self) -> int:
        return max(one.person_id for one in list_sendings(self.scope, self.form, SentQuery()).lines)

    def test_moments_language_and_the_words_agreed_to(self) -> None:
        self.send("de", email="wren@x.example", consent_email="yes", delivery_country="DE", delivery_postcode="07743")
        found = values_of(self.house, self.person())
        self.assertEqual(found["preferred_language"], "German")
        self.assertTrue(found["first_seen"] and found["first_seen"] == found["last_seen"] == found["consent_email_at"])
        self.assertRegex(found["consent_email_text"], r"(?s)^Neues bitte an mich\n.*\(Mitmachen, version 1\)$")

    def test_the_region_asked_is_that_of_the_country_answered(self) -> None:
        opened = self.send(
            email="wren@x.example", delivery_country="DE", delivery_region="GB-DEV", delivery_postcode="CB7 4JN"
        )
        wrong = {self.key(one.question.field_id): one.message for one in opened.outcome.troubles}
        self.assertEqual(set(wrong), {"delivery_region", "delivery_postcode"})
        self.assertIn("Germany", wrong["delivery_region"])

    def test_nothing_is_asked_that_the_country_has_none_of(self) -> None:
        token = self.public.open(self.house.slug, "join-us").token
        opened = self.public.answer(self.house.slug, "join-us", token, {self.ids["delivery_country"]: "HK"})
        region = opened.outcome.of(self.ids["delivery_region"])
        postcode = opened.outcome.of(self.ids["delivery_postcode"])
        self.assertEqual([(one.shows, one.because) for one in (region, postcode)], [(False, "country")] * 2)  # type: ignore[union-attr]

    def test_staff_who_change_a_consent_move_its_moment(self) -> None:
        self.send(email="wren@x.example", consent_email="yes")
        person = self.person()
        before = values_of(self.house, person)
        later = replace(self.scope, clock=lambda: NOW + timedelta(days=3))
        set_values(later, person, {"first_name": "Wren"})
        self.assertEqual(values_of(self.house, person)["consent_email_at"], before["consent_email_at"])
        set_values(later, person, {"consent_email": ""})
        after = values_of(self.house, person)
        self.assertNotEqual(after["consent_email_at"], before["consent_email_at"])
        self.assertEqual(after["consent_email_text"], "")

    def test_many_at_once_too(self) -> None:
        """Those who had given it keep their moment."""
        self.send(email="wren@x.example", consent_email="yes")
        had, new = self.person(), self.house.add(email="ash@x.example")
        before = values_of(self.house, had)["consent_email_at"]
        later = replace(self.scope, clock=lambda: NOW + timedelta(days=3))
        field = self.house.field_id("consent_email")
        done = change_in_bulk(later, Chosen((had, new)), BulkInput(what="set", field=field, value="yes"))
        self.assertEqual(done.people, 1)
        self.assertEqual(values_of(self.house, had)["consent_email_at"], before)
        self.assertTrue(values_of(self.house, new)["consent_email_at"])

    def test_taking_many_back_brings_moments_and_words_back(self) -> None:
        self.send(email="wren@x.example", consent_email="yes")
        person = self.person()
        before = values_of(self.house, person)
        field = self.house.field_id("consent_email")
        later = replace(self.scope, clock=lambda: NOW + timedelta(days=3))
        done = change_in_bulk(later, Chosen((person,)), BulkInput(what="clear", field=field))
        self.assertEqual(values_of(self.house, person)["consent_email_text"], "")
        undo_change(later, done.change)
        self.assertEqual(values_of(self.house, person), before)


class DayOfJoining(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.list_id = create_membership(self.scope, "list", MembershipInput(name="Almanac"))
        self.person = self.house.add(email="wren@x.example")

    def day(self, person: int) -> str:
        return values_of(self.house, person)["joined_almanac_on"]

    def test_it_is_set_by_who_joins_and_emptied_by_who_leaves(self) -> None:
        change = keep_joining_day(self.scope, self.list_id)
        set_lists(self.scope, self.person, ["almanac"])
        first = self.day(self.person)
        self.assertTrue(first)
        later = replace(self.scope, clock=lambda: NOW + timedelta(days=3))
        create_membership(later, "list", MembershipInput(name="Other"))
        set_lists(later, self.person, ["almanac", "other"])
        self.assertEqual(self.day(self.person), first)
        set_lists(later, self.person, ["other"])
        self.assertEqual(self.day(self.person), "")
        set_lists(later, self.person, ["almanac"])
        self.assertNotEqual(self.day(self.person), first)
        undo_change(later, change)
        self.assertNotIn("joined_almanac_on", read_catalogue(self.scope).by_key)

    def test_days_of_before_come_from_the_history(self) -> None:
        """Of those on the list, the last day on which they joined; who was never put on it by anyone has none."""
        other = self.house.add(email="ash@x.example", lists=("almanac",))
        gone = self.house.add(email="oak@x.example")
        for days, person, lists in (
            (1, self.person, True),
            (2, self.person, False),
            (4, self.person, True),
            (4, gone, True),
            (5, gone, False),
        ):
            scope = replace(self.scope, clock=lambda days=days: NOW + timedelta(days=days))
            set_lists(scope, person, ["almanac"] if lists else [])
        keep_joining_day(self.scope, self.list_id)
        with store().transaction(self.scope.workspace_id) as session:
            task = session.exec(select(Task.id).where(col(Task.kind) == "joining_days")).one() or 0
        self.assertIn("for 2 people", done(self.house, task).message)
        day = (NOW + timedelta(days=4)).date()
        self.assertEqual(self.day(self.person), read_catalogue(self.scope).by_key["joined_almanac_on"].show(day))
        self.assertEqual(self.day(gone), "")
        self.assertTrue(self.day(other))

    def test_there_is_one_a_list_and_no_form_asks_it(self) -> None:
        keep_joining_day(self.scope, self.list_id)
        with self.assertRaises(InvalidInput):
            keep_joining_day(self.scope, self.list_id)
        with self.assertRaises(NotFound):
            keep_joining_day(self.scope, 999_999)
        with self.assertRaises(InvalidInput):
            remove_membership(self.scope, "list", self.list_id)
        form = create_form(self.scope, "Join us")
        askable = [one.key for one in read_form(self.scope, form).unasked]
        self.assertNotIn("joined_almanac_on", askable)
        self.assertIn("born", askable)

    def test_by_a_form_and_for_many_at_once_and_back(self) -> None:
        keep_joining_day(self.scope, self.list_id)
        form = create_form(self.scope, "Join us")
        change_form_settings(
            self.scope, form, read_draft(self.scope, form).revision, FormSettings(joins=(self.list_id,))
        )
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        public = PublicForms(store(), lambda: NOW, "s")
        token = public.open(self.house.slug, "join-us").token
        public.send(self.house.slug, "join-us", token, {"q1": "ash@x.example"}, frozenset({"q1"}))
        ash = self.person + 1
        self.assertTrue(self.day(ash))
        done = change_in_bulk(self.scope, Chosen((self.person, ash)), BulkInput(what="join", value="almanac"))
        self.assertEqual(done.people, 1)
        self.assertTrue(self.day(self.person))
        undo_change(self.scope, done.change)
        self.assertEqual(self.day(self.person), "")
        self.assertTrue(self.day(ash))

    def test_it_goes_into_files_and_comes_back(self) -> None:
        keep_joining_day(self.scope, self.list_id)
        other = make_house(fields=False)
        load_setup(other.scope, export_setup(self.scope)[1])
        catalogue = read_catalogue(other.scope)
        self.assertEqual(catalogue.by_key["joined_almanac_on"].settings.joined_list, catalogue.lists[0].id)
