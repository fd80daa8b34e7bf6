"""What follows from a change of an order: derived values of the order itself, and of whoever ordered."""

from collections.abc import Iterator, Mapping
from contextlib import contextmanager

from finesieve.core.commerce.facts import ORDERS
from finesieve.core.fields.about import ORDER, PERSON
from finesieve.core.fields.encoding import to_json
from finesieve.core.model.changes import COMPUTED, Change, ChangeSet
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.writing import record, row_of
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import OrderRow

__all__ = ["followed"]


@contextmanager
def followed(unit: Unit, row: OrderRow, *, person_id: int = 0, fields: bool = False) -> Iterator[None]:
    """Note what the change of an order within changes besides, in the history of the order and of its person.

    `person_id` is whose it becomes. With `fields`, only fields of the order change, whose followers on the order
    itself are noted where they are set.
    """
    person = (PERSON, person_id or row.person_id)
    abouts = [person] if fields else [person, (ORDER, row.id or 0)]
    before = {(about, row_id): _derived(unit, about, row_id) for about, row_id in abouts if row_id}
    yield
    unit.session.flush()
    for (about, row_id), old in before.items():
        new = _derived(unit, about, row_id) if old else {}
        changes = tuple(
            Change(row_id, unit.catalogue.keys_of(about)[key].id, to_json(old[key]), to_json(value), computed=True)
            for key, value in new.items()
            if old[key] != value
        )
        record(unit, ChangeSet(about, changes, COMPUTED, unit.actor, unit.moment.now))


def _derived(unit: Unit, about: str, row_id: int) -> Mapping[str, Value]:
    """The derived values of an order, or those of a person that go over their orders."""
    derivation, broken = unit.catalogue.derivation_of(about), unit.catalogue.broken_by_about.get(about, frozenset())
    keys = [
        key
        for key, formula in derivation.formulas.items()
        if key not in broken and (about == ORDER or ORDERS in derivation.ancestors(formula.names))
    ]
    if not keys:
        return {}
    row = row_of(unit, about, row_id, stored_row(unit.session, unit.definitions, about, row_id) or {})
    return {key: row.get(key) for key in keys}
