"""The shop: carts, a checkout sent once and twice, paying, whose order it is, packing, refunds; nothing from the browser counts."""

import csv
import io
import threading
import unittest
from dataclasses import replace
from datetime import timedelta
from typing import Any

from sqlmodel import col, select

from finesieve.core.errors import Conflict, InvalidInput, NotAllowed, NotFound
from finesieve.core.forms.wording import wording_without_form
from finesieve.services.commerce.carts import sweep_carts
from finesieve.services.commerce.orders import (
    OrderListing,
    Sort,
    list_orders,
    move_order,
    orders_as_csv,
    orders_of_person,
    read_order,
    refund_pieces,
    set_order_values,
)
from finesieve.services.commerce.setting_up import set_up_shop
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.record_types import LinkInput, add_link
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.filling.open_form import Visit
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.forms.cases import CaseResult, keep_case, run_cases
from finesieve.services.forms.composing import add_question
from finesieve.services.forms.forms import create_form, publish_form, read_draft, read_form
from finesieve.services.forms.rehearsing import Circumstances, rehearse
from finesieve.services.kernel.changes import undo_change
from finesieve.services.people.bench import find_anything, read_bench
from finesieve.services.people.profiles import set_values
from finesieve.services.people.records import add_record, link_record, read_record
from finesieve.services.transfer.setups import export_setup, load_setup, plan_setup
from finesieve.services.upkeep.readings import find_all
from finesieve.store.reading.rows import records_of
from finesieve.store.tables import OrderRow, PaymentRow
from tests.support.house import NOW, make_house
from tests.support.shop import Trade
from tests.support.work import later

KIT = ("kit", "small", 1)
PACKETS = ("packet", "", 3)


