"""The SQL of what reads the history of a value; see `core.language.history` for what it means."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Final

from sqlalchemy import ColumnElement, Date, FromClause, Select, and_, cast, func, literal, or_, select, type_coerce
from sqlalchemy.dialects.postgresql import ARRAY, JSONB, distinct_on
from sqlalchemy.types import Text

from finesieve.core.fields.about import PERSON
from finesieve.core.language.evaluator import Moment
from finesieve.core.language.typed import Typed
from finesieve.core.model.changes import OWN_IDS
from finesieve.core.values import Type
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.definitions.columns import SQL_TYPES
from finesieve.store.tables import History

__all__ = ["PastLines", "history_of_everybody", "history_sql", "lines_of_history"]

Sql = ColumnElement[Any]


@dataclass(frozen=True)
class PastLines:
    """The lines of the history of one field: a table with `id`, `at`, `old` and `new`, what ties its rows to the
    person around, and what options are called now that were called otherwise once."""

    lines: FromClause
    tie: Sql
    renamed: Mapping[str, str]


def lines_of_history(definitions: Definitions, key: str, around: FromClause | None) -> PastLines:
    """The lines of a field of the person around, of tags, lists or level."""
    found = _lines_of_everybody(definitions, key)
    whose = found.lines.c.entity_id == (around.c.id if around is not None else literal(0))
    return replace(found, tie=and_(found.tie, whose))


def _lines_of_everybody(definitions: Definitions, key: str) -> PastLines:
    lines = History.__table__.alias()  # type: ignore[attr-defined]  # every table model has one
    field = definitions.catalogue.by_key.get(key)
    tie = and_(
        lines.c.workspace_id == definitions.workspace_id,
        lines.c.about == PERSON,
        lines.c.field_id == (field.id if field is not None else OWN_IDS[key]),
    )
    return PastLines(lines, tie, field.options_renamed if field is not None else {})


def history_of_everybody(
    definitions: Definitions, typed: Typed, parts: Sequence[Sql], moment: Moment, since: Sql | None = None
) -> FromClause:
    """`last_change` or `value_on` of all people at once, as a table of `entity_id` and `value`, which takes a third of
    the time of looking it up for each. Of last changes only those `since` a moment, where one is given."""
    past = _lines_of_everybody(definitions, typed.name)
    lines = past.lines.c
    if typed.operation == "last_change":
        query = select(lines.entity_id, func.max(lines.at).label("value")).group_by(lines.entity_id)
        query = query if since is None else query.where(lines.at >= since)
    else:
        value = _as_now(lines.new, typed.type, past.renamed).label("value")
        query = select(lines.entity_id, value).ext(distinct_on(lines.entity_id))
        query = query.where(_day(past, moment) < parts[0]).order_by(lines.entity_id, lines.at.desc(), lines.id.desc())
    return query.select_from(past.lines).where(past.tie).subquery()


def history_sql(
    typed: Typed, past: PastLines, parts: Sequence[Sql], around: Sequence[FromClause], moment: Moment
) -> Sql:
    """A function over these lines; `around` are the tables that the statement has already."""
    query, type_ = _QUERIES[typed.operation](typed, past, parts, moment)
    if typed.operation == "ever_held":
        return query.where(past.tie).correlate(*around).exists()
    return type_coerce(query.where(past.tie).correlate(*around).scalar_subquery(), SQL_TYPES[type_.kind])


_Query = tuple[Select[Any], Type]


def _last_change(typed: Typed, past: PastLines, _parts: Sequence[Sql], _moment: Moment) -> _Query:
    return select(func.max(past.lines.c.at)).select_from(past.lines), typed.type


def _ever_held(typed: Typed, past: PastLines, _parts: Sequence[Sql], _moment: Moment) -> _Query:
    items = frozenset(typed.items)
    # The names that these have had, as the lines have them: those that mean something else now left out.
    names = [*(str(one) for one in typed.items), *past.renamed]
    meant = [one for one in dict.fromkeys(names) if past.renamed.get(one, one) in items]
    # One is held where it is the value or among several; the database knows best how often each is contained.
    held = [data.contains(literal(one, JSONB)) for one in meant for data in (past.lines.c.old, past.lines.c.new)]
    return select(literal(1)).select_from(past.lines).where(or_(*held)), typed.type


def _value_on(typed: Typed, past: PastLines, parts: Sequence[Sql], moment: Moment) -> _Query:
    lines = past.lines.c
    query = select(_as_now(lines.new, typed.type, past.renamed)).select_from(past.lines)
    query = query.where(_day(past, moment) < parts[0])
    return query.order_by(lines.at.desc(), lines.id.desc()).limit(1), typed.type


def _day(past: PastLines, moment: Moment) -> Sql:
    return cast(func.timezone(str(moment.zone), past.lines.c.at), Date)


_QUERIES: Final[Mapping[str, Callable[..., _Query]]] = {
    "last_change": _last_change,
    "ever_held": _ever_held,
    "value_on": _value_on,
}
_READERS: Final = {
    "text": func.finesieve.past_text,
    "yes_no": func.finesieve.past_yes_no,
    "number": func.finesieve.past_number,
    "money": func.finesieve.past_number,
    "date": func.finesieve.past_date,
    "time": func.finesieve.past_time,
    "datetime": func.finesieve.past_moment,
    "day_of_year": func.finesieve.past_day_of_year,
    "choice": func.finesieve.past_option,
    "choices": func.finesieve.past_options,
    "text_list": func.finesieve.past_options,
}


def _as_now(data: Sql, type_: Type, renamed: Mapping[str, str]) -> Sql:
    options = type_.options if type_.kind in ("choice", "choices") else ()
    names = (
        (tuple(renamed), tuple(renamed.values()), options) if type_.kind in ("choice", "choices", "text_list") else ()
    )
    return _READERS[type_.kind](data, *(literal(list(one), ARRAY(Text)) for one in names), type_=SQL_TYPES[type_.kind])
