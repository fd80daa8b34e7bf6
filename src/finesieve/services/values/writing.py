"""Writing values: of a person, a record, an order, a level or the house; with their history and what follows."""

from collections.abc import Mapping, Sequence
from typing import Final

from finesieve.core.errors import NotFound
from finesieve.core.fields.about import PERSON, record_about
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import Json, to_json
from finesieve.core.language.derived import Members, Row
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.sealing import sealed
from finesieve.store.rows import holders_of, insert_row, records_of, stored_row, update_row
from finesieve.store.tables import History

__all__ = [
    "OWN_IDS",
    "add_person",
    "add_row",
    "change_person",
    "change_row",
    "members_of",
    "row_of",
    "taken_keys",
    "write_line",
]

OWN_IDS: Final[Mapping[str, int]] = {"tags": -1, "lists": -2, "level": -3}
"""What stands for a field's id in the history of a person's tags, lists and level."""
_IS_SET: Final = "set"


def members_of(unit: Unit, about: str, row_id: int) -> Members:
    """The records that a person, or another thing, has, as rows by the name of the collection."""

    def members(name: str) -> Sequence[Row] | None:
        link = unit.catalogue.collections_of(about).get(name)
        if link is None:
            return None
        inner = record_about(link.record_type_id)
        derivation = unit.catalogue.derivation_of(inner)
        return [
            derivation.row(values, unit.moment, members_of(unit, inner, record_id))
            for record_id, values in records_of(unit.session, unit.definitions, link, row_id)
        ]

    return members


def row_of(unit: Unit, about: str, row_id: int, values: Mapping[str, Value]) -> Row:
    """Stored values with the derived ones and the collections."""
    return unit.catalogue.derivation_of(about).row(values, unit.moment, members_of(unit, about, row_id))


def add_person(unit: Unit, values: Mapping[str, Value], source: str) -> int:
    """Add a person with these values; gives the id. Raises Conflict where the email is taken."""
    return add_row(unit, PERSON, values, source)


def change_person(unit: Unit, person_id: int, values: Mapping[str, Value], source: str) -> int:
    """Change values of a person, None making one blank; gives how many changed.

    Raises NotFound, and Conflict where a value that must be unique is taken.
    """
    return change_row(unit, PERSON, person_id, values, source)


def taken_keys(
    unit: Unit, person_id: int, values: Mapping[str, Value], more: frozenset[str] = frozenset()
) -> list[str]:
    """The keys of fields whose values only one person may have, and somebody other than this one has.

    `more` names fields that are held to it besides those whose settings say so.
    """
    found = []
    for key, value in values.items():
        field = unit.catalogue.by_key.get(key)
        if field is None or field.type.kind == "secret":
            continue
        if value is not None and (field.settings.unique or key == "email" or key in more):
            holders = holders_of(unit.session, unit.definitions, field, value)
            found += [key] if set(holders) - {person_id} else []
    return found


def add_row(unit: Unit, about: str, values: Mapping[str, Value], source: str) -> int:
    """Add a person or a record; gives the id. Raises Conflict where a value must be unique and is taken."""
    filled = sealed(unit, about, {key: value for key, value in values.items() if value is not None})
    row_id = insert_row(unit.session, unit.definitions, about, filled)
    _write_history(unit, about, row_id, None, row_of(unit, about, row_id, filled), source)
    return row_id


def change_row(unit: Unit, about: str, row_id: int, values: Mapping[str, Value], source: str) -> int:
    """Change values of one thing, None making one blank; gives how many changed.

    Raises NotFound, and Conflict where a value that must be unique is taken.
    """
    stored = stored_row(unit.session, unit.definitions, about, row_id, lock=True)
    if stored is None:
        raise NotFound(f"There is no such {'person' if about == PERSON else 'record'}.")
    before = row_of(unit, about, row_id, stored)
    changed = sealed(unit, about, {key: value for key, value in values.items() if stored.get(key) != value})
    if changed:
        update_row(unit.session, unit.definitions, about, row_id, changed)
        _write_history(unit, about, row_id, before, row_of(unit, about, row_id, {**stored, **changed}), source)
    return len(changed)


def write_line(
    unit: Unit, about: str, row_id: int, field_id: int, old: Json, new: Json, source: str, actor: str | None = None
) -> None:
    """One line of history."""
    line = History(
        workspace_id=unit.workspace_id,
        about=about,
        entity_id=row_id,
        field_id=field_id,
        old=old,
        new=new,
        source=source,
        actor=unit.actor if actor is None else actor,
        at=unit.moment.now,
    )
    unit.session.add(line)


def _kept(field: Field, value: Value) -> Json:
    return (_IS_SET if value is not None else None) if field.type.kind == "secret" else to_json(value)


def _write_history(unit: Unit, about: str, row_id: int, before: Row | None, after: Row, source: str) -> None:
    broken = unit.catalogue.broken_by_about.get(about, frozenset())
    for field in unit.catalogue.about(about):
        if field.key in broken or not (field.stores or field.derived):
            continue
        old = before.get(field.key) if before is not None else None
        new = after.get(field.key)
        if old != new:
            by_way = "computed" if field.derived else source
            write_line(unit, about, row_id, field.id, _kept(field, old), _kept(field, new), by_way)
    if about == PERSON:
        for key, own_id in OWN_IDS.items():
            old = (before.get(key) if before is not None else None) or None
            new = after.get(key) or None
            if old != new:
                write_line(unit, about, row_id, own_id, to_json(old), to_json(new), source)
