"""A specialist's first hour, stage by stage, in a workspace of a choir; each stage can also be run alone.

The stages share a house. One that is run alone sets up by the services what the stages before it would have left.
Clicks are counted: what must not take more, may not come to take more.
"""

import unittest
from collections.abc import Iterator
from contextlib import contextmanager

from selenium.webdriver.common.keys import Keys

from finesieve.services.accounts.staff import NewWorkspace, SignedIn, StaffAccounts
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.memberships import MembershipInput, create_membership
from finesieve.services.filling.signup import PublicForms
from finesieve.services.forms.composing import (
    FormSettings,
    QuestionInput,
    add_questions,
    change_form_settings,
    change_question,
    set_phrases,
)
from finesieve.services.forms.forms import create_form, list_forms, publish_form, read_draft, read_form
from finesieve.services.people.listing import list_people
from finesieve.services.people.profiles import read_profile
from finesieve.services.transfer.setups import load_setup, starter_text
from tests.support.browser import Page
from tests.support.database import store
from tests.support.house import NOW, PASSWORD, House, next_number

FORM = "Come on tour"


class FirstHour(unittest.TestCase):
    house: House | None = None
    email = ""

    @classmethod
    def setUpClass(cls) -> None:
        cls.accounts = StaffAccounts(store(), lambda: NOW, fast_hashes=True)
        cls.email = f"choir{next_number()}@brackenfold.example"
        cls.staff_id = cls.accounts.add_staff(cls.email, "Nerys Tarn", PASSWORD)

    def setUp(self) -> None:
        self.page = Page()
        self.page.open("/sign-in")
        self.page.fill("#email", self.email)
        self.page.fill("#password", PASSWORD + Keys.ENTER)
        self.page.wait(lambda: "sign-in" not in self.page.driver.current_url, "signed in")

    @contextmanager
    def at_most(self, clicks: int) -> Iterator[None]:
        before = self.page.clicks
        yield
        self.assertLessEqual(self.page.clicks - before, clicks)

    def sound(self) -> None:
        self.assertEqual(self.page.violations(), [])
        self.assertEqual(self.page.complaints(), [])
        self.assertEqual(self.page.overflows(), [])

    def open(self, rest: str) -> None:
        self.page.open(f"/w/{self.choir.slug}/{rest}")

    # What the stages before have left

    @property
    def choir(self) -> House:
        """The workspace; made with the set of the trade where no stage has made it."""
        kind = type(self)
        if kind.house is None:
            slug = self.accounts.create_workspace(NewWorkspace(name=f"Fold Choir {next_number()}"), self.staff_id)
            kind.house = self.entered(slug)
            load_setup(kind.house.scope, starter_text("choir"))
        return kind.house

    def entered(self, slug: str) -> House:
        return House(slug, self.email, self.accounts.enter(slug, SignedIn(self.staff_id, "Nerys Tarn", "")).scope)

    def defined(self) -> dict[str, int]:
        """The fields by key, those of the second stage made where they are not there."""
        scope = self.choir.scope
        if "car_seats" not in read_catalogue(scope).by_key:
            use_part(scope, "billing")
            create_field(scope, self.choir.group_id(), FieldInput(label="Car seats", type_key="number"))
            tours = create_membership(scope, "list", MembershipInput(name="Tours"))
            settings = {"lists": [tours]}
            create_field(
                scope, self.choir.group_id(), FieldInput(label="Passport until", type_key="date", settings=settings)
            )
        return {field.key: field.id for field in read_catalogue(scope).fields}

    def form(self) -> int:
        """The form, put in force in two languages where no stage has done so."""
        scope = self.choir.scope
        there = next((one.id for one in list_forms(scope) if one.title == FORM), 0)
        if there:
            return there
        fields = self.defined()
        form = create_form(scope, FORM)

        def do(change, *rest):  # type: ignore[no-untyped-def]
            return change(scope, form, read_draft(scope, form).revision, *rest)

        do(add_questions, [fields[key] for key in ("first_name", "voice", "car_seats", "passport_until")])
        tours = next(one.id for one in read_catalogue(scope).lists if one.name == "Tours")
        ids = self.questions(form)
        do(change_question, ids["car_seats"], QuestionInput(lists=({"list_id": tours},)))
        do(change_form_settings, FormSettings(languages=("de",)))
        do(set_phrases, "de", {"First name": "Vorname", FORM: "Komm mit"})
        do(publish_form)
        return form

    def questions(self, form: int) -> dict[str, str]:
        view = read_form(self.choir.scope, form)
        return {view.catalogue.by_id[one.field_id].key: one.id for one in view.document.questions}

    def singers(self) -> list[int]:
        """Three people, who have signed up where no stage has seen to it."""
        scope, form = self.choir.scope, self.form()
        if not list_people(scope).lines:
            public, ids = PublicForms(store(), lambda: NOW, "s"), self.questions(form)
            slug = next(one.slug for one in list_forms(scope) if one.id == form)
            for name in ("Ann", "Bea", "Cyd"):
                token = public.open(self.choir.slug, slug).token
                answers = {ids["email"]: f"{name}@fold.example", ids["first_name"]: name}
                public.send(self.choir.slug, slug, token, answers, frozenset(ids.values()))
        return [line.id for line in list_people(scope).lines]

    # The stages

    def test_1_a_workspace_of_ones_trade(self) -> None:
        page = self.page
        page.open("/workspaces")
        page.fill("#name", f"Fold Choir {next_number()}")
        page.press("Neighbourhood choir", ".begins label")
        self.sound()
        page.press("Make the workspace")
        page.until_text("h1", "Bench")
        slug = page.driver.current_url.split("/w/")[1].strip("/")
        type(self).house = self.entered(slug)
        self.assertIn("voice", read_catalogue(self.choir.scope).by_key)

    def test_2_twelve_facts(self) -> None:
        """A built-in one where a twin was about to be made; one of one's own; a list and a field that belongs to it."""
        page = self.page
        page.wait(lambda: self.choir, "a workspace")
        self.open("define/new")
        page.fill("#label", "Street")
        page.until_text("#alike", "comes with the product")
        with self.at_most(1):
            page.press("Use the built-in one", "#alike button")
            page.until_text("h1", "Billing address")
        self.sound()
        self.open("define/new?about=person")
        page.fill("#label", "Car seats")
        with self.at_most(3):
            page.press("Number", ".type-card")
            page.press("Create the field")
            page.until_text("#sheet", "Car seats")
        self.open("define/lists")
        page.fill("#name", "Tours" + Keys.ENTER)
        page.until_text("tbody", "Tours")
        self.open("define/new?about=person")
        page.fill("#label", "Passport until")
        page.press("Date", ".type-card")
        page.press("Create the field")
        page.until_text("#sheet", "Passport until")
        self.open(f"define/fields/{self.choir.field_id('passport_until')}")
        page.press("Visibility", "summary")
        page.press("Tours", ".ticks label")
        page.press("Save", "form.stack > button")
        page.until_text(".note.done", "Saved")
        self.assertGreaterEqual(len(read_catalogue(self.choir.scope).stored), 12)

    def test_3_a_form_in_two_languages(self) -> None:
        """Two fields asked at once, one that is made in passing, and one that is asked of who joins a list here."""
        self.defined()
        page = self.page
        self.open("collect/new")
        page.fill("#title", FORM + Keys.ENTER)
        page.until_text("#sheet", "A draft; nobody sees it yet")
        page.press("Ask in", ".ask-panel > summary")
        for label in ("First name", "Voice", "Car seats", "Passport until"):
            page.fill("#ask-label", label)
            page.press(label, "#ask-list label")
        page.press("Ask what is ticked")
        page.until_text("#sheet", "Passport until")
        page.press("Ask in", ".ask-panel > summary")
        page.fill("#ask-label", "How did you hear of us")
        with self.at_most(3):
            page.choose("#ask-type", "Short text")
            page.press("Create and ask")
            page.until_text("#sheet", "How did you hear of us")
        self.sound()
        page.press("Car seats", ".question-label")
        page.until_text(".settings-form", "Car seats")
        page.press("Lists", ".settings-form summary")
        page.press("Add a list")
        page.wait(lambda: page.all("[name=list0_list_id]"), "a list to choose")
        page.choose("[name=list0_list_id]", "Tours")
        page.until_text("#sheet .on .question-notes", "Any answer puts on Tours")
        self.sound()
        form = next(one.id for one in list_forms(self.choir.scope) if one.title == FORM)
        self.open(f"collect/{form}")
        page.press("Languages", "summary")
        page.press("Deutsch", ".ticks label, label")
        page.wait(lambda: "de" in read_form(self.choir.scope, form).document.languages, "German")
        self.open(f"collect/{form}/languages")
        page.fill(f"textarea[aria-label^='{FORM}']", "Komm mit")
        page.press("Save the translations")
        page.wait(lambda: read_form(self.choir.scope, form).document.phrases["de"].get(FORM) == "Komm mit", "German")
        self.open(f"collect/{form}/publish")
        page.press("Publish version 1", ".publish-now button")
        page.until_text(".note.done", "Version 1 is in force")

    def test_4_three_people_of_different_kinds(self) -> None:
        """One in German, one who joins the tours and is asked for the passport, one who says the least."""
        form = self.form()
        page, ids = self.page, self.questions(form)
        slug = next(one.slug for one in list_forms(self.choir.scope) if one.id == form)
        here = f"/join/{self.choir.slug}/{slug}"
        page.resize(390, 800)
        for email, seats, language in (
            ("ann@fold.example", "", "de"),
            ("bea@fold.example", "3", ""),
            ("cyd@fold.example", "", ""),
        ):
            page.open(here + (f"?lang={language}" if language else ""))
            page.fill(f"#{ids['email']}", email)
            page.fill(f"#{ids['first_name']}", email[:3].capitalize())
            self.assertFalse(page.all(f"#{ids['passport_until']}"))
            if seats:
                page.fill(f"#{ids['car_seats']}", seats + Keys.TAB)
                page.wait(lambda: page.all(f"#{ids['passport_until']}"), "the question of the list")
            page.press("Absenden" if language else "Send", "button")
            page.wait(lambda: "thanks" in page.driver.current_url, "the thanks")
        people = {one.name: one.id for one in list_people(self.choir.scope).lines}
        self.assertEqual(set(people), {"Ann", "Bea", "Cyd"})
        self.assertEqual(read_profile(self.choir.scope, people["Bea"]).memberships.lists, ("tours",))

    def test_5_a_question_is_retired_from_the_live_form(self) -> None:
        """After its uses were seen; and a field that nobody needs goes."""
        form = self.form()
        page = self.page
        self.open(f"define/fields/{self.choir.field_id('car_seats')}")
        page.until_text("body", FORM)
        self.open(f"collect/{form}?q={self.questions(form)['car_seats']}")
        with self.at_most(3):
            page.press("Remove the question")
            page.until_text(".note.done", "Removed Car seats")
            page.press("Publish version 2")
            page.press("Publish version 2", ".publish-now button")
            page.until_text(".note.done", "Version 2 is in force")
        group = read_catalogue(self.choir.scope).by_key["car_seats"].group_id
        self.open(f"define/{group}")
        with self.at_most(4):
            page.press("Car seats", "td a")
            page.press("Delete", ".acts a")
            page.fill("#typed", "Car seats")
            page.press("Delete the field")
            page.until_text("h1", "Deleted fields")
        self.assertNotIn("car_seats", read_catalogue(self.choir.scope).by_key)

    def test_6_the_list_and_two_corrections_in_bulk(self) -> None:
        self.singers()
        page = self.page
        self.open("people")
        with self.at_most(2):
            page.press("Columns", "summary")
            page.fill("[data-narrow]", "second")
            page.press("Second voice", "#column-list label")
            page.until_text("#people thead", "Second voice")
        page.press("People", "h1")
        for change, value, said in (("Add a tag", "spring", "3 changed"), ("Add a tag", "tour", "3 changed")):
            page.press("all on this page", "label")
            page.choose("#what", change)
            page.press("Change …", "button")
            page.fill("#value", value)
            page.press("Preview", "button")
            page.press("Change 3 people", "button")
            page.until_text(".said-done", said)
        self.sound()
        for person in self.singers():
            self.assertEqual(read_profile(self.choir.scope, person).memberships.tags, ("spring", "tour"))

    def test_7_three_fields_with_a_rule_for_one_level(self) -> None:
        form, scope = self.form(), self.choir.scope
        if not read_catalogue(scope).levels:
            create_membership(scope, "level", MembershipInput(name="Sower"))
        level = read_catalogue(scope).levels[0].name
        use_part(scope, "billing")
        page = self.page
        self.open(f"collect/{form}")
        with self.at_most(8):
            page.press("Add a section")
            page.until_text(".form-section.on .section-title, .form-section.on", "Section")
            page.press("Only under a condition")
            page.choose("[name=show_when_c0_key]", "Level")
            page.wait(lambda: page.all("[name=show_when_c0_value] option"), "the levels")
            page.choose("[name=show_when_c0_value]", level)
            page.until_text("#sheet", f"Level is {level}")
            page.press("Ask in", ".ask-panel > summary")
            page.fill("#ask-label", "billing")
            page.press("Billing address", "#ask-list legend label")
            page.press("Ask what is ticked")
            page.until_text("#sheet", "Billing country")
        section = read_form(scope, form).document.sections[-1]
        self.assertGreaterEqual(len(section.questions), 3)
        self.assertIn("level", section.show_when)


if __name__ == "__main__":
    unittest.main()
