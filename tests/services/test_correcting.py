"""An order corrected by staff through its checkout: what changes, what it costs then, and who is asked or given back."""

import unittest
from dataclasses import replace
from datetime import timedelta
from urllib.parse import parse_qs, urlsplit

from sqlmodel import col, select

from finesieve.core.commerce.shop import Shop
from finesieve.core.errors import Conflict, LinkEnded, NotAllowed, NotFound
from finesieve.services.commerce.orders import (
    list_orders,
    move_order,
    read_order,
    refund_pieces,
    set_order_values,
    settle_due,
)
from finesieve.services.commerce.paying import settle_all
from finesieve.services.commerce.setting_up import set_up_shop
from finesieve.services.define.record_types import LinkInput, add_link
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.filling.open_form import OpenForm, Visit
from finesieve.services.filling.signup import PublicForms
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.forms.forms import publish_form
from finesieve.services.people.profiles import read_profile
from finesieve.services.people.records import read_record
from finesieve.store.tables import PaymentRow
from tests.support.database import store
from tests.support.house import NOW, make_house
from tests.support.shop import SECRET, Trade

KIT = ("kit", "small", 1)


class Correcting(unittest.TestCase):
    def setUp(self) -> None:
        self.trade = Trade(make_house())
        self.scope, self.slug = self.trade.house.scope, self.trade.house.slug
        self.clerk = replace(self.trade.as_clerk().scope, actor="Nerys Tarn")
        self.forms = self.trade.forms()

    def ordered(self, *, paid: bool = True, **answers: str) -> tuple[int, str]:
        """An order of a kit; gives its id and its link."""
        link = self.trade.order(KIT, **answers)
        if paid:
            self.trade.shop().pay(self.slug, link, accepted=True)
        return list_orders(self.scope).lines[0].id, link

    def open(self, order: int) -> OpenForm:
        path = self.forms.begin_correction(self.clerk, order)
        (me,) = parse_qs(urlsplit(path).query)["me"]
        return self.forms.open(self.slug, self.trade.slug, Visit(me=me))

    def correct(self, opened: OpenForm, total: str = "", **answers: str) -> OpenForm:
        """Send a correction: what the page began with, and these answers."""
        given = {**opened.given, **answers}
        seen = self.forms.answer(self.slug, self.trade.slug, opened.token, given)
        asked = frozenset(one.id for one in seen.outcome.showing)
        return self.forms.send(self.slug, self.trade.slug, opened.token, given, asked, total=total or seen.total)

    def payments(self) -> dict[str, tuple[int, str, int]]:
        with self.scope.reading("reader") as unit:
            rows = unit.session.exec(select(PaymentRow).order_by(col(PaymentRow.id))).all()
            return {one.key.partition("-")[2].partition("-")[2]: (one.amount, one.state, one.returned) for one in rows}

    def letters(self) -> list[str]:
        return [one.body for one in read_outbox(self.scope).letters if "has changed" in one.subject]

    def test_what_makes_it_dearer_is_asked_for_and_paid_once(self) -> None:
        order, link = self.ordered(q3="Moss")
        opened = self.open(order)
        self.assertEqual(
            (opened.total, opened.given["q3"], opened.corrects and opened.corrects.number), ("40.85", "Moss", 1)
        )
        self.assertTrue(self.correct(opened, q3="Kestrels").sent)
        view = read_order(self.scope, order)
        self.assertEqual((view.shown.total, view.due, view.line.state), ("£42.25", "£1.40", "placed"))
        self.assertEqual(list(view.reasons.values()), ["Plaque: Kestrels"])
        said = [(one.label, one.old, one.new, one.actor) for one in view.history if one.source == "correction"]
        self.assertEqual(
            said, [("Total", "£40.85", "£42.25", "Nerys Tarn"), ("Plaque", "Moss", "Kestrels", "Nerys Tarn")]
        )
        (letter,) = self.letters()
        self.assertIn("£1.40 more is to be paid", letter)
        self.assertEqual(self.payments(), {"": (4085, "paid", 0), "1": (140, "started", 0)})
        self.assertEqual(self.trade.shop().order(self.slug, link)[2].to_pay, "£1.40")
        for _ in range(2):
            self.trade.shop().pay(self.slug, link, accepted=True)
        self.assertEqual(self.payments()["1"], (140, "paid", 0))
        view = read_order(self.scope, order)
        self.assertEqual((view.due, [one.new for one in view.history if one.label == "Paid"]), ("", ["£1.40"]))

    def test_the_worker_sees_that_it_was_paid_and_staff_may_say_so(self) -> None:
        order, link = self.ordered(q3="Moss")
        self.correct(self.open(order), q3="Kestrels")
        self.trade.shop().pay(self.slug, link, accepted=True, told=False)
        self.assertEqual(read_order(self.scope, order).due, "£1.40")
        self.assertEqual((settle_all(self.scope, SECRET), settle_all(self.scope, SECRET)), (1, 0))
        self.assertEqual(read_order(self.scope, order).due, "")
        self.correct(self.open(order), q3="Kestrels and Wrens")
        settle_due(self.clerk, order)
        settle_due(self.clerk, order)
        self.assertEqual(
            [one.new for one in read_order(self.scope, order).history if one.label == "Paid"], ["£3.50", "£1.40"]
        )
        self.assertRaises(NotAllowed, lambda: settle_due(self.trade.house.as_role("reader"), order))

    def test_what_makes_it_cheaper_is_given_back(self) -> None:
        order, _ = self.ordered(q3="Kestrels")
        self.correct(self.open(order), q3="Moss")
        self.assertEqual(self.payments(), {"": (4225, "paid", 140)})
        self.assertIn("£1.40 is given back to you", self.letters()[0])
        self.assertEqual(read_order(self.scope, order).shown.total, "£40.85")

    def test_what_is_owed_is_lessened_before_money_goes_back(self) -> None:
        order, _ = self.ordered(q3="Moss")
        self.correct(self.open(order), q3="Kestrels")
        self.correct(self.open(order), q3="Mosses")
        self.assertEqual(read_order(self.scope, order).due, "£0.70")
        self.assertEqual(self.payments(), {"": (4085, "paid", 0), "1": (140, "started", 0), "2": (70, "started", 0)})
        self.correct(self.open(order), q3="")
        self.assertEqual(self.payments()[""], (4085, "paid", 140))
        move_order(self.clerk, order, "cancelled")
        self.assertEqual((self.payments()[""], read_order(self.scope, order).due), ((4085, "paid", 4085), ""))

    def test_cancelled_while_it_owes_it_gives_back_what_was_paid(self) -> None:
        order, link = self.ordered(q3="Moss")
        self.correct(self.open(order), q3="Kestrels")
        move_order(self.clerk, order, "cancelled")
        self.assertEqual(self.payments(), {"": (4085, "paid", 4085), "1": (140, "started", 0)})
        self.trade.shop().pay(self.slug, link, accepted=True)
        self.assertEqual(self.payments()["1"], (140, "approved", 0))
        self.assertRaises(Conflict, lambda: self.open(order))

    def test_before_it_is_paid_the_new_total_is_asked_for(self) -> None:
        order, link = self.ordered(paid=False, q3="Moss")
        opened = self.open(order)
        self.trade.shop().pay(self.slug, link, accepted=True, told=False)
        self.correct(opened, q3="Kestrels")
        self.assertEqual(self.payments(), {"": (4085, "approved", 0), "1": (4225, "started", 0)})
        self.trade.shop().settle(self.slug, link)
        self.assertEqual(read_order(self.scope, order).line.state, "awaiting_payment")
        self.trade.shop().pay(self.slug, link, accepted=True)
        self.assertEqual(self.payments(), {"": (4085, "approved", 0), "1": (4225, "paid", 0)})
        self.assertEqual(read_order(self.scope, order).line.state, "placed")

    def test_prices_and_ways_of_the_day_it_was_placed(self) -> None:
        order, _ = self.ordered(q3="Moss")
        with self.scope.transaction("owner") as unit:
            document = dict(unit.catalogue.shop.model_dump(mode="json") if unit.catalogue.shop else {})
        for product in document["products"]:
            product["price"] = "99"
        document["delivery"][0]["price"] = "50"
        set_up_shop(self.scope, Shop.model_validate(document))
        opened = self.open(order)
        self.assertEqual((opened.total, opened.more_by), ("40.85", 0))
        moved = self.forms.answer(self.slug, self.trade.slug, opened.token, opened.given, "", {"delivery": "gate"})
        self.assertEqual((moved.total, moved.more_by), ("35.90", -495))
        document["products"] = [one for one in document["products"] if one["key"] != "kit"]
        set_up_shop(self.scope, Shop.model_validate(document))
        self.correct(self.open(order), q2="Wren")
        self.assertEqual(read_order(self.scope, order).shown.lines[0].label, "Raised-bed kit, Small")

    def test_the_profile_and_what_was_sent_stay_as_they_are(self) -> None:
        order, _ = self.ordered(q2="Wren", q3="Moss")
        self.correct(self.open(order), q2="Robin", q1="robin@hedgerow.example")
        view = read_order(self.scope, order)
        self.assertIn(("First name", "Robin"), view.answered.answers)
        self.assertIn(
            ("Answer", "First name: Wren", "First name: Robin"), [(one.label, one.old, one.new) for one in view.history]
        )
        person = read_profile(self.scope, view.line.person_id)
        self.assertEqual([line.new for line in person.history if line.label == "First name"], ["Wren"])
        self.assertEqual(list_orders(self.scope).lines[0].person_id, view.line.person_id)
        self.assertEqual(self.letters(), [])

    def test_an_answer_that_is_not_asked_any_more_is_blank(self) -> None:
        self.trade.change(
            "q3",
            show_when='first_name = "Wren"',
            surcharges=({"label": "Engraving", "amount": "length(plaque) * 0.35"},),
        )
        publish_form(self.scope, self.trade.form, self.trade.revision())
        order, _ = self.ordered(q2="Wren", q3="Moss")
        self.correct(self.open(order), q2="Robin")
        view = read_order(self.scope, order)
        self.assertEqual(
            ([one.shown for one in view.asked if one.field.key == "plaque"], view.shown.total), ([""], "£39.45")
        )

    def test_a_piece_is_corrected_with_its_record(self) -> None:
        tag = self.trade.ask_per_piece()
        add_link(self.scope, tag, LinkInput(name="Order", back_name="Ordered tags", target="order"))
        order, _ = self.ordered(**{"q5.kit.small.1": "Wren"})
        ((_, record, _),) = read_order(self.scope, order).records
        opened = self.open(order)
        self.assertEqual(opened.given["q5.kit.small.1"], "Wren")
        self.correct(opened, **{"q5.kit.small.1": "Kestrel"})
        view = read_order(self.scope, order)
        self.assertEqual(view.under, {"line1": (("Tag", "Name: Kestrel"),)})
        self.assertEqual((len(view.records), view.due), (1, "£1.05"))
        (name,) = [
            line.shown
            for _, lines in read_record(self.scope, tag, record).groups
            for line in lines
            if line.field.key == "name"
        ]
        self.assertEqual(name, "Kestrel")
        self.correct(self.open(order), **{"q5.kit.small.1": ""})
        self.assertEqual(read_order(self.scope, order).under, {})
        self.correct(self.open(order), **{"q5.kit.small.1": "Moss"})
        view = read_order(self.scope, order)
        self.assertEqual((view.under, len(view.records)), ({"line1": (("Tag", "Name: Moss"),)}, 1))

    def test_pieces_of_an_order_that_waits_become_records_as_corrected(self) -> None:
        tag = self.trade.ask_per_piece()
        add_link(self.scope, tag, LinkInput(name="Order", back_name="Ordered tags", target="order"))
        self.ordered()
        order, _ = self.ordered(**{"q5.kit.small.1": "Wren"})
        self.correct(self.open(order), **{"q5.kit.small.1": "Kestrel"})
        person = list_orders(self.scope).lines[1].person_id
        (decision,) = waiting_for(self.scope, person)
        decide(self.scope, decision.id, apply=True)
        self.assertEqual([title for *_, title in read_order(self.scope, order).records], ["Tag Kestrel"])
        self.correct(self.open(order), **{"q5.kit.small.1": "Moss"})
        self.assertEqual([title for *_, title in read_order(self.scope, order).records], ["Tag Moss"])

    def test_what_was_refunded_keeps_what_was_charged(self) -> None:
        order, _ = self.ordered(q3="Moss")
        refund_pieces(self.clerk, order, "delivery", 1)
        refused = self.correct(self.open(order), q3="Kestrels")
        self.assertFalse(refused.sent)
        self.assertIn("refunded already", refused.unchosen["totals"])
        self.assertTrue(self.correct(self.open(order), q2="Wren").sent)

    def test_two_at_once_and_a_total_that_was_not_seen(self) -> None:
        order, _ = self.ordered(q3="Moss")
        first, second, third = self.open(order), self.open(order), self.open(order)
        self.assertFalse(self.correct(first, total="1.00", q3="Kestrels").sent)
        self.assertTrue(self.correct(first, q3="Kestrels").sent)
        refused = self.correct(second, q3="Wrens")
        self.assertIn("changed meanwhile", refused.unchosen["totals"])
        self.assertFalse(self.correct(first, q3="Kestrels").sent)
        set_order_values(self.clerk, order, {"shelf": "B 4"})
        self.assertFalse(self.correct(third, q3="Wrens").sent)
        self.assertEqual(read_order(self.scope, order).due, "£1.40")

    def test_only_who_works_here_and_only_for_an_hour(self) -> None:
        order, _ = self.ordered(q3="Moss")
        self.assertRaises(NotAllowed, lambda: self.forms.begin_correction(self.trade.house.as_role("reader"), order))
        other = Trade(make_house())
        self.assertRaises(NotFound, lambda: self.forms.begin_correction(other.house.scope, order))
        opened = self.open(order)
        late = PublicForms(store(), lambda: NOW + timedelta(hours=2), SECRET)
        asked = frozenset(one.id for one in opened.outcome.showing)
        with self.assertRaises(NotFound):
            late.send(self.slug, self.trade.slug, opened.token, opened.given, asked, total=opened.total)
        path = self.forms.begin_correction(self.clerk, order)
        (me,) = parse_qs(urlsplit(path).query)["me"]
        with self.assertRaises(LinkEnded):
            other.forms().open(other.house.slug, other.slug, Visit(me=me))


if __name__ == "__main__":
    unittest.main()
