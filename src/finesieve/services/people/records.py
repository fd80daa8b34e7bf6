"""Records: things that people have several of, and whom and what they are linked with."""

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import ORDER, PERSON
from finesieve.core.fields.definition import Field, Shelf
from finesieve.core.fields.encoding import to_json
from finesieve.core.fields.manner import Titles
from finesieve.core.model.catalogue import Group, Link, RecordType
from finesieve.core.model.changes import COMPUTED, Change, ChangeSet
from finesieve.core.values import Value
from finesieve.services.define.record_types import record_type
from finesieve.services.kernel.merging import merged_values
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.values.sealing import seals
from finesieve.services.values.value_lines import (
    LINKS_FROM,
    HistoryLine,
    ValueLine,
    history_of,
    person_name,
    read_values,
    value_lines,
)
from finesieve.services.values.writing import add_row, change_row, note, record, row_of
from finesieve.store.reading.people import Person, page_of_people
from finesieve.store.reading.rows import (
    count_rows,
    first_targets,
    is_archived,
    links_of,
    offered_titles,
    page_of_rows,
    records_of,
    rows_by_ids,
    stored_row,
    titles_of,
)
from finesieve.store.tables import OrderRow
from finesieve.store.values.rows import archive_row, set_links

__all__ = [
    "BlankRecord",
    "LinkedLine",
    "RecordLine",
    "RecordPage",
    "RecordView",
    "add_linked_record",
    "add_record",
    "archive_record",
    "blank_record",
    "change_record",
    "find_titles",
    "link_record",
    "link_with_order",
    "list_records",
    "people_like",
    "person_records",
    "put_away",
    "read_record",
    "set_record_values",
    "unlink_record",
]


@dataclass(frozen=True, slots=True)
class RecordLine:
    """One record in a list."""

    id: int
    title: str
    cells: tuple[str, ...]
    holder: str = ""
    holder_id: int = 0


@dataclass(frozen=True, slots=True)
class RecordPage:
    """A page of records. `next_before` continues the list; None at its end."""

    record_type: RecordType
    columns: tuple[Field, ...]
    lines: tuple[RecordLine, ...]
    total: int
    next_before: int | None


@dataclass(frozen=True, slots=True)
class LinkedLine:
    """A link of one record, with what it leads to: (id, name) pairs."""

    link: Link
    targets: tuple[tuple[int, str], ...]


@dataclass(frozen=True, slots=True)
class RecordView:
    """One record with values, links and history."""

    id: int
    record_type: RecordType
    title: str
    groups: tuple[tuple[Group, tuple[ValueLine, ...]], ...]
    links: tuple[LinkedLine, ...]
    history: tuple[HistoryLine, ...]
    archived_at: datetime | None


# Records


@seals
def add_record(
    scope: Scope,
    type_id: int,
    typed: Mapping[str, str],
    linked: Mapping[int, Sequence[int]],
    shelf: Shelf | None = None,
) -> int:
    """Add a record with values as typed, linked by link id; gives its id. Raises InvalidInput by field key."""
    with scope.transaction("clerk") as unit:
        known = record_type(unit.catalogue, type_id)
        values = read_values(unit, known.about, typed, None, shelf)
        return add_linked_record(unit, known, values, linked, "staff")


def add_linked_record(
    unit: Unit, known: RecordType, values: Mapping[str, Value], linked: Mapping[int, Sequence[int]], source: str
) -> int:
    """Add a record, linked by link id, and note what follows for its people; gives its id."""
    before = {person_id: _derived(unit, person_id) for person_id in _people_of(known, linked)}
    record_id = add_row(unit, known.about, values, source)
    for link_id, targets in linked.items():
        _link(unit, known, link_id, record_id, targets, source)
    _follow(unit, before)
    return record_id


