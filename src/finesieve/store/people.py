"""Queries over people, derived values worked out in layers on the way."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import FromClause, Select, and_, func, insert, literal, not_, or_, select, update
from sqlmodel import Session

from finesieve.core.fields.definition import Field
from finesieve.core.language.evaluator import Moment
from finesieve.core.language.typed import Typed
from finesieve.core.values import Value
from finesieve.store.catalogue import Definitions
from finesieve.store.compiler import Sql, compile_sql

__all__ = [
    "MeshCounts",
    "Person",
    "blank_count",
    "count_each",
    "count_people",
    "count_where",
    "fill_counts",
    "find_by_email",
    "insert_person",
    "mesh_counts",
    "page_of_people",
    "people_by_ids",
    "person_by_id",
    "stream_people",
    "update_person",
    "value_counts",
]


@dataclass(frozen=True, slots=True)
class Person:
    """One person: the id and the values by field key, stored and asked-for derived ones."""

    id: int
    values: Mapping[str, Value]


@dataclass(frozen=True, slots=True)
class _Source:
    """A subquery of people and the SQL of each name in it."""

    table: FromClause
    columns: dict[str, Sql]


def _source(definitions: Definitions, wanted: frozenset[str], moment: Moment) -> _Source:
    """People with the wanted fields; derived ones in layers, each needing only earlier ones."""
    catalogue, person = definitions.catalogue, definitions.person
    derivation = catalogue.derivation
    needed = derivation.ancestors(wanted)
    columns: dict[str, Sql] = {field.key: person.c[field.column] for field in catalogue.stored if field.key in needed}
    source = _Source(person, columns)
    layers = derivation.layers(wanted)
    for height, layer in enumerate(layers):
        made = {
            key: compile_sql(derivation.formulas[key], source.columns, moment).label(f"d{catalogue.by_key[key].id}")
            for key in layer
        }
        query = select(source.table.c.id, *source.columns.values(), *made.values())
        if height + 1 < len(layers):
            # A fence: else the planner would write each formula out at every place that reads it.
            query = query.offset(literal(0))
        table = query.subquery()
        columns = {key: table.c[column.key or ""] for key, column in source.columns.items()}
        columns |= {key: table.c[label.key] for key, label in made.items()}
        source = _Source(table, columns)
    return source


def _person(row: Any, keys: Sequence[str]) -> Person:
    return Person(row[0], dict(zip(keys, row[1:], strict=True)))


def _conditions(source: _Source, conditions: Iterable[Typed], moment: Moment) -> list[Sql]:
    return [compile_sql(condition, source.columns, moment) for condition in conditions]


def _wanted(keys: Iterable[str], conditions: Iterable[Typed] = ()) -> frozenset[str]:
    return frozenset(keys).union(*(condition.names for condition in conditions))


def count_people(session: Session, definitions: Definitions) -> int:
    """How many people there are."""
    return int(session.execute(select(func.count()).select_from(definitions.person)).scalar_one())


def count_where(session: Session, definitions: Definitions, condition: Typed, moment: Moment) -> int:
    """How many people the condition is true for."""
    source = _source(definitions, condition.names, moment)
    (where,) = _conditions(source, [condition], moment)
    return int(session.execute(select(func.count()).select_from(source.table).where(where)).scalar_one())


def count_each(
    session: Session, definitions: Definitions, conditions: Sequence[Typed], moment: Moment
) -> tuple[int, list[int]]:
    """How many people there are, and how many each condition is true for; one pass for all."""
    source = _source(definitions, _wanted((), conditions), moment)
    counts = [func.count().filter(where) for where in _conditions(source, conditions, moment)]
    everyone, *each = session.execute(select(func.count(), *counts).select_from(source.table)).one()
    return int(everyone), [int(count) for count in each]


def fill_counts(session: Session, definitions: Definitions, fields: Sequence[Field]) -> dict[str, int]:
    """How many people have a value, by field key; one pass for all."""
    stored = [field for field in fields if not field.derived]
    if not stored:
        return {}
    counts = [func.count(definitions.person.c[field.column]) for field in stored]
    row = session.execute(select(*counts).select_from(definitions.person)).one()
    return {field.key: int(count) for field, count in zip(stored, row, strict=True)}


@dataclass(frozen=True, slots=True)
class MeshCounts:
    """What one pass over all people counts for a row of meshes; see `core.sieve.meshes.trays`."""

    everyone: int
    passes: tuple[int, ...]
    caught: tuple[int, ...]
    without: tuple[int, ...]


def mesh_counts(session: Session, definitions: Definitions, meshes: Sequence[Typed], moment: Moment) -> MeshCounts:
    """Count all trays in one pass."""
    if not meshes:
        return MeshCounts(count_people(session, definitions), (), (), ())
    source = _source(definitions, _wanted((), meshes), moment)
    verdicts = [condition.label(f"m{place}") for place, condition in enumerate(_conditions(source, meshes, moment))]
    inner = select(*verdicts).select_from(source.table).offset(literal(0)).subquery()
    mesh = [inner.c[f"m{place}"] for place in range(len(meshes))]
    counts: list[Sql] = [func.count()]
    for place in range(len(mesh)):
        counts.append(func.count().filter(and_(*mesh[: place + 1])))
        counts.append(func.count().filter(and_(*mesh[:place], not_(mesh[place]))))
        others = mesh[:place] + mesh[place + 1 :]
        counts.append(func.count().filter(and_(*others)) if others else func.count())
    row = [int(number) for number in session.execute(select(*counts).select_from(inner)).one()]
    return MeshCounts(row[0], tuple(row[1::3]), tuple(row[2::3]), tuple(row[3::3]))


def _verdict(conditions: Sequence[Sql], verdict: str) -> list[Sql]:
    """Restrictions to those who pass all but the last mesh, and get this verdict on the last."""
    *before, last = conditions
    return [*before, {"passes": last, "caught": not_(last), "cant_tell": last.is_(None)}[verdict]]


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
    limit: int = 50,
) -> list[Person]:
    """People, newest first, from below `before_id`.

    `search` looks for each of its words in the name and the email, whatever
    the case. `meshes` with `verdict` restrict to those who reach the last mesh
    and get that verdict there.
    """
    query = _people_query(definitions, moment, keys, search, meshes, verdict, before_id)
    return [_person(row, keys) for row in session.execute(query.limit(limit))]


def _people_query(
    definitions: Definitions,
    moment: Moment,
    keys: Sequence[str],
    search: str,
    meshes: Sequence[Typed],
    verdict: str,
    before_id: int | None,
) -> Select[Any]:
    searched = ("email", "first_name", "last_name") if search else ()
    source = _source(definitions, _wanted((*keys, *searched), meshes), moment)
    query = select(source.table.c.id, *(source.columns[key] for key in keys)).order_by(source.table.c.id.desc())
    for word in search.split()[:8]:
        places = [func.finesieve.fold(source.columns[key]) for key in searched]
        query = query.where(or_(*(func.strpos(place, func.finesieve.fold(word)) > 0 for place in places)))
    if meshes:
        query = query.where(*_verdict(_conditions(source, meshes, moment), verdict))
    if before_id is not None:
        query = query.where(source.table.c.id < before_id)
    return query


def stream_people(
    session: Session, definitions: Definitions, moment: Moment, keys: Sequence[str], meshes: Sequence[Typed]
) -> Iterator[Person]:
    """All people who pass the meshes, a thousand at a time, without holding them all in memory."""
    query = _people_query(definitions, moment, keys, "", meshes, "passes", None)
    for row in session.execute(query.execution_options(yield_per=1_000)):
        yield _person(row, keys)


def person_by_id(session: Session, definitions: Definitions, person_id: int, *, lock: bool = False) -> Person | None:
    """One person's stored values; `lock` keeps others from changing them until the transaction ends."""
    person, fields = definitions.person, definitions.catalogue.stored
    query = select(person.c.id, *(person.c[field.column] for field in fields)).where(person.c.id == person_id)
    row = session.execute(query.with_for_update() if lock else query).one_or_none()
    return None if row is None else _person(row, [field.key for field in fields])


