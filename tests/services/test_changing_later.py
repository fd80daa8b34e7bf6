"""Answers that whoever ordered changes later, by the link of the order."""

import unittest

from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.services.commerce.orders import list_orders, move_order, read_order
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.forms.composing import SectionInput, add_question, add_section, change_section
from finesieve.services.forms.forms import publish_form, read_form
from tests.support.house import make_house
from tests.support.shop import Trade

PACKETS = ("packet", "", 3)


class Later(unittest.TestCase):
    def setUp(self) -> None:
        self.trade = Trade(make_house())
        self.scope, self.slug = self.trade.house.scope, self.trade.house.slug
        group = read_catalogue(self.scope).groups_about("order")[0].id
        for label in ("Gate word", "Colour"):
            made = create_field(self.scope, group, FieldInput(label=label, type_key="short_text"))
            add_question(self.scope, self.trade.form, self.trade.revision(), made)
        self.trade.change("q5", later=True, required="yes", checks=({"kind": "length", "high": 6},))

    def ordered(self) -> str:
        publish_form(self.scope, self.trade.form, self.trade.revision())
        return self.trade.order(PACKETS, q5="Moss", q6="red")

    def change(self, link: str, **typed: str) -> int:
        return self.trade.shop().change_answers(self.slug, link, typed, "here")

    def kept(self) -> dict[str, str]:
        return read_order(self.scope, list_orders(self.scope).lines[0].id).values

    def test_what_is_left_open_is_changed_until_the_order_ships(self) -> None:
        link = self.ordered()
        found = self.trade.shop().answers(self.slug, link)
        assert found is not None
        self.assertEqual([(one.label, one.raw) for one in found.outcome.questions], [("Gate word", "Moss")])
        self.assertEqual(self.change(link, q5="Fern", q6="blue"), 1)
        self.assertEqual((self.kept()["gate_word"], self.kept()["colour"]), ("Fern", "red"))
        order = list_orders(self.scope).lines[0].id
        changed = [(line.label, line.old, line.new, line.source) for line in read_order(self.scope, order).history]
        self.assertIn(("Gate word", "Moss", "Fern", "link of the order"), changed)
        for wrong in ("", "Bracken"):
            with self.subTest(wrong=wrong), self.assertRaises(InvalidInput) as refused:
                self.change(link, q5=wrong)
            self.assertEqual(list(refused.exception.messages), ["q5"])
        self.trade.shop().pay(self.slug, link, accepted=True)
        for state in ("packed", "sent"):
            move_order(self.scope, order, state)
        self.assertIsNone(self.trade.shop().answers(self.slug, link))
        with self.assertRaises(Conflict):
            self.change(link, q5="Moss")
        with self.assertRaises(NotFound):
            self.change("nonsense", q5="Moss")

    def test_what_a_charge_depends_on_cannot_be_left_open(self) -> None:
        """Directly, by the rule of a question that charges, and by the rule of what that reads."""
        charge = {"label": "Engraving", "amount": "length(plaque)"}
        for question, why, charges in (
            ("q1", "Only an answer about the order", ()),
            ("q3", "It adds a charge", (charge,)),
        ):
            with self.assertRaises(InvalidInput) as refused:
                self.trade.change(question, later=True, surcharges=charges)
            self.assertIn(why, refused.exception.messages["later"])
        self.trade.change("q4", show_when='order.colour = "red"', surcharges=({"label": "Off", "share": "-10"},))
        with self.assertRaises(InvalidInput):
            self.trade.change("q6", later=True)
        tag = create_record_type(self.scope, RecordTypeInput(singular="Tag", plural="Tags", holder="Owner"))
        add_section(self.scope, self.trade.form, self.trade.revision(), "Tags")
        tags = SectionInput(repeat=str(tag), count="length(order.colour)")
        change_section(self.scope, self.trade.form, self.trade.revision(), "s2", tags)
        name = next(one.id for one in read_catalogue(self.scope).fields_about(f"record:{tag}") if one.key == "name")
        add_question(self.scope, self.trade.form, self.trade.revision(), name, "s2")
        self.trade.change("q4", show_when="", surcharges=())
        with self.assertRaises(InvalidInput):
            self.trade.change("q6", later=True)
        self.trade.change("q6", show_when='order.gate_word = "Moss"')
        problems = read_form(self.scope, self.trade.form).problems
        self.assertEqual([(one.place, "depends on it" in one.message) for one in problems], [("q5", True)])


if __name__ == "__main__":
    unittest.main()
