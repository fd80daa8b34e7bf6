"""The demo house's shop: what it sells, its checkout, and a year of orders."""

import random
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta
from decimal import Decimal
from typing import Any, Final

from sqlalchemy import update
from sqlmodel import col, select

from finesieve.core.commerce.cart import Cart, CartLine
from finesieve.core.commerce.facts import State
from finesieve.core.commerce.shop import Shop
from finesieve.core.fields.about import ORDER, PERSON
from finesieve.core.forms.billing import bill_of
from finesieve.core.forms.evaluate import prepare
from finesieve.core.forms.outcome import Outcome
from finesieve.core.forms.rows import Situation
from finesieve.services.commerce.charged import move_to
from finesieve.services.commerce.placing import Placing, note_submission, place_order
from finesieve.services.commerce.setting_up import set_up_shop
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.level_fees import LevelFeeInput, set_level_fee
from finesieve.services.define.record_types import LinkInput, RecordTypeInput, add_link, create_record_type
from finesieve.services.filling.kept import as_filled, as_sent
from finesieve.services.filling.situation import store_records
from finesieve.services.forms.composing import (
    FormTexts,
    QuestionInput,
    SectionInput,
    add_question,
    add_section,
    change_form_texts,
    change_question,
    change_section,
)
from finesieve.services.forms.forms import create_form, publish_form, read_draft
from finesieve.services.forms.showing import set_shown_at
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.people.records import link_with_order
from finesieve.store.reading.rows import ids_after, rows_by_ids
from finesieve.store.tables import OrderRow, PaymentRow, Submission

__all__ = ["furnish_shop"]

_SEED: Final = 4_711
_PLACES: Final = (
    ("Mill Lane", "Brackenfold", "DE55 6ZZ"),
    ("Hedge Row", "Lowfold", "DE55 9ZZ"),
    ("Orchard Street", "Upper Tansy", "S45 8ZZ"),
)
_ENGRAVED: Final = ("Kestrel", "Old Moss", "Plot 9", "Fern and Wren")
_ORDERS: Final = 400
_DAYS: Final = 420
SHOP: Final[dict[str, Any]] = {
    "country": "GB",
    "tax_classes": {"standard": "Standard", "seed": "Seed and food"},
    "surcharge_tax_class": "standard",
    "rates": [
        {"tax_class": "standard", "percent": "20", "country": "GB"},
        {"tax_class": "seed", "percent": "0", "country": "GB"},
    ],
    "products": [
        *(
            {
                "key": key, "label": f"Seed packet, {label}", "price": price, "tax_class": "seed",
                "categories": ["seed"], "tags": tags,
            }
            for key, label, price, tags in (
                ("black-kale", "black kale", "2.60", ["heritage"]),
                ("skirret", "skirret", "3.20", ["heritage", "rare"]),
                ("crimson-bean", "crimson bean", "2.90", ["heritage"]),
                ("salad-burnet", "salad burnet", "2.40", []),
                ("tall-pea", "tall pea", "2.99", ["heritage"]),
                ("winter-leek", "winter leek", "2.60", []),
            )
        ),
        {
            "key": "tool-kit", "label": "Tool kit", "price": "34.50", "tax_class": "standard",
            "categories": ["tools"],
        },
        {
            "key": "raised-bed", "label": "Raised-bed kit", "price": "68.00", "tax_class": "standard",
            "categories": ["beds"],
            "variants": [
                {"key": "small", "label": "1.2 m"}, {"key": "large", "label": "2.4 m", "price": "112.00"},
            ],
        },
        {
            "key": "harvest-box", "label": "Harvest box", "price": "14.50", "tax_class": "seed",
            "categories": ["boxes"], "tags": ["weekly"],
            "variants": [
                {"key": "week", "label": "one week"}, {"key": "month", "label": "four weeks", "price": "54.00"},
            ],
        },
        {
            "key": "soil-kit", "label": "Soil test kit", "price": "18.00", "tax_class": "standard",
            "categories": ["tools"],
        },
        {
            "key": "labels", "label": "Slate labels, ten", "price": "9.80", "tax_class": "standard",
            "categories": ["tools"],
        },
        {"key": "gift-card", "label": "Gift card", "price": "20.00", "categories": ["gifts"]},
    ],
    "delivery": [
        {"key": "van", "label": "Our van, Tuesdays", "price": "4.95", "tax_class": "standard"},
        {"key": "gate", "label": "Collected at the gate"},
    ],
    "payment": [{"key": "card", "label": "Card"}, {"key": "invoice", "label": "On invoice"}],
}  # fmt: skip


def furnish_shop(scope: Scope, now: datetime) -> None:
    """The shop, its checkout in force, and its orders of the last fourteen months."""
    set_up_shop(scope, Shop.model_validate(SHOP))
    form_id = _checkout(scope)
    for level in read_catalogue(scope).levels[1:]:
        fee = LevelFeeInput(costs="form.level.yearly_fee", moving="form.level.yearly_fee - level.yearly_fee")
        set_level_fee(scope, level.id, fee)
    _orders(scope, form_id, now)


