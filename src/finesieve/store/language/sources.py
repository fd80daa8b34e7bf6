"""Where values are read from in SQL: a thing's table with its derived fields, and its collections."""

from collections.abc import Container, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Final

from sqlalchemy import FromClause, Join, Table, and_, func, literal, select, true, type_coerce
from sqlalchemy.dialects.postgresql import array
from sqlmodel import Session

from finesieve.core.commerce.facts import ORDER_FACTS, ORDERS, PLACED
from finesieve.core.fields.about import ORDER, PERSON, record_type_of
from finesieve.core.language.derived import Derivation
from finesieve.core.language.evaluator import Moment
from finesieve.core.language.library import PYTHON_ONLY
from finesieve.core.language.typed import Typed, unplaced
from finesieve.store.definitions.catalogue import OWN_COLUMNS, Definitions
from finesieve.store.definitions.columns import SQL_TYPES
from finesieve.store.definitions.orders import orders_with_facts
from finesieve.store.language.by_python import by_python
from finesieve.store.language.compiler import (
    Collected,
    Columns,
    Sql,
    collected_of_everybody,
    compile_sql,
    shaped_or_empty,
)
from finesieve.store.language.history import history_of_everybody, lines_of_history
from finesieve.store.language.kept_fields import kept_values

__all__ = ["Source", "is_of_everybody", "members_of_collection", "of_everybody", "source_of"]


@dataclass(frozen=True, slots=True)
class Source:
    """A table or subquery with its key, and the SQL of each name in it."""

    table: FromClause
    id: Sql
    names: dict[str, Sql]
    columns: Columns


WRITTEN_OUT: Final = 300
"""How many parts a formula may have, those that it reads counted in, to be written out wherever it is read."""
_BEHIND: Final = "n_"
"""Before the key of a field, what it is called behind a fence: there is a field called id too."""
_WEIGHTS: Final[Mapping[str, int]] = {"collect": 80} | dict.fromkeys(PYTHON_ONLY, 200)
"""How many plain parts an operation counts for: a query of its own, a call out of the database."""


def source_of(
    session: Session,
    definitions: Definitions,
    wanted: frozenset[str],
    moment: Moment,
    about: str = PERSON,
    *,
    table: FromClause | None = None,
    over: Sequence[Typed] = (),
) -> Source:
    """The people, or other things, with the wanted fields.

    A derived field is written out where it is read, which PostgreSQL plans best; one that has grown large is worked
    out once, behind a fence that the planner does not look through and that lets it use several processes all the
    same. `table` stands in for the whole table: an alias of it, or a sample. What the conditions `over` everybody read
    of records and of the past is worked out for all at once.
    """
    if table is None:
        table = orders_with_facts(definitions) if about == ORDER else definitions.tables[about]
    derivation = definitions.catalogue.derivation_of(about)
    needed = derivation.ancestors(wanted)
    held = kept_values(session, definitions, needed, moment) if about == PERSON else {}
    needed = derivation.ancestors(wanted, held)
    names: dict[str, Sql] = {
        field.key: table.c[field.column] for field in definitions.catalogue.stored_about(about) if field.key in needed
    }
    if about == PERSON:
        names |= {key: table.c[key] for key in OWN_COLUMNS & needed}
    if about == ORDER:
        names = {key: table.c[f"fact_{key}"] for key in ORDER_FACTS if key in needed} | names
    source = _made(session, definitions, table, names, moment)
    together = bool(over) and isinstance(table, Table)
    source = _with_kept(source, {key: kept for key, kept in held.items() if key in needed})
    sizes = _sizes(derivation, wanted, held, together=together)
    if together:
        read = [*over, *(derivation.formulas[key] for key in needed if key in derivation.formulas and key not in held)]
        source = _worked_out_for_all(definitions, source, read, moment)
    for layer in derivation.layers(wanted, held):
        large = [key for key in layer if sizes[key] > WRITTEN_OUT]
        if large:
            made = {key: compile_sql(derivation.formulas[key], source.columns, moment) for key in large}
            below = _fenced(source, made, definitions, about)
            names = {key: below.c[_BEHIND + key] for key in (*source.names, *large)}
            made_before = source.columns.joined
            source = _made(session, definitions, below, names, moment)
            source = replace(source, columns=replace(source.columns, joined=made_before))
        small = [key for key in layer if key not in large]
        names = source.names | {key: compile_sql(derivation.formulas[key], source.columns, moment) for key in small}
        source = replace(source, names=names, columns=replace(source.columns, names=names))
    return source


def _with_kept(source: Source, held: Mapping[str, Table]) -> Source:
    """The source joined with the kept values of derived fields."""
    if not held:
        return source
    names, table = dict(source.names), source.table
    for key, kept in held.items():
        table = table.outerjoin(kept, kept.c.id == source.id)
        names[key] = kept.c.value
    around = (*source.columns.around, *held.values())
    return Source(table, source.id, names, replace(source.columns, names=names, around=around, whole=table))


def _worked_out_for_all(definitions: Definitions, source: Source, over: Sequence[Typed], moment: Moment) -> Source:
    """The source joined with what these read of records and of the past, as far as it is the same for everybody."""
    names, table = dict(source.names), source.table
    joined: dict[Typed, str] = {}
    around = source.columns.around
    for part in (part for one in over for part in one.walk()):
        if not is_of_everybody(part) or unplaced(part) in joined:
            continue
        found = of_everybody(definitions, part, source.columns, moment)
        if found is not None:
            table = table.outerjoin(found, found.c.entity_id == source.id)
            joined[unplaced(part)] = name = f"of all {len(joined)}"
            names[name] = shaped_or_empty(part, found) if part.operation == "collect" else found.c.value
            around = (*around, found)
    columns = replace(source.columns, names=names, joined=joined, around=around, whole=table)
    return Source(table, source.id, names, columns)


