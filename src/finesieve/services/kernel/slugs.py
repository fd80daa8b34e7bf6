"""Names in addresses."""

import re

from finesieve.core.values import fold

__all__ = ["slug_from_name"]


def slug_from_name(name: str) -> str:
    """The part of an address made from a name: `Brackenfold Seed Co-op` → `brackenfold-seed-co-op`."""
    return re.sub(r"[^a-z0-9]+", "-", fold(name)).strip("-")[:60] or "workspace"
