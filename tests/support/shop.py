"""A small shop with a checkout in force, and somebody who orders."""

from dataclasses import replace
from typing import Any

from finesieve.core.commerce.shop import Shop
from finesieve.services.commerce.carts import cart_of, keep_answers
from finesieve.services.commerce.public import PublicShop
from finesieve.services.commerce.setting_up import set_up_shop
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.filling.open_form import OpenForm, Visit
from finesieve.services.filling.signup import PublicForms
from finesieve.services.forms.composing import (
    QuestionInput,
    SectionInput,
    add_question,
    add_section,
    change_question,
    change_section,
)
from finesieve.services.forms.forms import create_form, publish_form, read_draft, read_form
from tests.support.database import store
from tests.support.house import NOW, House

SECRET = "a secret of the tests"
SHOP: dict[str, Any] = {
    "country": "GB",
    "tax_classes": {"standard": "Standard", "seed": "Seed"},
    "surcharge_tax_class": "standard",
    "rates": [
        {"tax_class": "standard", "percent": "20", "country": "GB"},
        {"tax_class": "seed", "percent": "5", "country": "GB"},
    ],
    "products": [
        {"key": "packet", "label": "Seed packet", "price": "2.99", "tax_class": "seed", "categories": ["seed"]},
        {
            "key": "kit", "label": "Raised-bed kit", "price": "34.50", "tax_class": "standard", "categories": ["beds"],
            "variants": [{"key": "small", "label": "Small"}, {"key": "large", "label": "Large", "price": "49"}],
        },
        {"key": "card", "label": "Card", "price": "0"},
    ],
    "delivery": [
        {"key": "van", "label": "Van", "price": "4.95", "tax_class": "standard"}, {"key": "gate", "label": "Gate"},
    ],
    "payment": [{"key": "pay", "label": "Card"}],
}  # fmt: skip


class Trade:
    """A house with a shop, its checkout (email, plaque with engraving, a gift, a discount) in force."""

    def __init__(self, house: House) -> None:
        self.house = house
        set_up_shop(house.scope, Shop.model_validate(SHOP))
        group = create_group(house.scope, GroupInput(name="On the order", about="order"))
        order = {
            key: create_field(house.scope, group, FieldInput(label=label, key=key, type_key=type_key))
            for key, label, type_key in (("plaque", "Plaque", "short_text"), ("friend", "Friend", "yes_no"), ("shelf", "Shelf", "short_text"))
        }  # fmt: skip
        self.form = create_form(house.scope, "Checkout", "checkout")
        first = next(one.id for one in read_catalogue(house.scope).fields if one.key == "first_name")
        for field in (first, order["plaque"], order["friend"]):
            add_question(house.scope, self.form, self.revision(), field)
        self.change(
            "q3",
            show_when='any(cart.lines where product = "kit")',
            surcharges=({"label": "Engraving", "amount": "length(plaque) * 0.35"},),
        )
        self.change("q4", surcharges=({"label": "10 % off", "share": "-10"},))
        publish_form(house.scope, self.form, self.revision())
        self.slug = read_form(house.scope, self.form).slug

    def ask_per_piece(self) -> int:
        """Tags for the kits: a section asked for each piece, with a name at 0.35 a letter; in force. Gives the type."""
        tag = create_record_type(self.house.scope, RecordTypeInput(singular="Tag", plural="Tags", holder="Owner"))
        add_section(self.house.scope, self.form, self.revision(), "Tags")
        asked = SectionInput(title="Tags", repeat=str(tag), per="piece", among=("products:kit",), one="Tag")
        change_section(self.house.scope, self.form, self.revision(), "s2", asked)
        name = next(
            one.id for one in read_catalogue(self.house.scope).fields_about(f"record:{tag}") if one.key == "name"
        )
        add_question(self.house.scope, self.form, self.revision(), name, "s2")
        self.change("q5", required="no", surcharges=({"label": "Letters", "amount": "length(name) * 0.35"},))
        publish_form(self.house.scope, self.form, self.revision())
        return tag

    def revision(self) -> int:
        return read_draft(self.house.scope, self.form).revision

    def change(self, question: str, **asked: Any) -> None:
        change_question(self.house.scope, self.form, self.revision(), question, QuestionInput(**asked))

    def shop(self) -> PublicShop:
        return PublicShop(store(), lambda: NOW, SECRET)

    def forms(self) -> PublicForms:
        return PublicForms(store(), lambda: NOW, SECRET)

    def cart(self, *lines: tuple[str, str, int], delivery: str = "van") -> str:
        """A cart with these lines; gives its key."""
        key = ""
        for product, variant, many in lines:
            key = self.shop().put_in(self.house.slug, key, product, variant, many, more=True, came_from="here")
        with self.house.scope.transaction("public") as unit:
            keep_answers(unit, key, {}, cart_of(unit, key, methods={"delivery": delivery, "payment": "pay"}))
        return key

    def open(self, cart: str) -> OpenForm:
        return self.forms().open(self.house.slug, self.slug, Visit(cart=cart))

    def send(self, opened: OpenForm, total: str | None = None, **answers: str) -> OpenForm:
        """Send a checkout, its total as the page shows it with these answers."""
        answers = {"q1": "wren@hedgerow.example", **answers}
        seen = self.forms().answer(self.house.slug, self.slug, opened.token, answers)
        shown = seen.total if total is None else total
        asked = frozenset(("q1", "q2", "q3", "q4", *(one.id for one in seen.outcome.showing)))
        return self.forms().send(self.house.slug, self.slug, opened.token, answers, asked, total=shown)

    def order(self, *lines: tuple[str, str, int], **answers: str) -> str:
        """Order these things; gives the link of the order."""
        sent = self.send(self.open(self.cart(*lines)), **answers)
        assert sent.sent, (sent.outcome.troubles, sent.cart_problem)
        return sent.order

    def as_clerk(self) -> House:
        return replace(self.house, scope=self.house.as_role("clerk"))
