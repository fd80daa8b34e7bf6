"""Levels that cost something: an ordinary order, paid before the level is held, held back where somebody has to approve."""

import unittest
from typing import Any
from urllib.parse import parse_qs, urlsplit

from sqlmodel import col, select

from finesieve.core.commerce.shop import Shop
from finesieve.core.errors import Conflict, InvalidInput, NotFound, Overtaken
from finesieve.core.fields.about import PERSON
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.core.setup.schema import read_schema
from finesieve.core.setup.trial import FormTrial, TrialCase
from finesieve.services.commerce.orders import move_order, read_order
from finesieve.services.commerce.papers import read_paper
from finesieve.services.commerce.public import PublicShop
from finesieve.services.commerce.setting_up import set_up_shop
from finesieve.services.define.approval import change_approval
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group
from finesieve.services.define.level_ends import LevelEndInput, set_level_end
from finesieve.services.define.level_fees import LevelFeeInput, set_level_fee
from finesieve.services.define.memberships import MembershipInput, create_membership, set_level_values, set_person_level
from finesieve.services.filling.approval import what_waits
from finesieve.services.filling.decisions import decide, reopen, waiting_for
from finesieve.services.filling.open_form import OpenForm, Visit
from finesieve.services.filling.signup import PublicForms
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.forms.composing import QuestionInput, add_question, change_question
from finesieve.services.forms.forms import create_form, publish_form, read_draft
from finesieve.services.kernel.changes import undo_change
from finesieve.services.people.profiles import read_profile
from finesieve.services.transfer.setups import export_setup, load_setup
from finesieve.store.reading.rows import find_by_email, stored_row
from finesieve.store.tables import OrderRow
from tests.support.database import store
from tests.support.house import NOW, make_house
from tests.support.shop import SECRET, SHOP

MAIL = "wren@hedgerow.example"


