"""Searching in texts: what is looked in, the condition for a word; the indexes that searching and sorting want."""

from collections.abc import Collection
from typing import Any, Final

from sqlalchemy import ColumnElement, Engine, Text, cast, func, literal, text

from finesieve.core.fields.definition import Field
from finesieve.store.definitions.catalogue import Definitions, schema_name

__all__ = ["contains_word", "searched_fields", "tend_searches"]

_ALWAYS: Final = ("email", "first_name", "last_name")
_INDEX: Final = "search_f"
_ORDER: Final = "order_f"
_SORTED: Final = ("short_text", "email", "phone", "postcode", "number", "money", "date", "datetime")
"""Types whose lists are sorted off an index: longer texts do not fit into one."""


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


def tend_searches(engine: Engine, definitions: Definitions, sorted_by: Collection[str] = ()) -> int:
    """Make the indexes that searching wants, and sorting by these fields, while everybody works on, and drop those that
    are wanted no more; gives how many.

    An index over a million texts takes seconds; it is made without holding anybody up, outside of any transaction.
    """
    schema = schema_name(definitions.workspace_id)
    wanted = {
        f"{_INDEX}{field.id}_{field.generation}": (
            f"USING gin (finesieve.fold(CAST({field.column} AS text)) finesieve.gin_trgm_ops)"
        )
        for field in searched_fields(definitions)
    }
    for key in sorted_by:
        field = definitions.catalogue.by_key.get(key)
        if field is not None and field.stores and field.type_key in _SORTED:
            # Just as the list of people is sorted, up and down; see `people._ordered`.
            value = f'{field.column} COLLATE "und-x-icu"' if field.value_type.kind == "text" else field.column
            for way in ("ASC", "DESC"):
                wanted[f"{_ORDER}{field.id}_{field.generation}_{way.lower()}"] = f"({value} {way} NULLS LAST, id DESC)"
    there = text(
        "SELECT c.relname, i.indisvalid FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid "
        "JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = :schema "
        "AND (starts_with(c.relname, :search) OR starts_with(c.relname, :order))"
    )
    changed = 0
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        marks = {"schema": schema, "search": _INDEX, "order": _ORDER}
        found = {row[0]: row[1] for row in connection.execute(there, marks)}
        for name, sound in found.items():
            # One that was broken off is made anew.
            if name not in wanted or not sound:
                connection.execute(text(f"DROP INDEX CONCURRENTLY IF EXISTS {schema}.{name}"))
                changed += 1
        for name, made in wanted.items():
            if not found.get(name):
                connection.execute(text(f"CREATE INDEX CONCURRENTLY {name} ON {schema}.person {made}"))
                changed += 1
        if changed:
            # So that the planner knows how rare a word is in what was indexed.
            connection.execute(text(f"ANALYZE {schema}.person"))
    return changed
