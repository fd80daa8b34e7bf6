"""A checkout by keys alone from the cart to the payment, and by a school at a desk; an order that staff correct."""

import unittest

from selenium.webdriver.common.keys import Keys

from finesieve.services.commerce.orders import list_orders, read_order
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.forms.composing import QuestionInput, add_question, change_question
from finesieve.services.forms.forms import publish_form, read_form
from finesieve.services.forms.sowing import set_asked
from tests.support.browser import Page
from tests.support.house import make_house
from tests.support.shop import Trade


class Journeys(unittest.TestCase):
    def setUp(self) -> None:
        self.trade = Trade(make_house())
        self.house, self.scope = self.trade.house, self.trade.house.scope
        self.page = Page()

    def sound(self) -> None:
        self.assertEqual(self.page.violations(), [])
        self.assertEqual(self.page.complaints(), [])
        self.assertEqual(self.page.overflows(), [])

    def tab_to(self, css: str, most: int = 60) -> None:
        """Press Tab until something like this has the focus."""
        for _ in range(most):
            self.page.keys(Keys.TAB)
            if self.page.driver.execute_script("return document.activeElement.matches(arguments[0])", css):
                return
        raise AssertionError(f"no way to {css} by Tab")

    def test_by_keys_alone(self) -> None:
        page = self.page
        page.open(f"/shop/{self.house.slug}")
        self.tab_to("#packet button, form:has([value=packet]) button")
        page.keys(Keys.ENTER)
        page.until_text("h1", "Your cart")
        self.tab_to("form[action$='/checkout'] button")
        page.keys(Keys.ENTER)
        page.until_text("h1", "Checkout")
        self.tab_to("#q1")
        page.keys("wren@hedgerow.example")
        self.tab_to("[name=a_q4]")
        page.keys(Keys.SPACE)
        page.until_text(".till-strip", "10 % off")
        self.tab_to("[name=delivery]")
        page.keys(Keys.ARROW_DOWN)
        page.until_text(".till-strip", "£2.69")
        self.tab_to("button.send")
        page.keys(Keys.ENTER)
        page.until_text("h1", "Pay for order 1")
        self.tab_to("button[value=accept]")
        page.keys(Keys.ENTER)
        page.until_text("main", "Your order is placed")
        self.sound()

    def test_a_school_at_a_desk_and_what_staff_correct(self) -> None:
        self._for_schools()
        page = self.page
        page.resize(1280, 800)
        page.open(f"/shop/{self.house.slug}")
        page.press("Small", ".ware label")
        page.press("Add Raised-bed kit to the cart", "button")
        page.press("To the checkout", "button")
        page.fill("#q1", "office@school.example")
        page.press("School", ".chips label")
        page.wait(lambda: page.all("#q6") and not page.all("#q7"), "a purchase number, and no phone")
        page.fill("#q6", "PO 118")
        page.fill("#q3", "Moss")
        page.press("Gate", "#delivery label")
        page.until_text(".till-strip", "£35.90")
        self.sound()
        page.press("Order and pay", "button.send")
        page.press("Pay £35.90", "button")
        page.until_text("main", "is placed")
        (line,) = list_orders(self.scope).lines
        page.sign_in(self.house.email)
        page.open(f"/w/{self.house.slug}/orders/{line.id}")
        page.until_text("#sheet", "PO 118")
        self.sound()
        page.press("Correct the answers", "a")
        page.until_text("main", "You are correcting order 1")
        page.fill("#q3", "Kestrels" + Keys.TAB)
        page.until_text(".till-strip", "More than before")
        self.sound()
        page.press("Save the correction", "button")
        page.until_text(".owed", "£1.40 is still to be paid")
        self.sound()
        page.press("Paid another way", "button")
        page.wait(lambda: not page.all(".owed"), "nothing is owed")
        self.assertEqual(read_order(self.scope, line.id).shown.total, "£37.30")

    def _for_schools(self) -> None:
        use_part(self.scope, "work")
        catalogue = read_catalogue(self.scope)
        group = catalogue.groups_about("order")[0].id
        number = create_field(
            self.scope, group, FieldInput(label="Purchase number", key="purchase", type_key="short_text")
        )
        role, phone = catalogue.by_key["role"].id, catalogue.by_key["phone"].id
        for field in (role, number, phone):
            add_question(self.scope, self.trade.form, self.trade.revision(), field)
        for question, columns in (("q6", ["private", "trade", "community", ""]), ("q7", ["school"])):
            set_asked(self.scope, self.trade.form, self.trade.revision(), role, [question], columns, "not asked")
        change_question(self.scope, self.trade.form, self.trade.revision(), "q5", QuestionInput(required="no"))
        publish_form(self.scope, self.trade.form, self.trade.revision())
        self.assertIn("form.role", read_form(self.scope, self.trade.form).document.question("q6").show_when)  # type: ignore[union-attr]


if __name__ == "__main__":
    unittest.main()
