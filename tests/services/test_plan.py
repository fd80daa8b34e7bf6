"""The page plan of a checkout: what lies where, and what the shopper's page makes of it."""

import unittest

from finesieve.core.errors import Conflict, InvalidInput
from finesieve.core.forms.definition import Form, Section
from finesieve.core.forms.lacking import lacking
from finesieve.core.forms.page import PARTS, SLOTS, places
from finesieve.services.commerce.in_force import checkout_in_use, use_checkout
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.filling.open_form import Visit
from finesieve.services.forms.asking import forms_asking, set_forms_asking
from finesieve.services.forms.beginning import create_checkout
from finesieve.services.forms.composing import (
    FormSettings,
    SectionInput,
    add_section,
    arrange,
    change_form_settings,
    change_section,
    lay_out,
    set_steps,
)
from finesieve.services.forms.forms import create_form, form_versions, publish_form, read_draft, read_form
from finesieve.services.forms.showing import set_shown_at
from finesieve.services.kernel.changes import undo_change
from finesieve.services.people.listing import list_people
from tests.support.house import make_house
from tests.support.shop import Trade

PACKETS, KIT = ("packet", "", 3), ("kit", "small", 1)


class Plan(unittest.TestCase):
    def setUp(self) -> None:
        self.trade = Trade(make_house())
        self.scope, self.form = self.trade.house.scope, self.trade.form

    def revision(self) -> int:
        return read_draft(self.scope, self.form).revision

    def laid(self) -> list[tuple[str, str]]:
        return [(one.id, one.slot) for one in read_form(self.scope, self.form).document.sections]

    def section(self, slot: str, title: str = "More") -> str:
        before = {one for one, _ in self.laid()}
        add_section(self.scope, self.form, self.revision(), title, slot)  # type: ignore[arg-type]
        return next(one for one, _ in self.laid() if one not in before)

    def test_sections_are_in_the_order_of_the_page(self) -> None:
        late, early = self.section("above_button"), self.section("before_contact")
        self.assertEqual(self.laid(), [(early, "before_contact"), ("s1", ""), (late, "above_button")])
        change = lay_out(self.scope, self.form, self.revision(), ["note", "s1", "after_note", early, late])
        self.assertEqual(self.laid(), [("s1", "note"), (early, "after_note"), (late, "after_note")])
        undo_change(self.scope, change)
        self.assertEqual([one for one, _ in self.laid()], [early, "s1", late])

    def test_what_cannot_be_laid_out(self) -> None:
        more = self.section("note")
        for order in (["note", "s1"], ["note", "s1", "s1", more], ["s1", "note", more], ["attic", "s1", more]):
            with self.subTest(order=order), self.assertRaises(Conflict):
                lay_out(self.scope, self.form, self.revision(), order)
        with self.assertRaises(InvalidInput) as refused:
            lay_out(self.scope, self.form, self.revision(), ["by_line", "s1", "note", more])
        self.assertEqual(list(refused.exception.messages), ["slot"])
        with self.assertRaises(InvalidInput):
            change_section(self.scope, self.form, self.revision(), "s1", SectionInput(slot="by_line"))
        with self.assertRaises(InvalidInput):
            sign_up = create_form(self.scope, "Join")
            add_section(self.scope, sign_up, read_draft(self.scope, sign_up).revision, "", "note")
        self.assertEqual(self.laid(), [("s1", ""), (more, "note")])

    def test_a_section_moved_in_the_composer_goes_to_the_slot_of_its_neighbour(self) -> None:
        more = self.section("note")
        items = [one.id for one in read_form(self.scope, self.form).document.sections[0].items]
        arrange(self.scope, self.form, self.revision(), [more, "s1", *items])
        self.assertEqual(self.laid(), [(more, ""), ("s1", "")])
        self.trade.ask_per_piece()
        tags = next(one.id for one in read_form(self.scope, self.form).document.sections if one.repeat)
        change_section(self.scope, self.form, self.revision(), tags, self.tags("by_line"))
        view = read_form(self.scope, self.form).document.sections
        order = [one for section in (view[1], view[2], view[0]) for one in (section.id, *(i.id for i in section.items))]
        with self.assertRaises(InvalidInput) as refused:
            arrange(self.scope, self.form, self.revision(), order)
        self.assertIn("each line or piece", refused.exception.messages["order"])
        with self.assertRaises(ValueError):
            Form(title="T", channel="checkout", sections=(Section(id="s1", slot="by_line"),))
        with self.assertRaises(ValueError):
            Form(title="T", sections=(Section(id="s1", slot="note"),))

    def tags(self, slot: str) -> SectionInput:
        repeat = next(one.repeat for one in read_form(self.scope, self.form).document.sections if one.repeat)
        return SectionInput(repeat=str(repeat.record_type), per="piece", slot=slot)  # type: ignore[arg-type]

    def test_a_changed_section_stays_where_it_lies(self) -> None:
        more = self.section("note")
        change_section(self.scope, self.form, self.revision(), more, SectionInput(title="Anything else"))
        self.assertEqual(self.laid()[-1], (more, "note"))
        publish_form(self.scope, self.form, self.revision())
        change_section(self.scope, self.form, self.revision(), more, SectionInput(slot="before_totals"))
        publish_form(self.scope, self.form, self.revision())
        said = [words for line in form_versions(self.scope, self.form) for words in line.differences]
        self.assertIn("Before the totals", str(said))

    def test_a_checkout_goes_step_by_step_by_the_parts_of_its_page(self) -> None:
        set_steps(self.scope, self.form, self.revision(), stepped=True)
        publish_form(self.scope, self.form, self.revision())
        opened = self.trade.open(self.trade.cart(PACKETS, KIT, delivery=""))
        self.assertEqual([one.title for one in opened.steps], ["Contact", "Delivery", "Payment", "Your order"])
        self.assertEqual([len(one.sections) for one in opened.steps], [1, 0, 0, 0])
        change_form_settings(self.scope, self.form, self.revision(), FormSettings(stepped=False))
        self.assertFalse(read_form(self.scope, self.form).document.stepped)

    def test_the_page_names_each_place_once(self) -> None:
        whole = places([("", "a"), ("note", "b"), ("note", "c")])
        self.assertEqual({one.station.key for one in whole}, {*SLOTS, *PARTS})
        self.assertEqual([one.sections for one in whole if one.sections], [("a",), ("b", "c")])
        self.assertEqual(len(whole), len(SLOTS) + len(PARTS))