def link_with_order(unit: Unit, records: Iterable[tuple[int, int]], order_id: int, source: str) -> None:
    """Link records, by type and id, with the order that they came by, where their type has a link to orders."""
    for type_id, record_id in records:
        known = unit.catalogue.record_types_by_id[type_id]
        for link in (link for link in known.links if link.target == ORDER):
            _link(unit, known, link.id, record_id, [order_id], source)


@seals
def change_record(
    scope: Scope,
    type_id: int,
    record_id: int,
    typed: Mapping[str, str],
    shelf: Shelf | None = None,
    was: Mapping[str, str] | None = None,
) -> int:
    """Correct values of a record as typed; gives how many changed. Those the page showed so (`was`) stay.

    Raises NotFound, InvalidInput by field key, Overtaken for a clash.
    """
    with scope.transaction("clerk") as unit:
        known = record_type(unit.catalogue, type_id)
        stored = stored_row(unit.session, unit.definitions, known.about, record_id, lock=True)
        if stored is None:
            raise NotFound("There is no such record.")
        typed = merged_values(unit, known.about, record_id, typed, was, stored)
        values = read_values(unit, known.about, typed, stored, shelf)
        return set_record_values(unit, known, record_id, values, "staff")


def set_record_values(unit: Unit, known: RecordType, record_id: int, values: Mapping[str, Value], source: str) -> int:
    """Change values of a record, and note what follows for its people; gives how many changed."""
    before = {person_id: _derived(unit, person_id) for person_id in _holders(unit, known, record_id)}
    changed = change_row(unit, known.about, record_id, values, source)
    _follow(unit, before)
    return len(changed)


def archive_record(scope: Scope, type_id: int, record_id: int, *, archived: bool) -> None:
    """Put a record away, out of lists and collections, or take it out again. Raises NotFound."""
    with scope.transaction("clerk") as unit:
        known = record_type(unit.catalogue, type_id)
        if stored_row(unit.session, unit.definitions, known.about, record_id, lock=True) is None:
            raise NotFound("There is no such record.")
        put_away(unit, known, record_id, archived, "staff")


def put_away(unit: Unit, known: RecordType, record_id: int, archived: bool, source: str) -> None:
    """Put a record away or take it out again, in this transaction; and note what follows for its people."""
    before = {person_id: _derived(unit, person_id) for person_id in _holders(unit, known, record_id)}
    archive_row(unit.session, unit.definitions, known.about, record_id, archived=archived)
    note(unit, known.about, record_id, 0, not archived, archived, source)
    _follow(unit, before)


def link_record(scope: Scope, type_id: int, record_id: int, link_id: int, target_id: int) -> None:
    """Link a record with one more, or where the link leads to one only, with this one instead; an order by its number.

    Raises NotFound, and InvalidInput where there is nothing of this number.
    """
    with scope.transaction("clerk") as unit:
        known = record_type(unit.catalogue, type_id)
        link = unit.catalogue.links.get(link_id)
        if link is None or link.record_type_id != type_id:
            raise NotFound("There is no such link.")
        if link.target == ORDER:
            query = select(OrderRow.id).where(col(OrderRow.number) == target_id)
            target_id = unit.session.exec(query).first() or 0
        there = links_of(unit.session, unit.definitions, [link_id], record_id)[link_id]
        targets = [*there, target_id] if link.many else [target_id]
        people = set(_people_of(known, {link_id: [*there, target_id]}))
        before = {person_id: _derived(unit, person_id) for person_id in people}
        _link(unit, known, link_id, record_id, list(dict.fromkeys(targets)))
        _follow(unit, before)


def unlink_record(scope: Scope, type_id: int, record_id: int, link_id: int, target_id: int) -> None:
    """Take one away from a link of a record. Raises NotFound."""
    with scope.transaction("clerk") as unit:
        known = record_type(unit.catalogue, type_id)
        there = links_of(unit.session, unit.definitions, [link_id], record_id)[link_id]
        if target_id not in there:
            raise NotFound("That is not linked.")
        before = {person_id: _derived(unit, person_id) for person_id in _people_of(known, {link_id: [target_id]})}
        _link(unit, known, link_id, record_id, [other for other in there if other != target_id])
        _follow(unit, before)


