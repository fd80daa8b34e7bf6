"""The Index of Define: what things are known about, and what is kept in order."""

from finesieve.core.fields.about import HOUSE, LEVEL, ORDER, PERSON
from finesieve.core.model.catalogue import Catalogue
from finesieve.office.shared.desk import Desk
from finesieve.office.shared.frame import Entry, Section

__all__ = ["sections"]

_WORDS = ((PERSON, "one person"), (ORDER, "one order"), (LEVEL, "a membership level"), (HOUSE, "the house"))


def sections(desk: Desk, catalogue: Catalogue, active: str = "") -> list[Section]:
    """The parts of the Index; `active` is the page in view, below `define/`."""
    found = [_groups(desk, catalogue, about, title, active) for about, title in _WORDS]
    types = [
        Entry(
            f"{known.symbol} {known.plural}".strip(),
            desk.path(f"define/records/{known.id}"),
            str(len(catalogue.fields_about(known.about))),
            active == f"records/{known.id}",
            known.id,
        )
        for known in catalogue.record_types
    ]
    empty = "Nothing yet, such as plots"
    new = desk.path("define/records/new")
    found.append(Section("things people have", types, new, "New record type", empty=empty))
    found.append(Section("upkeep", _upkeep(desk, catalogue, active)))
    return found


def _groups(desk: Desk, catalogue: Catalogue, about: str, title: str, active: str) -> Section:
    entries = [
        Entry(
            group.name,
            desk.path(f"define/{group.id}"),
            str(len(catalogue.of_group(group.id))),
            active == str(group.id),
            group.id,
        )
        for group in catalogue.groups_about(about)
    ]
    extra = {
        HOUSE: Entry(
            "House values", desk.path("define/house"), str(len(catalogue.fields_about(HOUSE))), active == "house"
        ),
        LEVEL: Entry("Levels", desk.path("define/levels"), str(len(catalogue.levels)), active == "levels"),
    }.get(about)
    add = desk.path(f"define/groups/new?about={about}")
    return Section(
        title,
        entries,
        add,
        f"New group about {title}",
        desk.path("define/groups/order"),
        head=extra,
        empty="" if extra else "Nothing yet",
    )


def _upkeep(desk: Desk, catalogue: Catalogue, active: str) -> list[Entry]:
    pages = (
        ("built-in", "Built-in fields", ""),
        ("findings", "Findings", ""),
        ("compare", "All fields compared", ""),
        ("picture", "What depends on what", ""),
        ("approval", "Approval", ""),
        ("lists", "Lists", str(len(catalogue.lists))),
        ("tags", "Tags", str(len(catalogue.tags))),
        ("options", "Shared options", ""),
        ("deleted", "Deleted", str(len(catalogue.deleted)) if catalogue.deleted else ""),
        ("history", "Changes", ""),
        ("file", "By file", ""),
        ("starters", "Starter sets", ""),
        ("manner", "Language and formats", ""),
    )
    return [Entry(name, desk.path(f"define/{page}"), figure, active == page) for page, name, figure in pages]