class Ordering(unittest.TestCase):
    def setUp(self) -> None:
        self.trade = Trade(make_house())
        self.scope, self.slug = self.trade.house.scope, self.trade.house.slug

    def rows(self) -> list[OrderRow]:
        with self.scope.reading("reader") as unit:
            return list(unit.session.exec(select(OrderRow).order_by(col(OrderRow.id))).all())

    def pay(self, link: str, *, accepted: bool = True) -> None:
        self.trade.shop().pay(self.slug, link, accepted=accepted)

    def state(self, link: str) -> str:
        return self.trade.shop().order(self.slug, link)[2].state

    def test_each_piece_has_its_own_answer(self) -> None:
        tag = self.trade.ask_per_piece()
        add_link(self.scope, tag, LinkInput(name="Order", back_name="Ordered tags", target="order"))
        cart = self.trade.cart(("kit", "small", 2), ("kit", "large", 1))
        names = {"q5.kit.small.1": "Kestrel", "q5.kit.small.2": "Moss", "q5.kit.large.1": "", "q5.kit.small.9": "Gone"}
        opened = self.trade.open(cart)
        shown = self.trade.forms().answer(
            self.slug, self.trade.slug, opened.token, {"q1": "wren@hedgerow.example", **names}
        )
        tags = shown.outcome.sections[1]
        self.assertEqual([tags.title_of(one) for one in tags.fillings], ["Tag 1 of 3", "Tag 2 of 3", "Tag 3 of 3"])
        self.assertEqual((tags.surplus, shown.total), (1, "126.80"))
        german = replace(shown, say=wording_without_form("de"))
        self.assertEqual(german.name_of(tags.fillings[1].questions[0]), "Tag 2 von 3: Name")
        sent = self.trade.send(opened, **names)
        (row,) = self.rows()
        order = read_order(self.scope, row.id or 0)
        self.assertEqual(order.under, {"line1": (("Tag 1 of 3", "Name: Kestrel"), ("Tag 2 of 3", "Name: Moss"))})
        self.assertEqual(list(order.reasons.values()), ["Name: Kestrel", "Name: Moss"])
        self.assertEqual(
            self.trade.shop().order(self.slug, sent.order)[2].answered.pieces,
            (
                ("Tag 1 of 3, Raised-bed kit, Small", "Name: Kestrel"),
                ("Tag 2 of 3, Raised-bed kit, Small", "Name: Moss"),
            ),
        )
        self.pay(sent.order)
        (letter,) = [one for one in read_outbox(self.scope).letters if one.subject == "Your order 1"]
        self.assertIn("2 × Raised-bed kit, Small: £69.00", letter.body)
        self.assertIn("Tag 2 of 3, Raised-bed kit, Small: Name: Moss", letter.body)
        (person,) = [one for one in (row.person_id,) if one]
        self.assertEqual(self.held(tag, "person", person), ["Kestrel", "Moss"])
        self.assertEqual(self.held(tag, "order", row.id or 0), ["Kestrel", "Moss"])
        self.assertEqual(
            [title for *_, title in read_order(self.scope, row.id or 0).records], ["Tag Kestrel", "Tag Moss"]
        )

    def held(self, tag: int, about: str, holder: int) -> list[object]:
        """The names of the tags that a person, or an order, has."""
        with self.scope.reading("reader") as unit:
            link = next(one for one in unit.catalogue.collections_of(about).values() if one.record_type_id == tag)
            return [values["name"] for _, values in records_of(unit.session, unit.definitions, link, holder)]

    def test_pieces_of_an_order_that_waits_are_on_it_at_once(self) -> None:
        tag = self.trade.ask_per_piece()
        add_link(self.scope, tag, LinkInput(name="Order", back_name="Ordered tags", target="order"))
        self.trade.order(KIT)
        names = {"q5.kit.small.1": "Kestrel"}
        self.trade.order(KIT, **names)
        first, waiting = self.rows()
        order = waiting.id or 0
        self.assertEqual(waiting.person_id, 0)
        self.assertEqual(read_order(self.scope, order).under, {"line1": (("Tag", "Name: Kestrel"),)})
        self.assertEqual(self.held(tag, "order", order), [])
        (decision,) = waiting_for(self.scope, first.person_id)
        decide(self.scope, decision.id, apply=True)
        self.assertEqual(self.held(tag, "order", order), ["Kestrel"])

    def test_what_is_typed_stays_with_the_cart_but_for_secrets_and_strangers(self) -> None:
        group = read_catalogue(self.scope).groups_about("person")[0].id
        pin = create_field(self.scope, group, FieldInput(label="Gate word", type_key="secret"))
        add_question(self.scope, self.trade.form, self.trade.revision(), pin)
        publish_form(self.scope, self.trade.form, self.trade.revision())
        cart = self.trade.cart(KIT)
        opened = self.trade.open(cart)
        typed = {"q1": "wren@hedgerow.example", "q3": "Kestrel", "q5": "open sesame"}
        self.trade.forms().answer(self.slug, self.trade.slug, opened.token, typed)
        own = self.trade.forms().open(self.slug, self.trade.slug, Visit(cart=cart, own=True))
        self.assertEqual(own.given, {"q1": "wren@hedgerow.example", "q3": "Kestrel"})
        self.assertEqual(self.trade.open(cart).given, {})
        self.trade.forms().answer(self.slug, self.trade.slug, opened.token, {**typed, "q3": "x" * 200_001})
        again = self.trade.forms().open(self.slug, self.trade.slug, Visit(cart=cart, own=True))
        self.assertEqual(again.given, own.given)
        self.trade.send(own, q3="Kestrel", q5="open sesame")
        ordered = self.trade.forms().open(self.slug, self.trade.slug, Visit(cart=cart, own=True))
        self.assertEqual((len(self.rows()), ordered.given), (1, {}))
        self.trade.forms().answer(self.slug, self.trade.slug, opened.token, typed)
        late = self.trade.forms().open(self.slug, self.trade.slug, Visit(cart=cart, own=True))
        self.assertEqual(late.given, {})

    def test_where_it_goes_is_as_answered_else_as_is_known(self) -> None:
        use_part(self.scope, "delivery")
        keys = {one.key: one.id for one in read_catalogue(self.scope).fields}
        add_question(self.scope, self.trade.form, self.trade.revision(), keys["delivery_street"])
        publish_form(self.scope, self.trade.form, self.trade.revision())
        self.trade.order(KIT, q2="Wren", q5="4 Hedge Row")
        self.trade.order(KIT, q2="Wren", q5="9 Mill Lane")
        printed = [read_order(self.scope, row.id or 0).addresses["delivery"] for row in self.rows()]
        self.assertEqual([lines[:2] for lines in printed], [("Wren", "4 Hedge Row"), ("Wren", "9 Mill Lane")])
        # Collected, nothing is asked of where it goes: what is known stands there as such.
        self.trade.change("q5", show_when='cart.delivery = "van"')
        publish_form(self.scope, self.trade.form, self.trade.revision())
        cart = self.trade.cart(KIT, delivery="gate")
        opened = self.trade.forms().open(self.slug, self.trade.slug, Visit(cart=cart))
        self.trade.send(opened, q1="fern@lowfold.example")
        collected = self.rows()[-1]
        self.assertEqual(read_order(self.scope, collected.id or 0).addresses, {})
        set_values(self.scope, collected.person_id, {"delivery_street": "7 Low Field"})
        known = read_order(self.scope, collected.id or 0).addresses
        self.assertEqual((list(known), known["delivery_known"][0]), (["delivery_known"], "7 Low Field"))

    def test_staff_link_a_record_with_an_order_by_its_number(self) -> None:
        tag = self.trade.ask_per_piece()
        add_link(self.scope, tag, LinkInput(name="Order", back_name="Ordered tags", target="order"))
        link = next(one.id for one in read_catalogue(self.scope).links.values() if one.target == "order")
        self.trade.order(KIT)
        (row,) = self.rows()
        record = add_record(self.scope, tag, {"name": "Kestrel"}, {})
        link_record(self.scope, tag, record, link, row.number)
        self.assertEqual(self.held(tag, "order", row.id or 0), ["Kestrel"])
        (shown,) = [one for one in read_record(self.scope, tag, record).links if one.link.id == link]
        self.assertEqual(shown.targets, ((row.id, "order 1"),))
        with self.assertRaises(InvalidInput):
            link_record(self.scope, tag, record, link, 77)
        with self.assertRaises(NotFound):
            link_record(self.scope, tag, 999_999, link, row.number)
        self.assertEqual(self.held(tag, "order", row.id or 0), ["Kestrel"])

    def test_from_cart_to_packed(self) -> None:
        """The figures are those worked out by hand for such an order: 46.52 in all, 0.38 and 6.41 of it tax."""
        link = self.trade.order(PACKETS, KIT, q3="Kestrel", q4="yes")
        order = self.trade.shop().order(self.slug, link)[2]
        self.assertEqual((order.state, order.number, order.shown.total), ("awaiting_payment", 1, "£46.52"))
        self.assertEqual([tax for *_, tax in order.shown.taxes], ["£0.38", "£6.41"])
        self.pay(link, accepted=False)
        self.assertTrue(self.trade.shop().order(self.slug, link)[2].payment == "declined")
        for accepted in (True, True, False):
            self.pay(link, accepted=accepted)
        self.assertEqual(self.state(link), "placed")
        (letter,) = [one for one in read_outbox(self.scope).letters if one.subject == "Your order 1"]
        self.assertEqual((letter.recipient, letter.link), ("wren@hedgerow.example", f"/shop/{self.slug}/order/{link}"))
        (row,) = self.rows()
        view = read_order(self.scope, row.id or 0)
        values = view.values
        self.assertEqual((values["plaque"], values["friend"], values["shelf"]), ("Kestrel", "yes", ""))
        self.assertEqual(set_order_values(self.trade.as_clerk().scope, row.id or 0, {"shelf": "B 4"}), 1)
        for state in ("packed", "packed", "sent"):
            move_order(self.trade.as_clerk().scope, row.id or 0, state)
        said = [
            (line.label, line.old, line.new)
            for line in read_order(self.scope, row.id or 0).history
            if line.label == "State"
        ]
        self.assertEqual(
            said[::-1], [("State", "", "awaiting payment"), ("State", "awaiting payment", "placed"), ("State", "placed", "packed"), ("State", "packed", "sent")]
        )  # fmt: skip
        with self.assertRaises(Conflict):
            move_order(self.scope, row.id or 0, "cancelled")
        self.assertEqual([one.number for one in orders_of_person(self.scope, row.person_id)], [1])

    def test_sent_twice_counts_once(self) -> None:
        """From one page, from two at the same moment, and again after the payment: one order, one payment, one link's worth."""
        opened = self.trade.open(self.trade.cart(PACKETS))
        found: list[Any] = []

        def send() -> None:
            found.append(self.trade.send(opened))

        threads = [threading.Thread(target=send) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual([one.sent for one in found], [True] * 4)
        self.pay(found[0].order)
        again = self.trade.send(opened)
        self.assertEqual((len(self.rows()), self.state(again.order)), (1, "placed"))
        with self.scope.reading("reader") as unit:
            self.assertEqual(len(unit.session.exec(select(PaymentRow)).all()), 1)

    def test_from_two_pages_with_one_cart(self) -> None:
        """At the same moment and later: one order. What is put in after that is another one."""
        cart = self.trade.cart(PACKETS)
        pages = [self.trade.open(cart) for _ in range(3)]
        found: list[Any] = []
        threads = [threading.Thread(target=lambda page=page: found.append(self.trade.send(page))) for page in pages]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(([one.sent for one in found], len(self.rows())), ([True] * 3, 1))
        self.pay(found[0].order)
        self.assertEqual(self.state(self.trade.send(self.trade.open(cart)).order), "placed")
        self.trade.shop().put_in(self.slug, cart, "packet", "", 1, more=True, came_from="here")
        self.assertTrue(self.trade.send(self.trade.open(cart)).sent)
        self.assertEqual([row.total for row in self.rows()], [1392, 1691])

    def test_numbers_have_no_gaps(self) -> None:
        """Also where some that were sent at the same moment were not taken."""
        carts = [self.trade.cart(PACKETS) for _ in range(5)]
        opened = [self.trade.open(cart) for cart in carts]

        def send(place: int) -> None:
            email = f"person{place}@hedgerow.example" if place != 2 else "no address"
            self.trade.send(opened[place], q1=email)

        threads = [threading.Thread(target=send, args=(place,)) for place in range(5)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(sorted(row.number for row in self.rows()), [1, 2, 3, 4])

    def test_nothing_that_the_browser_says_of_money_counts(self) -> None:
        """A total other than the one it comes to is shown again first; what is in the cart decides, as it is now."""
        cart = self.trade.cart(PACKETS)
        opened = self.trade.open(cart)
        for total in ("", "0.01", "13.920", "nonsense"):
            again = self.trade.send(opened, total=total)
            self.assertEqual((again.sent, again.total), (False, "13.92"), total)
            self.assertTrue(again.total_before)
        self.trade.shop().put_in(self.slug, cart, "packet", "", 4, more=False, came_from="here")
        changed = self.trade.send(opened, total="13.92")
        self.assertEqual((changed.sent, changed.total, changed.total_before), (False, "16.91", "13.92"))
        self.assertTrue(self.trade.send(opened, total="16.91").sent)
        self.assertEqual([row.total for row in self.rows()], [1691])

    def test_what_cannot_be_ordered(self) -> None:
        nothing = self.trade.open("no such cart")
        self.assertEqual(nothing.cart_problem, "There is nothing in the cart.")
        self.assertFalse(self.trade.send(nothing, total="0.00").sent)
        without = self.trade.open(self.trade.cart(PACKETS, delivery=""))
        self.assertEqual(without.unchosen, {"delivery": "Choose how it is delivered."})
        self.assertFalse(self.trade.send(without).sent)
        self.assertEqual(self.trade.open(self.trade.cart(PACKETS, delivery="owl")).chosen("delivery"), "")
        shop, key = self.trade.shop(), self.trade.cart(PACKETS)
        for wrong in (("kit", "", 1), ("spade", "", 1), ("packet", "", 10_001), ("packet", "large", 1)):
            with self.assertRaises(InvalidInput):
                shop.put_in(self.slug, key, *wrong, more=False, came_from="here")
        for token in ("", "nonsense", self.trade.open(key).token):
            with self.assertRaises(NotFound):
                shop.order(self.slug, token)
        with self.assertRaises(NotFound):
            shop.look(make_house().slug, "")

    def test_nothing_to_pay_is_placed_at_once(self) -> None:
        sent = self.trade.send(self.trade.open(self.trade.cart(("card", "", 1), delivery="gate")))
        self.assertEqual(self.state(sent.order), "placed")
        self.assertEqual([one.subject for one in read_outbox(self.scope).letters], ["Your order 1"])

    def test_a_known_email_orders_freely(self) -> None:
        """Whose order it is, and what was said of the person, waits until that person has said so."""
        known = self.trade.house.add(email="wren@hedgerow.example", first_name="Wren")
        link = self.trade.order(PACKETS, q2="Somebody else")
        self.pay(link)
        (row,) = self.rows()
        self.assertEqual((row.state, row.person_id, orders_of_person(self.scope, known)), ("placed", 0, ()))
        (asked,) = waiting_for(self.scope, known)
        decide(self.scope, asked.id, apply=True)
        self.assertEqual([one.number for one in orders_of_person(self.scope, known)], [1])

    def test_refunds(self) -> None:
        """Piece by piece, never more than there are; cancelled, all that is left comes back; each is in the history."""
        link = self.trade.order(PACKETS, KIT, q4="yes")
        (row,) = self.rows()
        order_id = row.id or 0
        with self.assertRaises(Conflict):
            refund_pieces(self.scope, order_id, "line1", 1)
        self.pay(link)
        for _ in range(2):
            refund_pieces(self.trade.as_clerk().scope, order_id, "line1", 1)
        for key, pieces in (("line1", 2), ("line1", 0), ("line9", 1), ("charge1", 1)):
            with self.assertRaises(InvalidInput):
                refund_pieces(self.scope, order_id, key, pieces)
        self.assertEqual(read_order(self.scope, order_id).shown.returned, "£5.38")
        move_order(self.scope, order_id, "cancelled")
        view = read_order(self.scope, order_id)
        self.assertEqual((view.shown.returned, view.shown.total, view.line.state), ("£44.07", "£44.07", "cancelled"))
        with self.scope.reading("reader") as unit:
            self.assertEqual(unit.session.exec(select(PaymentRow.returned)).one(), 4407)
        self.assertEqual(len([one for one in view.history if one.label == "Refund"]), 5)

    def test_who_may(self) -> None:
        self.pay(self.trade.order(PACKETS))
        (row,) = self.rows()
        reader = self.trade.house.as_role("reader")
        self.assertEqual(read_order(reader, row.id or 0).line.number, 1)
        for forbidden in (
            lambda: move_order(reader, row.id or 0, "packed"),
            lambda: refund_pieces(reader, row.id or 0, "line1", 1),
            lambda: set_order_values(reader, row.id or 0, {"shelf": "x"}),
        ):
            with self.assertRaises(NotAllowed):
                forbidden()
        other = make_house()
        with self.assertRaises(NotFound):
            read_order(other.scope, row.id or 0)
        self.assertEqual(list_orders(other.scope).lines, ())

    def test_the_list(self) -> None:
        for number in range(3):
            self.trade.order(PACKETS, q1=f"person{number}@hedgerow.example")
        self.pay(self.trade.order(PACKETS, q1="last@hedgerow.example"))
        self.assertEqual([one.number for one in list_orders(self.scope).lines], [4, 3, 2, 1])
        self.assertEqual([one.number for one in list_orders(self.scope, OrderListing("placed")).lines], [4])
        self.assertEqual([one.number for one in list_orders(self.scope, OrderListing(search="PERSON1@")).lines], [2])
        self.assertEqual([one.number for one in list_orders(self.scope, OrderListing(search="3")).lines], [3])
        self.assertEqual(list_orders(self.scope, OrderListing(search="%")).lines, ())
        self.assertEqual(read_bench(self.scope).to_pack, 1)
        self.assertEqual([(one.kind, one.name) for one in find_anything(self.scope, "3")], [("order", "Order 3")])
        rows = list(csv.DictReader(io.StringIO("".join(orders_as_csv(self.scope)))))
        self.assertEqual([row["number"] for row in rows], ["4", "3", "2", "1"])
        self.assertEqual((rows[0]["total"], rows[0]["lines"], rows[0]["state"]), ("13.92", "3 × Seed packet", "placed"))
        self.assertEqual(len("".join(orders_as_csv(self.scope, OrderListing("placed"))).splitlines()), 2)

    def test_the_list_is_filtered_by_what_is_known_and_kept_of_an_order(self) -> None:
        for number, (lines, plaque) in enumerate((((PACKETS,), ""), ((KIT,), "Kestrel"), ((PACKETS, KIT), "Moss")), 1):
            link = self.trade.order(*lines, q1=f"person{number}@hedgerow.example", q3=plaque)
            if number > 1:
                self.pay(link)

        def found(where: str, sort: Sort = "newest") -> list[int]:
            return [one.number for one in list_orders(self.scope, OrderListing(where=where, sort=sort)).lines]

        self.assertEqual(found("total > 20", "oldest"), [2, 3])
        self.assertEqual(found("", "smallest"), [1, 2, 3])
        self.assertEqual(found('state = "placed" and plaque starts with "M"'), [3])
        self.assertEqual(found("plaque is blank and placed_at < date(2000, 1, 1)"), [])
        self.assertEqual(found("number = 1"), [1])
        wrong = list_orders(self.scope, OrderListing(where="weight > 3"))
        self.assertEqual((wrong.lines, len(wrong.problems)), ((), 1))
        rows = list(csv.DictReader(io.StringIO("".join(orders_as_csv(self.scope, OrderListing(where="total > 20"))))))
        self.assertEqual([row["number"] for row in rows], ["3", "2"])

    def test_the_list_goes_on_page_by_page(self) -> None:
        with self.scope.transaction("owner") as unit:
            for number in range(1, 121):
                unit.session.add(
                    OrderRow(
                        workspace_id=unit.workspace_id,
                        number=number,
                        key=str(number),
                        form_id=1,
                        state="placed",
                        bill={"decimals": 2, "lines": [], "taxes": [], "mode": "included"},
                        total=number % 7,
                    )
                )  # fmt: skip
        for sort in ("newest", "oldest", "largest", "smallest"):
            seen, after = [], ""
            while True:
                page = list_orders(self.scope, OrderListing(sort=sort), after)  # type: ignore[arg-type]
                seen += [one.number for one in page.lines]
                after = page.next
                if not after:
                    break
            self.assertEqual(sorted(seen), list(range(1, 121)))
            by = [number % 7 if sort in ("largest", "smallest") else number for number in seen]
            self.assertEqual(by, sorted(by, reverse=sort in ("newest", "largest")))

    def test_carts_end(self) -> None:
        key = self.trade.cart(PACKETS)
        self.assertEqual(sweep_carts(later(self.trade.house, NOW + timedelta(days=29)).scope), 0)
        self.assertEqual(sweep_carts(later(self.trade.house, NOW + timedelta(days=31)).scope), 1)
        self.assertEqual(self.trade.shop().look(self.slug, key).cart.lines, ())


class Shaping(unittest.TestCase):
    def setUp(self) -> None:
        self.trade = Trade(make_house())
        self.scope = self.trade.house.scope

    def test_rehearsed_with_a_cart(self) -> None:
        """Rules, charges and the total follow the cart that is tried; a case keeps its total."""
        tried = Circumstances(cart=("packet::3", "kit:small:1", "gone::1", "packet::x"), delivery="van")
        found = rehearse(self.scope, self.trade.form, tried, {"q1": "a@hedgerow.example", "q3": "Kestrel", "q4": "yes"})
        assert found.bill is not None
        self.assertEqual((found.bill.total, found.no_bill), (4652, ""))
        empty = rehearse(self.scope, self.trade.form, Circumstances(), {})
        self.assertEqual((empty.bill, empty.no_bill), (None, "There is nothing in the cart."))
        unsaid = rehearse(self.scope, self.trade.form, Circumstances(cart=("packet::3",)), {})
        self.assertIn("Choose how it is delivered.", unsaid.unchosen)
        keep_case(self.scope, self.trade.form, "a kit", tried, {"q1": "a@hedgerow.example", "q4": "yes"})
        self.assertEqual([one.differences for one in self.cases()], [()])
        self.trade.change("q4", surcharges=({"label": "10 % off", "share": "-20"},))
        (case,) = self.cases()
        self.assertIn(("Total", "44.07", "39.73"), [(one.where, one.expected, one.now) for one in case.differences])

    def cases(self) -> tuple[CaseResult, ...]:
        with self.scope.reading("reader") as unit:
            return run_cases(unit, self.trade.form, read_form(self.scope, self.trade.form).document)

    def test_a_checkout_needs_a_shop(self) -> None:
        with self.assertRaises(InvalidInput):
            create_form(make_house().scope, "Checkout", "checkout")

    def test_what_is_sold_is_changed_and_taken_back(self) -> None:
        shop = read_catalogue(self.scope).shop
        assert shop is not None
        change = set_up_shop(self.scope, shop.model_copy(update={"products": shop.products[:1]}))
        self.assertEqual(len((read_catalogue(self.scope).shop or shop).products), 1)
        undo_change(self.scope, change)
        self.assertEqual(read_catalogue(self.scope).shop, shop)
        self.assertEqual(set_up_shop(self.scope, shop), 0)

    def test_it_goes_into_a_file_and_comes_back(self) -> None:
        setup = export_setup(self.scope)[1]
        other = make_house(fields=False)
        self.assertIn("shop", [one.what for one in plan_setup(other.scope, setup).differences])
        load_setup(other.scope, setup)
        self.assertEqual(read_catalogue(other.scope).shop, read_catalogue(self.scope).shop)
        self.assertEqual(
            [(one.change, one.name, one.parts, one.why) for one in plan_setup(other.scope, setup).differences], []
        )

    def test_rules_over_the_cart_are_reasoned_about(self) -> None:
        for rule, found in (
            ('cart.delivery = "van" and cart.delivery = "gate"', {"rule-never"}), ('cart.delivery = "van"', set()),
            ('cart.goods > 40 and cart.goods < 30', {"rule-never"}), ('any(cart.lines where product = "kit")', set()),
        ):  # fmt: skip
            self.trade.change("q3", show_when=rule)
            codes = {one.code for one in find_all(self.scope) if one.code.startswith(("rule", "asked"))}
            self.assertEqual(codes, found, rule)

    def test_a_sign_up_stays_one(self) -> None:
        """Without a cart, and with no way to ask about an order."""
        form = create_form(self.scope, "Join us")
        self.assertNotIn("plaque", [one.key for one in read_form(self.scope, form).unasked])
        self.assertIn("shelf", [one.key for one in read_form(self.scope, self.trade.form).unasked])
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        opened = self.trade.forms().open(self.trade.house.slug, "join-us")
        self.assertEqual((opened.bill, opened.cart_problem), (None, ""))


if __name__ == "__main__":
    unittest.main()