def _link(
    unit: Unit, known: RecordType, link_id: int, record_id: int, targets: Sequence[int], source: str = "staff"
) -> None:
    link = next((link for link in known.links if link.id == link_id), None)
    if link is None:
        raise NotFound("There is no such link.")
    if len(targets) > 1 and not link.many:
        raise InvalidInput({f"links.{link_id}": f"{link.name} is one only."})
    if stored_row(unit.session, unit.definitions, known.about, record_id, lock=True) is None:
        raise NotFound("There is no such record.")
    if len(_there(unit, link, targets)) < len(set(targets)):
        raise InvalidInput({f"links.{link_id}": "There is nobody and nothing of this number."})
    before = links_of(unit.session, unit.definitions, [link_id], record_id)[link_id]
    if sorted(before) != sorted(targets):
        set_links(unit.session, unit.definitions, link, record_id, targets)
        old = _names(unit, link, before)
        new = _names(unit, link, targets)
        note(unit, known.about, record_id, -link_id, ", ".join(old) or None, ", ".join(new) or None, source)
        if link.target == PERSON:
            _note_with_people(unit, known, link, record_id, before, targets, source)


def _note_with_people(
    unit: Unit, known: RecordType, link: Link, record_id: int, before: Sequence[int], after: Sequence[int], source: str
) -> None:
    """A line in the history of everybody whom a record is linked with from now on, or no longer."""
    titles = titles_of(unit.session, unit.definitions, known.about, [record_id], sees=unit.open_to_all)
    title, place = titles.get(str(record_id), f"{known.singular} {record_id}"), -(LINKS_FROM + link.id)
    for person_id in sorted(set(after) - set(before)):
        note(unit, PERSON, person_id, place, None, title, source)
    for person_id in sorted(set(before) - set(after)):
        note(unit, PERSON, person_id, place, title, None, source)


def _names(unit: Unit, link: Link, targets: Sequence[int]) -> list[str]:
    return [name for _, name in _targets(unit, link, targets, sees=unit.open_to_all)]


def _targets(unit: Unit, link: Link, targets: Sequence[int], sees: Callable[[Field], bool]) -> list[tuple[int, str]]:
    if link.target == PERSON:
        keys = ["first_name", "last_name", "email"]
        found = rows_by_ids(unit.session, unit.definitions, PERSON, keys, targets)
        return [(target, person_name(found[target])) for target in targets if target in found]
    if link.target == ORDER:
        numbers = _order_numbers(unit, targets)
        return [(target, f"order {numbers[target]}") for target in targets if target in numbers]
    titles = titles_of(unit.session, unit.definitions, link.target, targets, sees=sees)
    return [(target, titles.get(str(target), f"no. {target}")) for target in targets]


def _order_numbers(unit: Unit, ids: Sequence[int]) -> dict[int, int]:
    query = select(OrderRow.id, OrderRow.number).where(col(OrderRow.id).in_(ids))
    return {row_id or 0: number for row_id, number in unit.session.exec(query).all()}


def _there(unit: Unit, link: Link, targets: Sequence[int]) -> Collection[int]:
    """Those of the targets that there are."""
    if link.target == ORDER:
        return _order_numbers(unit, targets)
    return rows_by_ids(unit.session, unit.definitions, link.target, [], targets)


def _people_of(known: RecordType, linked: Mapping[int, Sequence[int]]) -> list[int]:
    people = {link.id for link in known.links if link.target == PERSON}
    return [target for link_id, targets in linked.items() if link_id in people for target in targets]


def _holders(unit: Unit, known: RecordType, record_id: int) -> list[int]:
    link_ids = [link.id for link in known.links if link.target == PERSON]
    found = links_of(unit.session, unit.definitions, link_ids, record_id)
    return sorted({target for targets in found.values() for target in targets})


