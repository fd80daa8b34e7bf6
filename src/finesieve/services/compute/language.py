"""What can be written in an expression, where it stands."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, Final

from finesieve.core.chat.prepare import PreparedScript
from finesieve.core.chat.script import Script
from finesieve.core.errors import NotFound
from finesieve.core.fields.about import PERSON, SIFTING, record_about
from finesieve.core.forms.definition import Form
from finesieve.core.forms.fees import fee_world
from finesieve.core.forms.prepare import form_world, section_about, section_world
from finesieve.core.forms.rows import inside
from finesieve.core.language.checker import Checked, check
from finesieve.core.language.names import World
from finesieve.core.language.placeholders import fill, placeholder_problems
from finesieve.core.language.reference import Word, words_of
from finesieve.core.model.catalogue import LEVEL_QUESTION, Catalogue
from finesieve.core.model.reader import Reader, ReaderRow, reader_world
from finesieve.core.model.saying import show_typed
from finesieve.core.values import Value, whole_number
from finesieve.services.forms.forms import form_of
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.people.messages import brings_of
from finesieve.services.values.value_lines import person_name
from finesieve.services.values.writing import row_of
from finesieve.store.reading.people import page_of_people
from finesieve.store.reading.rows import first_targets, page_of_rows, stored_row
from finesieve.store.tables import ChatScriptRow

__all__ = ["Held", "HeldLine", "TextAsRead", "text_as_read", "what_is_held", "words_here"]


@dataclass(frozen=True, slots=True)
class TextAsRead:
    """A text with its placeholders filled as one person reads it; what is wrong with it, in one sentence."""

    person: str
    text: str
    problem: str = ""


def text_as_read(scope: Scope, text: str, who: str = "", about: str = PERSON, form_id: int = 0) -> TextAsRead:
    """A text as somebody would read it: the first whom the words find, or the newest person; of nobody, blanks.

    `about` and `form_id` say where it stands, see `words_here`; what somebody answers on a form is not known here.

    What the one who asks may not see stays blank.
    """
    with scope.reading("reader") as unit:
        world, here = _world_here(unit, about, form_id, "")
        collection = _records_here(unit.visible, world, here)
        found = _reader(unit, who, collection)
        row: Mapping[str, Value] = {}
        level: Mapping[str, Value] = {}
        if found:
            stored = stored_row(unit.session, unit.definitions, PERSON, found) or {}
            row = row_of(unit, PERSON, found, stored)
            level = brings_of(unit, stored.get("level")) if "level." in text else {}

        def checked(part: str) -> Checked:
            return check(part, world, zone=unit.visible.zone)

        problems = placeholder_problems(text, checked)
        reader: Mapping[str, Value] = ReaderRow(Reader(row, level, lambda _key: f"/join/{unit.workspace.slug}/…"))
        records: Any = row.get(collection) if collection else ()
        reader = inside(reader, records[0]) if records else reader
        filled = fill(text, checked, reader, unit.moment, partial(show_typed, unit.visible))
        return TextAsRead(person_name(row) if found else "", filled, problems[0].message if problems else "")


def _records_here(catalogue: Catalogue, world: World, about: str) -> str:
    """The collection of which a record comes first in a world, "" for none."""
    links = catalogue.collections_of(PERSON).items() if world.inner else ()
    return next((name for name, link in links if record_about(link.record_type_id) == about), "")


def _reader(unit: Unit, who: str, collection: str) -> int:
    """The first person whom the words find; else whose the newest record of a collection is, else the newest person."""
    find = partial(page_of_people, unit.session, unit.definitions, unit.moment, [], limit=1)
    if who and (found := find(search=who)):
        return found[0].id
    if collection:
        link = unit.visible.collections_of(PERSON)[collection]
        newest = page_of_rows(unit.session, unit.definitions, record_about(link.record_type_id), [], limit=1)
        holders = first_targets(unit.session, unit.definitions, link.id, [record_id for record_id, _ in newest])
        if holders:
            return next(iter(holders.values()))
    return next((one.id for one in find()), 0)


@dataclass(frozen=True, slots=True)
class HeldLine:
    """A level or a role: what it is called, what somebody holds, as shown, and another that they could choose."""

    label: str
    shown: str
    other: str


@dataclass(frozen=True, slots=True)
class Held:
    """What somebody holds of what can also be chosen on a form."""

    person: str
    lines: tuple[HeldLine, ...]


def what_is_held(scope: Scope, who: str, keys: Sequence[str]) -> Held:
    """What of the level and the role, by these `keys`, the first person holds whom the words find, or the newest who
    has a level."""
    with scope.reading("reader") as unit:
        catalogue = unit.visible
        filled = catalogue.check("level is filled", "yes_no").typed
        found = page_of_people(unit.session, unit.definitions, unit.moment, [], search=who, limit=1) if who else []
        if not found:
            rules = [filled] if filled is not None and catalogue.levels else []
            found = page_of_people(unit.session, unit.definitions, unit.moment, [], meshes=rules, limit=1)
        stored = stored_row(unit.session, unit.definitions, PERSON, found[0].id) if found else None
        lines = []
        for key, known in (("level", catalogue.by_id.get(LEVEL_QUESTION)), ("role", catalogue.by_key.get("role"))):
            if known is not None and key in keys:
                value = (stored or {}).get(key)
                others = [one.label for one in known.offered if one.stored_value != value]
                lines.append(HeldLine(known.label, known.show(value), others[-1] if others else ""))
        return Held(person_name(stored) if stored else "", tuple(lines))


def words_here(scope: Scope, about: str = PERSON, form_id: int = 0, section_id: str = "") -> tuple[Word, ...]:
    """The words in reach of an expression about a thing; or in a form, in one of its sections. Raises NotFound."""
    with scope.reading("reader") as unit:
        world, here = _world_here(unit, about, form_id, section_id)
        return _with_labels(words_of(world), unit.visible, here)


def _world_here(unit: Unit, about: str, form_id: int, section_id: str) -> tuple[World, str]:
    """What is in reach somewhere, and what an expression there is about. Raises NotFound."""
    catalogue = unit.visible
    if form_id:
        document = Form.model_validate(form_of(unit, form_id).draft)
        world, section = form_world(document, catalogue), document.section(section_id)
        return (section_world(world, section), section_about(section)) if section else (world, PERSON)
    if about.startswith("script:"):
        script_id, _, line = about.partition(":")[2].partition(":")
        number = whole_number(script_id)
        row = unit.session.get(ChatScriptRow, number) if number else None
        if row is None:
            raise NotFound("There is no such script.")
        found = PreparedScript(Script.model_validate(row.draft), catalogue).at(line)
        return found.world, found.record_about or PERSON
    if about in _WORLDS:
        return _WORLDS[about](catalogue), PERSON
    known = {PERSON, "order", "level", "house", *(one.about for one in catalogue.record_types)}
    here = about if about in known else PERSON
    return catalogue.world(here), here


def _sifting_world(catalogue: Catalogue) -> World:
    return catalogue.world(SIFTING)


_WORLDS: Final[Mapping[str, Callable[[Catalogue], World]]] = {
    "fee": fee_world,
    "message": reader_world,
    SIFTING: _sifting_world,
}
"""Places that are about a person, and where more than their fields is in reach: what a level costs, what they read,
who is in a segment."""


def _with_labels(words: Iterable[Word], catalogue: Catalogue, about: str) -> tuple[Word, ...]:
    """The words, those of fields with their labels before the help, and what stands in for a blank after it."""
    fields = {**catalogue.named(PERSON), **catalogue.named(about)}
    house = {f"house.{name}": field for name, field in catalogue.named("house").items()}
    found = []
    for word in words:
        field = house.get(word.text) or fields.get(word.text.removeprefix("person.").removeprefix("form."))
        if field is not None and word.kind in ("field", "house"):
            fallback = field.settings.fallback
            blank = f"; a blank reads “{fallback}”" if fallback else ""
            word = replace(word, help=f"{field.label}: {word.help}{blank}")  # noqa: PLW2901 - the same word, said better
        found.append(word)
    return tuple(found)
