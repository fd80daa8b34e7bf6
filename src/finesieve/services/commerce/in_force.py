"""Which of the checkouts in force the shop uses."""

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.store.tables import FormRow, ShopRow

__all__ = ["checkout_in_use", "checkout_of", "slug_of_checkout", "use_checkout"]


def checkout_of(unit: Unit) -> FormRow | None:
    """The checkout that the shop uses: the one chosen, else the first that is in force; None for none."""
    chosen = unit.session.exec(select(ShopRow.checkout)).first() or 0
    query = select(FormRow).where(col(FormRow.channel) == "checkout", col(FormRow.published) > 0)
    return unit.session.exec(query.order_by(col(FormRow.id) != chosen, col(FormRow.id)).limit(1)).first()


def slug_of_checkout(unit: Unit) -> str:
    """The short name of the checkout that the shop uses, "" for none."""
    form = checkout_of(unit)
    return form.slug if form is not None else ""


def checkout_in_use(scope: Scope) -> tuple[int, str]:
    """The id and the title of the checkout that the shop uses; 0 and "" for none."""
    with scope.reading("reader") as unit:
        form = checkout_of(unit)
        return (form.id or 0, str(form.draft.get("title", ""))) if form is not None else (0, "")


def use_checkout(scope: Scope, form_id: int) -> int:
    """Let the shop use this checkout; gives the id for undoing. Raises InvalidInput for one that is not in force."""
    with scope.transaction("editor") as unit:
        form, shop = unit.session.get(FormRow, form_id), unit.session.exec(select(ShopRow).with_for_update()).first()
        if form is None or form.channel != "checkout" or not form.published or shop is None:
            raise InvalidInput({"use": "Only a checkout that is in force can be used by the shop."})
        before = snapshot(unit, "shop", shop.id or 0)
        shop.checkout = form_id
        unit.session.add(shop)
        unit.session.flush()
        return record_change(unit, "shop", shop.id or 0, "Changed which checkout the shop uses", before)
