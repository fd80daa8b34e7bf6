"""Texts to one person: filled with what they may know of themself, of their level, and their personal links."""

from collections.abc import Callable, Mapping
from functools import partial

from finesieve.core.fields.about import LEVEL, PERSON
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.placeholders import fill
from finesieve.core.model.reader import Reader, ReaderRow, reader_world
from finesieve.core.model.saying import show_typed
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Unit
from finesieve.services.people.personal_links import issue
from finesieve.services.values.writing import row_of
from finesieve.store.reading.rows import stored_row

__all__ = ["brings_of", "fill_message"]


def brings_of(unit: Unit, level_key: Value) -> dict[str, Value]:
    """The values of a level, derived ones too, by key; nothing for none."""
    level = next((one for one in unit.catalogue.levels if one.key == level_key), None)
    if level is None:
        return {}
    row = row_of(unit, LEVEL, level.id, stored_row(unit.session, unit.definitions, LEVEL, level.id) or {})
    return {key: row.get(key) for key in unit.catalogue.keys_of(LEVEL)}


def fill_message(
    unit: Unit, text: str, person_id: int, stored: Mapping[str, Value], link: Callable[[str], str] | None = None
) -> str:
    """A text as somebody is to read it; what is private to staff is blank. `stored` are their values.

    Personal links are given to them, unless `link` says what stands for one.
    """
    if "{" not in text and "}" not in text:
        return text
    catalogue = unit.catalogue
    hidden = catalogue.not_for_the_person
    told = {key: value for key, value in stored.items() if (PERSON, key) not in hidden}
    level = {} if "level." not in text else brings_of(unit, stored.get("level"))
    level = {key: value for key, value in level.items() if (LEVEL, key) not in hidden}
    reader = Reader(row_of(unit, PERSON, person_id, told), level, link or issue(unit, person_id))
    elsewhere = {place for place in hidden if place[0] not in (PERSON, LEVEL)}
    world = reader_world(catalogue)

    def check_for_them(one: str) -> Checked:
        checked = check(one, world, zone=catalogue.zone)
        private = checked.typed is not None and not checked.typed.reads.isdisjoint(elsewhere)
        return Checked(checked.tree, None) if private else checked

    return fill(text, check_for_them, ReaderRow(reader), unit.moment, partial(show_typed, catalogue))
