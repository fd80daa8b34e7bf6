"""Accounts of people: signing in, what they see and change, what they may not, and what strangers get."""

import json
import re
import unittest
from datetime import timedelta
from unittest.mock import patch

from sqlmodel import select

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.services.accounts.members import MemberAccounts, SignedInMember
from finesieve.services.commerce.orders import list_orders
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.fields import FieldInput, change_field, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.memberships import MembershipInput, create_membership, set_person_level
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.forms.beginning import create_account_form
from finesieve.services.forms.composing import (
    FormSettings,
    SectionInput,
    add_question,
    add_section,
    change_form_settings,
    change_section,
)
from finesieve.services.forms.forms import create_form, publish_form, read_draft, read_form
from finesieve.services.people.accounts import send_link_to
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.people.records import add_record, read_record
from finesieve.store.tables import MemberLink, MemberSession
from tests.support.database import store
from tests.support.house import NOW, make_house
from tests.support.shop import SECRET, Trade
from tests.support.site import Office, application, visitor

WREN = "wren@hedgerow.example"


class Account(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope, self.slug = self.house.scope, self.house.slug
        self.person = self.house.add(email=WREN, first_name="Wren")
        self.form = create_account_form(self.scope, "Your account")
        self.do(publish_form)
        self.browser = visitor()
        self.here = f"/account/{self.slug}"

    def do(self, change, *rest, **options):  # type: ignore[no-untyped-def]
        return change(self.scope, self.form, read_draft(self.scope, self.form).revision, *rest, **options)

    def ask(self, key: str, section: str = "s1", about: str = "person") -> str:
        """Ask a field; gives the id of its question."""
        field = read_catalogue(self.scope).keys_of(about)[key].id
        self.do(add_question, field, section)
        return next(one.id for one in read_form(self.scope, self.form).document.questions if one.field_id == field)

    def letters(self) -> list[str]:
        return [one.link for one in read_outbox(self.scope).letters if "/enter?" in one.link]

    def link(self) -> str:
        self.browser.post(f"{self.here}/link", data={"email": WREN})
        found = re.search(r"link=([\w-]+)", self.letters()[0])
        assert found
        return found[1]

    def sign_in(self):  # type: ignore[no-untyped-def]
        answer = self.browser.post(f"{self.here}/enter", data={"link": self.link()})
        self.assertEqual((answer.status_code, answer.headers["location"]), (303, self.here))
        return self.page()

    def page(self) -> str:
        answer = self.browser.get(self.here)
        return self.browser.get(answer.headers["location"]).text if answer.status_code == 303 else ""

    def post(self, action: str = "send", **answers: str):  # type: ignore[no-untyped-def]
        """Send the account as it is on the page, with other answers."""
        page = self.page()
        given = dict(re.findall(r'name="(a_[\w.]+)" value="([^"]*)"', page))
        token = re.search(r'name="token" value="([^"]+)"', page)
        assert token
        asked = re.findall(r'name="asked" value="([^"]+)"', page)
        data = {**given, **{f"a_{name}": text for name, text in answers.items()}, "asked": asked, "action": action}
        return self.browser.post(self.at, data={**data, "token": token[1]})

    @property
    def at(self) -> str:
        return f"/join/{self.slug}/{read_form(self.scope, self.form).slug}"

    def values(self) -> dict[str, str]:
        return {
            line.field.key: line.shown for _, lines in read_profile(self.scope, self.person).groups for line in lines
        }

    def test_nothing_tells_whether_an_address_is_known(self) -> None:
        known = self.browser.post(f"{self.here}/link", data={"email": WREN})
        unknown = self.browser.post(f"{self.here}/link", data={"email": "fern@hedgerow.example"})
        self.assertEqual(known.status_code, unknown.status_code)
        self.assertEqual(known.text.replace(WREN, ""), unknown.text.replace("fern@hedgerow.example", ""))
        self.assertEqual(len(self.letters()), 1)
        with patch.object(MemberAccounts, "ask_link") as late:
            self.browser.post(f"{self.here}/link", data={"email": WREN})
            late.assert_called_once()
        self.assertEqual(self.browser.post(f"{self.here}/link", data={"email": "wren"}).status_code, 422)

    def test_a_link_works_once_here_and_within_the_hour(self) -> None:
        link = self.link()
        self.assertEqual(self.browser.get(f"{self.here}/enter?link={link}").status_code, 200)
        self.assertEqual(self.browser.get(f"{self.here}/enter?link={link}x").status_code, 404)
        other = make_house()
        create = create_account_form(other.scope, "Account")
        publish_form(other.scope, create, read_draft(other.scope, create).revision)
        self.assertEqual(visitor().post(f"/account/{other.slug}/enter", data={"link": link}).status_code, 404)
        late = MemberAccounts(store(), lambda: NOW + timedelta(minutes=61), SECRET, fast_hashes=True)
        self.assertRaises(NotFound, lambda: late.enter(self.slug, link, ""))
        self.assertEqual(self.browser.post(f"{self.here}/enter", data={"link": link}).status_code, 303)
        self.assertEqual(visitor().post(f"{self.here}/enter", data={"link": link}).status_code, 404)
        with self.scope.transaction("owner") as unit:
            kept = unit.session.exec(select(MemberLink.token_hash)).all()
            tokens = unit.session.exec(select(MemberSession.token_hash)).all()
        self.assertNotIn(link, [*kept, *tokens])

    def test_five_links_at_once_are_enough(self) -> None:
        for _ in range(8):
            self.browser.post(f"{self.here}/link", data={"email": WREN})
        self.assertEqual(len(self.letters()), 5)

    def test_strangers_are_shown_the_way_in(self) -> None:
        self.assertEqual(self.browser.get(self.at).headers["location"], self.here)
        self.assertIn("Send me a link", self.browser.get(self.here).text)
        for path in ("security", "everything.json"):
            self.assertEqual(self.browser.get(f"{self.here}/{path}").headers["location"], self.here)
        self.assertEqual(self.browser.post(self.at, data={"token": "x", "a_q1": "a@b.example"}).status_code, 404)
        self.assertEqual(self.browser.get("/account/nowhere").status_code, 404)
        self.assertEqual(
            self.browser.post(f"{self.here}/out", headers={"Origin": "http://evil.example"}).status_code, 403
        )

    def test_they_see_and_change_what_is_kept(self) -> None:
        page = self.sign_in()
        self.assertIn('value="Wren"', page)
        answer = self.post(q2="Robin")
        self.assertEqual(answer.headers["location"], f"{self.at}?saved=1")
        self.assertEqual(self.values()["first_name"], "Robin")
        (line,) = [one for one in read_profile(self.scope, self.person).history if one.new == "Robin"]
        self.assertEqual(line.source, "form: Your account")
        self.post(q1="robin@hedgerow.example")
        self.assertEqual(self.values()["email"], WREN)
        self.assertEqual(
            {one.recipient for one in read_outbox(self.scope).letters if one.subject.startswith("Your address")},
            {WREN, "robin@hedgerow.example"},
        )

    def test_signed_out_an_open_page_changes_nothing(self) -> None:
        page = self.sign_in()
        token = re.search(r'name="token" value="([^"]+)"', page)
        assert token
        self.browser.post(f"{self.here}/out")
        data = {"token": token[1], "a_q1": WREN, "a_q2": "Robin", "asked": ["q1", "q2", "q3"], "action": "send"}
        self.assertEqual(self.browser.post(self.at, data=data).status_code, 404)
        self.assertEqual(visitor().post(self.at, data=data).status_code, 404)
        self.assertEqual(self.values()["first_name"], "Wren")

    def test_where_they_are_signed_in(self) -> None:
        first = self.browser
        self.sign_in()
        self.browser = visitor()
        self.sign_in()
        page = self.browser.get(f"{self.here}/security").text
        (other,) = re.findall(r'name="session" value="(\d+)"', page)
        self.browser.post(f"{self.here}/sessions", data={"session": other})
        self.assertIn("Send me a link", first.get(self.here).text)
        stranger = MemberAccounts(store(), lambda: NOW, SECRET, fast_hashes=True)
        with self.scope.reading("reader") as unit:
            mine = unit.session.exec(select(MemberSession)).one()
        someone = self.house.add(email="fern@hedgerow.example")
        them = stranger.who(self.slug, "x")
        self.assertIsNone(them)
        stranger.end_sessions(self.slug, SignedInMember(someone, 0, 0, ""), mine.id or 0)
        self.assertEqual(self.browser.get(f"{self.here}/security").status_code, 200)

    def test_staff_send_a_link_and_sign_them_out(self) -> None:
        office = Office(self.house)
        part = f"people/{self.person}/account"
        self.assertIn("Has not signed in yet", office.get(part).text)
        office.post(part, {"action": "link"})
        self.assertEqual(len(self.letters()), 1)
        self.sign_in()
        self.assertIn("1 browser", office.get(part).text)
        waiting = self.link()
        office.post(part, {"action": "end"})
        self.assertIn("Send me a link", self.browser.get(self.here).text)
        self.assertEqual(self.browser.post(f"{self.here}/enter", data={"link": waiting}).status_code, 404)
        self.assertRaises(NotAllowed, lambda: send_link_to(self.house.as_role("reader"), self.person))

    def test_the_level_and_its_last_day_stand_on_it(self) -> None:
        level = create_membership(self.scope, "level", MembershipInput(name="Steward"))
        office = Office(self.house)
        sent = {"ends": "on", "on": "2031-02-03", "was_ends": "never", "was_on": ""}
        self.assertEqual(office.post(f"define/levels/{level}/end", sent).status_code, 303)
        self.assertIn("until 3 Feb 2031", office.get("define/levels").text)
        wrong = {"ends": "on", "on": "", "was_ends": "on", "was_on": "2031-02-03"}
        refused = office.post(f"define/levels/{level}/end", wrong)
        self.assertEqual((refused.status_code, "Choose the last day." in refused.text), (422, True))
        set_person_level(self.scope, self.person, "steward")
        self.assertRegex(self.sign_in(), r"Steward,\s+until 3 Feb 2031")

    def test_a_password(self) -> None:
        self.sign_in()
        short = self.browser.post(f"{self.here}/security", data={"password": "short"})
        self.assertEqual((short.status_code, "at least 10" in short.text), (422, True))
        self.browser.post(f"{self.here}/security", data={"password": "nine plain words"})
        again = visitor()
        wrong = again.post(f"{self.here}/password", data={"email": WREN, "password": "nine plain word"})
        self.assertEqual(wrong.status_code, 422)
        nobody = again.post(f"{self.here}/password", data={"email": "fern@hedgerow.example", "password": "x"})
        self.assertEqual(nobody.text.replace("fern@hedgerow.example", ""), wrong.text.replace(WREN, ""))
        self.assertEqual(
            again.post(
                f"{self.here}/password", data={"email": WREN.upper(), "password": "nine plain words"}
            ).status_code,
            303,
        )
        refused = self.browser.post(f"{self.here}/security", data={"password": "another plain one", "current": "no"})
        self.assertEqual((refused.status_code, "not your password" in refused.text), (422, True))
        self.browser.post(f"{self.here}/security", data={"action": "remove", "current": "nine plain words"})
        self.assertEqual(again.get(f"{self.here}/security").status_code, 303)
        gone = visitor().post(f"{self.here}/password", data={"email": WREN, "password": "nine plain words"})
        self.assertEqual(gone.status_code, 422)

    def test_the_password_cannot_be_tried_out_where_somebody_is_signed_in(self) -> None:
        self.sign_in()
        self.browser.post(f"{self.here}/security", data={"password": "nine plain words"})
        wrong = {"password": "another plain one", "current": "no"}
        tried = [self.browser.post(f"{self.here}/security", data=wrong).status_code for _ in range(10)]
        self.assertEqual((tried[0], tried[-1]), (422, 429))

    def test_a_password_check_always_costs_the_same(self) -> None:
        members = application().state.site.members
        with patch.object(members._hasher, "verify", return_value=False) as checked:
            for email in (WREN, "fern@hedgerow.example", ""):
                with self.assertRaises(InvalidInput):
                    members.sign_in(self.slug, email, "x", "there", "")
        self.assertEqual(checked.call_count, 3)

    def test_what_is_locked_shows_and_can_be_asked_for(self) -> None:
        zone = read_catalogue(self.scope).by_key["zone"]
        change_field(
            self.scope,
            zone.id,
            FieldInput(label="Zone", options="\n".join(o.label for o in zone.options), settings={"change_by": "staff"}),
        )
        name = self.ask("zone")
        self.do(publish_form)
        set_values(self.scope, self.person, {"zone": zone.options[0].stored_value})
        page = self.sign_in()
        self.assertIn("Ask for a change", page)
        self.assertNotIn(f'name="asked" value="{name}"', page)
        self.post(**{name: zone.options[1].stored_value})
        self.assertEqual(self.values()["zone"], zone.options[0].label)
        self.assertEqual(self.post(f"ask:{name}", **{f"wish.{name}": "moon"}).status_code, 422)
        self.assertEqual(self.post(f"ask:{name}", **{f"wish.{name}": zone.options[0].stored_value}).status_code, 422)
        asked = self.post(f"ask:{name}", q2="Half typed", **{f"wish.{name}": zone.options[1].stored_value})
        self.assertEqual(
            (asked.status_code, "We have your request" in asked.text, 'value="Half typed"' in asked.text),
            (200, True, True),
        )
        self.post(f"ask:{name}", **{f"wish.{name}": zone.options[2].stored_value})
        (waiting,) = waiting_for(self.scope, self.person)
        self.assertEqual(
            [(line.stored, line.answer) for line in waiting.wanted.lines],
            [(zone.options[0].label, zone.options[2].label)],
        )
        decide(self.scope, waiting.id, apply=True)
        self.assertEqual(self.values()["zone"], zone.options[2].label)
        self.post(f"ask:{name}", **{f"wish.{name}": zone.options[1].stored_value})
        decide(self.scope, waiting_for(self.scope, self.person)[0].id, apply=False)
        told = [one.body for one in read_outbox(self.scope).letters if one.subject.startswith("What you asked")]
        self.assertEqual(
            told,
            ["We have not changed Zone. It stays as it is.", f"Zone is now {zone.options[2].label}, as you asked."],
        )
        self.assertEqual(self.post("ask:q2", **{"wish.q2": "Robin"}).status_code, 404)

    def test_records_are_added_changed_and_put_away_only_their_own(self) -> None:
        plots = create_record_type(self.scope, RecordTypeInput(singular="Plot", plural="Plots", holder="Holder"))
        self.do(add_section, "Plots")
        self.do(change_section, "s2", SectionInput(title="Plots", repeat=str(plots), most=3, one="Plot"))
        name = self.ask("name", "s2", f"record:{plots}")
        self.do(publish_form)
        link = read_catalogue(self.scope).record_types_by_id[plots].links[0].id
        mine = add_record(self.scope, plots, {"name": "C 14"}, {link: [self.person]})
        theirs = add_record(self.scope, plots, {"name": "D 2"}, {link: [self.house.add(email="fern@hedgerow.example")]})
        page = self.sign_in()
        self.assertEqual(("C 14" in page, "D 2" in page), (True, False))
        self.post(**{f"{name}.r{mine}": "C 15", "s2": f"r{mine}"})
        self.assertEqual(read_record(self.scope, plots, mine).title, "C 15")
        for record, status in ((theirs, 404), (999, 404), (mine, 200)):
            self.assertEqual(self.post(f"retire:s2:r{record}").status_code, status)
        self.assertNotIn("C 15", self.page())
        self.assertFalse(read_record(self.scope, plots, theirs).archived_at is not None)

    def test_all_that_is_kept_but_what_is_private(self) -> None:
        group = create_group(self.scope, GroupInput(name="Ours", seen_by="staff"))
        create_field(self.scope, group, FieldInput(label="Remark", key="remark", type_key="short_text"))
        person = read_catalogue(self.scope).groups[0].id
        create_derived(self.scope, DerivedInput(label="Told", key="told", formula='remark else "-"', group_id=person))
        create_derived(
            self.scope, DerivedInput(label="Greeting", key="greeting", formula="upper(first_name)", group_id=person)
        )
        set_values(self.scope, self.person, {"remark": "pays late"})
        self.sign_in()
        answer = self.browser.get(f"{self.here}/everything.json")
        kept = json.loads(answer.text)
        self.assertEqual((kept["you"]["First name"], kept["you"]["Greeting"]), ("Wren", "WREN"))
        self.assertNotIn("pays late", answer.text)

    def test_orders_stand_on_it_and_the_checkout_opens_one(self) -> None:
        trade = Trade(self.house)
        for account, wished, letters in (
            ("", True, 0),
            ("offered", False, 0),
            ("offered", True, 1),
            ("required", False, 2),
        ):
            revision = trade.revision()
            change_form_settings(self.scope, trade.form, revision, FormSettings(account=account))
            publish_form(self.scope, trade.form, trade.revision())
            opened = trade.open(trade.cart(("packet", "", 1)))
            answers = {"q1": f"n{letters}{account}{wished}@hedgerow.example"}
            seen = trade.forms().answer(self.slug, trade.slug, opened.token, answers)
            asked = frozenset(one.id for one in seen.outcome.showing)
            sent = trade.forms().send(
                self.slug, trade.slug, opened.token, answers, asked, total=seen.total, account=wished
            )
            self.assertTrue(sent.sent)
            self.assertEqual(len(self.letters()), letters, (account, wished))
        self.sign_in()
        page = self.browser.get(f"/join/{self.slug}/{trade.slug}?cart={trade.cart(('packet', '', 1))}").text
        self.assertIn(f'value="{WREN}"', page)
        token = re.search(r'name="token" value="([^"]+)"', page)
        total = re.search(r'name="total" value="([^"]+)"', page)
        assert token and total
        asked = re.findall(r'name="asked" value="([^"]+)"', page)
        data = {
            "token": token[1],
            "total": total[1],
            "asked": asked,
            "a_q1": WREN,
            "a_q4": "no",
            "delivery": "van",
            "payment": "pay",
        }
        self.browser.post(f"/join/{self.slug}/{trade.slug}", data=data)
        line = list_orders(self.scope).lines[0]
        self.assertEqual(line.person_id, self.person)
        page = self.page()
        self.assertIn(f"Order {line.number}", page)
        self.assertIn("Friend: no", page)

    def test_staff_decide_many_at_once_and_take_it_back(self) -> None:
        level = create_membership(self.scope, "level", MembershipInput(name="Steward"))
        self.assertTrue(level)
        form = create_form(self.scope, "Join us")
        add_question(self.scope, form, read_draft(self.scope, form).revision, LEVEL_QUESTION)
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        office = Office(self.house)
        said = {"waits_when": 'form.level = "steward"', "action": "save", "tell": "", "text_approved": "Welcome."}
        self.assertEqual(office.post("define/approval", said).status_code, 303)
        self.assertIn("Level they are choosing", office.get("define/approval").text)
        self.assertEqual(office.post("define/approval", {**said, "waits_when": "nonsense"}).status_code, 422)
        for name in ("fern", "moss"):
            page = self.browser.get(f"/join/{self.slug}/join-us").text
            token = re.search(r'name="token" value="([^"]+)"', page)
            assert token
            data = {"token": token[1], "a_q1": f"{name}@hedgerow.example", "a_q2": "steward", "asked": ["q1", "q2"]}
            self.browser.post(f"/join/{self.slug}/join-us", data=data)
        page = office.get("waiting").text
        ids = re.findall(r'name="decision" value="(\d+)"', page)
        self.assertEqual((len(ids), office.post("waiting", {"do": "apply"}).status_code), (2, 422))
        done = office.client.post(office.path("waiting"), data={"csrf": office.csrf, "decision": ids, "do": "apply"})
        after = office.client.get(done.headers["location"]).text
        self.assertIn("2 decisions made", after)
        self.assertIn("Nothing waits", after)
        (more,) = {office.post(f"waiting/{ids[0]}/more", {"text": "Which plot?"}).status_code}
        self.assertEqual(more, 404)
        office.client.post(office.path("waiting/undo"), data={"csrf": office.csrf, "decision": ids})
        self.assertEqual(len(re.findall(r'name="decision"', office.get("waiting").text)), 2)
        self.assertEqual(office.post(f"waiting/{ids[0]}/more", {"text": ""}).status_code, 422)
        self.assertEqual(office.post(f"waiting/{ids[0]}/more", {"text": "Which plot?"}).status_code, 303)


if __name__ == "__main__":
    unittest.main()