def _checkout(scope: Scope) -> int:
    group = next(group.id for group in read_catalogue(scope).groups_about(ORDER))
    for asked in (
        FieldInput(label="Wrapped as a gift", key="gift", type_key="yes_no"),
        FieldInput(label="Purchase number", key="purchase_number", type_key="short_text", help="Of a school’s office."),
        FieldInput(label="Note for the packer", key="packer_note", type_key="long_text"),
        FieldInput(label="Seed round-up", key="round_up", type_key="yes_no", help="2 % for the seed bank."),
    ):
        create_field(scope, group, asked)
    form_id = create_form(scope, "Checkout", "checkout")
    revision = _revision(scope, form_id)
    texts = FormTexts(title="Checkout", intro="Almost there.", send_label="Order and pay", thanks="Thank you.")
    change_form_texts(scope, form_id, revision(), texts)
    catalogue = read_catalogue(scope)
    keys = {field.key: field.id for field in (*catalogue.fields, *catalogue.fields_about(ORDER))}
    change_section(scope, form_id, revision(), "s1", SectionInput(title="Who you are", slot="contact"))
    _ask(
        scope,
        form_id,
        "s1",
        *(keys[key] for key in ("first_name", "last_name", "gardener", "phone", "company", "purchase_number")),
    )
    where = SectionInput(title="Where it goes", show_when='cart.delivery = "van"', slot="after_delivery")
    for section, asked_keys in (
        (where, ("delivery_country", "delivery_street", "delivery_town", "delivery_postcode")),
        (SectionInput(slot="note"), ("packer_note",)),
        (SectionInput(title="Anything else", slot="before_totals"), ("gift", "round_up")),
    ):
        _ask(scope, form_id, _section(scope, form_id, section), *(keys[key] for key in asked_keys))
    by_id = read_catalogue(scope).by_id
    at = {by_id[one.field_id].key: one.id for one in read_draft(scope, form_id).document.questions}
    for key, question in {
        "first_name": QuestionInput(required="yes"),
        "last_name": QuestionInput(required="yes"),
        "phone": QuestionInput(show_when='gardener != "school"'),
        "company": QuestionInput(label="School or business", show_when='gardener in ("school", "market")'),
        "purchase_number": QuestionInput(show_when='gardener = "school"'),
        "packer_note": QuestionInput(later=True),
        "delivery_country": QuestionInput(hidden=True, default="GB"),
        "delivery_street": QuestionInput(required="yes"),
        "delivery_town": QuestionInput(required="yes"),
        "delivery_postcode": QuestionInput(required="yes"),
        "gift": QuestionInput(surcharges=({"label": "Gift wrap", "amount": "2.50"},)),
        "round_up": QuestionInput(
            surcharges=({"label": "For the seed bank", "share": "2", "basis": "goods_after", "taxed": False},)
        ),
    }.items():
        change_question(scope, form_id, revision(), at[key], question)
    _plaques(scope, form_id)
    for key, places in (("gift", ("list",)), ("purchase_number", ("list", "invoice")), ("company", ("invoice",))):
        set_shown_at(scope, form_id, revision(), [at[key]], places, on=True)
    publish_form(scope, form_id, revision())
    return form_id


def _section(scope: Scope, form_id: int, asked: SectionInput) -> str:
    """A new section; gives its id."""
    before = {one.id for one in read_draft(scope, form_id).document.sections}
    add_section(scope, form_id, read_draft(scope, form_id).revision)
    made = next(one.id for one in read_draft(scope, form_id).document.sections if one.id not in before)
    change_section(scope, form_id, read_draft(scope, form_id).revision, made, asked)
    return made


def _ask(scope: Scope, form_id: int, section: str, *fields: int) -> None:
    for field_id in fields:
        add_question(scope, form_id, read_draft(scope, form_id).revision, field_id, section)


def _plaques(scope: Scope, form_id: int) -> None:
    """A slate plaque comes with every raised-bed kit: a name for each, engraved at a price per letter."""
    type_id = create_record_type(
        scope,
        RecordTypeInput(
            singular="Plaque", plural="Plaques", symbol="▭", description="In slate, on a raised bed.", holder="Gardener"
        ),
    )
    add_link(scope, type_id, LinkInput(name="Order", back_name="Plaques on it", target=ORDER))
    revision = _revision(scope, form_id)
    repeat = SectionInput(
        title="Plaques", intro="Each raised-bed kit has a slate plaque. Leave it empty for a plain one.",
        slot="by_line", repeat=str(type_id), per="piece", among=("products:raised-bed",), one="Plaque",
    )  # fmt: skip
    section = _section(scope, form_id, repeat)
    name = next(one for one in read_catalogue(scope).fields_about(f"record:{type_id}") if one.key == "name")
    _ask(scope, form_id, section, name.id)
    engraved = QuestionInput(
        label="Name on the plaque", help="Up to 24 letters, 0.35 each.", required="no",
        checks=({"kind": "length", "high": 24},),
        surcharges=({"label": "Engraving of {name}", "amount": "length(name) * 0.35"},),
    )  # fmt: skip
    asked = next(one for one in read_draft(scope, form_id).document.questions if one.field_id == name.id)
    change_question(scope, form_id, revision(), asked.id, engraved)


