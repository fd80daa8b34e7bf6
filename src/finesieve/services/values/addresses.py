"""Addresses as they are printed."""

from collections.abc import Mapping
from functools import partial

from finesieve.core.fields.built_in import address_keys
from finesieve.core.fields.families.places import printed_address
from finesieve.core.language.placeholders import expressions_in, fill
from finesieve.core.model.saying import show_typed
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Unit

__all__ = ["printed_of"]


def printed_of(unit: Unit, kind: str, row: Mapping[str, Value]) -> tuple[str, ...]:
    """The `billing` or `delivery` address among these values as its country prints it, as far as it may be seen."""
    keys = address_keys(kind) | {"company": "company"}
    known = {line: unit.catalogue.by_key.get(key) for line, key in keys.items()}
    lines = {
        line: str(row.get(field.key) or "")
        for line, field in known.items()
        if field is not None and field.built_in and unit.sees(field)
    }
    name = " ".join(str(row[key]) for key in ("first_name", "last_name") if row.get(key))
    manner, country = unit.manner, lines.get("country", "")
    own = _own_lines(unit, kind, country or manner.country, row)
    return printed_address({**lines, "name": name}, country, manner.country, manner.language, own)


def _own_lines(unit: Unit, kind: str, country: str, row: Mapping[str, Value]) -> dict[str, list[str]]:
    """The lines that the house adds to an address there, by their place; those with nothing but blanks left out."""
    street = unit.catalogue.by_key.get(address_keys(kind)["street"])
    group = unit.catalogue.groups_by_id.get(street.group_id) if street is not None else None
    found: dict[str, list[str]] = {}
    values = unit.catalogue.derivation.row(row, unit.moment)
    for line in group.settings.printed if group is not None else ():
        if line.country not in ("", country):
            continue

        def said(text: str) -> str:
            return fill(text, unit.visible.check, values, unit.moment, partial(show_typed, unit.visible))

        parts = expressions_in(line.text)
        if not parts or any(said(f"{{{part}}}") for part in parts):
            found.setdefault(line.place, []).append(said(line.text))
    return found