def _derived(unit: Unit, person_id: int) -> dict[str, Value]:
    """The derived values of a person that go over records."""
    derivation = unit.catalogue.derivation
    over = [key for key, formula in derivation.formulas.items() if _over_records(unit, formula.names)]
    if not over:
        return {}
    stored = stored_row(unit.session, unit.definitions, PERSON, person_id) or {}
    row = row_of(unit, PERSON, person_id, stored)
    return {key: row.get(key) for key in over}


def _over_records(unit: Unit, names: frozenset[str]) -> bool:
    collections = unit.catalogue.collections_of(PERSON)
    return any(name in collections for name in unit.catalogue.derivation.ancestors(names))


def _follow(unit: Unit, before: Mapping[int, Mapping[str, Value]]) -> None:
    """Record what a changed record changed in the derived values of people."""
    changes = tuple(
        Change(person_id, unit.catalogue.by_key[key].id, to_json(old.get(key)), to_json(new), computed=True)
        for person_id, old in before.items()
        for key, new in _derived(unit, person_id).items()
        if old.get(key) != new
    )
    record(unit, ChangeSet(PERSON, changes, COMPUTED, unit.actor, unit.moment.now))


@dataclass(frozen=True, slots=True)
class BlankRecord:
    """The form for a record that is not there yet; of a person where one is given."""

    record_type: RecordType
    groups: tuple[tuple[Group, tuple[ValueLine, ...]], ...]
    link: Link | None
    person_id: int
    person: str


def blank_record(scope: Scope, type_id: int, person_id: int = 0, link_id: int = 0) -> BlankRecord:
    """What a new record asks for. Raises NotFound."""
    with scope.transaction("clerk") as unit:
        known = record_type(unit.catalogue, type_id)
        link = next((link for link in known.links if link.id == link_id), known.main_link)
        names = _targets(unit, link, [person_id], unit.sees) if link and person_id else []
        defaults = {
            field.key: field.parse(field.settings.default)
            for field in unit.catalogue.stored_about(known.about)
            if field.settings.default
        }
        row = unit.catalogue.derivation_of(known.about).row(defaults, unit.moment)
        return BlankRecord(
            known, value_lines(unit, known.about, row), link, person_id if names else 0, names[0][1] if names else ""
        )


def people_like(scope: Scope, words: str) -> tuple[tuple[int, str], ...]:
    """The first people whose name or email has the words, to link one; those of one name with what tells them apart."""
    with scope.transaction("clerk") as unit:
        keys = ["first_name", "last_name", "email"]
        found = page_of_people(unit.session, unit.definitions, unit.moment, keys, search=words, limit=8)
        names = Counter(person_name(person.values) for person in found)
        return tuple((person.id, _told_apart(person, names)) for person in found)


def _told_apart(person: Person, names: Counter[str]) -> str:
    name, email = person_name(person.values), str(person.values.get("email") or f"no. {person.id}")
    return f"{name} · {email}" if names[name] > 1 else name


def find_titles(scope: Scope, type_id: int, words: str) -> Titles:
    """What a choice among the records of a type offers for these words. Raises NotFound for no such type."""
    with scope.reading("reader") as unit:
        about = record_type(unit.catalogue, type_id).about
        return offered_titles(unit.session, unit.definitions, about, words[:80], sees=unit.sees)


def list_records(
    scope: Scope, type_id: int, *, search: str = "", before_id: int | None = None, archived: bool = False
) -> RecordPage:
    """Records of a type, newest first, those with every word of a search in one of their texts. Raises NotFound."""
    with scope.reading("reader") as unit:
        known = record_type(unit.catalogue, type_id)
        return _record_page(unit, known, search, before_id, archived)


def _title_field(unit: Unit, known: RecordType) -> Field | None:
    """The field that names a record, where this role may see it."""
    title = unit.catalogue.by_id.get(known.title_field)
    return title if title is not None and unit.sees(title) else None


