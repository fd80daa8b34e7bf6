"""How addresses are printed: the lines that a house adds to them, by country."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.built_in import ADDRESSES, address_keys
from finesieve.core.fields.groups import GroupSettings, PrintedLine
from finesieve.core.language.typed import Typed
from finesieve.core.model.catalogue import Catalogue, Group
from finesieve.core.values import Value
from finesieve.services.define.fields import group_of, group_row
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.texts import refuse_texts
from finesieve.services.values.addresses import printed_of
from finesieve.services.values.value_lines import person_name
from finesieve.store.reading.people import page_of_people
from finesieve.store.reading.rows import stored_row

__all__ = ["Printed", "Printing", "address_of_group", "change_printing", "read_printing"]


@dataclass(frozen=True, slots=True)
class Printed:
    """The address of somebody as it is printed; of nobody ("") with the names of fields in place of values."""

    person: str
    lines: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Printing:
    """The added lines of an address, and how it is printed for the newest person who has one in each country."""

    group: Group
    lines: tuple[PrintedLine, ...]
    examples: tuple[Printed, ...]


def address_of_group(catalogue: Catalogue, group: Group) -> str:
    """The kind of address whose street stands in a group, `delivery` or `billing`; "" for none."""
    for kind in ADDRESSES:
        street = catalogue.by_key.get(address_keys(kind)["street"])
        if street is not None and street.built_in and street.group_id == group.id:
            return kind
    return ""


def _kind(unit: Unit, group_id: int) -> tuple[Group, str]:
    group = group_of(unit.catalogue, group_id)
    kind = address_of_group(unit.catalogue, group)
    if not kind:
        raise NotFound("There is no address in this group.")
    return group, kind


def read_printing(scope: Scope, group_id: int) -> Printing:
    """How the address of a group is printed. Raises NotFound for a group without one."""
    with scope.reading("editor") as unit:
        group, kind = _kind(unit, group_id)
        countries = dict.fromkeys(("", *(line.country for line in group.settings.printed)))
        found = tuple(_example(unit, kind, country) for country in countries)
        return Printing(group, group.settings.printed, found)


def _example(unit: Unit, kind: str, country: str) -> Printed:
    """The newest person who has such an address, in a country or (without one) anywhere; where nobody has, the newest
    person, with the names of the fields for an address."""
    keys = address_keys(kind)
    wanted = f'{keys["country"]} = "{country}"' if country else f"{keys['street']} is filled"
    typed = unit.catalogue.check(wanted, "yes_no").typed
    stored = _newest(unit, [typed] if typed else [])
    if stored is not None and stored.get(keys["street"]):
        return Printed(person_name(stored), printed_of(unit, kind, stored))
    labels = {
        key: field.label for line, key in keys.items() if (field := unit.catalogue.by_key.get(key)) and line in _NAMED
    }
    made_up = {**(_newest(unit, []) or {}), **labels, keys["country"]: country or None}
    return Printed("", printed_of(unit, kind, made_up))


_NAMED: Final = ("street", "extra", "town", "postcode")


def _newest(unit: Unit, conditions: Sequence[Typed]) -> Mapping[str, Value] | None:
    people = page_of_people(unit.session, unit.definitions, unit.moment, [], meshes=conditions, limit=1)
    return stored_row(unit.session, unit.definitions, PERSON, people[0].id) if people else None


def change_printing(scope: Scope, group_id: int, lines: Sequence[PrintedLine]) -> int:
    """Set the added lines of an address; gives the id for undoing.

    Raises NotFound, and InvalidInput by `text_` and the place of the line, from 0.
    """
    with scope.transaction("editor") as unit:
        group, _ = _kind(unit, group_id)
        refuse_texts(unit, {f"text_{place}": line.text for place, line in enumerate(lines)})
        row = group_row(unit, group_id)
        unit.session.refresh(row, with_for_update=True)
        before = snapshot(unit, "group", group_id)
        settings = GroupSettings.model_validate(row.settings)
        if len(lines) > 12:
            raise InvalidInput({"": "An address takes at most twelve lines of your own."})
        row.settings = settings.model_copy(update={"printed": tuple(lines)}).to_json()
        unit.session.add(row)
        return record_change(unit, "group", group_id, f"Changed how {group.name} is printed", before)
