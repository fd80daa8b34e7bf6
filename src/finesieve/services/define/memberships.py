"""What a person carries beside fields: tags, lists, a membership level; and the values of levels."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

from pydantic import Field as Bounds
from sqlmodel import col, func, select

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import LEVEL, PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.fields.keys import key_from_label
from finesieve.core.limits import DESCRIPTION, NAME
from finesieve.core.model.catalogue import NamedList
from finesieve.core.model.level_ends import LevelEnd
from finesieve.core.values import tidy_text
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.merging import merged, merged_parts, merged_set, merged_values
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.usage.uses import Use, uses_of
from finesieve.services.values.sealing import seals
from finesieve.services.values.value_lines import HistoryLine, ValueLine, history_of, read_values, value_lines
from finesieve.services.values.writing import change_person, change_row, row_of
from finesieve.store.definitions.catalogue import touch
from finesieve.store.reading.people import membership_counts
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import AudienceList, LevelRow, TagRow

__all__ = [
    "LevelView",
    "ListLine",
    "MembershipInput",
    "TagLine",
    "change_membership",
    "create_membership",
    "list_levels",
    "list_lists",
    "list_tags",
    "make_membership",
    "move_level",
    "read_level",
    "remove_membership",
    "set_level_values",
    "set_lists",
    "set_person_level",
    "set_tag_end",
    "set_tags",
    "tags_in",
    "tidy_tags",
]

_TABLES: dict[str, Any] = {"list": AudienceList, "level": LevelRow}
MOST_TAGS = 100


class MembershipInput(Input):
    """A list or a level as typed."""

    name: str = Bounds(min_length=1, max_length=NAME)
    description: str = Bounds(default="", max_length=DESCRIPTION)


@dataclass(frozen=True, slots=True)
class ListLine:
    """A list, or a level, with how many people are on it, which fields are bound to it, what names it."""

    id: int
    key: str
    name: str
    description: str
    people: int
    fields: tuple[Field, ...] = ()
    uses: tuple[Use, ...] = ()
    lasts: LevelEnd | None = None


@dataclass(frozen=True, slots=True)
class TagLine:
    """A tag with how many people carry it, and its last day where it has one."""

    name: str
    people: int
    ends_on: date | None


@dataclass(frozen=True, slots=True)
class LevelView:
    """A level with the values of its fields, and the other levels, which it can fall to."""

    level: NamedList
    description: str
    others: tuple[NamedList, ...]
    groups: tuple[tuple[Any, tuple[ValueLine, ...]], ...]
    history: tuple[HistoryLine, ...]


# Lists and levels


def create_membership(scope: Scope, kind: str, asked: MembershipInput) -> int:
    """Make a list or a level (`kind`); gives its id. Raises InvalidInput for a name that is taken."""
    with scope.transaction("editor") as unit:
        return make_membership(unit, kind, asked)


def make_membership(unit: Unit, kind: str, asked: MembershipInput, key: str = "") -> int:
    """Make a list or a level in this transaction; see `create_membership`."""
    known = unit.catalogue.lists if kind == "list" else unit.catalogue.levels
    if any(other.name.lower() == asked.name.lower() for other in known):
        raise InvalidInput({"name": f"There is a {kind} of this name already."})
    key = key or key_from_label(asked.name, {other.key for other in known})
    parts: dict[str, Any] = {"name": asked.name, "description": asked.description, "key": key}
    if kind == "level":
        parts["position"] = (unit.session.exec(select(func.max(LevelRow.position))).one() or 0) + 1
    row = _TABLES[kind](workspace_id=unit.workspace_id, **parts)
    unit.session.add(row)
    unit.session.flush()
    touch(unit.session, unit.workspace_id)
    return int(row.id or 0)


def change_membership(
    scope: Scope, kind: str, membership_id: int, asked: MembershipInput, was: MembershipInput | None = None
) -> int:
    """Rename or describe a list or a level; its key stays. Gives the id for undoing. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = unit.session.get(_TABLES[kind], membership_id, with_for_update=True)
        if row is None:
            raise NotFound(f"There is no such {kind}.")
        now = MembershipInput(name=row.name, description=row.description)
        asked = merged(unit, kind, membership_id, asked, was, now)
        before = snapshot(unit, kind, membership_id)
        row.name, row.description = asked.name, asked.description
        unit.session.add(row)
        return record_change(unit, kind, membership_id, f"Changed {asked.name}", before)


