"""Keeping searches and sorted lists quick, however many people there are."""

from sqlmodel import select

from finesieve.services.kernel.scope import Scope
from finesieve.store.reading.searching import tend_searches
from finesieve.store.tables import PeopleView

__all__ = ["tend"]


def tend(scope: Scope) -> int:
    """Make the indexes that this workspace wants, and drop the others; gives how many of both.

    They are for what is searched, and for lists sorted by surname or as a kept view is.
    """
    with scope.transaction("owner") as unit:
        definitions = unit.definitions
        views = unit.session.exec(select(PeopleView.state)).all()
    sorted_by = {"last_name", *(str(state["sort"]) for state in views if state.get("sort"))}
    return tend_searches(scope.store.engine, definitions, sorted_by)
