"""A checkout being filled in: where it is taxed, what it comes to, what is left to choose."""

from collections.abc import Mapping
from dataclasses import replace
from typing import Final

from finesieve.core.commerce.bill import Bill, NoRate
from finesieve.core.commerce.cart import Cart
from finesieve.core.commerce.shop import Place
from finesieve.core.fields.built_in import address_keys
from finesieve.core.fields.families.places import country_codes
from finesieve.core.forms.billing import bill_of
from finesieve.core.forms.definition import Form
from finesieve.core.forms.evaluate import PreparedForm
from finesieve.core.forms.fees import Fee, with_fee
from finesieve.core.forms.outcome import Outcome
from finesieve.core.forms.rows import Situation
from finesieve.core.forms.wording import Wording
from finesieve.core.language.program import Moment
from finesieve.services.commerce.carts import only
from finesieve.services.kernel.scope import Unit

__all__ = ["bill_or_why", "cart_for_fee", "evaluate_where_it_goes", "still_to_choose"]


def evaluate_where_it_goes(
    unit: Unit, prepared: PreparedForm, answers: Mapping[str, str], moment: Moment, situation: Situation
) -> tuple[Outcome, Cart | None]:
    """The outcome of a checkout, taxed by the address that counts: a question that does not show says nothing of it.

    The first guess is by what was typed. Gives the cart as it is taxed, None for a form without one.
    """
    cart = situation.cart
    if cart is None:
        return prepared.evaluate(answers, moment, situation), None
    guess = replace(cart, place=cart.shop.place(_place_answered(unit, prepared.form, answers)))
    outcome = prepared.evaluate(answers, moment, replace(situation, cart=guess))
    there = replace(cart, place=cart.shop.place(_place_that_counts(outcome)))
    if there.place == guess.place:
        return outcome, guess
    return prepared.evaluate(answers, moment, replace(situation, cart=there)), there


def _place_answered(unit: Unit, form: Form, answers: Mapping[str, str]) -> Place | None:
    """Where it is delivered, else where the bill goes, as far as that is typed."""
    asked = {question.field_id: question for question in form.questions}
    typed: dict[str, str] = {}
    for key in _PLACES:
        known = unit.catalogue.by_key.get(key)
        question = asked.get(known.id) if known is not None else None
        if question is not None:
            typed[key] = question.default if question.hidden else answers.get(question.id, "")
    return _place(typed)


def _place_that_counts(outcome: Outcome) -> Place | None:
    return _place({one.field.key: str(one.value or "") for one in outcome.walk() if one.verdict is True})


_PLACES: Final = tuple(address_keys(kind)[line] for kind in ("delivery", "billing") for line in ("country", "region"))


def _place(said: Mapping[str, str]) -> Place | None:
    for kind in ("delivery", "billing"):
        keys = address_keys(kind)
        if said.get(keys["country"]) in country_codes():
            return Place(country=said[keys["country"]], region=said.get(keys["region"], "")[:10])
    return None


def cart_for_fee(
    unit: Unit, cart: Cart | None, fee: Fee, outcome: Outcome, methods: Mapping[str, str], say: Wording
) -> Cart | None:
    """A cart with what a level costs on it, that of a checkout or one for the fee alone; None without a shop, or where
    the fee cannot be told."""
    shop = unit.catalogue.shop
    if shop is None or fee.amount is None:
        return None
    if cart is None:
        ways = shop.model_copy(update={"delivery": ()})
        payment = shop.way_of_payment(methods.get("payment", "")) or only(shop.payment)
        cart = Cart(ways, (), None, payment, shop.place(_place_that_counts(outcome)), unit.moment.today)
    return with_fee(cart, fee, fee.label(say))


def bill_or_why(cart: Cart | None, outcome: Outcome) -> tuple[Bill | None, str]:
    """What a cart comes to with these answers, or why that cannot be told."""
    if cart is None or not (cart.lines or cart.fee):
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