def move_level(scope: Scope, level_id: int, *, up: bool) -> int:
    """Put a level one place higher or lower in their order; gives the id for undoing. Raises NotFound."""
    with scope.transaction("editor") as unit:
        rows = list(unit.session.exec(select(LevelRow).order_by(col(LevelRow.position), col(LevelRow.id))).all())
        place = next((place for place, row in enumerate(rows) if row.id == level_id), None)
        if place is None:
            raise NotFound("There is no such level.")
        before = snapshot(unit, "level_order")
        rows.insert(max(place + (-1 if up else 1), 0), rows.pop(place))
        for position, row in enumerate(rows, 1):
            row.position = position
            unit.session.add(row)
        return record_change(unit, "level_order", 0, "Reordered the levels", before)


def remove_membership(scope: Scope, kind: str, membership_id: int) -> int:
    """Remove a list or a level that nobody is on and no field is bound to; gives the id for undoing."""
    with scope.transaction("editor") as unit:
        line = next((line for line in _lines(unit, kind) if line.id == membership_id), None)
        if line is None:
            raise NotFound(f"There is no such {kind}.")
        if line.people:
            raise InvalidInput({"": f"{unit.manner.figure(line.people)} people are on it; change that first."})
        if line.fields or line.uses:
            names = ", ".join([*(field.label for field in line.fields), *(use.name for use in line.uses)])
            raise InvalidInput({"": f"It is named in: {names}. Change that first."})
        falls = [
            one.name
            for one in unit.catalogue.levels
            if one.lasts and kind == "level" and one.lasts.falls_to == line.key
        ]
        if falls:
            raise InvalidInput({"": f"This is what {' and '.join(falls)} falls to. Change that first."})
        before = snapshot(unit, kind, membership_id)
        unit.session.delete(unit.session.get(_TABLES[kind], membership_id))
        return record_change(unit, kind, membership_id, f"Removed {line.name}", before)


def list_lists(scope: Scope) -> tuple[ListLine, ...]:
    """All lists with how many people are on each."""
    with scope.reading("reader") as unit:
        return _lines(unit, "list")


def list_levels(scope: Scope) -> tuple[ListLine, ...]:
    """All levels with how many people hold each."""
    with scope.reading("reader") as unit:
        return _lines(unit, "level")


def _lines(unit: Unit, kind: str) -> tuple[ListLine, ...]:
    counts = membership_counts(unit.session, unit.definitions, "lists" if kind == "list" else "level")
    table = _TABLES[kind]
    order = col(table.name) if kind == "list" else col(table.position)
    of_kind = unit.catalogue.world(PERSON).base.names["lists" if kind == "list" else "level"]
    found = []
    for row in unit.session.exec(select(table).order_by(order, col(table.id))).all():
        bound = [field for field in unit.catalogue.all_fields if row.id in _bound_to(field, kind)]
        named = uses_of(unit).of_option(of_kind, row.key)
        named += uses_of(unit).of_list(row.id) if kind == "list" else ()
        lasts = next((one.lasts for one in unit.catalogue.levels if kind == "level" and one.id == row.id), None)
        people = counts.get(row.key, 0)
        found.append(ListLine(row.id, row.key, row.name, row.description, people, tuple(bound), named, lasts))
    return tuple(found)


def _bound_to(field: Field, kind: str) -> tuple[int | None, ...]:
    settings = field.settings
    return (*settings.lists, settings.joined_list) if kind == "list" else settings.change_levels


def read_level(scope: Scope, level_id: int) -> LevelView:
    """A level with the values of its fields and their history. Raises NotFound."""
    with scope.reading("reader") as unit:
        level, description = _level(unit, level_id)
        row = row_of(unit, LEVEL, level_id, stored_row(unit.session, unit.definitions, LEVEL, level_id) or {})
        others = tuple(one for one in unit.catalogue.levels if one.id != level_id)
        return LevelView(level, description, others, value_lines(unit, LEVEL, row), history_of(unit, LEVEL, level_id))


def _level(unit: Unit, level_id: int, *, lock: bool = False) -> tuple[NamedList, str]:
    level = next((level for level in unit.catalogue.levels if level.id == level_id), None)
    row = unit.session.get(LevelRow, level_id, with_for_update=True if lock else None)
    if level is None or row is None:
        raise NotFound("There is no such level.")
    return level, row.description


@seals
def set_level_values(
    scope: Scope, level_id: int, typed: Mapping[str, str], was: Mapping[str, str] | None = None
) -> int:
    """Set values of a level as typed, by field key; gives how many changed. Those the page showed so (`was`) stay.

    Raises InvalidInput by key, Overtaken for a clash.
    """
    with scope.transaction("editor") as unit:
        _level(unit, level_id, lock=True)
        stored = stored_row(unit.session, unit.definitions, LEVEL, level_id, lock=True)
        typed = merged_values(unit, LEVEL, level_id, typed, was, stored or {})
        values = read_values(unit, LEVEL, typed, stored)
        return len(change_row(unit, LEVEL, level_id, values, "staff"))


# A person's tags, lists and level