def _record_page(
    unit: Unit, known: RecordType, search: str, before_id: int | None, archived: bool, limit: int = 50
) -> RecordPage:
    others = (field for field in unit.catalogue.stored_about(known.about) if field.id != known.title_field)
    columns = tuple(field for field in others if unit.sees(field))[:4]
    title = _title_field(unit, known)
    keys = [field.key for field in (*columns, *((title,) if title and title.stores else ()))]
    rows = page_of_rows(
        unit.session,
        unit.definitions,
        known.about,
        keys,
        before_id=before_id,
        archived=archived,
        search=search,
        searched=[field for field in unit.catalogue.stored_about(known.about) if unit.sees(field)],
        limit=limit + 1,
    )
    main = known.main_link
    ids = [record_id for record_id, _values in rows[:limit]]
    holders = first_targets(unit.session, unit.definitions, main.id, ids) if main else {}
    names = dict(_targets(unit, main, sorted(set(holders.values())), unit.sees)) if main and holders else {}
    lines = []
    for record_id, values in rows[:limit]:
        shown = title.show(values.get(title.key)) if title else ""
        cells = tuple(field.show(values.get(field.key)) for field in columns)
        who = holders.get(record_id, 0)
        lines.append(RecordLine(record_id, shown or f"{known.singular} {record_id}", cells, names.get(who, ""), who))
    following = rows[limit - 1][0] if len(rows) > limit else None
    everything = count_rows(unit.session, unit.definitions, known.about)
    return RecordPage(known, columns, tuple(lines), everything, following)


def read_record(scope: Scope, type_id: int, record_id: int) -> RecordView:
    """A record with values, links, history. Raises NotFound."""
    with scope.reading("reader") as unit:
        known = record_type(unit.catalogue, type_id)
        stored = stored_row(unit.session, unit.definitions, known.about, record_id)
        if stored is None:
            raise NotFound("There is no such record.")
        row = row_of(unit, known.about, record_id, stored)
        title = _title_field(unit, known)
        shown = title.show(row.get(title.key)) if title else ""
        found = links_of(unit.session, unit.definitions, [link.id for link in known.links], record_id)
        links = tuple(LinkedLine(link, tuple(_targets(unit, link, found[link.id], unit.sees))) for link in known.links)
        return RecordView(
            record_id,
            known,
            shown or f"{known.singular} {record_id}",
            value_lines(unit, known.about, row),
            links,
            history_of(unit, known.about, record_id),
            is_archived(unit.session, unit.definitions, known.about, record_id),
        )


def person_records(scope: Scope, person_id: int) -> tuple[tuple[Link, RecordPage], ...]:
    """The records of a person, by the link that leads there; empty ones of the main links included."""
    with scope.reading("reader") as unit:
        found = []
        for known in unit.catalogue.record_types:
            for link in known.links:
                if link.target != PERSON:
                    continue
                records = records_of(unit.session, unit.definitions, link, person_id)
                if records or link == known.main_link:
                    found.append((link, _of_person(unit, known, records)))
        return tuple(found)


def _of_person(unit: Unit, known: RecordType, records: Sequence[tuple[int, Mapping[str, Value]]]) -> RecordPage:
    title = _title_field(unit, known)
    columns = tuple(field for field in unit.catalogue.fields_about(known.about) if field.id != known.title_field)[:4]
    columns = tuple(field for field in columns if (field.stores or field.derived) and unit.sees(field))
    lines = []
    for record_id, stored in records:
        row = row_of(unit, known.about, record_id, stored)
        shown = title.show(row.get(title.key)) if title else ""
        cells = tuple(field.show(row.get(field.key)) for field in columns)
        lines.append(RecordLine(record_id, shown or f"{known.singular} {record_id}", cells))
    return RecordPage(known, columns, tuple(lines), len(lines), None)
