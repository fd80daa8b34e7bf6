"""Carts of the stand-in shop: known by a key that the browser keeps, filled line by line."""

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from decimal import Decimal
from typing import Any, Final

from sqlalchemy import delete
from sqlmodel import col, select

from finesieve.core.commerce.cart import MOST_LINES, MOST_PIECES, Cart, CartLine
from finesieve.core.commerce.shop import Method, Place, Shop
from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.manner import Manner
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.store.tables import CartRow, FormRow

__all__ = [
    "CartView",
    "answers_with",
    "cart_of",
    "checkout_of",
    "keep_answers",
    "mark_ordered",
    "ordered_with",
    "put_in",
    "read_shop",
    "sweep_carts",
]

_KEY: Final = 60
_MOST_ANSWERED: Final = 200_000
_KEPT: Final = timedelta(days=30)


@dataclass(frozen=True, slots=True)
class CartView:
    """A shop with what is in somebody's cart. `checkout` is the short name of the form to go on with, "" for none."""

    house: str
    shop: Shop
    cart: Cart
    key: str
    checkout: str
    manner: Manner

    def money(self, amount: Decimal) -> str:
        """An amount as people read it."""
        return self.manner.money(amount)

    @property
    def language(self) -> str:
        """The locale of the house."""
        return self.manner.language


def _shop(unit: Unit) -> Shop:
    if unit.catalogue.shop is None:
        raise NotFound("There is no shop here.")
    return unit.catalogue.shop


def _row(unit: Unit, key: str, *, lock: bool = False) -> CartRow | None:
    if not key or len(key) > _KEY:
        return None
    query = select(CartRow).where(col(CartRow.key) == key)
    return unit.session.exec(query.with_for_update() if lock else query).first()


def cart_of(unit: Unit, key: str, place: Place | None = None, methods: Mapping[str, str] | None = None) -> Cart:
    """What is in a cart now, at the shop's prices; what is not sold any more is left out. An unknown key is empty.

    `methods` are how it is to be delivered and paid, where that has just been chosen, by `delivery` and `payment`.
    """
    shop, row = _shop(unit), _row(unit, key)
    kept = {"delivery": row.delivery, "payment": row.payment} if row is not None else {}
    chosen = {**kept, **(methods or {})}
    offers = (
        [(shop.offer(str(product), str(variant)), int(many)) for product, variant, many in row.lines] if row else []
    )
    return Cart(
        shop,
        tuple(CartLine(offer, many) for offer, many in offers if offer is not None),
        shop.way_of_delivery(chosen.get("delivery", "")) or _only(shop.delivery),
        shop.way_of_payment(chosen.get("payment", "")) or _only(shop.payment),
        shop.place(place),
        unit.moment.today,
    )


def _only(ways: Sequence[Method]) -> Method | None:
    """The one way there is: it need not be chosen."""
    return ways[0] if len(ways) == 1 else None


def ordered_with(unit: Unit, key: str) -> int:
    """The order that was placed with what is in a cart now, 0 for none. Until the transaction ends nobody else orders
    with it."""
    row = _row(unit, key, lock=True)
    return row.order_id if row is not None else 0


def answers_with(unit: Unit, key: str) -> dict[str, str]:
    """What was answered at the checkout with this cart so far."""
    row = _row(unit, key)
    return dict(row.answers) if row is not None else {}


def keep_answers(scope: Scope, key: str, answers: Mapping[str, str], methods: Mapping[str, str]) -> None:
    """Keep what has been answered with a cart, so that it is there when one comes back; none that are too long.

    Also how it is to be delivered and paid, of `methods`; a way that there is not counts as none.
    """
    if sum(map(len, (*answers, *answers.values()))) > _MOST_ANSWERED:
        return
    with scope.transaction("public") as unit:
        row = _row(unit, key, lock=True)
        if row is None or row.order_id:
            return
        cart = cart_of(unit, key, methods=methods)
        delivery, payment = (way.key if way is not None else "" for way in (cart.delivery, cart.payment))
        if (row.answers, row.delivery, row.payment) != (answers, delivery, payment):
            row.answers, row.delivery, row.payment = dict(answers), delivery, payment
            row.changed_at = unit.moment.now
            unit.session.add(row)


def mark_ordered(unit: Unit, key: str, order_id: int) -> None:
    """What is in the cart has been ordered: sent from another page, it is the same order."""
    row = _row(unit, key, lock=True)
    if row is not None:
        row.order_id, row.answers = order_id, {}
        unit.session.add(row)


def checkout_of(unit: Unit) -> str:
    """The short name of the checkout that is in force, "" for none."""
    query = select(FormRow.slug).where(col(FormRow.channel) == "checkout", col(FormRow.published) > 0)
    return unit.session.exec(query.order_by(col(FormRow.id)).limit(1)).first() or ""


def read_shop(scope: Scope, house: str, key: str) -> CartView:
    """The shop and the cart of this key. Raises NotFound where there is no shop."""
    with scope.reading("public") as unit:
        cart = cart_of(unit, key)
        return CartView(house, cart.shop, cart, key, checkout_of(unit), unit.manner)


def put_in(scope: Scope, key: str, product: str, variant: str, quantity: int, *, more: bool) -> str:
    """Put pieces of a product into a cart: so many `more`, or so many in all, 0 for none; gives the cart's key.

    Raises InvalidInput for what is not sold, or too many.
    """
    with scope.transaction("public") as unit:
        if _shop(unit).offer(product, variant) is None:
            raise InvalidInput({"variant": "Choose one of the kinds it comes in."})
        row = _row(unit, key, lock=True) or CartRow(workspace_id=unit.workspace_id, key=secrets.token_urlsafe(18))
        lines: dict[tuple[str, str], Any] = {(str(one), str(kind)): int(many) for one, kind, many in row.lines}
        wanted = quantity + (lines.get((product, variant), 0) if more else 0)
        if len({*lines, (product, variant)}) > MOST_LINES:
            raise InvalidInput({"quantity": f"A cart holds at most {MOST_LINES} different things."})
        if not 0 <= wanted <= MOST_PIECES:
            raise InvalidInput({"quantity": f"At most {MOST_PIECES:,} pieces of one thing."})
        lines[(product, variant)] = wanted
        row.lines = [[one, kind, many] for (one, kind), many in lines.items() if many]
        row.order_id, row.changed_at = 0, unit.moment.now
        unit.session.add(row)
        return row.key


def sweep_carts(scope: Scope) -> int:
    """Remove carts that nobody has touched for thirty days; gives how many."""
    with scope.transaction("owner") as unit:
        old = delete(CartRow).where(col(CartRow.changed_at) < unit.moment.now - _KEPT)
        return len(unit.session.execute(old.returning(col(CartRow.id))).all())
