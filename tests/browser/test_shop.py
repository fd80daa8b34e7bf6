"""The shop in a browser: a phone orders, a declined payment loses nothing, the clerk packs and refunds; a checkout is shaped."""

import unittest
from urllib.request import urlopen

from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from finesieve.core.forms.definition import Question
from finesieve.services.commerce.orders import list_orders, read_order
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.forms.composing import add_question
from finesieve.services.forms.forms import publish_form, read_form
from finesieve.services.forms.showing import shown_at
from tests.support.browser import Page
from tests.support.house import make_house
from tests.support.shop import Trade


class Shop(unittest.TestCase):
    def setUp(self) -> None:
        self.trade = Trade(make_house())
        self.house = self.trade.house
        self.page = Page()

    def sound(self) -> None:
        self.assertEqual(self.page.violations(), [])
        self.assertEqual(self.page.complaints(), [])
        self.assertEqual(self.page.overflows(), [])

    def sign_in(self) -> None:
        self.page.sign_in(self.house.email)

    def test_from_the_shop_to_the_packing_table(self) -> None:
        page = self.page
        page.resize(390, 800)
        page.open(f"/shop/{self.house.slug}")
        self.sound()
        page.fill("#many-packet", "3")
        page.press("Add Seed packet to the cart", "button")
        page.until_text("h1", "Your cart")
        page.press("Continue shopping", "a")
        page.press("Add Raised-bed kit to the cart", "button")
        page.until_text("#kit", "Choose one of the kinds")
        page.press("Small", ".ware label")
        page.press("Add Raised-bed kit to the cart", "button")
        page.until_text("tfoot", "£43.47")
        self.sound()
        page.press("To the checkout", "button")
        page.until_text(".till-bar", "£43.47")
        page.press("Order and pay", "button")
        page.until_text("#delivery", "Choose how it is delivered.")
        self.sound()
        page.press("Van", "#delivery label")
        page.until_text(".till-bar", "£48.42")
        # What shows and what it costs follow the answers; the total is in view wherever one is.
        page.fill("#q1", "wren@hedgerow.example" + Keys.TAB)
        page.fill("#q3", "Kestrel" + Keys.TAB)
        page.until_text(".till-bar", "£50.87")
        page.press("Yes", "#question-q4 label")
        page.until_text(".till-bar", "£46.52")
        box = page.one(".till-bar").rect
        scrolled = page.driver.execute_script("return scrollY")
        self.assertLess(box["y"] - scrolled, 800)
        self.sound()
        page.press("Order and pay", "button")
        page.until_text("h1", "Pay for order 1")
        page.press("Decline", "button")
        page.until_text(".summary", "Nothing was charged")
        self.sound()
        page.press("Pay £46.52", "button")
        page.until_text(".intro", "Your order is placed")
        page.driver.back()
        page.driver.refresh()
        self.assertEqual([one.state for one in list_orders(self.house.scope).lines], ["placed"])
        self._packed()

    def _packed(self) -> None:
        page = self.page
        page.resize(1280, 800)
        self.sign_in()
        page.press("People", ".right a")
        page.press("Orders", ".index a")
        page.until_text("h1", "Orders")
        self.sound()
        page.press("1", "tbody a")
        page.until_text("h1", "Order 1")
        page.until_text("#sheet", "Kestrel")
        page.press("Correct On the order", "a")
        page.fill("[name=v_shelf]", "B 4")
        page.press("Save", ".margin button")
        page.until_text(".margin-values", "B 4")
        page.press("Packed", ".margin button")
        page.until_text(".lead", "Packed")
        page.press("Refund Seed packet", "button")
        page.until_text("tfoot", "£2.69")
        self.sound()
        order = read_order(self.house.scope, list_orders(self.house.scope).lines[0].id)
        self.assertEqual((order.line.state, order.shown.returned), ("packed", "£2.69"))

    def test_the_page_is_laid_out_by_mouse_and_by_keys(self) -> None:
        """A section made in a slot, dragged, moved by keys and undone; then met step by step, at 390 px."""
        page = self.page
        self.sign_in()
        page.open(f"/w/{self.house.slug}/collect/{self.trade.form}")
        page.press("Page plan", ".tabs a")
        self.sound()
        page.one("[aria-label='Add a section: after the payment methods']").click()
        page.until_text(".margin", "Nothing is asked in it yet")
        page.press("Write its title and ask in it", "a")
        page.fill("#title", "Anything else" + Keys.TAB)
        page.wait(lambda: self.laid()[-1][1] == "Anything else", "the title")
        page.press("Page plan", ".tabs a")
        page.driver.execute_script("arguments[0].scrollIntoView({block: 'center'})", page.one("[data-id=s2]"))
        page.drag("[data-id=s2] .dots", "[data-id=note]")
        page.wait(lambda: self.laid()[-1] == ("note", "Anything else"), "where it was dragged")
        page.one("[aria-label='Move Anything else up']").send_keys(Keys.ENTER)
        page.wait(lambda: self.laid()[-1][0] == "before_note", "where the keys moved it")
        page.press("Undo", "button")
        page.wait(lambda: self.laid()[-1][0] == "note", "where it was")
        page.press("Anything else", ".strip a")
        page.choose("#move-to", "Above the order button")
        page.press("Put it there", "button")
        page.wait(lambda: self.laid()[-1][0] == "above_button", "where it was put")
        page.press("Split it into steps", "button")
        page.until_text(".plan-step h2", "Contact")
        self.sound()
        publish_form(self.house.scope, self.trade.form, self.trade.revision())
        self._step_by_step()

    def laid(self) -> list[tuple[str, str]]:
        return [(one.slot, one.title) for one in read_form(self.house.scope, self.trade.form).document.sections]

    def _step_by_step(self) -> None:
        page = self.page
        page.resize(390, 800)
        page.open(f"/shop/{self.house.slug}")
        page.fill("#many-packet", "3")
        page.press("Add Seed packet to the cart", "button")
        page.press("To the checkout", "button")
        page.until_text(".steps", "Step 1 of 4: Contact")
        page.press("Next", "button.send")
        page.until_text(".summary", "One answer needs another look")
        page.fill("#q1", "wren@hedgerow.example")
        page.press("Next", "button.send")
        page.until_text(".steps", "Step 2 of 4: Delivery")
        page.press("Next", "button.send")
        page.until_text(".summary", "Choose how it is delivered.")
        page.press("Van", "#delivery label")
        page.until_text(".till-bar", "£13.92")
        self.sound()
        page.press("Next", "button.send")
        page.until_text(".steps", "Payment")
        page.press("Back", "button")
        page.until_text(".steps", "Delivery")
        self.assertTrue(page.one("#delivery input:checked"))
        page.press("Next", "button.send")
        page.until_text(".steps", "Payment")
        page.press("Next", "button.send")
        page.until_text(".steps", "Your order")
        page.press("Order and pay", "button")
        page.until_text("h1", "Pay for order 1")

    def test_signs_are_sown_by_mouse_and_by_keys(self) -> None:
        """Where answers show, and who is asked what: a cell, a row, a column; the keys stay where they are."""
        page, scope = self.page, self.house.scope
        self.sign_in()
        page.open(f"/w/{self.house.slug}/collect/{self.trade.form}/answers")
        page.one("#sow-q3-list").send_keys(Keys.SPACE)
        page.wait(lambda: "list" in self.places("q3"), "the column of the list")
        page.wait(lambda: page.driver.switch_to.active_element.get_attribute("id") == "sow-q3-list", "the keys there")
        page.keys(Keys.ARROW_RIGHT, Keys.SPACE)
        page.wait(lambda: "shop" not in self.places("q3"), "the message to the shop")
        self.sound()
        page.press("Invoice", "thead button")
        page.wait(lambda: all("invoice" in self.places(one) for one in ("q1", "q2", "q3", "q4")), "the whole column")
        page.fill("#tell", "nobody")
        page.press("Save", ".margin button")
        page.until_text(".margin .problem", "not a complete email address")
        group = read_catalogue(scope).groups_about("person")[0].id
        create_field(scope, group, FieldInput(label="Kind", type_key="choice", options="School\nHome"))
        page.press("Who is asked", ".tabs a")
        page.choose("#by", "Kind")
        page.press("Show", "#sheet button")
        page.press("School", "thead button")
        page.wait(lambda: "required" in page.text("#sow-q2-school"), "a required first name")
        page.one("#sow-q2-none").send_keys(Keys.SPACE)
        page.wait(lambda: self.asked("q2").show_when == "kind is filled", "not asked of nobody in particular")
        self.assertEqual(self.asked("q2").required_when, 'kind = "school"')
        self.assertEqual(len(page.all("#sheet .by-hand")), 3)
        self.sound()
        page.press("Undo", "button")
        page.wait(lambda: self.asked("q2").show_when == "", "as it was")

    def asked(self, question: str) -> Question:
        found = read_form(self.house.scope, self.trade.form).document.question(question)
        assert found is not None
        return found

    def places(self, question: str) -> set[str]:
        catalogue = read_form(self.house.scope, self.trade.form).catalogue
        return {place for place, on in shown_at(self.asked(question), catalogue).items() if on}

    def test_a_name_for_each_piece_from_the_composer_to_the_packing_table(self) -> None:
        """A section asked per piece is made, filled in at 390 px while the cart changes in another tab, and packed."""
        page, scope = self.page, self.house.scope
        create_record_type(scope, RecordTypeInput(singular="Tag", plural="Tags", holder="Owner"))
        self.sign_in()
        page.open(f"/w/{self.house.slug}/collect/{self.trade.form}")
        page.press("Add a section", "button")
        page.wait(lambda: page.all("#repeat"), "the settings of the section")
        page.fill("#title", "Tags" + Keys.TAB)
        Select(page.one("#repeat")).select_by_visible_text("once for each tag")
        page.wait(lambda: page.all("#per"), "how often")
        Select(page.one("#per")).select_by_visible_text("once for each piece")
        page.wait(lambda: page.all(".among"), "what of the cart")
        page.press("Products", "summary")
        page.press("Raised-bed kit", ".among label")
        page.until_text(".form-section.on .section-notes", "one for each piece of Raised-bed kit")
        self.sound()
        section = read_form(scope, self.trade.form).document.sections[-1]
        name = next(one for one in read_form(scope, self.trade.form).unasked_in(section) if one.key == "name")
        add_question(scope, self.trade.form, self.trade.revision(), name.id, section.id)
        publish_form(scope, self.trade.form, self.trade.revision())

        page.resize(390, 800)
        page.open(f"/shop/{self.house.slug}")
        page.press("Small", ".ware label")
        page.fill("#many-kit", "2")
        page.press("Add Raised-bed kit to the cart", "button")
        page.until_text("h1", "Your cart")
        page.press("To the checkout", "button")
        page.press("Gate", "#delivery label")
        page.until_text("#questions", "2 of 2")
        page.until_text(".charges", "2 × Raised-bed kit, Small")
        self.sound()
        page.fill("#q1", "wren@hedgerow.example" + Keys.TAB)
        page.fill("[name='a_q5.kit.small.1']", "Kestrel" + Keys.TAB)
        page.fill("[name='a_q5.kit.small.2']", "Moss" + Keys.TAB)
        self.other_tab_keeps_one()
        page.fill("[name='a_q5.kit.small.1']", "Kestrels" + Keys.TAB)
        page.until_text("#questions", "answers to more pieces than are in the cart")
        self.sound()
        # Looked at from the cart again, all that was typed is there; from another browser it is not.
        address = page.driver.current_url
        page.press("Back to the cart", "a")
        page.press("To the checkout", "button")
        page.until_text("h1", "Checkout")
        self.assertEqual(page.one("[name='a_q5.kit.small.1']").get_property("value"), "Kestrels")
        with urlopen(address) as elsewhere:
            self.assertNotIn("Kestrels", elsewhere.read().decode())
        page.press("Order and pay", "button")
        page.until_text("h1", "Pay for order 1")
        page.press("Pay £34.50", "button")
        page.until_text(".intro", "Your order is placed")
        page.resize(1280, 800)
        page.open(f"/w/{self.house.slug}/orders/{list_orders(scope).lines[0].id}")
        page.until_text("#sheet", "Name: Kestrels")
        self.assertNotIn("Moss", page.one("#sheet").text)
        self.sound()

    def other_tab_keeps_one(self) -> None:
        """In another tab the shopper takes one piece out of the cart again."""
        driver = self.page.driver
        first = driver.current_window_handle
        driver.switch_to.new_window("tab")
        self.page.open(f"/shop/{self.house.slug}/cart")
        self.page.fill(".many input[name=quantity]", "1" + Keys.ENTER)
        self.page.until_text("tfoot", "£34.50")
        driver.close()
        driver.switch_to.window(first)

    def test_a_checkout_is_shaped_and_tried(self) -> None:
        """A rule over the lines of the cart as a sentence, a share as a surcharge, tried with a cart, in force."""
        page = self.page
        self.sign_in()
        page.press("Collect", ".stages a")
        page.press("Checkout", ".index a")
        page.press("Plaque", "a.question-body")
        page.until_text("#show_when-words, .margin", "Lines of the cart")
        page.press("Friend", "a.question-body")
        page.wait(lambda: page.all("#charge0_share"), "the surcharge")
        page.fill("#charge0_share", "-20" + Keys.TAB)
        page.wait(
            lambda: read_form(self.house.scope, self.trade.form).document.questions[3].surcharges[0].share == -20,
            "saved",
        )
        page.press("Rehearse", ".tabs a")
        page.fill("[name='as_cart_kit:small']", "1" + Keys.TAB)
        page.until_text("#rehearsal", "Lines of the cart")
        Select(page.one("[name=as_delivery]")).select_by_visible_text("Gate")
        page.until_text(".if-sent", "£34.50")
        page.press("Yes", ".rehearsed label")
        page.until_text(".if-sent", "£27.60")
        self.sound()


if __name__ == "__main__":
    unittest.main()
