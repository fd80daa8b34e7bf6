"""Addresses as they are printed."""

from collections.abc import Mapping

from finesieve.core.fields.built_in import address_keys
from finesieve.core.fields.families.places import printed_address
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
    manner = unit.manner
    return printed_address({**lines, "name": name}, lines.get("country", ""), manner.country, manner.language)
