"""Which shop stands behind the port: the one that ships with the product. Another one would be named here."""

from finesieve.core.commerce.port import ShopPort
from finesieve.services.kernel.scope import Unit
from finesieve.standins.shop.shop import StandInShop

__all__ = ["shop_behind"]


def shop_behind(unit: Unit) -> ShopPort:
    """The shop of the workspace, in this transaction."""
    return StandInShop(unit.session, unit.workspace_id, unit.catalogue.shop, unit.moment.now)
