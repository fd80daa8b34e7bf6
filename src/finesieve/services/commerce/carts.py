"""Carts, and what is kept of the checkout with each: answers, ways of delivery and payment, the order it became."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from decimal import Decimal
from typing import Final

from sqlalchemy import bindparam, delete
from sqlalchemy.dialects.postgresql import JSONB, insert
from sqlmodel import col, select

from finesieve.core.commerce.cart import Cart, CartLine
from finesieve.core.commerce.shop import Method, Place, Shop
from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.manner import Manner
from finesieve.services.commerce.behind import shop_behind
from finesieve.services.commerce.in_force import slug_of_checkout
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.standins.shop.carts import put_into, sweep
from finesieve.store.tables import CheckoutRow

__all__ = [
    "CartView",
    "answers_with",
    "cart_of",
    "keep_answers",
    "mark_ordered",
    "only",
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


# Made once, since putting a statement together costs as much again as the database does; and every answer needs these.
_CHECKOUT: Final = select(CheckoutRow).where(col(CheckoutRow.cart) == bindparam("cart"))
_SAYS: Final = ("answers", "delivery", "payment", "changed_at")
_KEEP: Final = (
    insert(CheckoutRow)
    .values({name: bindparam(name) for name in ("workspace_id", "cart", "order_id", "ordered", *_SAYS)})
    .on_conflict_do_update(
        index_elements=["workspace_id", "cart"],
        set_={name: bindparam(name) for name in _SAYS},
        where=(col(CheckoutRow.order_id) == 0) | (col(CheckoutRow.ordered) != bindparam("here", type_=JSONB)),
    )
)


def _shop(unit: Unit) -> Shop:
    shop = shop_behind(unit).sold()
    if shop is None:
        raise NotFound("There is no shop here.")
    return shop


def _row(unit: Unit, cart: str) -> CheckoutRow | None:
    return unit.session.scalars(_CHECKOUT, {"cart": cart}).first() if cart and len(cart) <= _KEY else None


def _locked(unit: Unit, cart: str) -> CheckoutRow | None:
    """What is kept of the checkout with a cart, made where there is none; until the transaction ends it is ours alone.

    None for a cart without anything in it, of which nothing is kept.
    """
    if not cart or len(cart) > _KEY or not shop_behind(unit).lines(cart):
        return None
    made = CheckoutRow(workspace_id=unit.workspace_id, cart=cart, changed_at=unit.moment.now)
    columns = {name: value for name, value in made.model_dump().items() if name != "id"}
    unit.session.execute(insert(CheckoutRow).values(columns).on_conflict_do_nothing())
    query = select(CheckoutRow).where(col(CheckoutRow.cart) == cart)
    return unit.session.exec(query.with_for_update().execution_options(populate_existing=True)).one()


def cart_of(unit: Unit, key: str, place: Place | None = None, methods: Mapping[str, str] | None = None) -> Cart:
    """What is in a cart now, at the shop's prices; what is not sold any more is left out. An unknown key is empty.

    `methods` are how it is to be delivered and paid, where that has just been chosen, by `delivery` and `payment`.
    """
    shop, row = _shop(unit), _row(unit, key)
    kept = {"delivery": row.delivery, "payment": row.payment} if row is not None else {}
    chosen = {**kept, **(methods or {})}
    offers = [(shop.offer(product, variant), many) for product, variant, many in shop_behind(unit).lines(key[:_KEY])]
    return Cart(
        shop,
        tuple(CartLine(offer, many) for offer, many in offers if offer is not None),
        shop.way_of_delivery(chosen.get("delivery", "")) or only(shop.delivery),
        shop.way_of_payment(chosen.get("payment", "")) or only(shop.payment),
        shop.place(place),
        unit.moment.today,
    )


def only(ways: Sequence[Method]) -> Method | None:
    """The one way there is: it need not be chosen."""
    return ways[0] if len(ways) == 1 else None


def ordered_with(unit: Unit, key: str) -> int:
    """The order that was placed with what is in a cart now, 0 for none. Until the transaction ends nobody else orders
    with it."""
    row = _locked(unit, key)
    return row.order_id if row is not None and row.ordered == _lines(unit, key) else 0


def _lines(unit: Unit, key: str) -> list[list[object]]:
    return [list(line) for line in shop_behind(unit).lines(key)]


def answers_with(unit: Unit, key: str) -> dict[str, str]:
    """What was answered at the checkout with this cart so far."""
    row = _row(unit, key)
    return dict(row.answers) if row is not None else {}


def keep_answers(unit: Unit, key: str, answers: Mapping[str, str], cart: Cart) -> None:
    """Keep what has been answered with a cart, so that it is there when one comes back; none that are too long.

    Also how the `cart` is to be delivered and paid. With what has been ordered nothing more is kept.
    """
    if not key or not cart.lines or sum(map(len, (*answers, *answers.values()))) > _MOST_ANSWERED:
        return
    delivery, payment = (way.key if way is not None else "" for way in (cart.delivery, cart.payment))
    kept = {"answers": dict(answers), "delivery": delivery, "payment": payment, "changed_at": unit.moment.now}
    here = [
        [line.offer.product.key, line.offer.variant.key if line.offer.variant else "", line.quantity]
        for line in cart.lines
    ]
    whole = {"workspace_id": unit.workspace_id, "cart": key[:_KEY], "order_id": 0, "ordered": [], "here": here, **kept}
    unit.session.connection().execute(_KEEP, whole)


def mark_ordered(unit: Unit, key: str, order_id: int) -> None:
    """What is in the cart has been ordered: sent from another page, it is the same order."""
    row = _locked(unit, key)
    if row is not None:
        row.order_id, row.ordered, row.answers = order_id, _lines(unit, key), {}
        unit.session.add(row)


def read_shop(scope: Scope, house: str, key: str) -> CartView:
    """The shop and the cart of this key. Raises NotFound where there is no shop."""
    with scope.reading("public") as unit:
        cart = cart_of(unit, key)
        return CartView(house, cart.shop, cart, key, slug_of_checkout(unit), unit.manner)


def put_in(scope: Scope, key: str, product: str, variant: str, quantity: int, *, more: bool) -> str:
    """Put pieces of a product into a cart: so many `more`, or so many in all, 0 for none; gives the cart's key.

    Raises InvalidInput for what is not sold, or too many.
    """
    with scope.transaction("public") as unit:
        if _shop(unit).offer(product, variant) is None:
            raise InvalidInput({"variant": "Choose one of the kinds it comes in."})
        line = (product, variant, quantity)
        return put_into(unit.session, unit.workspace_id, key[:_KEY], line, unit.moment.now, more=more)


def sweep_carts(scope: Scope) -> int:
    """Remove carts that nobody has touched for thirty days; gives how many."""
    with scope.transaction("owner") as unit:
        old = delete(CheckoutRow).where(col(CheckoutRow.changed_at) < unit.moment.now - _KEPT)
        unit.session.execute(old)
        return sweep(unit.session, unit.moment.now - _KEPT)