class Asked(unittest.TestCase):
    """How a text is asked: as a menu, with its sample text in the place of the wording."""

    def setUp(self) -> None:
        self.trade = Trade(make_house())

    def test_a_text_asked_as_a_menu(self) -> None:
        menu = ("Upper Tansy", " ", "Low Field", "Upper Tansy")
        self.trade.change("q2", menu=menu, bare=True, sample="Where you live", show_when="")
        publish_form(self.trade.house.scope, self.trade.form, self.trade.revision())
        opened = self.trade.open(self.trade.cart(PACKETS))
        asked = opened.outcome.of("q2")
        assert asked is not None
        self.assertEqual([one.label for one in asked.offered], ["Upper Tansy", "Low Field"])
        self.assertFalse(self.trade.send(opened, q2="Elsewhere").sent)
        self.assertTrue(self.trade.send(opened, q2="Low Field").sent)
        (person,) = list_people(self.trade.house.scope).lines
        self.assertEqual(person.name, "Low Field")

    def test_a_field_of_an_order_is_asked_from_its_own_page_in_checkouts_alone(self) -> None:
        """Also where the last section asks for records of a piece."""
        scope = self.trade.house.scope
        self.trade.ask_per_piece()
        create_form(scope, "Join")
        group = read_catalogue(scope).groups_about("order")[0].id
        made = create_field(scope, group, FieldInput(label="Gate word", type_key="short_text"))
        self.assertEqual([one.id for one in forms_asking(scope, made)], [self.trade.form])
        set_forms_asking(scope, made, [self.trade.form])
        first = read_form(scope, self.trade.form).document.sections[0]
        self.assertIn(made, [one.field_id for one in first.questions])
        self.assertEqual(read_form(scope, self.trade.form).problems, ())

    def test_changing_a_question_keeps_where_its_answer_shows(self) -> None:
        scope = self.trade.house.scope
        set_shown_at(scope, self.trade.form, self.trade.revision(), ["q2"], ["invoice"], on=True)
        self.trade.change("q2", label="Call name")
        asked = read_form(scope, self.trade.form).document.question("q2")
        assert asked is not None
        self.assertEqual(asked.shown_at, ("order", "shop", "invoice"))