def _revision(scope: Scope, form_id: int) -> Callable[[], int]:
    return lambda: read_draft(scope, form_id).revision


def _orders(scope: Scope, form_id: int, now: datetime) -> None:
    """Orders of people there are, placed through the one way there is, each at a moment of its own."""
    chance = random.Random(_SEED)  # noqa: S311 - the same orders each time
    with scope.transaction("owner") as unit:
        ids = ids_after(unit.session, unit.definitions, PERSON, 0, 1_200)
        people = rows_by_ids(
            unit.session, unit.definitions, PERSON, ["email", "first_name", "last_name", "gardener"], ids
        )
        prepared = prepare(read_draft(scope, form_id).document, unit.catalogue)
        shop = unit.catalogue.shop
        assert shop is not None
        at = {unit.catalogue.by_id[one.field_id].key: one.id for one in prepared.form.questions}
        moments = sorted(now - timedelta(minutes=chance.randrange(_DAYS * 1_440)) for _ in range(_ORDERS))
        for number, moment in enumerate(moments, 1):
            person = chance.choice(ids)
            cart = _cart(shop, chance, moment)
            street, town, postcode = chance.choice(_PLACES)
            given = {
                at["gift"]: chance.choice(("", "yes")),
                at["delivery_street"]: f"{chance.randrange(1, 60)} {street}",
                at["delivery_town"]: town,
                at["delivery_postcode"]: postcode,
            }
            for name, line in zip(cart.names, cart.lines, strict=True):
                if line.offer.product.key == "raised-bed":
                    plaques = {f"{name}.{piece + 1}" for piece in range(line.quantity)}
                    given |= {f"{at['name']}.{one}": chance.choice(_ENGRAVED) for one in sorted(plaques)}
            outcome = prepared.evaluate(given, unit.moment, Situation(people[person], cart=cart, known=True))
            placing = Placing(
                form_id, f"demo-{number}", "form: Checkout", person, str(people[person]["email"]),
                outcome.results().of(ORDER), cart, bill_of(cart, outcome.charges),
            )  # fmt: skip
            then = _at(unit, moment)
            row = place_order(then, placing)
            added = store_records(then, person, outcome.results().records, placing.source)
            filled = as_filled(outcome, outcome.results(), cart, {"language": "en"}, known=True, added=added)
            note_submission(then, row.id or 0, _sent(then, form_id, row, outcome, moment), filled)
            link_with_order(then, added, row.id or 0, placing.source)
            age = (now - moment).days
            state: State = "sent" if age > 9 else chance.choice(("placed", "packed", "awaiting_payment"))
            for step, (one, later) in enumerate(_WAY):
                if step <= [known for known, _ in _WAY].index(state) and row.state != one:
                    move_to(_at(unit, min(now, moment + later)), row, one, "payment" if one == "placed" else "staff")
        unit.session.flush()
        paid = select(OrderRow.id).where(col(OrderRow.state) != "awaiting_payment")
        keys = [f"order-{one}" for one in unit.session.exec(paid).all()]
        unit.session.execute(update(PaymentRow).where(col(PaymentRow.key).in_(keys)).values(state="paid"))


_WAY: Final[tuple[tuple[State, timedelta], ...]] = (
    ("awaiting_payment", timedelta(0)),
    ("placed", timedelta(minutes=3)),
    ("packed", timedelta(hours=26)),
    ("sent", timedelta(hours=51)),
)
"""The states of an order, and how long after it came each was reached."""


def _at(unit: Unit, moment: datetime) -> Unit:
    """The same transaction, at another moment."""
    return replace(unit, moment=replace(unit.moment, now=moment))


def _sent(unit: Unit, form_id: int, order: OrderRow, outcome: Outcome, moment: datetime) -> int:
    """The filling-in that an order came by."""
    results = outcome.results()
    submission = Submission(
        workspace_id=unit.workspace_id,
        form_id=form_id,
        version=1,
        key=order.key,
        person_id=order.person_id,
        state="stored",
        received_at=moment,
        **as_sent(outcome, results),
    )
    unit.session.add(submission)
    unit.session.flush()
    return submission.id or 0


def _cart(shop: Shop, chance: random.Random, moment: datetime) -> Cart:
    lines = []
    for product in chance.sample(shop.products, chance.choice((1, 1, 2, 3))):
        variant = chance.choice(product.variants).key if product.variants else ""
        offer = shop.offer(product.key, variant)
        assert offer is not None
        lines.append(CartLine(offer, chance.choice((1, 1, 2, 3, 5)) if product.price < Decimal(10) else 1))
    return Cart(
        shop, tuple(lines), chance.choice(shop.delivery), chance.choice(shop.payment), shop.place(), moment.date()
    )
