"""Keeping searches quick, however many people there are."""

from finesieve.services.kernel.scope import Scope
from finesieve.store.reading.searching import tend_searches

__all__ = ["tend"]


def tend(scope: Scope) -> int:
    """Make the indexes that searching in this workspace wants, and drop the others; gives how many of both."""
    with scope.transaction("owner") as unit:
        definitions = unit.definitions
    return tend_searches(scope.store.engine, definitions)