def is_of_everybody(part: Typed) -> bool:
    """Whether a part can be worked out for everybody at once: it reads records, or the past, and no value of theirs."""
    if part.level or part.operation not in ("collect", "last_change", "value_on"):
        return False
    return not any(below.names for below in part.parts)


def of_everybody(definitions: Definitions, part: Typed, columns: Columns, moment: Moment) -> FromClause | None:
    """Such a part of all people at once: a table of `entity_id` and `value`, in which those who have nothing of the
    kind are missing. None where it cannot be done."""
    if part.operation == "collect":
        return collected_of_everybody(part, columns, moment)
    days = [compile_sql(below, columns, moment) for below in part.parts]
    return history_of_everybody(definitions, part, days, moment)


def _sizes(derivation: Derivation, wanted: frozenset[str], held: Container[str], *, together: bool) -> dict[str, int]:
    """How many parts each derived field has when all that it reads is written out; one behind a fence, or held, one.

    What is worked out `together`, for everybody at once, is not worked out where it is read.
    """

    def weight(part: Typed) -> int:
        return 1 if together and is_of_everybody(part) else _WEIGHTS.get(part.operation, 1)

    sizes: dict[str, int] = {}
    for layer in derivation.layers(wanted, held):
        for key in layer:
            parts = derivation.formulas[key].walk()
            own = {name: 1 if size > WRITTEN_OUT else size for name, size in sizes.items()}
            sizes[key] = sum(own.get(part.name, 1) if part.operation == "name" else weight(part) for part in parts)
    return sizes


def _fenced(source: Source, large: Mapping[str, Sql], definitions: Definitions, about: str) -> FromClause:
    """The source with these worked out once a row. Archived records are left out."""
    kinds = {key: definitions.catalogue.keys_of(about)[key].value_type.kind for key in large}
    flat = [key for key in large if kinds[key] not in ("choices", "text_list")]
    joined, columns = source.table, dict(source.names)
    if flat:
        values = func.unnest(*(array([large[key]]) for key in flat))
        fence = values.table_valued(*(_BEHIND + key for key in flat)).render_derived().lateral()
        joined = joined.join(fence, true())
        columns |= {key: type_coerce(fence.c[_BEHIND + key], SQL_TYPES[kinds[key]]) for key in flat}
    if len(flat) < len(large):
        lists = select(*(large[key].label(_BEHIND + key) for key in large if key not in flat))
        beside = lists.correlate(*_tables(source.table)).offset(literal(0)).lateral()
        joined = joined.join(beside, true())
        columns |= {key: beside.c[_BEHIND + key] for key in large if key not in flat}
    named = (sql.label(_BEHIND + key) for key, sql in columns.items())
    query = select(source.id.label("id"), *named).select_from(joined)
    if record_type_of(about) and "archived_at" in source.table.c:
        query = query.where(source.table.c.archived_at.is_(None))
    return query.subquery()


def _tables(table: FromClause) -> Iterator[FromClause]:
    """What a table is joined from."""
    if isinstance(table, Join):
        yield from _tables(table.left)
        yield from _tables(table.right)
    else:
        yield table


def _made(
    session: Session, definitions: Definitions, table: FromClause, names: dict[str, Sql], moment: Moment
) -> Source:
    collect = partial(members_of_collection, definitions, moment, session)
    past = partial(lines_of_history, definitions)
    return Source(
        table, table.c.id, names, Columns(names, table, collect, (table,), lookup=by_python(session), past=past)
    )


def members_of_collection(
    definitions: Definitions,
    moment: Moment,
    session: Session,
    collection: str,
    about: str,
    around: FromClause | None,
    wanted: frozenset[str],
) -> Collected:
    """The members of a collection that belong to what is around."""
    if about == ORDER and collection == ORDERS:
        orders = orders_with_facts(definitions)
        source = source_of(session, definitions, wanted, moment, about, table=orders)
        whose = around.c.id if around is not None else literal(0)
        among: Sql = orders.c.fact_state.in_(PLACED)
        tie = and_(orders.c.person_id == whose, among)
        return Collected(source.table, tie, source.names, source.id, orders.c.person_id, among)
    source = source_of(session, definitions, wanted, moment, about, table=definitions.tables[about].alias())
    if about == PERSON:
        # The house's collection: everybody.
        return Collected(source.table, true(), source.names, source.id)
    links = definitions.link.alias()
    among = and_(links.c.link_id == _link_id(definitions, collection, about), links.c.record_id == source.id)
    if "archived_at" in source.table.c:
        among = and_(among, source.table.c.archived_at.is_(None))
    tie = and_(among, links.c.target_id == (around.c.id if around is not None else literal(0)))
    joined = source.table.join(links, links.c.record_id == source.id)
    return Collected(joined, tie, source.names, source.id, links.c.target_id, among)


def _link_id(definitions: Definitions, collection: str, about: str) -> int:
    return next(
        link.id
        for link in definitions.catalogue.links.values()
        if link.back_key == collection and link.record_type_id == record_type_of(about)
    )
