"""Queries over people, derived values worked out in layers on the way."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any, Final, Literal

from sqlalchemy import Integer, Select, String, and_, cast, func, literal, literal_column, not_, or_, select
from sqlmodel import Session

from finesieve.core.errors import FineSieveError, TookTooLong
from finesieve.core.fields.about import LEVEL, PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.language.evaluator import Moment
from finesieve.core.language.typed import Typed
from finesieve.core.model.level_ends import LEVEL_ENDS
from finesieve.core.values import Type, Value
from finesieve.store.connection.database import apart
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.language.admitted import admitted
from finesieve.store.language.compiler import Sql, bound, compile_sql
from finesieve.store.language.sources import Source, source_of
from finesieve.store.reading.exporting import csv_of_rows
from finesieve.store.reading.kept import kept, meaning, patience, times
from finesieve.store.reading.searching import contains_word, searched_fields

__all__ = [
    "SECONDS_TO_COUNT",
    "Blanks",
    "Filled",
    "Order",
    "Person",
    "blank_count",
    "carriers_of_several",
    "count_each",
    "count_one",
    "count_people",
    "count_verdicts",
    "count_where",
    "fill_counts",
    "holders_of_level",
    "membership_counts",
    "page_of_people",
    "people_as_csv",
    "sample_of_people",
    "stream_people",
    "tags_beside",
    "tags_together",
    "values_by_ids",
]


SECONDS_TO_COUNT: Final = 6
"""How long counting for a sieve, or for the names in a list, may take."""
_MOST_WAYS: Final = 20_000


@dataclass(frozen=True, slots=True)
class Person:
    """One person: the id and the values by field key, stored and asked-for derived ones."""

    id: int
    values: Mapping[str, Value]


@dataclass(frozen=True, slots=True)
class Order:
    """In what order people are listed: by a field, up or down, blanks last; those after a person with this value."""

    key: str
    type: Type
    down: bool = False
    after: tuple[Value, int] | None = None


def _person(row: Any, keys: Sequence[str]) -> Person:
    return Person(row[0], dict(zip(keys, row[1:], strict=True)))


def _conditions(source: Source, conditions: Iterable[Typed], moment: Moment) -> list[Sql]:
    return [compile_sql(condition, source.columns, moment) for condition in conditions]


def _wanted(keys: Iterable[str], conditions: Iterable[Typed] = ()) -> frozenset[str]:
    return frozenset(keys).union(*(condition.names for condition in conditions))


def count_people(session: Session, definitions: Definitions) -> int:
    """How many people there are."""

    def count(known: Definitions) -> int:
        return int(session.execute(select(func.count()).select_from(known.person)).scalar_one())

    return kept(session, definitions, ("rows", PERSON), count, times)


def count_where(session: Session, definitions: Definitions, condition: Typed, moment: Moment) -> int:
    """How many people the condition is true for."""

    def count(known: Definitions) -> int:
        source, where = admitted(session, known, [condition], moment, whole=True)
        return int(session.execute(select(func.count()).select_from(source.table).where(*where)).scalar_one())

    return kept(session, definitions, ("where", meaning(definitions, [condition], moment)), count, times)


def count_each(
    session: Session, definitions: Definitions, conditions: Sequence[Typed], moment: Moment
) -> tuple[int, list[int | None]]:
    """How many people there are, and how many each condition is true for; one pass for all.

    None for a condition that the database cannot work out, or not in time: it takes no other with it.
    """

    def in_time_only(known: Definitions) -> list[int]:
        with apart(session, patience(SECONDS_TO_COUNT)):
            return _counted(session, known, conditions, moment)

    try:
        counted = kept(
            session,
            definitions,
            ("each", meaning(definitions, conditions, moment)),
            in_time_only,
            lambda found, more: [times(number, more) for number in found],
        )
        return counted[0], list(counted[1:])
    except TookTooLong:
        return count_people(session, definitions), [None] * len(conditions)
    except FineSieveError:
        return count_people(session, definitions), [count_one(session, definitions, one, moment) for one in conditions]


def count_one(session: Session, definitions: Definitions, condition: Typed, moment: Moment) -> int | None:
    """How many people the condition is true for; None where the database cannot work it out, or not in time."""
    try:
        with apart(session, patience(SECONDS_TO_COUNT)):
            return count_where(session, definitions, condition, moment)
    except FineSieveError:
        return None


def _counted(session: Session, definitions: Definitions, conditions: Sequence[Typed], moment: Moment) -> list[int]:
    source = source_of(session, definitions, _wanted((), conditions), moment, over=conditions)
    counts = [func.count().filter(where) for where in _conditions(source, conditions, moment)]
    row = session.execute(select(func.count(), *counts).select_from(source.table)).one()
    return [int(count) for count in row]


@dataclass(frozen=True, slots=True)
class Filled:
    """How many rows there are about one thing, and how many of them have a value, by field key."""

    rows: int
    by_key: Mapping[str, int]

    def of(self, field: Field) -> int:
        """How many have a value of this field; 0 where it holds none itself."""
        return self.by_key.get(field.key, 0)


def fill_counts(session: Session, definitions: Definitions, about: str, fields: Sequence[Field]) -> Filled:
    """How many have a value of each of these fields, which are about one and the same thing; one pass for all."""
    stored = [field for field in fields if field.stores]

    def count(known: Definitions) -> Filled:
        table = known.tables[about]
        counts = [func.count(table.c[field.column]) for field in stored]
        rows, *row = session.execute(select(func.count(), *counts).select_from(table)).one()
        # A level without values has no row.
        rows = len(known.catalogue.levels) if about == LEVEL else rows
        return Filled(int(rows), {field.key: int(count) for field, count in zip(stored, row, strict=True)})

    def scaled(found: Filled, more: float) -> Filled:
        return Filled(times(found.rows, more), {one: times(number, more) for one, number in found.by_key.items()})

    key = ("filled", about, tuple(field.column for field in stored))
    return kept(session, definitions, key, count, scaled, about=about)


def count_verdicts(
    session: Session, definitions: Definitions, meshes: Sequence[Typed], moment: Moment
) -> dict[tuple[bool | None, ...], int]:
    """How many people get which verdicts from these meshes, in one pass over all; all trays follow from that.

    Raises TookTooLong where they come out in more ways than anybody could look through.
    """
    order = sorted(range(len(meshes)), key=lambda place: meaning(definitions, [meshes[place]], moment))
    sorted_meshes = [meshes[place] for place in order]
    found = kept(
        session,
        definitions,
        ("verdicts", meaning(definitions, sorted_meshes, moment)),
        lambda known: _verdicts(session, known, sorted_meshes, moment),
        lambda found, more: {verdict: times(people, more) for verdict, people in found.items()},
    )
    # Sorted, so that the same meshes in another order are not counted again.
    places = [order.index(place) for place in range(len(meshes))]
    return {tuple(verdict[place] for place in places): people for verdict, people in found.items()}


def _verdicts(
    session: Session, definitions: Definitions, meshes: Sequence[Typed], moment: Moment
) -> dict[tuple[bool | None, ...], int]:
    source = source_of(session, definitions, _wanted((), meshes), moment, over=meshes)
    verdicts = [condition.label(f"m{place}") for place, condition in enumerate(_conditions(source, meshes, moment))]
    query = select(*verdicts, func.count()).select_from(source.table)
    if verdicts:
        query = query.group_by(*(literal_column(f"m{place}") for place in range(len(verdicts))))
    rows = session.execute(query.limit(_MOST_WAYS + 1)).all()
    if len(rows) > _MOST_WAYS:
        raise TookTooLong("These conditions come out in too many different ways. Take some of them out.")
    return {tuple(row[:-1]): int(row[-1]) for row in rows}


def _reaching(
    session: Session, definitions: Definitions, meshes: Sequence[Typed], verdict: str, moment: Moment,
    wanted: frozenset[str],
) -> tuple[Source, list[Sql]]:  # fmt: skip
    """The people with the wanted names, and what holds for those who pass all meshes but the last, and get this verdict
    on the last."""
    if verdict == "passes" or not meshes:
        return admitted(session, definitions, meshes, moment, wanted)
    *before, last = meshes
    source, where = admitted(session, definitions, before, moment, wanted | last.names)
    (stays,) = _conditions(source, [last], moment)
    return source, [*where, not_(stays) if verdict == "caught" else stays.is_(None)]


def page_of_people(
    session: Session,
    definitions: Definitions,
    moment: Moment,
    keys: Sequence[str],
    *,
    search: str = "",
    meshes: Sequence[Typed] = (),
    verdict: str = "passes",
    before_id: int | None = None,
    order: Order | None = None,
    limit: int = 50,
) -> list[Person]:
    """People, newest first, from below `before_id`; or in another order, of which the key must be among the `keys`.

    `search` looks for each of its words in the name and the email, whatever
    the case. `meshes` with `verdict` restrict to those who reach the last mesh
    and get that verdict there.
    """
    query = _people_query(session, definitions, moment, keys, search, meshes, verdict, before_id, order)
    return [_person(row, keys) for row in session.execute(query.limit(limit))]


def _people_query(
    session: Session,
    definitions: Definitions,
    moment: Moment,
    keys: Sequence[str],
    search: str,
    meshes: Sequence[Typed],
    verdict: str,
    before_id: int | None,
    order: Order | None = None,
) -> Select[Any]:
    searched = [field.key for field in searched_fields(definitions)] if search else []
    source, where = _reaching(session, definitions, meshes, verdict, moment, frozenset((*keys, *searched)))
    query = select(source.id, *(source.names[key] for key in keys)).select_from(source.table)
    ordered: Any = query.order_by(source.id.desc()) if order is None else _ordered(query, source, order)
    for word in search.split()[:8]:
        ordered = ordered.where(or_(*(contains_word(source.names[key], word) for key in searched)))
    ordered = ordered.where(*where)
    if before_id is not None:
        ordered = ordered.where(source.id < before_id)
    return ordered  # type: ignore[no-any-return]  # a query, made step by step


def _ordered(query: Any, source: Source, order: Order) -> Select[Any]:
    """In this order, from after a person on: a page is found by its first value, never by counting pages off."""
    value: Any = _rank(source.names[order.key], order.type)
    ordered: Any = query.order_by((value.desc() if order.down else value.asc()).nulls_last(), source.id.desc())
    if order.after is None:
        return ordered  # type: ignore[no-any-return]  # a query still
    last, last_id = order.after
    before: Any = source.id < last_id
    if last is None:
        return ordered.where(value.is_(None), before)  # type: ignore[no-any-return]  # the same
    there = _rank(bound(last, order.type.kind), order.type)
    further: Any = value < there if order.down else value > there
    return ordered.where(or_(further, and_(value == there, before), value.is_(None)))  # type: ignore[no-any-return]


def _rank(value: Sql, type_: Type) -> Sql:
    """What a value is sorted by: options by their place, texts as people sort names, whatever the case."""
    if type_.kind == "choice" and type_.options:
        return func.array_position(bound(type_.options, "choices"), value)
    if type_.kind == "yes_no":
        return cast(value, Integer)
    return value.collate("und-x-icu") if type_.kind in ("text", "choice") else value


def values_by_ids(
    session: Session, definitions: Definitions, moment: Moment, about: str, keys: Sequence[str], ids: Sequence[int]
) -> dict[int, Mapping[str, Value]]:
    """The values of these people or records, derived ones among them, by id."""
    if not keys or not ids:
        return {}
    source = source_of(session, definitions, frozenset(keys), moment, about)
    query = select(source.id, *(source.names[key] for key in keys)).select_from(source.table)
    return {row[0]: _person(row, keys).values for row in session.execute(query.where(source.id.in_(list(ids))))}


def stream_people(
    session: Session, definitions: Definitions, moment: Moment, keys: Sequence[str], meshes: Sequence[Typed]
) -> Iterator[Person]:
    """All people who pass the meshes, a thousand at a time, without holding them all in memory."""
    query = _people_query(session, definitions, moment, keys, "", meshes, "passes", None)
    with session.execute(query.execution_options(yield_per=1_000)) as rows:
        for row in rows:
            yield _person(row, keys)


def people_as_csv(
    session: Session, definitions: Definitions, moment: Moment, fields: Sequence[Field], meshes: Sequence[Typed]
) -> Iterator[str]:
    """The values of all people who pass the meshes as CSV, in pieces; of fields that the database itself can write."""
    keys = [field.key for field in fields]
    query = _people_query(session, definitions, moment, keys, "", meshes, "passes", None)
    # Without the id.
    values = query.with_only_columns(*list(query.selected_columns)[1:], maintain_column_froms=True)
    return csv_of_rows(session, values, fields, moment)


def sample_of_people(
    session: Session,
    definitions: Definitions,
    moment: Moment,
    keys: Sequence[str],
    meshes: Sequence[Typed],
    people: int,
    seed: str,
) -> list[Person]:
    """So many of the people who pass the meshes, by chance; the same ones for the same seed."""
    query = _people_query(session, definitions, moment, keys, "", meshes, "passes", None).order_by(None)
    found = query.order_by(func.md5(func.concat(cast(query.selected_columns[0], String), literal(f":{seed}"))))
    return [_person(row, keys) for row in session.execute(found.limit(people))]


def holders_of_level(
    session: Session,
    definitions: Definitions,
    level: str,
    *,
    with_end: bool,
    before: date | None = None,
    after: int = 0,
    limit: int,
) -> list[int]:
    """The next people from above an id who hold a level and have a last day, or have none; one `before` a day."""
    person, ends = definitions.person, definitions.columns_of(PERSON)[LEVEL_ENDS]
    query = select(person.c.id).where(person.c.level == level, person.c.id > after)
    query = query.where(ends.is_not(None) if with_end else ends.is_(None))
    if before is not None:
        query = query.where(ends < before)
    return [int(row[0]) for row in session.execute(query.order_by(person.c.id).limit(limit))]


def membership_counts(
    session: Session, definitions: Definitions, what: Literal["tags", "lists", "level"]
) -> dict[str, int]:
    """How many people carry each tag, are on each list, or hold each level."""

    def count(known: Definitions) -> dict[str, int]:
        held = known.person.c[what]
        each = held if what == "level" else func.unnest(held)
        inner = select(each.label("key")).select_from(known.person).subquery()
        rows = session.execute(select(inner.c.key, func.count()).where(inner.c.key.is_not(None)).group_by(inner.c.key))
        return {row[0]: int(row[1]) for row in rows}

    def scaled(found: dict[str, int], more: float) -> dict[str, int]:
        return {one: times(number, more) for one, number in found.items()}

    return kept(session, definitions, ("labels", what), count, scaled)


def tags_together(session: Session, definitions: Definitions, names: Sequence[str]) -> tuple[int, int]:
    """How many people carry any of these tags, and how many carry several."""

    def count(known: Definitions) -> tuple[int, int]:
        person = known.person
        tags = select(person.c.id, func.unnest(person.c.tags).label("tag")).subquery()
        each = select(tags.c.id, func.count().label("held")).where(tags.c.tag.in_(names)).group_by(tags.c.id).subquery()
        row = session.execute(select(func.count(), func.count().filter(each.c.held > 1)).select_from(each)).one()
        return int(row[0]), int(row[1])

    key = ("together", tuple(sorted(names)))
    return kept(session, definitions, key, count, lambda found, more: (times(found[0], more), times(found[1], more)))


def tags_beside(session: Session, definitions: Definitions, names: Sequence[str]) -> dict[tuple[bool, ...], int]:
    """How many people carry which of these tags, for each way in which any of them are carried."""

    def count(known: Definitions) -> dict[tuple[bool, ...], int]:
        tags = known.person.c.tags
        carried = [tags.bool_op("&&")(bound((name,), "choices")).label(f"t{place}") for place, name in enumerate(names)]
        query = select(*carried, func.count()).where(tags.bool_op("&&")(bound(tuple(names), "choices")))
        rows = session.execute(query.group_by(*(literal_column(f"t{place}") for place in range(len(names)))))
        return {tuple(row[:-1]): int(row[-1]) for row in rows}

    def scaled(found: dict[tuple[bool, ...], int], more: float) -> dict[tuple[bool, ...], int]:
        return {way: times(number, more) for way, number in found.items()}

    return kept(session, definitions, ("beside", tuple(names)), count, scaled)


def carriers_of_several(
    session: Session, definitions: Definitions, names: Sequence[str], limit: int
) -> list[tuple[int, tuple[str, ...]]]:
    """The first people who carry more than one of these tags, each with all tags; in a hurry with many people, none."""
    person = definitions.person
    any_ = person.c.tags.bool_op("&&")(bound(tuple(names), "choices"))
    shared = select(func.count()).select_from(func.unnest(person.c.tags).alias("tag")).where(
        literal_column("tag").in_(list(names))
    )  # fmt: skip
    query = select(person.c.id, person.c.tags).where(any_, shared.scalar_subquery() > 1)
    query = query.order_by(person.c.id).limit(limit)
    return kept(
        session,
        definitions,
        ("several", tuple(names), limit),
        lambda _: [(int(row[0]), tuple(row[1])) for row in session.execute(query)],
        unknown=[],
    )


@dataclass(frozen=True, slots=True)
class Blanks:
    """For how many of `everyone` a formula gives blank; for `undone` of them although all that it reads is filled."""

    everyone: int
    blank: int
    undone: int


def blank_count(session: Session, definitions: Definitions, formula: Typed, moment: Moment) -> Blanks:
    """How many people there are, and for how many the formula gives blank."""

    def count(known: Definitions) -> Blanks:
        source = source_of(session, known, formula.names, moment)
        value = compile_sql(formula, source.columns, moment)
        filled = [source.names[name].is_not(None) for name in sorted(formula.names) if name in source.names]
        undone = func.count().filter(and_(value.is_(None), *filled))
        query = select(func.count(), func.count().filter(value.is_(None)), undone).select_from(source.table)
        return Blanks(*(int(number) for number in session.execute(query).one()))

    def scaled(found: Blanks, more: float) -> Blanks:
        return Blanks(times(found.everyone, more), times(found.blank, more), times(found.undone, more))

    return kept(session, definitions, ("blanks", meaning(definitions, [formula], moment)), count, scaled)
