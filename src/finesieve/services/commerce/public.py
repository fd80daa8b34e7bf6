"""What the public pages of the shop may do: look, fill a cart, pay, and see one's own order by its link."""

from collections.abc import Mapping, Sequence
from datetime import timedelta

from finesieve.core.errors import NotFound
from finesieve.services.commerce.by_hand import begin_order
from finesieve.services.commerce.carts import CartView, put_in, read_shop
from finesieve.services.commerce.changing import OpenAnswers, change_answers, open_answers
from finesieve.services.commerce.charged import order_row, payment_key
from finesieve.services.commerce.papers import Paper, read_paper
from finesieve.services.commerce.paying import Payable, read_payable, settle
from finesieve.services.kernel.arrivals import count_arrival
from finesieve.services.kernel.links import Links
from finesieve.services.kernel.scope import Clock, Scope, public_scope
from finesieve.standins.shop.payments import answer_payment
from finesieve.store.connection.database import Store

__all__ = ["PublicShop"]


class PublicShop:
    """The shop of a workspace, by its short name. A cart is known by its key, an order by its link."""

    def __init__(self, store: Store, clock: Clock, secret: str) -> None:
        self._store, self._clock, self._links, self._secret = store, clock, Links(secret), secret

    def look(self, slug: str, key: str) -> CartView:
        """The shop and what is in the cart. Raises NotFound."""
        scope, house = self._scope(slug)
        return read_shop(scope, house, key)

    def put_in(
        self, slug: str, key: str, product: str, variant: str, quantity: int, *, more: bool, came_from: str
    ) -> str:
        """See `carts.put_in`. Raises TooOften where an address makes carts without end."""
        scope, _house = self._scope(slug)
        if not key:
            count_arrival(scope, "cart", came_from)
        return put_in(scope, key, product, variant, quantity, more=more)

    def order(self, slug: str, token: str) -> tuple[str, str, Payable]:
        """The name of the house, its locale and the order of a link; a payment that was approved meanwhile counts now.

        Raises NotFound.
        """
        scope, house = self._scope(slug)
        order_id = self._order_id(token)
        with scope.reading("public") as unit:
            language = unit.manner.language
        found = read_payable(scope, order_id)
        if found.to_pay and found.payment in ("approved", "paid"):
            self.settle(slug, token)
            found = read_payable(scope, order_id)
        return house, language, found

    def begin_for(self, scope: Scope, lines: Sequence[tuple[str, str, int]], person_id: int) -> str:
        """See `by_hand.begin_order`."""
        return begin_order(scope, self._secret, lines, person_id)

    def answers(self, slug: str, token: str, typed: Mapping[str, str] | None = None) -> OpenAnswers | None:
        """See `changing.open_answers`."""
        scope, _house = self._scope(slug)
        return open_answers(scope, self._order_id(token), typed)

    def change_answers(self, slug: str, token: str, typed: Mapping[str, str], came_from: str) -> int:
        """See `changing.change_answers`. Raises TooOften."""
        scope, _house = self._scope(slug)
        count_arrival(scope, "order", came_from)
        return change_answers(scope, self._order_id(token), typed)

    def invoice(self, slug: str, token: str, came_from: str) -> Paper:
        """The invoice of the order of a link. Raises NotFound, Conflict, TooOften."""
        scope, _house = self._scope(slug)
        count_arrival(scope, "paper", came_from)
        return read_paper(scope, self._order_id(token), "invoice", "public")

    def pay(self, slug: str, token: str, *, accepted: bool, told: bool = True, late: timedelta = timedelta(0)) -> None:
        """What the payer says on the page of the stand-in for payment, which it tells so `late`.

        Unless it is `told` to us at all, we have to look. Raises NotFound.
        """
        scope, _house = self._scope(slug)
        order_id = self._order_id(token)
        with scope.transaction("public") as unit:
            key = payment_key(order_row(unit, order_id))
            answer_payment(unit.session, key, "approved" if accepted else "declined", unit.moment.now + late)
        if told:
            self.settle(slug, token)

    def settle(self, slug: str, token: str) -> None:
        """See `paying.settle`."""
        scope, _house = self._scope(slug)
        settle(scope, self._order_id(token), f"/shop/{slug}/order/{token}")

    def _order_id(self, token: str) -> int:
        parts = self._links.read("order", self._clock(), token)
        if parts is None:
            raise NotFound("This link is incomplete, or has ended.")
        return int(parts[0])

    def _scope(self, slug: str) -> tuple[Scope, str]:
        return public_scope(self._store, slug, self._clock)
