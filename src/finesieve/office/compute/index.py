"""The Index of Compute: derived fields by what they are about."""

from finesieve.core.fields.about import HOUSE, LEVEL, ORDER, PERSON
from finesieve.core.language.checker import say_kind
from finesieve.core.model.catalogue import Catalogue
from finesieve.office.shared.desk import Desk
from finesieve.office.shared.frame import Entry, Section
from finesieve.services.define.groups import read_catalogue

__all__ = ["compute_sections"]


def compute_sections(desk: Desk, active: int = 0) -> list[Section]:
    """The derived fields; `active` is the one that is open."""
    catalogue = read_catalogue(desk.scope)
    new = desk.path("compute/new")
    found = [
        Section("of a person", _entries(desk, catalogue, PERSON, active), new, "New derived field", empty="Nothing yet")
    ]
    others = [(HOUSE, "of the house"), (LEVEL, "of a level"), (ORDER, "of an order")]
    others += [(known.about, f"of a {known.singular.lower()}") for known in catalogue.record_types]
    for about, title in others:
        if catalogue.groups_about(about):
            add = f"{new}?about={about}"
            found.append(Section(title, _entries(desk, catalogue, about, active), add, f"New derived field {title}"))
    return found


def _entries(desk: Desk, catalogue: Catalogue, about: str, active: int) -> list[Entry]:
    broken = catalogue.broken_by_about.get(about, frozenset())
    return [
        Entry(
            field.label,
            desk.path(f"compute/{field.id}"),
            "broken" if field.key in broken else field.unit or say_kind(field.value_type.kind).split(" ", 1)[1],
            field.id == active,
        )
        for field in catalogue.fields_about(about)
        if field.derived
    ]
