"""Members in a browser: a newcomer joins on a phone, somebody waits, is approved, signs in; a form within another site."""

import threading
import unittest
from functools import partial
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

from selenium.webdriver.common.keys import Keys

from finesieve.core.commerce.shop import Shop
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.services.commerce.setting_up import set_up_shop
from finesieve.services.define.approval import change_approval
from finesieve.services.define.fields import FieldInput, change_field, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.level_fees import LevelFeeInput, set_level_fee
from finesieve.services.define.memberships import MembershipInput, create_membership, set_level_values, set_person_level
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.follow_up.personal_links import PersonalLinkInput, create_personal_link, revoke_all
from finesieve.services.forms.beginning import create_account_form
from finesieve.services.forms.composing import (
    FormTexts,
    QuestionInput,
    add_question,
    add_questions,
    change_form_texts,
    change_question,
)
from finesieve.services.forms.forms import create_form, publish_form, read_draft, read_form
from finesieve.services.forms.sharing import embed_on
from finesieve.services.forms.sowing import set_asked
from finesieve.services.people.personal_links import give_link
from finesieve.services.people.profiles import read_profile
from tests.support.browser import Page, address
from tests.support.house import make_house
from tests.support.shop import SHOP


class Members(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope, self.slug = self.house.scope, self.house.slug
        for name in ("Sprout", "Sower", "Steward"):
            create_membership(self.scope, "level", MembershipInput(name=name))
        zone = read_catalogue(self.scope).by_key["zone"]
        options = "\n".join(one.label for one in zone.options)
        change_field(self.scope, zone.id, FieldInput(label="Zone", options=options, settings={"change_by": "staff"}))
        self.form = create_form(self.scope, "Join us")
        for field in (LEVEL_QUESTION, *(self.house.field_id(key) for key in ("first_name", "zone"))):
            self.do(self.form, add_question, field)
        self.do(self.form, change_question, "q2", QuestionInput(required="yes"))
        columns = ["sprout", ""]
        self.do(self.form, set_asked, LEVEL_QUESTION, ["q3", "q4"], columns, "not asked")
        self.do(self.form, publish_form)
        self.account = create_account_form(self.scope, "Your account")
        self.do(self.account, add_question, self.house.field_id("zone"))
        self.do(self.account, publish_form)
        change_approval(self.scope, 'form.level = "steward"', {}, "")
        self.page = Page()

    def do(self, form: int, change, *rest, **options):  # type: ignore[no-untyped-def]
        return change(self.scope, form, read_draft(self.scope, form).revision, *rest, **options)

    def sound(self) -> None:
        self.assertEqual(self.page.violations(), [])
        self.assertEqual(self.page.complaints(), [])
        self.assertEqual(self.page.overflows(), [])

    def office(self) -> None:
        self.page.resize(1280, 800)
        self.page.sign_in(self.house.email)

    def test_a_newcomer_with_two_answers(self) -> None:
        page = self.page
        page.resize(390, 800)
        page.open(f"/join/{self.slug}/join-us")
        self.sound()
        page.press("Sprout", ".level-card")
        page.fill("input[type=email]", "fern@tilth.example")
        self.assertEqual(len(page.all(".question")), 2)
        page.press("Send", "button.send")
        page.until_text("main", "Thank you")
        self.sound()

    def test_who_waits_is_asked_approved_signs_in_and_asks_for_a_change(self) -> None:
        page = self.page
        page.resize(390, 800)
        page.open(f"/join/{self.slug}/join-us")
        page.press("Steward", ".level-card")
        page.fill("input[type=email]", "wren@hedgerow.example")
        page.fill("#q3", "Wren")
        page.press("North", ".chips label")
        page.press("Send", "button.send")
        page.until_text("main", "We will look at it")
        self.office()
        page.press("Decide what waits", "a")
        page.until_text("h1", "Waiting")
        self.sound()
        page.press("Ask for more", "a")
        page.fill("#text", "Which bed would you like?")
        page.press("Send the message", "button")
        page.until_text("h1", "Waiting")
        page.press("Choose Wren", "input")
        page.press("Approve what is ticked", "button")
        page.until_text("#sheet", "1 decision made")
        page.press("Undo", "button")
        page.until_text("#sheet", "Steward")
        page.press("Choose Wren", "input")
        page.press("Approve what is ticked", "button")
        page.until_text("#sheet", "Nothing waits")
        letters = [one for one in read_outbox(self.scope).letters if one.recipient == "wren@hedgerow.example"]
        self.assertIn("Which bed would you like?", [one.body for one in letters])
        page.driver.delete_all_cookies()
        page.resize(390, 800)
        page.open(next(one.link for one in letters if "/enter?" in one.link))
        page.press("Sign in", "button")
        page.until_text(".account-who", "Steward")
        self.sound()
        page.fill("#q2", "Robin")
        page.press("Save", "button.send")
        page.until_text(".summary", "Your changes are saved")
        self.assertEqual(page.all("[name=a_q6]"), [])
        page.press("Ask for a change", "summary")
        page.press("Hill", ".kept .chips label")
        page.fill("#q3", "Wood" + Keys.TAB)  # another answer on the way leaves the wish as it is
        page.wait(lambda: "q3" in page.all("#touched")[0].get_attribute("value"), "q3 was left")
        page.press("Ask for it", "button")
        page.until_text(".summary", "We have your request")
        self.sound()
        page.press("Signing in and password", "a")
        page.until_text("main", "this browser")
        self.sound()
        page.fill("#password", "nine plain words")
        page.press("Set the password", "button")
        page.until_text(".summary", "saved")
        page.press("Back to your account", "a")
        page.press("Sign out", "button")
        page.until_text("h1", "Your account")
        page.press("Sign in with a password", "summary")
        page.fill("#email2", "wren@hedgerow.example")
        page.fill("#password", "nine plain words" + Keys.ENTER)
        page.until_text(".account-who", "Robin")
        (person,) = [one for one in self.people() if one]
        profile = read_profile(self.scope, person)
        self.assertEqual((profile.name, profile.memberships.level), ("Robin", "steward"))

    def people(self) -> list[int]:
        from finesieve.core.fields.about import PERSON
        from finesieve.store.reading.rows import ids_after

        with self.scope.reading("reader") as unit:
            return list(ids_after(unit.session, unit.definitions, PERSON, 0, 5))

    def test_moving_up_pays_the_difference_and_is_asked_only_what_is_new(self) -> None:
        """A Sprout of whom the name is known becomes a Sower: asked for the zone alone, held once it is paid."""
        set_up_shop(self.scope, Shop.model_validate(SHOP | {"delivery": []}))
        group = create_group(self.scope, GroupInput(name="What it brings", about="level"))
        create_field(self.scope, group, FieldInput(label="Price", key="price", type_key="money"))
        for one in read_catalogue(self.scope).levels:
            set_level_values(self.scope, one.id, {"price": {"sprout": "6", "sower": "24"}.get(one.key, "60")})
            fee = LevelFeeInput(costs="form.level.price", moving="form.level.price - level.price")
            set_level_fee(self.scope, one.id, fee)
        self.do(
            self.form, change_question, "q3", QuestionInput(show_when='form.level != "sprout"', only_if_unknown=True)
        )
        title = FormTexts(
            title="Join us", title_known="{if(form.level is filled, form.level.price, 0)} a year", intro=""
        )
        self.do(self.form, change_form_texts, title)
        self.do(self.form, publish_form)
        person = self.house.add(email="wren@hedgerow.example", first_name="Wren")
        set_person_level(self.scope, person, "sprout")
        kind = create_personal_link(self.scope, PersonalLinkInput(name="Moving up", form=self.form))
        page = self.page
        page.resize(390, 800)
        page.open(give_link(self.scope, person, "moving_up"))
        page.until_text("h1", "£6.00 a year")
        page.press("Sower", ".level-card")
        page.until_text("#questions", "Membership: Sower")
        self.assertEqual(
            [one.get_attribute("data-question") for one in page.all("[data-question]")], ["q1", "q2", "q4"]
        )
        page.press("North", ".chips label")
        self.sound()
        page.press("Send", "button.send")
        page.until_text("h1", "Pay for order 1")
        page.until_text("main", "£18.00")
        self.assertEqual(read_profile(self.scope, person).memberships.level, "sprout")
        page.press("Pay £18.00", "button")
        page.until_text("main", "Your order is placed")
        self.sound()
        self.assertEqual(read_profile(self.scope, person).memberships.level, "sower")
        revoke_all(self.scope, kind)
        page.open(give_link(self.scope, person, "moving_up").replace("me=p.", "me=p.x"))
        page.until_text("h1", "This link does not work")
        self.assertEqual((page.violations(), len(page.complaints())), ([], 1))  # it is a 404, and the browser says so

    def test_twenty_questions_for_three_levels(self) -> None:
        """In the grid, by whole columns and rows, then the few that differ: far fewer steps than one for each rule."""
        fields = [
            create_field(self.scope, self.house.group_id(), FieldInput(label=f"Fact {number}"))
            for number in range(1, 21)
        ]
        form = self.form = create_form(self.scope, "Members")
        page = self.page
        self.office()
        page.open(f"/w/{self.slug}/collect/{form}")
        page.press("Ask in", ".ask-panel > summary")
        page.press("The level they choose", "#ask-list label")
        page.press("Ask what is ticked", "button")
        page.until_text(".question.on .question-label", "Level")
        self.sound()
        self.do(form, add_questions, fields)
        page.open(f"/w/{self.slug}/collect/{form}/asked")
        begun = page.clicks
        ids = {one.field_id: one.id for one in read_form(self.scope, self.form).document.questions}
        for how in ("not asked", "required", "optional", "not asked"):
            page.press("Sprout", "thead button")
            page.until_text("tbody", f"Fact 20, Sprout: {how}")
        self.assertIn("Email, Sprout: required", page.text("tbody"))
        for number in range(1, 6):
            for how in ("not asked", "required"):
                page.press(f"Fact {number}, Steward:", "td button")
                page.until_text("tbody", f"Fact {number}, Steward: {how}")
        self.assertLess(page.clicks - begun, 20)
        self.sound()
        document = read_form(self.scope, self.form).document
        rules = [document.question(ids[field]) for field in fields]
        rule = 'form.level is blank or form.level in ("sower", "steward")'
        self.assertEqual({one.show_when for one in rules if one}, {rule})
        self.assertEqual(len([one for one in rules if one and "steward" in one.required_when]), 5)

    def test_a_page_is_made_and_read_as_somebody(self) -> None:
        self.house.add(email="wren@hedgerow.example", first_name="Wren")
        self.house.add(email="fern@hedgerow.example", first_name="Fern")
        page = self.page
        self.office()
        page.press("Follow up", "a")
        page.press("All pages", "a")
        page.fill("#title", "Your year")
        page.press("Make the page", "button")
        page.until_text("h1", "Your year")
        page.fill("#text_0", "Hello **{{first_name}".replace("{{", "{"))
        page.press("Save the draft", "button")
        page.until_text(".page-preview", "Hello")
        page.fill("#who", "wren" + Keys.ENTER)
        page.until_text(".page-preview", "Wren")
        page.fill("#who", "fern" + Keys.ENTER)
        page.until_text(".page-preview", "Fern")
        page.press("Only for some", "button")
        page.choose("[name=show_0_c0_key]", "Level")
        page.wait(lambda: "is filled" in page.text("[name=show_0_c0_relation]"), "the relations of a level")
        page.choose("[name=show_0_c0_relation]", "is filled")
        page.press("Save the draft", "button")
        page.until_text(".page-preview", "Nothing shows")
        self.sound()
        page.press("Remove condition 1", "button")
        page.press("Save the draft", "button")
        page.until_text(".page-preview", "Hello")
        page.press("anyone", "label")
        page.press("Save and publish", "button")
        page.until_text(".lead", "Version 1 is in force")
        page.open(f"/pages/{self.slug}/your-year")
        page.until_text("h1", "Your year")
        self.sound()

    def test_within_a_page_of_another_site(self) -> None:
        here = f"{address()}/join/{self.slug}/join-us"
        frame = f'<iframe src="{here}?embed=1" title="Join us" width="100%" height="200" data-fine-sieve></iframe>'
        html = f'<!doctype html><title>Other</title>{frame}<script src="{address()}/static/embed.js"></script>'
        allowed, refused = (_Site(html), _Site(html))
        self.addCleanup(allowed.stop)
        self.addCleanup(refused.stop)
        self.do(self.form, embed_on, allowed.address)
        self.do(self.form, publish_form)
        page = self.page
        page.open(refused.address)
        page.driver.switch_to.frame(0)
        page.wait(lambda: not page.all(".level-card"), "nothing of the form")
        page.complaints()
        page.driver.switch_to.default_content()
        page.open(allowed.address)
        page.wait(lambda: int(page.one("iframe").get_attribute("height") or 0) > 300, "as high as the form")
        page.driver.switch_to.frame(0)
        page.press("Sprout", ".level-card")
        page.fill("input[type=email]", "fern@tilth.example")
        page.press("Send", "button.send")
        page.until_text("main", "Thank you")
        page.driver.switch_to.default_content()
        self.assertEqual(len(self.people()), 1)


class _Site:
    """A site of somebody else, with one page."""

    def __init__(self, html: str) -> None:
        self._server = ThreadingHTTPServer(("127.0.0.1", 0), partial(_Handler, html))
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        self.address = f"http://127.0.0.1:{self._server.server_address[1]}"

    def stop(self) -> None:
        self._server.shutdown()
        self._server.server_close()


class _Handler(BaseHTTPRequestHandler):
    def __init__(self, html: str, *rest: object) -> None:
        self._html = html
        super().__init__(*rest)  # type: ignore[arg-type]

    def do_GET(self) -> None:
        self.send_response(200)
        self.send_header("Content-Type", "text/html; charset=utf-8")
        self.end_headers()
        self.wfile.write(self._html.encode())

    def log_message(self, *_what: object) -> None:
        """Say nothing."""


if __name__ == "__main__":
    unittest.main()