class Fees(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope, self.slug = self.house.scope, self.house.slug
        self.ids = {
            name: create_membership(self.scope, "level", MembershipInput(name=name.capitalize()))
            for name in ("sprout", "sower", "steward")
        }
        group = create_group(self.scope, GroupInput(name="What it brings", about="level"))
        create_field(self.scope, group, FieldInput(label="Price", key="price", type_key="money"))
        for name, price in (("sprout", "0"), ("sower", "24"), ("steward", "60")):
            set_level_values(self.scope, self.ids[name], {"price": price})
        set_up_shop(self.scope, Shop.model_validate(SHOP))
        for name in self.ids:
            self.cost(name, costs="form.level.price", moving="form.level.price - level.price", tax_class="standard")
        self.form = create_form(self.scope, "Join us")
        for field in (LEVEL_QUESTION, self.house.field_id("first_name"), self.house.field_id("zone")):
            self.do(add_question, field)
        self.do(publish_form)
        self.forms, self.shop = (make(store(), lambda: NOW, SECRET) for make in (PublicForms, PublicShop))

    def cost(self, name: str, **fee: str) -> int:
        return set_level_fee(self.scope, self.ids[name], LevelFeeInput(**fee))

    def do(self, change: Any, *rest: Any) -> Any:
        return change(self.scope, self.form, read_draft(self.scope, self.form).revision, *rest)

    def send(self, person: int = 0, page: dict[str, str] | None = None, key: str = "", **answers: str) -> OpenForm:
        """Send the form as its page shows it with these answers; `key` is the token of an earlier page."""
        opened = self.forms.open(
            self.slug, "join-us", Visit(page=page or {}, person=person, until=2**40 if person else 0)
        )
        token, given = key or opened.token, {**opened.given, **answers}
        seen = self.forms.answer(self.slug, "join-us", token, given, person=person)
        asked = frozenset(one.id for one in seen.outcome.showing)
        return self.forms.send(self.slug, "join-us", token, given, asked, total=seen.total, person=person)

    def rows(self) -> list[OrderRow]:
        with self.scope.reading("reader") as unit:
            return list(unit.session.exec(select(OrderRow).order_by(col(OrderRow.id))).all())

    def person(self, email: str = MAIL) -> int:
        with self.scope.reading("reader") as unit:
            return find_by_email(unit.session, unit.definitions, email) or 0

    def level(self, person: int = 0) -> str:
        return read_profile(self.scope, person or self.person()).memberships.level

    def pay(self, link: str) -> None:
        self.shop.pay(self.slug, link, accepted=True)

    # Paying

    def test_a_paid_level_is_an_order_and_held_once_it_is_paid(self) -> None:
        sent = self.send(q1=MAIL, q2="steward", q3="Wren")
        self.assertTrue(sent.sent)
        (row,) = self.rows()
        self.assertEqual(
            (row.number, row.state, row.total, row.person_id), (1, "awaiting_payment", 6000, self.person())
        )
        (line,) = read_order(self.scope, row.id or 0).shown.lines
        self.assertEqual((line.label, line.amount, line.percent), ("Membership: Steward", "£60.00", "20 %"))
        self.assertEqual((self.level(), read_profile(self.scope, self.person()).name), ("", "Wren"))
        self.pay(sent.order)
        self.pay(sent.order)
        self.assertEqual((self.level(), self.rows()[0].state), ("steward", "placed"))
        history = [one for one in read_profile(self.scope, self.person()).history if one.label == "Level"]
        self.assertEqual([(one.new, one.source) for one in history], [("steward", "order 1")])

    def test_it_has_an_invoice_and_is_corrected_at_its_price(self) -> None:
        """What was charged for the level stays, whatever it costs by now; a surcharge of the form follows the answer."""
        charge = ({"label": "Seed parcel", "option": "north", "amount": "5"},)
        self.do(change_question, "q4", QuestionInput(surcharges=charge))
        self.do(publish_form)
        self.pay(self.send(q1=MAIL, q2="steward", q4="south").order)
        order = self.rows()[0].id or 0
        paper = read_paper(self.scope, order, "invoice")
        self.assertEqual([line.label for line in paper.shown.lines], ["Membership: Steward"])
        set_level_values(self.scope, self.ids["steward"], {"price": "99"})
        (me,) = parse_qs(urlsplit(self.forms.begin_correction(self.scope, order)).query)["me"]
        opened = self.forms.open(self.slug, "join-us", Visit(me=me))
        self.assertEqual((opened.total, opened.more_by), ("60.00", 0))
        given = {**opened.given, "q4": "north"}
        seen = self.forms.answer(self.slug, "join-us", opened.token, given)
        self.assertEqual((seen.total, seen.more_by), ("65.00", 500))
        asked = frozenset(one.id for one in seen.outcome.showing)
        sent = self.forms.send(self.slug, "join-us", opened.token, given, asked, total=seen.total)
        self.assertTrue(sent.sent, sent.unchosen)
        self.assertEqual((self.rows()[0].total, self.rows()[0].due, self.level()), (6500, 500, "steward"))

    def test_a_free_level_places_no_order(self) -> None:
        self.assertTrue(self.send(q1=MAIL, q2="sprout").sent)
        self.assertEqual((self.level(), self.rows()), ("sprout", []))

    def test_moving_costs_the_formula_and_the_same_level_nothing(self) -> None:
        person = self.house.add(email=MAIL)
        set_person_level(self.scope, person, "sower")
        self.assertEqual(self.send(person, q2="steward").total, "36.00")
        self.assertTrue(self.send(person, q2="sower").sent)
        self.assertTrue(self.send(person, q2="sprout").sent)
        self.assertEqual([row.total for row in self.rows()], [3600])
        self.assertEqual(self.level(person), "sprout")

    def test_moving_from_the_account_asks_only_what_is_missing_and_the_level(self) -> None:
        person = self.house.add(email=MAIL, first_name="Wren")
        set_person_level(self.scope, person, "sower")
        visit = Visit(page={"move": "yes"}, person=person, until=2**40)
        opened = self.forms.open(self.slug, "join-us", visit)
        self.assertEqual([one.id for one in opened.outcome.showing], ["q2", "q4"])
        stranger = self.forms.open(self.slug, "join-us", Visit(page={"move": "yes"}))
        self.assertEqual([one.id for one in stranger.outcome.showing], ["q1", "q2", "q3", "q4"])

    def test_sent_twice_it_is_one_order(self) -> None:
        token = self.forms.open(self.slug, "join-us").token
        links = [self.send(key=token, q1=MAIL, q2="steward").order for _ in range(2)]
        self.assertEqual(len(self.rows()), 1)
        self.assertTrue(all(links))

    def test_a_total_that_was_not_shown_is_shown_first(self) -> None:
        opened = self.forms.open(self.slug, "join-us")
        answers = {"q1": MAIL, "q2": "steward"}
        sent = self.forms.send(
            self.slug, "join-us", opened.token, answers, frozenset({"q1", "q2", "q3", "q4"}), total="1"
        )
        self.assertEqual((sent.sent, sent.total_before, sent.total), (False, "1", "60.00"))
        self.assertEqual(self.rows(), [])

    def test_a_price_that_cannot_be_told_gives_nothing_away(self) -> None:
        set_level_values(self.scope, self.ids["steward"], {"price": ""})
        sent = self.send(q1=MAIL, q2="steward")
        self.assertEqual((sent.sent, bool(sent.cart_problem), self.person()), (False, True, 0))

    def test_somebody_with_a_known_email_pays_and_holds_it_once_they_confirm(self) -> None:
        person = self.house.add(email=MAIL)
        self.pay(self.send(q1=MAIL, q2="steward").order)
        self.assertEqual((self.rows()[0].person_id, self.level(person)), (0, ""))
        decide(self.scope, waiting_for(self.scope, person)[0].id, apply=True)
        self.assertEqual((self.rows()[0].person_id, self.level(person)), (person, "steward"))

    def test_a_known_email_that_never_pays_gets_no_level_by_confirming(self) -> None:
        person = self.house.add(email=MAIL)
        self.send(q1=MAIL, q2="steward")
        decide(self.scope, waiting_for(self.scope, person)[0].id, apply=True)
        self.assertEqual(self.level(person), "")

    def test_surcharges_and_discounts_of_the_form_are_on_the_order(self) -> None:
        charge = ({"label": "Seed parcel", "amount": "5"}, {"label": "Neighbour", "amount": "-10"})
        self.do(change_question, "q4", QuestionInput(surcharges=charge))
        self.do(publish_form)
        self.send(q1=MAIL, q2="steward", q4="north")
        self.assertEqual(self.rows()[0].total, 6000 + 500 - 1000)

    def test_staff_can_say_that_it_was_paid_another_way_or_cancel_it(self) -> None:
        self.send(q1=MAIL, q2="steward")
        move_order(self.scope, self.rows()[0].id or 0, "placed")
        self.assertEqual(self.level(), "steward")
        self.send(q1="fern@hedgerow.example", q2="steward")
        move_order(self.scope, self.rows()[1].id or 0, "cancelled")
        self.assertEqual(self.level(self.person("fern@hedgerow.example")), "")

    # Holding it for longer

    def test_renewing_counts_from_the_last_day_and_costs_the_full_price(self) -> None:
        set_level_end(self.scope, self.ids["steward"], LevelEndInput(ends="after", after=1, unit="years"))
        person = self.house.add(email=MAIL)
        set_person_level(self.scope, person, "steward")
        before = self.ends(person)
        self.assertEqual(self.send(person, q2="steward").order, "")
        sent = self.send(person, {"renew": "yes"}, q2="steward")
        self.assertEqual((sent.total, self.ends(person)), ("60.00", before))
        self.pay(sent.order)
        self.assertEqual(self.ends(person), before.replace(year=before.year + 1))
        self.assertIn(
            "Membership renewed: Steward", read_order(self.scope, self.rows()[0].id or 0).shown.lines[0].label
        )

    def test_renewing_what_is_free_needs_no_order(self) -> None:
        set_level_end(self.scope, self.ids["sprout"], LevelEndInput(ends="after", after=1, unit="years"))
        person = self.house.add(email=MAIL)
        set_person_level(self.scope, person, "sprout")
        before = self.ends(person)
        self.send(person, {"renew": "yes"}, q2="sprout")
        self.assertEqual((self.ends(person), self.rows()), (before.replace(year=before.year + 1), []))

    def ends(self, person: int) -> Any:
        with self.scope.reading("reader") as unit:
            return (stored_row(unit.session, unit.definitions, PERSON, person) or {})["level_ends"]

    # Who waits

    def let_stewards_wait(self, *holds: str) -> None:
        change_approval(self.scope, 'form.level = "steward"', {}, "", holds)

    def test_an_order_goes_through_while_its_level_waits(self) -> None:
        self.let_stewards_wait()
        change_approval(self.scope, 'form.level = "steward"', {"staff": "Look at {email}."}, "maud@house.example")
        sent = self.send(q1=MAIL, q2="steward")
        self.pay(sent.order)
        self.assertEqual((self.rows()[0].state, self.level()), ("placed", ""))
        with self.scope.reading("reader") as unit:
            self.assertEqual(what_waits(unit, self.person()), (("Level", "Steward"),))
        told = next(one.body for one in read_outbox(self.scope).letters if one.recipient == "maud@house.example")
        self.assertEqual(told, f"Look at {MAIL}.\n\nLevel: Steward")
        (waiting,) = waiting_for(self.scope, self.person())
        decide(self.scope, waiting.id, apply=True)
        self.assertEqual(self.level(), "steward")
        reopen(self.scope, waiting.id)
        self.assertEqual(self.level(), "")
        decide(self.scope, waiting.id, apply=True)
        self.assertEqual(self.level(), "steward")

    def test_approved_before_it_is_paid_it_is_held_once_it_is(self) -> None:
        self.let_stewards_wait()
        sent = self.send(q1=MAIL, q2="steward")
        decide(self.scope, waiting_for(self.scope, self.person())[0].id, apply=True)
        self.assertEqual(self.level(), "")
        self.pay(sent.order)
        self.assertEqual(self.level(), "steward")

    def test_a_held_order_is_paid_only_after_a_yes(self) -> None:
        self.let_stewards_wait("level.steward")
        sent = self.send(q1=MAIL, q2="steward")
        self.pay(sent.order) if self.rows()[0].state != "held" else None
        self.assertEqual((self.rows()[0].state, self.shop.order(self.slug, sent.order)[2].to_pay), ("held", ""))
        (waiting,) = waiting_for(self.scope, self.person())
        decide(self.scope, waiting.id, apply=True)
        self.assertEqual((self.rows()[0].state, self.level()), ("awaiting_payment", ""))
        letter = next(one for one in read_outbox(self.scope).letters if one.subject.startswith("Welcome"))
        self.assertIn("/order/", letter.link)
        reopen(self.scope, waiting.id)
        self.assertEqual(self.rows()[0].state, "held")
        decide(self.scope, waiting.id, apply=True)
        self.pay(letter.link.rpartition("/")[2])
        self.assertEqual((self.rows()[0].state, self.level()), ("placed", "steward"))

    def test_declining_cancels_a_held_order_and_can_be_taken_back(self) -> None:
        self.let_stewards_wait("level.steward")
        self.send(q1=MAIL, q2="steward")
        (waiting,) = waiting_for(self.scope, self.person())
        decide(self.scope, waiting.id, apply=False)
        self.assertEqual(self.rows()[0].state, "cancelled")
        reopen(self.scope, waiting.id)
        self.assertEqual(self.rows()[0].state, "held")

    def test_what_was_cancelled_meanwhile_cannot_be_approved(self) -> None:
        self.let_stewards_wait("level.steward")
        self.send(q1=MAIL, q2="steward")
        move_order(self.scope, self.rows()[0].id or 0, "cancelled")
        with self.assertRaises(Conflict):
            decide(self.scope, waiting_for(self.scope, self.person())[0].id, apply=True)
        self.assertEqual(self.level(), "")

    # Setting it up

    def test_what_cannot_be_a_price_is_said_at_its_place(self) -> None:
        for part, fee in (
            ("costs", {"costs": "first_name"}),
            ("costs", {"costs": "form.level.prize"}),
            ("moving", {"costs": "5", "moving": "level.price +"}),
            ("costs", {"moving": "5"}),
            ("tax_class", {"costs": "5", "tax_class": "none"}),
        ):
            with self.assertRaises(InvalidInput) as problem:
                self.cost("sower", **fee)
            self.assertEqual(list(problem.exception.messages), [part], fee)
        other = make_house()
        level = create_membership(other.scope, "level", MembershipInput(name="Sower"))
        with self.assertRaises(InvalidInput):
            set_level_fee(other.scope, level, LevelFeeInput(costs="5"))
        with self.assertRaises(NotFound):
            set_level_fee(other.scope, self.ids["sower"], LevelFeeInput(costs="5"))

    def test_a_price_is_undone_and_two_people_do_not_overwrite_each_other(self) -> None:
        change = self.cost("sower", costs="30")
        undo_change(self.scope, change)
        self.assertEqual(self.send(q1=MAIL, q2="sower").total, "24.00")
        with self.assertRaises(Overtaken):
            set_level_fee(self.scope, self.ids["sower"], LevelFeeInput(costs="31"), LevelFeeInput(costs="7"))

    def test_prices_go_by_file_and_are_tried_by_files_alone(self) -> None:
        text = export_setup(self.scope, values=True)[1]
        trial = FormTrial(read_schema(text), "join-us")
        brings = {"sower": {"price": 24}, "steward": {"price": 60}}

        def tried(**case: Any) -> Any:
            return trial.outcome(TrialCase.model_validate({"levels": brings, **case}), NOW)

        first = tried(answers={"email": MAIL, "level": "steward"})
        self.assertEqual((first.total, [one.label for one in first.lines]), ("60", ["Membership: Steward"]))
        moved = tried(answers={"level": "steward"}, level="sower", person={"email": MAIL})
        self.assertEqual(moved.total, "36")
        self.assertEqual(tried(answers={"email": MAIL, "level": "sprout"}).lines, ())
        other = make_house()
        load_setup(other.scope, text)
        with other.scope.reading("reader") as unit:
            fees = [one.fee.costs if one.fee else "" for one in unit.catalogue.levels]
        self.assertEqual(fees, ["form.level.price"] * 3)
