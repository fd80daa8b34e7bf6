"""Where values are read from in SQL: a thing's table with its derived fields in layers, and its collections."""

from dataclasses import dataclass
from functools import partial

from sqlalchemy import FromClause, and_, literal, select, true
from sqlmodel import Session

from finesieve.core.fields.about import PERSON, record_type_of
from finesieve.core.language.evaluator import Moment
from finesieve.store.by_python import by_python
from finesieve.store.catalogue import Definitions
from finesieve.store.compiler import Collected, Columns, Sql, compile_sql

__all__ = ["OWN_COLUMNS", "Source", "members_of_collection", "source_of"]

OWN_COLUMNS = frozenset(("tags", "lists", "level"))
"""Columns of a person that belong to no field."""


@dataclass(frozen=True, slots=True)
class Source:
    """A table or subquery, and the SQL of each name in it."""

    table: FromClause
    names: dict[str, Sql]
    columns: Columns


def source_of(
    session: Session,
    definitions: Definitions,
    wanted: frozenset[str],
    moment: Moment,
    about: str = PERSON,
    *,
    keep: bool = False,
) -> Source:
    """The people, or other things, with the wanted fields; derived ones in layers, each needing only earlier ones.

    Archived records are left out unless asked to `keep` them.
    """
    catalogue, table = definitions.catalogue, definitions.tables[about]
    derivation = catalogue.derivation_of(about)
    needed = derivation.ancestors(wanted)
    by_key = catalogue.keys_of(about)
    names: dict[str, Sql] = {
        field.key: table.c[field.column] for field in catalogue.stored_about(about) if field.key in needed
    }
    if about == PERSON:
        names |= {key: table.c[key] for key in OWN_COLUMNS & needed}
    source = _made(session, definitions, table, names, moment)
    layers = derivation.layers(wanted)
    for height, layer in enumerate(layers):
        made = {
            key: compile_sql(derivation.formulas[key], source.columns, moment).label(f"d{by_key[key].id}")
            for key in layer
        }
        query = select(source.table.c.id, *source.names.values(), *made.values())
        if not height and record_type_of(about) and not keep:
            query = query.where(table.c.archived_at.is_(None))
        if height + 1 < len(layers):
            # A fence: else the planner would write each formula out at every place that reads it.
            query = query.offset(literal(0))
        below = query.subquery()
        names = {key: below.c[column.key or ""] for key, column in source.names.items()}
        names |= {key: below.c[label.key] for key, label in made.items()}
        source = _made(session, definitions, below, names, moment)
    return source


def _made(
    session: Session, definitions: Definitions, table: FromClause, names: dict[str, Sql], moment: Moment
) -> Source:
    collect = partial(members_of_collection, definitions, moment, session)
    return Source(table, names, Columns(names, table, collect, (table,), lookup=by_python(session)))


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
    source = source_of(session, definitions, wanted, moment, about)
    if about == PERSON:
        # The house's collection: everybody.
        inner = source.table.alias() if source.table is definitions.person else source.table
        moved = {key: inner.c[column.key or ""] for key, column in source.names.items()}
        return Collected(inner, true(), moved, inner.c.id)
    members = source.table.alias()
    names = {key: members.c[column.key or ""] for key, column in source.names.items()}
    links = definitions.link.alias()
    tie = and_(
        links.c.link_id == _link_id(definitions, collection, about),
        links.c.record_id == members.c.id,
        links.c.target_id == (around.c.id if around is not None else literal(0)),
    )
    if "archived_at" in members.c:
        tie = and_(tie, members.c.archived_at.is_(None))
    joined = members.join(links, links.c.record_id == members.c.id)
    return Collected(joined, tie, names | {"id": members.c.id}, members.c.id)


def _link_id(definitions: Definitions, collection: str, about: str) -> int:
    return next(
        link.id
        for link in definitions.catalogue.links.values()
        if link.back_key == collection and link.record_type_id == record_type_of(about)
    )
