"""Reading one person: the profile and its history; correcting values."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.built_in import ADDRESSES, address_keys
from finesieve.core.fields.definition import Shelf
from finesieve.core.model.catalogue import Group
from finesieve.core.values import Value
from finesieve.services.kernel.merging import merged_values
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.values.addresses import printed_of
from finesieve.services.values.sealing import seals
from finesieve.services.values.steps import blank_reason
from finesieve.services.values.value_lines import (
    HistoryLine,
    ValueLine,
    history_of,
    history_of_records,
    linked_records,
    person_name,
    read_values,
    value_lines,
)
from finesieve.services.values.writing import change_person, row_of, taken_keys
from finesieve.store.reading.people import Person
from finesieve.store.reading.rows import stored_row

__all__ = [
    "PersonMemberships",
    "Profile",
    "read_line",
    "read_profile",
    "set_values",
]


@dataclass(frozen=True, slots=True)
class PersonMemberships:
    """What a person carries beside the fields: tags, keys of lists, the key of a level ("" for none)."""

    tags: tuple[str, ...]
    lists: tuple[str, ...]
    level: str


@dataclass(frozen=True, slots=True)
class Profile:
    """All that is known of one person. `addresses` are as one prints them, by the id of the group they stand in;
    `reasons` say why derived values are blank, by key."""

    id: int
    name: str
    groups: tuple[tuple[Group, tuple[ValueLine, ...]], ...]
    history: tuple[HistoryLine, ...]
    memberships: PersonMemberships
    addresses: Mapping[int, tuple[str, ...]]
    reasons: Mapping[str, str]


def read_profile(scope: Scope, person_id: int, about_key: str = "") -> Profile:
    """A profile with groups, derived values and history. Raises NotFound.

    `about_key` restricts the history to one field, by key.
    """
    with scope.reading("reader") as unit:
        person = _person(unit, person_id)
        row = row_of(unit, PERSON, person_id, person.values)
        return Profile(
            person_id,
            person_name(person.values),
            value_lines(unit, PERSON, row),
            _history(unit, person_id, about_key),
            PersonMemberships(
                _texts(person.values.get("tags")), _texts(person.values.get("lists")), str(person.values["level"] or "")
            ),
            _addresses(unit, row),
            _reasons(unit, row),
        )


_LINES: Final = 200


def _history(unit: Unit, person_id: int, about_key: str) -> tuple[HistoryLine, ...]:
    """What has changed of a person, newest first, and of the records that they have; of one field, that alone."""
    own = history_of(unit, PERSON, person_id, about_key)
    if about_key:
        return own
    titles = {(known.about, record_id): title for known, record_id, title in linked_records(unit, PERSON, person_id)}
    lines = (*own, *history_of_records(unit, titles))
    return tuple(sorted(lines, key=lambda line: (line.at, line.id), reverse=True)[:_LINES])


def _reasons(unit: Unit, row: Mapping[str, Value]) -> dict[str, str]:
    """Why derived values are blank, by key."""
    return {
        field.key: reason
        for field in unit.catalogue.derived
        if field.key not in unit.catalogue.broken and unit.sees(field) and (reason := blank_reason(unit, field, row))
    }


def _addresses(unit: Unit, row: Mapping[str, Value]) -> dict[int, tuple[str, ...]]:
    """Addresses as they are printed, by the group of their fields."""
    found = {}
    for kind in ADDRESSES:
        street = unit.catalogue.by_key.get(address_keys(kind)["street"])
        printed = printed_of(unit, kind, row) if street is not None and street.built_in else ()
        if street is not None and printed:
            found[street.group_id] = printed
    return found


def read_line(scope: Scope, person_id: int, key: str) -> ValueLine | None:
    """One value of a person, by the key of its field; None where they do not have it. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = row_of(unit, PERSON, person_id, _person(unit, person_id).values)
        lines = (line for _, found in value_lines(unit, PERSON, row) for line in found)
        return next((line for line in lines if line.field.key == key), None)


def _texts(value: Value) -> tuple[str, ...]:
    return value if isinstance(value, tuple) else ()


def _person(unit: Unit, person_id: int) -> Person:
    values = stored_row(unit.session, unit.definitions, PERSON, person_id)
    if values is None:
        raise NotFound("There is no such person.")
    return Person(person_id, values)


@seals
def set_values(
    scope: Scope,
    person_id: int,
    typed: Mapping[str, str],
    shelf: Shelf | None = None,
    was: Mapping[str, str] | None = None,
) -> int:
    """Correct values as typed, by field key; gives how many changed.

    Fields that are not named stay, and so do those that the page showed as they were
    typed (`was`). Raises InvalidInput by key for what cannot be read, may not change, or
    is somebody else's, and Overtaken for a clash.
    """
    with scope.transaction("clerk") as unit:
        stored = stored_row(unit.session, unit.definitions, PERSON, person_id, lock=True)
        if stored is None:
            raise NotFound("There is no such person.")
        typed = merged_values(unit, PERSON, person_id, typed, was, stored)
        values = read_values(unit, PERSON, typed, stored, shelf)
        _refuse_taken(unit, person_id, values)
        return len(change_person(unit, person_id, values, "staff"))


def _refuse_taken(unit: Unit, person_id: int, values: Mapping[str, Value]) -> None:
    taken = taken_keys(unit, person_id, values)
    if taken:
        by_key = unit.catalogue.by_key
        raise InvalidInput({key: f"Somebody else has this {by_key[key].label.lower()}." for key in taken})