def find_by_email(session: Session, definitions: Definitions, email: str) -> int | None:
    """The id of the person with this email, whatever the case."""
    column = definitions.person.c[definitions.catalogue.by_key["email"].column]
    query = select(definitions.person.c.id).where(func.finesieve.fold(column) == func.finesieve.fold(email))
    return session.execute(query).scalar_one_or_none()


def _by_column(definitions: Definitions, values: Mapping[str, Value]) -> dict[str, Value]:
    return {definitions.catalogue.by_key[key].column: value for key, value in values.items()}


def insert_person(session: Session, definitions: Definitions, values: Mapping[str, Value]) -> int:
    """Add a person; gives the id. Raises Conflict where the email is taken."""
    statement = insert(definitions.person).values(_by_column(definitions, values)).returning(definitions.person.c.id)
    return int(session.execute(statement).scalar_one())


def update_person(session: Session, definitions: Definitions, person_id: int, values: Mapping[str, Value]) -> None:
    """Change values of a person; None makes one blank."""
    statement = update(definitions.person).where(definitions.person.c.id == person_id)
    session.execute(statement.values(_by_column(definitions, values)))


def value_counts(session: Session, definitions: Definitions, field: Field, limit: int = 200) -> list[tuple[Value, int]]:
    """The values of a stored field with how many people hold each, the most held first; blanks apart."""
    column = definitions.person.c[field.column]
    query = select(column, func.count()).where(column.is_not(None)).group_by(column)
    return [(value, int(count)) for value, count in session.execute(query.order_by(func.count().desc()).limit(limit))]


def blank_count(session: Session, definitions: Definitions, formula: Typed, moment: Moment) -> tuple[int, int]:
    """How many people there are, and for how many the formula gives blank."""
    source = _source(definitions, formula.names, moment)
    value = compile_sql(formula, source.columns, moment)
    query = select(func.count(), func.count().filter(value.is_(None))).select_from(source.table)
    everyone, blank = session.execute(query).one()
    return int(everyone), int(blank)


def people_by_ids(
    session: Session, definitions: Definitions, keys: Sequence[str], person_ids: Sequence[int]
) -> dict[int, Mapping[str, Value]]:
    """Stored values of several people, by id; those who are gone are left out."""
    person, by_key = definitions.person, definitions.catalogue.by_key
    query = select(person.c.id, *(person.c[by_key[key].column] for key in keys)).where(person.c.id.in_(person_ids))
    return {row[0]: dict(zip(keys, row[1:], strict=True)) for row in session.execute(query)}