def tidy_tags(text: str) -> tuple[str, ...]:
    """Tags typed between commas or on lines. Raises InvalidInput."""
    try:
        parts = [" ".join(tidy_text(part).split()) for part in text.replace("\n", ",").split(",")]
    except ValueError:
        raise InvalidInput({"tags": "This holds a character that cannot be kept; type it anew."}) from None
    tags = tuple(dict.fromkeys(part for part in parts if part))
    if len(tags) > MOST_TAGS or any(len(tag) > 60 for tag in tags):
        raise InvalidInput({"tags": f"At most {MOST_TAGS} tags of 60 characters each."})
    return tags


def set_tags(scope: Scope, person_id: int, text: str, was: str | None = None) -> int:
    """Give a person exactly these tags, or put on and take off what differs from those that the page showed (`was`);
    gives how many values changed (0 or 1)."""
    tags, shown = tidy_tags(text), None if was is None else tidy_tags(was)
    with scope.transaction("clerk") as unit:
        tags = merged_set(tags, shown, _held(unit, person_id, "tags"))
        for tag in tags:
            if tag not in unit.catalogue.tags:
                unit.session.add(TagRow(workspace_id=unit.workspace_id, name=tag))
                touch(unit.session, unit.workspace_id)
        return len(change_person(unit, person_id, {"tags": tags}, "staff"))


def _held(unit: Unit, person_id: int, name: str) -> tuple[str, ...]:
    """The tags or lists of a person, with their row locked. Raises NotFound."""
    stored = stored_row(unit.session, unit.definitions, PERSON, person_id, lock=True)
    if stored is None:
        raise NotFound("There is no such person.")
    held = stored.get(name)
    return held if isinstance(held, tuple) else ()


def set_lists(scope: Scope, person_id: int, list_keys: Sequence[str], was: Sequence[str] | None = None) -> int:
    """Put a person on exactly these lists, or on and off what differs from those that the page showed (`was`);
    gives how many values changed. Raises InvalidInput for no such list."""
    with scope.transaction("clerk") as unit:
        known = [known.key for known in unit.catalogue.lists]
        if set(list_keys) - set(known):
            raise InvalidInput({"lists": "There is no such list."})
        shown = None if was is None else tuple(was)
        list_keys = merged_set(tuple(list_keys), shown, _held(unit, person_id, "lists"))
        return len(change_person(unit, person_id, {"lists": tuple(key for key in known if key in list_keys)}, "staff"))


def set_person_level(scope: Scope, person_id: int, level_key: str, was: str | None = None) -> int:
    """Give a person a level, or none; gives how many values changed. `was` is what the page showed.

    Raises InvalidInput for no such level, Overtaken for a clash.
    """
    with scope.transaction("clerk") as unit:
        if level_key and level_key not in [level.key for level in unit.catalogue.levels]:
            raise InvalidInput({"level": "There is no such level."})
        if was is not None:
            stored = stored_row(unit.session, unit.definitions, PERSON, person_id, lock=True) or {}
            now = {"level": str(stored.get("level") or "")}
            level_key = merged_parts({"level": level_key}, {"level": was}, now, "Somebody else", {})["level"]
        return len(change_person(unit, person_id, {"level": level_key or None}, "staff"))


# Tags of the workspace


def list_tags(scope: Scope) -> tuple[TagLine, ...]:
    """All tags, the most carried first."""
    with scope.reading("reader") as unit:
        return tags_in(unit)


def tags_in(unit: Unit) -> tuple[TagLine, ...]:
    counts = membership_counts(unit.session, unit.definitions, "tags")
    ends = {row.name: row.ends_on for row in unit.session.exec(select(TagRow)).all()}
    names = sorted({*counts, *ends}, key=lambda name: (-counts.get(name, 0), name))
    return tuple(TagLine(name, counts.get(name, 0), ends.get(name)) for name in names)


def set_tag_end(scope: Scope, name: str, ends_on: str, was: str | None = None) -> None:
    """Give a tag a last day, or none: the day after, it is taken off everyone. `was` is what the page showed.

    Raises InvalidInput, and Overtaken for a clash.
    """
    with scope.transaction("editor") as unit:
        try:
            day = date.fromisoformat(ends_on) if ends_on else None
        except ValueError:
            raise InvalidInput({"ends_on": "Write a date as year-month-day."}) from None
        row = unit.session.exec(select(TagRow).where(col(TagRow.name) == name).with_for_update()).first()
        if row is None:
            raise NotFound("There is no such tag.")
        if was is not None:
            now = {"last day": row.ends_on.isoformat() if row.ends_on else ""}
            wanted = merged_parts({"last day": ends_on}, {"last day": was}, now, "Somebody else", {})["last day"]
            day = date.fromisoformat(wanted) if wanted else None
        row.ends_on = day
        unit.session.add(row)
