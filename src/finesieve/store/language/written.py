"""Records and histories that stand in a statement as rows of values, for trying expressions on what is in no table."""

from collections.abc import Callable, Mapping
from typing import Any, Final

from sqlalchemy import DateTime, FromClause, Integer, cast, column, select, values
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.types import TypeEngine

from finesieve.core.fields.encoding import to_json
from finesieve.core.language.names import World
from finesieve.core.language.typed import HISTORY
from finesieve.core.values import Value
from finesieve.store.definitions.columns import SQL_TYPES
from finesieve.store.language.compiler import Collected
from finesieve.store.language.history import PastLines

__all__ = ["written_collections", "written_history"]


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


_LINE: Final[dict[str, TypeEngine[Any]]] = {
    "id": Integer(),
    "at": DateTime(timezone=True),
    "old": JSONB(),
    "new": JSONB(),
}


def written_history(row: Mapping[str, Value]) -> Callable[[str, FromClause | None], PastLines]:
    """Gives the lines of the history of each field of a row, in their order."""

    def past(key: str, _around: FromClause | None) -> PastLines:
        lines: Any = row.get(HISTORY + key) or ()
        rows = [(place, one.at, sorted(one.held), to_json(one.value)) for place, one in enumerate(lines)]
        blank = [(-1, None, None, None)]  # a VALUES needs a row; the tie leaves it out
        table = values(*(column(name, type_) for name, type_ in _LINE.items()), name="line").data(blank + rows)
        typed = select(*(cast(table.c[name], type_).label(name) for name, type_ in _LINE.items())).subquery()
        return PastLines(typed, typed.c.id >= 0, {})

    return past
