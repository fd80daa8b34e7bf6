"""Orders that staff place by hand: a cart is filled, and the checkout opened for somebody, by who works here."""

from collections.abc import Sequence
from datetime import timedelta
from typing import Final
from urllib.parse import quote

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.services.commerce.behind import shop_behind
from finesieve.services.commerce.in_force import checkout_of
from finesieve.services.kernel.links import Links
from finesieve.services.kernel.scope import Scope
from finesieve.services.values.value_lines import person_name
from finesieve.store.reading.rows import stored_row

__all__ = ["begin_order", "customer_name"]

_ENDS: Final = timedelta(hours=4)


def customer_name(scope: Scope, person_id: int) -> str:
    """What somebody is called, who is to order. Raises NotFound."""
    with scope.reading("reader") as unit:
        values = stored_row(unit.session, unit.definitions, PERSON, person_id)
        if values is None:
            raise NotFound("There is no such person.")
        return person_name(values)


def begin_order(scope: Scope, secret: str, lines: Sequence[tuple[str, str, int]], person_id: int = 0) -> str:
    """Fill a cart with these lines, and give the path of the checkout with it, for a person or for somebody new.

    Raises NotFound for no such person, InvalidInput where nothing is chosen, or no checkout is in force.
    """
    with scope.transaction("clerk") as unit:
        form = checkout_of(unit)
        if form is None or unit.catalogue.shop is None:
            raise InvalidInput({"": "No checkout is in force, so nothing can be ordered yet."})
        if person_id and stored_row(unit.session, unit.definitions, PERSON, person_id) is None:
            raise NotFound("There is no such person.")
        shop = unit.catalogue.shop
        wanted = [line for line in lines if line[2] and shop.offer(line[0], line[1]) is not None]
        key = shop_behind(unit).begin_cart(wanted)
        until = int((unit.moment.now + _ENDS).timestamp())
        me = Links(secret).give("me", unit.moment.now, form.id, person_id, unit.actor, until=until)
        slug = unit.workspace.slug
        return f"/join/{slug}/{form.slug}?cart={quote(key)}&me={quote(me)}"