class Begun(unittest.TestCase):
    """The checkout that a house begins with."""

    def setUp(self) -> None:
        self.trade = Trade(make_house())
        self.scope = self.trade.house.scope

    def test_it_asks_what_a_shop_has_to_and_can_be_published(self) -> None:
        view = read_form(self.scope, create_checkout(self.scope, "Till"))
        asked = {
            one.slot: [view.catalogue.by_id[question.field_id].key for question in one.questions]
            for one in view.document.sections
        }
        self.assertEqual(asked["contact"], ["email", "first_name", "last_name", "company", "phone"])
        self.assertEqual(asked["billing"][:2], ["billing_country", "billing_street"])
        self.assertEqual(asked["address"][-1], "delivery_postcode")
        self.assertEqual((view.problems, lacking(view.document, view.catalogue)), ((), ()))
        bare = read_form(self.scope, self.trade.form)
        said = lacking(bare.document, bare.catalogue)
        self.assertEqual(
            [one.partition(":")[0] for one in said], ["No street and town are asked for", "No country is asked for"]
        )
        again = read_form(self.scope, create_checkout(self.scope, "Till"))
        self.assertEqual(
            [one.field_id for one in again.document.questions], [one.field_id for one in view.document.questions]
        )

    def test_the_shop_uses_the_first_that_is_in_force_or_the_one_that_is_chosen(self) -> None:
        form, slug = create_checkout(self.scope, "Till"), self.trade.house.slug
        with self.assertRaises(InvalidInput):
            use_checkout(self.scope, form)
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        cart = self.trade.cart(PACKETS)
        self.assertEqual(self.trade.shop().look(slug, cart).checkout, self.trade.slug)
        change = use_checkout(self.scope, form)
        self.assertEqual(
            (self.trade.shop().look(slug, cart).checkout, checkout_in_use(self.scope)), ("till", (form, "Till"))
        )
        undo_change(self.scope, change)
        self.assertEqual(self.trade.shop().look(slug, cart).checkout, self.trade.slug)

    def test_an_address_that_is_not_asked_does_not_say_where_it_is_taxed(self) -> None:
        form = create_checkout(self.scope, "Till")
        view = read_form(self.scope, form)
        publish_form(self.scope, form, view.revision)
        at = {view.catalogue.by_id[one.field_id].key: one.id for one in view.document.questions}
        forms, cart = self.trade.forms(), self.trade.cart(PACKETS)
        token = forms.open(self.trade.house.slug, view.slug, Visit(cart=cart)).token
        answers = {at["billing_country"]: "GB", at["delivery_country"]: "DE", at["deliver_to_another_address"]: "yes"}
        for other, place in (("yes", "DE"), ("no", "GB")):
            answers[at["deliver_to_another_address"]] = other
            opened = forms.answer(self.trade.house.slug, view.slug, token, answers)
            assert opened.cart is not None
            self.assertEqual(opened.cart.place.country, place)
            self.assertEqual(opened.outcome.row.get("cart.country", place), place)


if __name__ == "__main__":
    unittest.main()
