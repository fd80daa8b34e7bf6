"""Writing values of a person: the values, their history, and what that changes in derived ones."""

from collections.abc import Mapping

from finesieve.core.errors import NotFound
from finesieve.core.fields.encoding import to_json
from finesieve.core.values import Value
from finesieve.services.scope import Unit
from finesieve.store.people import insert_person, person_by_id, update_person
from finesieve.store.tables import History

__all__ = ["add_person", "change_person"]


def add_person(unit: Unit, values: Mapping[str, Value], source: str) -> int:
    """Add a person with these values; gives the id. Raises Conflict where the email is taken."""
    filled = {key: value for key, value in values.items() if value is not None}
    person_id = insert_person(unit.session, unit.definitions, filled)
    _write_history(unit, person_id, {}, filled, source)
    return person_id


def change_person(unit: Unit, person_id: int, values: Mapping[str, Value], source: str) -> int:
    """Change values of a person, None making one blank; gives how many changed.

    Raises NotFound, and Conflict where the email is taken.
    """
    person = person_by_id(unit.session, unit.definitions, person_id, lock=True)
    if person is None:
        raise NotFound("There is no such person.")
    changed = {key: value for key, value in values.items() if person.values.get(key) != value}
    if changed:
        update_person(unit.session, unit.definitions, person_id, changed)
        _write_history(unit, person_id, person.values, {**person.values, **changed}, source)
    return len(changed)


def _write_history(
    unit: Unit, person_id: int, before: Mapping[str, Value], after: Mapping[str, Value], source: str
) -> None:
    old_row = unit.catalogue.derivation.row(before, unit.moment) if before else None
    new_row = unit.catalogue.derivation.row(after, unit.moment)
    for field in unit.catalogue.fields:
        if field.key in unit.catalogue.broken:
            continue
        old = old_row.get(field.key) if old_row is not None else None
        new = new_row.get(field.key)
        if old != new:
            line = History(
                workspace_id=unit.workspace_id,
                person_id=person_id,
                field_id=field.id,
                old=to_json(old),
                new=to_json(new),
                source="computed" if field.derived else source,
                actor=unit.actor,
                at=unit.moment.now,
            )
            unit.session.add(line)
