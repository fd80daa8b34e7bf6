"""Where the answers of a checkout show: on the order, in the list, in messages, on papers."""

import unittest

from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.core.forms.showing import SHOWN_AT, may_show
from finesieve.services.commerce.answers import Answered
from finesieve.services.commerce.orders import list_orders, move_order, read_order, set_order_values
from finesieve.services.commerce.papers import read_paper
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.forms.composing import add_question
from finesieve.services.forms.forms import publish_form, read_form
from finesieve.services.forms.showing import set_shown_at, shown_at, tell_of_orders
from finesieve.services.kernel.changes import undo_change
from finesieve.services.people.profiles import set_values
from finesieve.web.papers import paper_pdf
from finesieve.web.shipped_files import ShippedFiles
from tests.support.house import make_house
from tests.support.shop import Trade

PACKETS, KIT = ("packet", "", 3), ("kit", "small", 1)


class Shown(unittest.TestCase):
    def setUp(self) -> None:
        self.trade = Trade(make_house())
        self.scope = self.trade.house.scope

    def show(self, question: str, *places: str, on: bool = True) -> int:
        return set_shown_at(self.scope, self.trade.form, self.trade.revision(), [question], places, on=on)

    def ordered(self, **answers: str) -> int:
        publish_form(self.scope, self.trade.form, self.trade.revision())
        link = self.trade.order(PACKETS, KIT, **answers)
        self.trade.shop().pay(self.trade.house.slug, link, accepted=True)
        self.link = link
        return list_orders(self.scope).lines[0].id

    def shows(self, question: str) -> set[str]:
        view = read_form(self.scope, self.trade.form)
        asked = view.document.question(question)
        assert asked is not None
        return {place for place, on in shown_at(asked, view.catalogue).items() if on}

    def test_an_answer_shows_where_the_form_says_and_nowhere_else(self) -> None:
        """The plaque (q3, of the order) leaves the receipt for the invoice and the list; the first name (q2) goes everywhere."""
        self.show("q3", "receipt", "packing", on=False)
        self.show("q3", "invoice", "list")
        self.show("q2", *SHOWN_AT)
        order = self.ordered(q2="Wren", q3="Kestrel")
        shown = {kind: read_paper(self.scope, order, kind).answered.answers for kind in ("invoice", "packing")}
        self.assertEqual(shown["invoice"], (("First name", "Wren"), ("Plaque", "Kestrel")))
        self.assertEqual(shown["packing"], (("First name", "Wren"),))
        receipt = self.trade.shop().order(self.trade.house.slug, self.link)[2]
        self.assertEqual(receipt.answered.answers, (("First name", "Wren"),))
        found = list_orders(self.scope)
        self.assertEqual((found.columns, found.cells[order]), (("First name", "Plaque"), ("Wren", "Kestrel")))
        self.assertEqual(
            read_order(self.scope, order).answered.answers, (("Email", "wren@hedgerow.example"), ("First name", "Wren"))
        )
        set_order_values(self.scope, order, {"plaque": "Kestrels"})
        self.assertEqual(list_orders(self.scope).cells[order], ("Wren", "Kestrels"))

    def test_what_shows_on_the_order_page_can_be_left_out(self) -> None:
        self.show("q3", "order", on=False)
        order = self.ordered(q3="Kestrel")
        keys = list(read_order(self.scope, order).values)
        self.assertNotIn("plaque", keys)
        self.assertIn("shelf", keys)

    def test_messages(self) -> None:
        tell_of_orders(self.scope, self.trade.form, self.trade.revision(), "packing@hedgerow.example")
        self.show("q3", "customer", on=False)
        self.ordered(q3="Kestrel")
        letters = {one.recipient: one for one in read_outbox(self.scope).letters}
        self.assertIn("Plaque: Kestrel", letters["packing@hedgerow.example"].body)
        self.assertIn("Email: wren@hedgerow.example", letters["packing@hedgerow.example"].body)
        self.assertNotIn("Kestrel", letters["wren@hedgerow.example"].body)
        with self.assertRaises(InvalidInput):
            tell_of_orders(self.scope, self.trade.form, self.trade.revision(), "nobody")

    def test_a_change_is_undone_and_the_usual_is_told_from_the_chosen(self) -> None:
        before = self.shows("q3")
        change = self.show("q3", "list")
        self.assertEqual(self.shows("q3"), before | {"list"})
        undo_change(self.scope, change)
        self.show("q3", "list")
        self.show("q3", "list", on=False)
        asked = read_form(self.scope, self.trade.form).document.question("q3")
        self.assertIsNone(asked.shown_at if asked else ())
        with self.assertRaises(NotFound):
            self.show("q3", "attic")
        with self.assertRaises(NotFound):
            self.show("q99", "list")

    def test_a_secret_shows_nowhere_and_what_is_private_not_for_the_customer(self) -> None:
        group = read_catalogue(self.scope).groups_about("order")[0].id
        pin = create_field(self.scope, group, FieldInput(label="Gate pin", type_key="secret"))
        add_question(self.scope, self.trade.form, self.trade.revision(), pin)
        self.show("q5", *SHOWN_AT)
        self.assertEqual(self.shows("q5"), set())
        order = self.ordered(q5="open sesame", q2="Wren")
        for kind in ("invoice", "packing"):
            self.assertNotIn("Gate pin", dict(read_paper(self.scope, order, kind).answered.answers))
        self.assertFalse([one for one in read_outbox(self.scope).letters if "Gate pin" in one.body])
        kept = create_field(self.scope, group, FieldInput(label="Kept", settings={"private": True}))
        field = read_catalogue(self.scope).by_id[kept]
        self.assertEqual({one for one in SHOWN_AT if may_show(field, one)}, {"order", "list", "shop", "packing"})

    def test_a_paper_reads_styles_and_fonts_alone(self) -> None:
        shipped = ShippedFiles()
        self.assertIn(b"@page", shipped.fetch("shipped:///static/paper.css?v=1").read())
        for address in ("app.js", "../app.py", "../../../../etc/passwd", "nothing.css", "fonts"):
            with self.subTest(address=address), self.assertRaises(ValueError):
                shipped.fetch(f"shipped:///static/{address}")
        with self.assertRaises(ValueError):
            shipped.fetch("file:///etc/passwd")

    def test_the_link_of_an_order_shows_no_address_but_the_one_that_was_answered(self) -> None:
        """Whoever holds it may be somebody else than the person whose order it has been said to be."""
        use_part(self.scope, "billing")
        order = self.ordered(q2="Wren")
        person = list_orders(self.scope).lines[0].person_id
        set_values(self.scope, person, {"billing_street": "7 Low Field", "billing_town": "Tansy"})
        self.assertIn("7 Low Field", read_paper(self.scope, order, "invoice").address)
        self.assertEqual(self.trade.shop().invoice(self.trade.house.slug, self.link, "here").address, ())

    def test_a_paper_takes_so_much(self) -> None:
        group = read_catalogue(self.scope).groups_about("order")[0].id
        note = create_field(self.scope, group, FieldInput(label="Note", type_key="long_text"))
        add_question(self.scope, self.trade.form, self.trade.revision(), note)
        order = self.ordered(q5="moss " * 1_000)
        ((asked, said),) = read_paper(self.scope, order, "packing").answered.answers
        self.assertEqual((asked, len(said)), ("Note", 1_002))
        many = Answered((("Email", "a"),), tuple((f"Tag {number}", "Moss") for number in range(5)))
        shown = many.shortened(3, 2)
        self.assertEqual(
            (shown.answers, shown.pieces[2:]),
            (many.answers, (("Tag 2", "Mo …"), ("More", "2 more answers, on the order itself"))),
        )
        self.assertEqual(len(read_order(self.scope, order).values["note"].strip()), 4_999)

    def test_papers(self) -> None:
        order = self.ordered(q3="Kestrel <img src=file:///etc/passwd>")
        made = bytes(paper_pdf(read_paper(self.scope, order, "packing")).body)
        self.assertTrue(made.startswith(b"%PDF"))
        self.assertEqual(self.trade.shop().invoice(self.trade.house.slug, self.link, "here").number, 1)
        move_order(self.scope, order, "cancelled")
        with self.assertRaises(Conflict):
            read_paper(self.scope, order, "invoice")
        with self.assertRaises(NotFound):
            read_paper(self.scope, order, "receipt")


if __name__ == "__main__":
    unittest.main()
