"""Searching in texts: what is looked in, the condition for a word, and the indexes that make it quick."""

from typing import Any, Final

from sqlalchemy import ColumnElement, Engine, Text, cast, func, literal, text

from finesieve.core.fields.definition import Field
from finesieve.store.definitions.catalogue import Definitions, schema_name

__all__ = ["contains_word", "searched_fields", "tend_searches"]

_ALWAYS: Final = ("email", "first_name", "last_name")
_INDEX: Final = "search_f"


def searched_fields(definitions: Definitions) -> tuple[Field, ...]:
    """The fields that a search looks in: the name, the email, and those that are set so and that all staff see."""
    catalogue = definitions.catalogue
    more = [
        field
        for field in catalogue.stored
        if field.settings.searchable
        and field.type.kind in ("text", "choice", "number")
        and catalogue.groups_by_id[field.group_id].settings.seen_by != "editors"
    ]
    always = [catalogue.by_key[key] for key in _ALWAYS if key in catalogue.by_key]
    return tuple({field.id: field for field in (*always, *more)}.values())


def contains_word(column: Any, word: str) -> ColumnElement[bool]:
    """Whether a word stands in a value, whatever the case; the index knows it by just this expression."""
    pattern = word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    # Joined by an operator that the planner works out beforehand; so it knows how rare the word is.
    around = literal("%", Text()) + func.finesieve.fold(pattern, type_=Text()) + literal("%", Text())
    return func.finesieve.fold(cast(column, Text)).like(around)


def tend_searches(engine: Engine, definitions: Definitions) -> int:
    """Make the indexes that searching wants, while everybody works on, and drop those it does not; gives how many.

    An index over a million texts takes seconds; it is made without holding anybody up, outside of any transaction.
    """
    schema = schema_name(definitions.workspace_id)
    wanted = {f"{_INDEX}{field.id}_{field.generation}": field.column for field in searched_fields(definitions)}
    there = text(
        "SELECT c.relname, i.indisvalid FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid "
        "JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = :schema AND starts_with(c.relname, :mark)"
    )
    changed = 0
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        found = {row[0]: row[1] for row in connection.execute(there, {"schema": schema, "mark": _INDEX})}
        for name, sound in found.items():
            # One that was broken off is made anew.
            if name not in wanted or not sound:
                connection.execute(text(f"DROP INDEX CONCURRENTLY IF EXISTS {schema}.{name}"))
                changed += 1
        for name, column in wanted.items():
            if not found.get(name):
                connection.execute(
                    text(
                        f"CREATE INDEX CONCURRENTLY {name} ON {schema}.person "
                        f"USING gin (finesieve.fold(CAST({column} AS text)) finesieve.gin_trgm_ops)"
                    )
                )
                changed += 1
        if changed:
            # So that the planner knows how rare a word is in what was indexed.
            connection.execute(text(f"ANALYZE {schema}.person"))
    return changed
