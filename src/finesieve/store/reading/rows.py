"""One person, order, level, record, or the house: stored values by id."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Final

from sqlalchemy import Table, false, func, literal, or_, select
from sqlmodel import Session

from finesieve.core.fields.about import LEVEL, ORDER, record_type_of
from finesieve.core.fields.definition import Field
from finesieve.core.fields.manner import Titles
from finesieve.core.model.catalogue import Link
from finesieve.core.values import Value
from finesieve.store.connection.database import is_reading, remembered
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.reading.kept import kept, times
from finesieve.store.reading.searching import contains_word

__all__ = [
    "HOUSE_ID",
    "count_rows",
    "find_by_email",
    "first_linked",
    "first_targets",
    "holders_of",
    "ids_after",
    "is_archived",
    "links_of",
    "offered_titles",
    "page_of_rows",
    "records_of",
    "rows_by_ids",
    "stored_row",
    "titles_of",
    "value_counts",
]

HOUSE_ID: Final = 1
"""The one row of the table of house values."""


def stored_row(
    session: Session, definitions: Definitions, about: str, row_id: int, *, lock: bool = False
) -> dict[str, Value] | None:
    """Stored values by key; None for no such row. `lock` keeps others from changing them meanwhile.

    A level, or an order, has no row before it has a value.
    """
    table, columns, query = definitions.tables[about], definitions.columns_of(about), definitions.row_query(about)

    def read() -> Sequence[Any] | None:
        return session.execute(query.with_for_update() if lock else query, {"row": row_id}).one_or_none()

    row = read() if lock else remembered(session, (table.fullname, row_id), read)
    if row is None:
        return dict.fromkeys(columns) if about in (LEVEL, ORDER) else None
    return dict(zip(columns, row[1:], strict=True))


def rows_by_ids(
    session: Session, definitions: Definitions, about: str, keys: Sequence[str], row_ids: Iterable[int]
) -> dict[int, dict[str, Value]]:
    """Stored values of several rows by id; those that are gone are left out."""
    table, columns = definitions.tables[about], definitions.columns_of(about)
    query = select(table.c.id, *(columns[key] for key in keys)).where(table.c.id.in_(list(row_ids)))
    return {row[0]: dict(zip(keys, row[1:], strict=True)) for row in session.execute(query)}


def find_by_email(session: Session, definitions: Definitions, email: str) -> int | None:
    """The id of the person with this email, whatever the case."""
    return next(iter(holders_of(session, definitions, definitions.catalogue.by_key["email"], email, 1)), None)


def count_rows(session: Session, definitions: Definitions, about: str) -> int:
    """How many people, records and so on there are; archived records count."""
    if about == LEVEL:
        return len(definitions.catalogue.levels)

    def count(known: Definitions) -> int:
        return int(session.execute(select(func.count()).select_from(known.tables[about])).scalar_one())

    return kept(session, definitions, ("rows", about), count, times, about=about)


def value_counts(session: Session, definitions: Definitions, field: Field, limit: int = 200) -> list[tuple[Value, int]]:
    """The values of a stored field with how many hold each, the most held first; blanks apart.

    Each value of a multiple choice counts by itself.
    """

    def count(known: Definitions) -> list[tuple[Value, int]]:
        table = known.tables[field.about]
        column: Any = table.c[field.column]
        if field.type.kind in ("choices", "text_list"):
            unnested = select(func.unnest(column).label("value")).select_from(table).subquery()
            column = unnested.c.value
        query = select(column, func.count()).where(column.is_not(None)).group_by(column)
        return [
            (value, int(count)) for value, count in session.execute(query.order_by(func.count().desc()).limit(limit))
        ]

    def scaled(found: list[tuple[Value, int]], more: float) -> list[tuple[Value, int]]:
        return [(value, times(number, more)) for value, number in found]

    return kept(session, definitions, ("values", field.about, field.column, limit), count, scaled, about=field.about)


def holders_of(session: Session, definitions: Definitions, field: Field, value: Value, limit: int = 2) -> list[int]:
    """The ids of those who have this value, whatever the case; so many at most."""
    query = definitions.holders_query(field.about, field.column, folds=field.type.kind == "text")
    return [int(row[0]) for row in session.execute(query, {"value": value, "most": limit})]


# Records and what they are linked with


def is_archived(session: Session, definitions: Definitions, about: str, row_id: int) -> datetime | None:
    """When a record was put away; None for one that is in use."""
    table = definitions.tables[about]
    return session.execute(select(table.c.archived_at).where(table.c.id == row_id)).scalar_one_or_none()


def links_of(
    session: Session, definitions: Definitions, link_ids: Sequence[int], record_id: int
) -> dict[int, list[int]]:
    """What a record is linked with: ids of the targets by link."""
    links = definitions.link
    query = select(links.c.link_id, links.c.target_id).where(
        links.c.record_id == record_id, links.c.link_id.in_(link_ids)
    )
    found: dict[int, list[int]] = {link_id: [] for link_id in link_ids}
    for link_id, target_id in session.execute(query.order_by(links.c.link_id, links.c.target_id)):
        found[link_id].append(target_id)
    return found


def first_targets(
    session: Session, definitions: Definitions, link_id: int, record_ids: Sequence[int]
) -> dict[int, int]:
    """For each record the oldest target that a link leads to from it; those without one are left out."""
    links = definitions.link
    query = select(links.c.record_id, func.min(links.c.target_id)).where(links.c.link_id == link_id)
    query = query.where(links.c.record_id.in_(list(record_ids))).group_by(links.c.record_id)
    return {int(row[0]): int(row[1]) for row in session.execute(query)}


def records_of(
    session: Session, definitions: Definitions, link: Link, target_id: int
) -> list[tuple[int, dict[str, Value]]]:
    """The records that a link leads from to a target, archived ones left out, oldest first: (id, stored values)."""
    about = f"record:{link.record_type_id}"
    if about not in definitions.tables or not _leads_to(session, definitions, link, target_id):
        return []
    columns, query = definitions.columns_of(about), definitions.linked_query(about)
    what = {"link": link.id, "target": target_id}
    key = (definitions.link.fullname, link.id, target_id)
    rows = remembered(session, key, lambda: session.execute(query, what).all())
    return [(row[0], dict(zip(columns, row[1:], strict=True))) for row in rows]


def _leads_to(session: Session, definitions: Definitions, link: Link, target_id: int) -> bool:
    """Whether a link may lead to a target; while a request is answered, one look tells it of all links at once."""
    if not is_reading(session):
        return True
    links, target = definitions.link, link.target

    def look() -> frozenset[int]:
        ids = [one.id for one in definitions.catalogue.links.values() if one.target == target]
        query = select(links.c.link_id).where(links.c.link_id.in_(ids), links.c.target_id == target_id).distinct()
        return frozenset(session.execute(query).scalars())

    return link.id in remembered(session, (links.fullname, target, target_id), look)


def first_linked(session: Session, definitions: Definitions, link_id: int, target_ids: Sequence[int]) -> dict[int, int]:
    """For each target the oldest record that a link leads from to it; those without one are left out."""
    links = definitions.link
    query = select(links.c.target_id, func.min(links.c.record_id)).where(links.c.link_id == link_id)
    query = query.where(links.c.target_id.in_(list(target_ids))).group_by(links.c.target_id)
    return {int(row[0]): int(row[1]) for row in session.execute(query)}


def ids_after(session: Session, definitions: Definitions, about: str, after: int, limit: int) -> list[int]:
    """The next ids from above one on."""
    table = definitions.tables[about]
    query = select(table.c.id).where(table.c.id > after).order_by(table.c.id).limit(limit)
    return [int(row[0]) for row in session.execute(query)]


def page_of_rows(
    session: Session,
    definitions: Definitions,
    about: str,
    keys: Sequence[str],
    *,
    before_id: int | None = None,
    archived: bool = False,
    search: str = "",
    searched: Sequence[Field] = (),
    limit: int = 50,
) -> list[tuple[int, dict[str, Value]]]:
    """A page of records, the newest first: (id, stored values); those with every word in a text that is `searched`."""
    table, columns = definitions.tables[about], definitions.columns_of(about)
    query = select(table.c.id, *(columns[key] for key in keys)).order_by(table.c.id.desc()).limit(limit)
    if record_type_of(about):
        query = query.where(table.c.archived_at.is_not(None) if archived else table.c.archived_at.is_(None))
    texts = [table.c[field.column] for field in searched if field.type.kind == "text"]
    for word in search.split()[:8]:
        query = query.where(or_(false(), *(contains_word(text_, word) for text_ in texts)))
    if before_id is not None:
        query = query.where(table.c.id < before_id)
    return [(row[0], dict(zip(keys, row[1:], strict=True))) for row in session.execute(query)]


def titles_of(
    session: Session,
    definitions: Definitions,
    about: str,
    ids: Iterable[object],
    *,
    sees: Callable[[Field], bool],
) -> dict[str, str]:
    """The titles of records by id.

    What is no id of a record in use is passed over. Whoever does not see the field that names them gets their numbers.
    """
    wanted = {int(given) for one in ids if (given := str(one)).isascii() and given.isdigit() and len(given) < 18}
    naming = _naming(definitions, about, sees)
    if naming is None or not wanted:
        return {}
    rows = session.execute(naming.used.where(naming.table.c.id.in_(wanted)))
    return {str(row[0]): naming.name(row[0], row[1]) for row in rows}


OFFERED: Final = 50
"""How many records a choice among them offers at once."""


def offered_titles(
    session: Session,
    definitions: Definitions,
    about: str,
    words: str = "",
    chosen: Iterable[object] = (),
    *,
    sees: Callable[[Field], bool],
) -> Titles:
    """What a choice among records offers: the newest whose titles have every word, and those that are `chosen`, by id.

    Without a title that one sees, records are searched by their numbers.
    """
    naming = _naming(definitions, about, sees)
    if naming is None:
        return Titles()
    query = naming.used
    for word in words.split()[:8]:
        query = query.where(contains_word(naming.title if naming.field else naming.table.c.id, word))
    rows = session.execute(query.order_by(naming.table.c.id.desc()).limit(OFFERED + 1)).all()
    found = {str(row[0]): naming.name(row[0], row[1]) for row in rows[:OFFERED]}
    missing = [one for one in chosen if str(one) not in found]
    return Titles(
        titles_of(session, definitions, about, missing, sees=sees) | found, len(rows) > OFFERED or bool(words)
    )


@dataclass(frozen=True, slots=True)
class _Naming:
    """How the records of a type are named: `used` selects the ids and titles of those that are not archived."""

    table: Table
    field: Field | None
    title: Any
    used: Any
    singular: str

    def name(self, row_id: int, title: Value) -> str:
        shown = self.field.show(title) if self.field and title is not None else ""
        return shown or f"{self.singular} {row_id}"


def _naming(definitions: Definitions, about: str, sees: Callable[[Field], bool]) -> _Naming | None:
    catalogue = definitions.catalogue
    record_type = catalogue.record_types_by_id.get(record_type_of(about))
    if record_type is None:
        return None
    table, field = definitions.tables[about], catalogue.by_id.get(record_type.title_field)
    field = field if field and field.stores and sees(field) else None
    title: Any = table.c[field.column] if field else literal(None)
    used = select(table.c.id, title).where(table.c.archived_at.is_(None))
    return _Naming(table, field, title, used, record_type.singular)
