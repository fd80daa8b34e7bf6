"""What stops working where a checkout does not ask, or hides, what a business cannot do without."""

from typing import Final

from finesieve.core.fields.built_in import address_keys
from finesieve.core.forms.definition import Form
from finesieve.core.model.catalogue import Catalogue

__all__ = ["lacking"]

_NAMES: Final = ("first_name", "last_name")


def lacking(form: Form, catalogue: Catalogue) -> tuple[str, ...]:
    """A sentence for each thing that shoppers are not asked, or that is hidden without a value."""
    asked = {
        catalogue.by_id[one.field_id].key
        for one in form.questions
        if one.field_id in catalogue.by_id and (not one.hidden or one.default)
    }
    ways = catalogue.shop.delivery if catalogue.shop is not None else ()
    found = []
    if asked.isdisjoint(_NAMES):
        found.append("No name is asked for: parcels, invoices and messages have none.")
    lines = {kind: {address_keys(kind)[line] for line in ("street", "town")} for kind in ("delivery", "billing")}
    if ways and not lines["delivery"] <= asked and not lines["billing"] <= asked:
        found.append("No street and town are asked for: a parcel cannot be sent, and an invoice has no address.")
    countries = {address_keys(kind)["country"] for kind in ("delivery", "billing")}
    if asked.isdisjoint(countries):
        found.append("No country is asked for: tax is that of the house, wherever it goes.")
    return tuple(found)
