"""What a filled-in checkout comes to: the cart with the surcharges and discounts that the answers add."""

from collections.abc import Iterable

from finesieve.core.commerce.bill import Bill, Entry, make_bill
from finesieve.core.commerce.cart import Cart
from finesieve.core.forms.outcome import Charge

__all__ = ["bill_of"]


def bill_of(cart: Cart, charges: Iterable[Charge]) -> Bill:
    """The bill, surcharges and discounts in the order of the form. Raises NoRate."""
    added = [_entry(cart, number, one) for number, one in enumerate(charges, 1)]
    return make_bill((*cart.entries, *added), cart.shop.mode, cart.shop.currency_decimals, cart.rate_of)


def _entry(cart: Cart, number: int, charge: Charge) -> Entry:
    surcharge, key = charge.surcharge, f"charge{number}"
    if charge.exact < 0:
        over = "order" if surcharge.basis.startswith("order") else "goods"
        return Entry(key, charge.label, "discount", -charge.exact, over=over)  # type: ignore[arg-type]  # one of both
    tax_class = cart.tax_class_of(surcharge.tax_class, taxed=surcharge.taxed)
    return Entry(key, charge.label, "surcharge", charge.exact, tax_class)
