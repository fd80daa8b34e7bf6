"""Names in addresses."""

import re
from collections.abc import Container

from finesieve.core.values import fold

__all__ = ["free_slug", "slug_from_name"]


def slug_from_name(name: str) -> str:
    """The part of an address made from a name: `Brackenfold Seed Co-op` → `brackenfold-seed-co-op`."""
    return re.sub(r"[^a-z0-9]+", "-", fold(name)).strip("-")[:60] or "workspace"


def free_slug(name: str, taken: Container[str]) -> str:
    """The same with a number behind it where it is taken: `join-us-2`."""
    base, number = slug_from_name(name), 1
    slug = base
    while slug in taken:
        number += 1
        slug = f"{base[:50]}-{number}"
    return slug
