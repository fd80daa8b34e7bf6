"""What a shop sells: kept as a whole, changed as a whole, and taken back as a whole."""

from sqlmodel import select

from finesieve.core.commerce.shop import Shop
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.scope import Scope
from finesieve.store.definitions.catalogue import touch
from finesieve.store.tables import ShopRow

__all__ = ["set_up_shop"]


def set_up_shop(scope: Scope, shop: Shop) -> int:
    """Let the workspace have this shop; gives the id for undoing, 0 where it has it already."""
    with scope.transaction("editor") as unit:
        row = unit.session.exec(select(ShopRow)).first() or ShopRow(workspace_id=unit.workspace_id)
        before = snapshot(unit, "shop", row.id) if row.id else None
        row.document = shop.model_dump(mode="json", exclude_defaults=True)
        unit.session.add(row)
        unit.session.flush()
        touch(unit.session, unit.workspace_id)
        return record_change(unit, "shop", row.id or 0, "Changed what the shop sells", before)
