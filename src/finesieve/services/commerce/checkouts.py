"""A checkout being filled in: where it is taxed, what it comes to, what is left to choose."""

from collections.abc import Mapping

from finesieve.core.commerce.bill import Bill, NoRate
from finesieve.core.commerce.cart import Cart
from finesieve.core.commerce.shop import Place
from finesieve.core.fields.built_in import address_keys
from finesieve.core.fields.families.places import country_codes
from finesieve.core.forms.billing import bill_of
from finesieve.core.forms.definition import Form
from finesieve.core.forms.outcome import Outcome
from finesieve.services.kernel.scope import Unit

__all__ = ["bill_or_why", "place_answered", "still_to_choose"]


def place_answered(unit: Unit, form: Form, answers: Mapping[str, str]) -> Place | None:
    """Where it is delivered, else where the bill goes, as far as that is answered."""
    asked = {question.field_id: question for question in form.questions}
    for kind in ("delivery", "billing"):
        given = {}
        for line in ("country", "region"):
            known = unit.catalogue.by_key.get(address_keys(kind)[line])
            question = asked.get(known.id) if known is not None else None
            typed = "" if question is None else question.default if question.hidden else answers.get(question.id, "")
            given[line] = typed
        if given["country"] in country_codes():
            return Place(country=given["country"], region=given["region"][:10])
    return None


def bill_or_why(cart: Cart | None, outcome: Outcome) -> tuple[Bill | None, str]:
    """What a cart comes to with these answers, or why that cannot be told."""
    if cart is None or not cart.lines:
        return None, "There is nothing in the cart."
    try:
        return bill_of(cart, outcome.charges), ""
    except NoRate:
        return None, "We cannot deliver there: no tax rate is known."


def still_to_choose(cart: Cart | None, bill: Bill | None) -> dict[str, str]:
    """What is said of the ways that have to be chosen before sending, by `delivery` and `payment`."""
    found: dict[str, str] = {}
    if cart is None or bill is None:
        return found
    if cart.shop.delivery and cart.delivery is None:
        found["delivery"] = "Choose how it is delivered."
    if cart.shop.payment and cart.payment is None and bill.total:
        found["payment"] = "Choose how it is paid."
    return found
