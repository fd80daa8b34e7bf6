"""Records that stand in a statement as rows of values, for trying expressions on what is in no table."""

from collections.abc import Callable, Mapping
from typing import Any

from sqlalchemy import FromClause, Integer, cast, column, select, values

from finesieve.core.language.names import World
from finesieve.core.values import Value
from finesieve.store.definitions.columns import SQL_TYPES
from finesieve.store.language.compiler import Collected

__all__ = ["written_collections"]


def written_collections(
    world: World, row: Mapping[str, Value]
) -> Callable[[str, str, FromClause | None, frozenset[str]], Collected]:
    """Gives the members of each collection of a row, in their order."""

    def collect(name: str, about: str, _around: FromClause | None, _wanted: frozenset[str]) -> Collected:
        kinds = {key: SQL_TYPES[type_.kind] for key, type_ in world.members[about].names.items()}
        members: Any = row.get(name) or ()
        rows = [(place, *(member.get(key) for key in kinds)) for place, member in enumerate(members)]
        blank = [(-1, *(None for _ in kinds))]  # a VALUES needs a row; the tie leaves it out
        table = values(column("id", Integer()), *(column(key, type_) for key, type_ in kinds.items()), name=name)
        found = select(table.data(blank + rows)).subquery()
        typed_columns = {key: cast(found.c[key], type_) for key, type_ in kinds.items()}
        return Collected(found, found.c.id >= 0, typed_columns, found.c.id)

    return collect
