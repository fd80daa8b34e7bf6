"""Who may change a value: what a person may not change of their own."""

from collections.abc import Mapping

from finesieve.core.fields.definition import Field
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.values import Value

__all__ = ["locked_keys", "person_may_not"]


def person_may_not(catalogue: Catalogue, field: Field, row: Mapping[str, Value]) -> str:
    """Why a person may not change their own value of a field, in a sentence; empty where they may."""
    if row.get(field.key) is None:
        return ""
    changer, levels = catalogue.changer_of(field)
    match changer:
        case "once":
            return "It cannot be changed once it has a value."
        case "staff":
            return "Only staff may change it."
        case "levels":
            if row.get("level") not in levels:
                allowed = ", ".join(level.name for level in catalogue.levels if level.key in levels)
                return f"Only these levels may change it: {allowed or 'none'}."
    return ""


def locked_keys(catalogue: Catalogue, stored: Mapping[str, Value]) -> frozenset[str]:
    """The keys of all that a person with these stored values may not change themselves."""
    return frozenset(known.key for known in catalogue.stored if person_may_not(catalogue, known, stored))
