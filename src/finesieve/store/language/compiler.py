"""The SQL back end of the language: checked form to SQLAlchemy expressions with bound parameters."""

import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any, Final

from sqlalchemy import (
    ARRAY,
    Boolean,
    ColumnElement,
    Date,
    FromClause,
    Numeric,
    Select,
    Text,
    and_,
    case,
    cast,
    false,
    func,
    literal,
    literal_column,
    not_,
    null,
    or_,
    select,
    true,
    type_coerce,
)
from sqlalchemy.dialects.postgresql import array, distinct_on
from sqlalchemy.sql.elements import Grouping

from finesieve.core.errors import NotCompilable
from finesieve.core.language.evaluator import Moment
from finesieve.core.language.gathering import FINISHERS
from finesieve.core.language.library import AT_A_MOMENT, MOST_CHARACTERS, PYTHON_ONLY
from finesieve.core.language.typed import OF_HISTORY, Typed, unplaced
from finesieve.core.values import Kind, Value
from finesieve.store.definitions.columns import SQL_TYPES
from finesieve.store.language.history import PastLines, history_sql
from finesieve.store.language.library import PLAIN

__all__ = [
    "HANDLED",
    "Collected",
    "Columns",
    "Sql",
    "bound",
    "collected_of_everybody",
    "compile_sql",
    "shaped_or_empty",
]

Sql = ColumnElement[Any]


def bound(value: Value, kind: Kind) -> Sql:
    """A constant of this kind as a bound, typed parameter."""
    if value is None:
        return cast(null(), SQL_TYPES[kind])
    if isinstance(value, bool):
        return true() if value else false()
    return literal(value, SQL_TYPES[kind])


@dataclass(frozen=True)
class Collected:
    """The members of a collection: where they come from, what ties them to what is around, their columns.

    Where each belongs to somebody, `whose` is their id, and `among` tells which belong to anybody.
    """

    source: FromClause
    tie: Sql
    columns: Mapping[str, Sql]
    order: Sql
    whose: Sql | None = None
    among: Sql | None = None


@dataclass(frozen=True)
class Columns:
    """The SQL of the names in reach.

    `collect` gives the members of a collection: it takes the name of the
    collection, what its members are about, the SQL of what is around, and the
    names that are asked of the members. `around` has the tables of every level.
    `lookup` finds the results of an operation that only Python can work out; `past` the lines of the history of a
    field, of the person that is around. What is worked out for everybody at once has its name in `joined`. `whole` is
    what the table at the first level is joined with, itself included, where it is joined with anything.
    """

    names: Mapping[str, Sql]
    here: FromClause | None = None
    collect: Callable[[str, str, FromClause | None, frozenset[str]], Collected] | None = None
    around: tuple[FromClause, ...] = ()
    levels: tuple[FromClause | None, ...] = ()
    lookup: "Callable[[Typed, list[Sql], list[FromClause], Moment], Sql] | None" = None
    past: Callable[[str, FromClause | None], PastLines] | None = None
    joined: Mapping[Typed, str] = field(default_factory=dict)
    whole: FromClause | None = None


def compile_sql(typed: Typed, columns: Mapping[str, Sql] | Columns, moment: Moment) -> Sql:
    """Compile a checked expression.

    `columns` gives the SQL of each name. Raises NotCompilable, with the place,
    for an operation that only Python can run.
    """
    if not isinstance(columns, Columns):
        columns = Columns(columns)
    around = _AROUND.get(typed.operation)
    if around is not None:
        return around(typed, columns, moment)
    if typed.operation in PYTHON_ONLY and columns.lookup is not None:
        parts = [compile_sql(part, columns, moment) for part in typed.parts]
        return columns.lookup(typed, parts, _tables_read(typed, columns), moment)
    maker = _MAKERS.get(typed.operation)
    if maker is None:
        raise NotCompilable(typed.span, "This part is worked out in Python.")
    return maker(typed, [compile_sql(part, columns, moment) for part in typed.parts])


def _tables_read(typed: Typed, columns: Columns) -> list[FromClause]:
    """The tables whose rows an expression is worked out for, of all levels that it reads."""
    levels = columns.levels or (columns.here,)
    levels = (columns.whole if columns.whole is not None else levels[0], *levels[1:])
    read = {part.level for part in typed.walk() if part.operation in ("name", "collect", *OF_HISTORY)}
    found = [levels[level] for level in sorted(read) if level < len(levels)]
    return [table for table in found if table is not None]


def _age(typed: Typed, columns: Columns, moment: Moment) -> Sql:
    (born,) = (compile_sql(part, columns, moment) for part in typed.parts)
    return func.finesieve.years_between(born, literal(moment.today, Date()), type_=Numeric())


def _to_date(typed: Typed, columns: Columns, moment: Moment) -> Sql:
    (instant,) = (compile_sql(part, columns, moment) for part in typed.parts)
    day = cast(func.timezone(str(moment.zone), instant), Date)
    # A day outside of the years 1 to 9999 is blank; the moment itself may lie within them.
    before: Sql = literal_column("DATE '0001-12-31 BC'")
    after: Sql = literal_column("DATE '10000-01-01'")
    return func.nullif(func.nullif(func.least(func.greatest(day, before), after), before), after, type_=Date())


def _plain(typed: Typed, columns: Columns, moment: Moment) -> Sql:
    """A function of the library, with the day or the moment it is where its meaning needs that."""
    parts = [compile_sql(part, columns, moment) for part in typed.parts]
    match AT_A_MOMENT.get(typed.operation):
        case "today":
            parts.append(bound(moment.today, "date"))
        case "now":
            parts.append(bound(moment.now, "datetime"))
    return PLAIN[typed.operation](*parts)


def _collect(typed: Typed, columns: Columns, moment: Moment) -> Sql:
    """A function over the members of a collection, as one subquery, or as it was worked out for everybody."""
    known = columns.joined.get(unplaced(typed)) if columns.joined else None
    if known is not None:
        return columns.names[known]
    members, query, by = _over_members(typed, columns, moment)
    query = query.where(members.tie)
    if by is not None:
        query = query.order_by(*by).limit(1)
    found: Sql = query.correlate(*_around(columns)).scalar_subquery()
    return _shaped(typed, found)


def collected_of_everybody(typed: Typed, columns: Columns, moment: Moment) -> FromClause | None:
    """A function over members that reads nothing but them, of all whom they belong to at once: a table of `entity_id`
    and `value`, without those who have no members; None where they belong to nobody."""
    members, query, by = _over_members(typed, columns, moment)
    if members.whose is None or members.among is None:
        return None
    query = query.add_columns(members.whose.label("entity_id")).where(members.among)
    if by is None:
        query = query.group_by(members.whose)
    else:
        query = query.ext(distinct_on(members.whose)).order_by(members.whose, *by)
    return query.subquery()


def _shaped(typed: Typed, found: Sql) -> Sql:
    """What a query over members gives, as the value of the function."""
    if typed.name in ("sum", "average"):
        return _step(found)
    return (
        cast(found, Numeric)
        if typed.name in ("count", "count_filled")
        else type_coerce(found, SQL_TYPES[typed.type.kind])
    )


def shaped_or_empty(typed: Typed, found: FromClause) -> Sql:
    """The same of a row of the table of everybody, which is missing for those who have no members."""
    none = FINISHERS[typed.name]([], False)
    value = _shaped(typed, found.c.value)
    return value if none is None else case((found.c.entity_id.is_(None), bound(none, typed.type.kind)), else_=value)


def _over_members(
    typed: Typed, columns: Columns, moment: Moment
) -> tuple[Collected, Select[Any], tuple[ColumnElement[Any], ...] | None]:
    """The members of a collection, the query of what is asked of them, and in what order one of them is picked."""
    if columns.collect is None:
        raise NotCompilable(typed.span, "Collections are worked out in Python here.")
    level = typed.inner
    prefix = f"{level}:"
    wanted = frozenset(
        part.key.removeprefix(prefix)
        for part in typed.walk()
        if part.operation in ("name", "collect") and part.level == level and part is not typed
    )
    levels = columns.levels or (columns.here,)
    members = columns.collect(typed.collection, typed.about, levels[typed.level], wanted)
    inner = replace(
        columns,
        names={**columns.names, **{prefix + key: sql for key, sql in members.columns.items()}},
        here=members.source,
        around=(*columns.around, members.source),
        levels=(*levels[:level], members.source),
    )
    roles = dict(zip(typed.roles, typed.parts, strict=True))
    part = {role: compile_sql(below, inner, moment) for role, below in roles.items()}
    value = _collated(part["column"], roles["column"]) if "column" in part else members.order
    where = part.get("where")
    query = select(_AGGREGATES[typed.name](value, where, typed).label("value")).select_from(members.source)
    if where is not None and typed.name not in ("any", "all"):
        query = query.where(where)
    if typed.name not in ("latest", "first"):
        return members, query, None
    by = _collated(part["by"], roles["by"]) if "by" in part else members.order
    down = typed.name == "latest"
    return members, query.where(by.is_not(None)), (by.desc(), members.order.desc()) if down else (by, members.order)


def _around(columns: Columns) -> list[FromClause]:
    return [table for table in (*columns.around, *(columns.levels or (columns.here,))) if table is not None]


def _of_history(typed: Typed, columns: Columns, moment: Moment) -> Sql:
    """A function over the history of a field, as one subquery, or as it was worked out for everybody."""
    known = columns.joined.get(unplaced(typed)) if columns.joined else None
    if known is not None:
        return columns.names[known]
    if columns.past is None:
        raise NotCompilable(typed.span, "The history is read in Python here.")
    past = columns.past(typed.name, (columns.levels or (columns.here,))[typed.level])
    days = typed.parts if typed.operation == "value_on" else ()
    parts = [compile_sql(part, columns, moment) for part in days]
    return history_sql(typed, past, parts, _around(columns), moment)


def _of_member(member: Sql, where: Sql | None) -> Sql:
    # PostgreSQL takes an aggregate that reads nothing of its own level for one of the query around;
    # naming the member keeps a condition that reads only the person where it belongs.
    return true() if where is None else case((member.is_(None), null()), else_=where)


def _any_of(member: Sql, where: Sql | None, _typed: Typed) -> Sql:
    verdict = _of_member(member, where)
    unknown = func.coalesce(func.bool_or(verdict.is_(None)), false())
    return case((func.coalesce(func.bool_or(verdict), false()), true()), (unknown, null()), else_=false())


def _all_of(member: Sql, where: Sql | None, _typed: Typed) -> Sql:
    verdict = _of_member(member, where)
    unknown = func.coalesce(func.bool_or(verdict.is_(None)), false())
    return case((func.coalesce(func.bool_and(verdict), true()), case((unknown, null()), else_=true())), else_=false())


_AGGREGATES: Final[dict[str, Callable[[Sql, Sql | None, Typed], Sql]]] = {
    "count": lambda _value, _where, _typed: func.count(),
    "count_filled": lambda value, _where, _typed: func.count(value),
    "sum": lambda value, _where, _typed: func.coalesce(func.sum(value), 0),
    "average": lambda value, _where, _typed: (
        (func.sum(value) + literal_column("0e-40::numeric")) / func.nullif(func.count(value), 0)
    ),
    "min": lambda value, _where, _typed: func.min(value),
    "max": lambda value, _where, _typed: func.max(value),
    "any": _any_of,
    "all": _all_of,
    "latest": lambda value, _where, _typed: value,
    "first": lambda value, _where, _typed: value,
}


_Maker = Callable[[Typed, list[Sql]], Sql]

# A flat chain of 250 signs nests as deep as that, and SQLAlchemy takes some fourteen frames for each.
sys.setrecursionlimit(max(sys.getrecursionlimit(), 12_000))


def _step(number: Sql) -> Sql:
    """10 places, and blank from 10¹⁵ on."""
    return func.finesieve.step(number, type_=Numeric())


def _divide(_typed: Typed, parts: list[Sql]) -> Sql:
    # Plain division keeps too few digits; forty zeros in the dividend make it keep enough.
    dividend = parts[0] + literal_column("0e-40::numeric")
    return _step(dividend / func.nullif(parts[1], 0))


def _negated(part: Sql) -> Sql:
    # In brackets: `NOT x IS NULL` is `NOT (x IS NULL)` to PostgreSQL, whose NOT binds weaker than SQLAlchemy believes.
    return Grouping(not_(part))


def _collated(part: Sql, typed: Typed) -> Sql:
    """Days of the year are ordered as texts, by code point."""
    return part.collate("C") if typed.type.kind == "day_of_year" else part


def _comparison(compare: Callable[[Sql, Sql], Sql]) -> _Maker:
    def make(typed: Typed, parts: list[Sql]) -> Sql:
        return compare(_collated(parts[0], typed.parts[0]), parts[1])

    return make


def _if(typed: Typed, parts: list[Sql]) -> Sql:
    result = parts[-1]
    for condition, branch in reversed(list(zip(parts[0:-1:2], parts[1:-1:2], strict=True))):
        # CASE … WHEN runs the condition once; an unknown one falls through to NULL.
        result = case({True: branch, False: result}, value=condition)
    return result


def _fold(part: Sql) -> Sql:
    return func.finesieve.fold(part, type_=Text())


def _starts(_typed: Typed, parts: list[Sql]) -> Sql:
    whole, start = _fold(parts[0]), _fold(parts[1])
    return func.starts_with(whole, start, type_=Boolean())


def _ends(_typed: Typed, parts: list[Sql]) -> Sql:
    whole, end = func.reverse(_fold(parts[0])), func.reverse(_fold(parts[1]))
    return func.starts_with(whole, end, type_=Boolean())


def _round(typed: Typed, parts: list[Sql]) -> Sql:
    places = parts[1] if len(parts) > 1 else literal(Decimal(0), Numeric())
    return _step(func.finesieve.round_to(parts[0], places, type_=Numeric()))


def _sum(_typed: Typed, parts: list[Sql]) -> Sql:
    total: Sql = func.coalesce(parts[0], 0, type_=Numeric())
    for part in parts[1:]:
        total = total + func.coalesce(part, 0, type_=Numeric())
    return _step(total)


def _extreme(name: str) -> _Maker:
    def make(typed: Typed, parts: list[Sql]) -> Sql:
        collated = [_collated(part, typed) for part in parts]
        if len(collated) == 1:
            return collated[0]
        return getattr(func, name)(*collated, type_=SQL_TYPES[typed.type.kind])  # type: ignore[no-any-return]  # func is untyped

    return make


def _in(typed: Typed, parts: list[Sql]) -> Sql:
    kind = typed.parts[0].type.kind
    if not typed.items:
        return case({True: cast(null(), Boolean), False: false()}, value=parts[0].is_(None))
    return parts[0].in_([bound(item, kind) for item in typed.items])


def _texts(typed: Typed) -> Sql:
    return _text_array([str(item) for item in typed.items])


def _text_array(items: Sequence[str]) -> Sql:
    return literal(tuple(items), SQL_TYPES["choices"])


def _points(typed: Typed) -> Sql:
    return cast(
        array([bound(point, "number") for point in typed.parts[0].type.points], type_=Numeric()), ARRAY(Numeric)
    )


def _label(typed: Typed, parts: list[Sql]) -> Sql:
    of = typed.parts[0].type
    return func.finesieve.label(parts[0], _text_array(of.options), _text_array(of.words), type_=Text())


def _score(typed: Typed, parts: list[Sql]) -> Sql:
    options = _text_array(typed.parts[0].type.options)
    return func.finesieve.score(parts[0], options, _points(typed), type_=Numeric())


def _join(typed: Typed, parts: list[Sql]) -> Sql:
    of = typed.parts[0].type
    words = (_text_array(of.options), _text_array(of.words))
    return func.finesieve.joined(parts[0], *words, parts[1], type_=Text())


def _concat(_typed: Typed, parts: list[Sql]) -> Sql:
    texts: Sql = array(parts, type_=Text())
    whole = func.array_to_string(texts, "")  # it passes over blanks
    return func.nullif(func.left(whole, MOST_CHARACTERS), "", type_=Text())


def _count_values(typed: Typed, parts: list[Sql]) -> Sql:
    filled = [
        func.nullif(part, cast(array([], type_=Text()), SQL_TYPES["choices"])) if below.type.never_blank else part
        for part, below in zip(parts, typed.parts, strict=True)
    ]
    return cast(func.num_nonnulls(*filled), Numeric)


def _blank(typed: Typed, parts: list[Sql]) -> Sql:
    if typed.parts[0].type.never_blank:
        return func.coalesce(func.cardinality(parts[0]), 0) == 0
    return parts[0].is_(None)


def _filled(typed: Typed, parts: list[Sql]) -> Sql:
    return not_(_blank(typed, parts))


_MAKERS: Final[dict[str, _Maker]] = {
    "const": lambda typed, _parts: bound(typed.value, typed.type.kind),
    "not": lambda _typed, parts: _negated(parts[0]),
    "and": lambda _typed, parts: and_(*parts),
    "or": lambda _typed, parts: or_(*parts),
    "=": _comparison(lambda a, b: a == b),
    "!=": _comparison(lambda a, b: a != b),
    "<": _comparison(lambda a, b: a < b),
    "<=": _comparison(lambda a, b: a <= b),
    ">": _comparison(lambda a, b: a > b),
    ">=": _comparison(lambda a, b: a >= b),
    "between": lambda typed, parts: _collated(parts[0], typed.parts[0]).between(parts[1], parts[2]),
    "in": _in,
    "contains": lambda _typed, parts: func.strpos(_fold(parts[0]), _fold(parts[1])) > 0,
    "starts_with": _starts,
    "ends_with": _ends,
    "holds_any": lambda typed, parts: parts[0].op("&&", return_type=Boolean())(_texts(typed)),
    "holds_every": lambda typed, parts: parts[0].op("@>", return_type=Boolean())(_texts(typed)),
    "holds_no": lambda typed, parts: _negated(parts[0].op("&&", return_type=Boolean())(_texts(typed))),
    "count_items": lambda _typed, parts: cast(func.coalesce(func.cardinality(parts[0]), 0), Numeric),
    "step_of": lambda typed, parts: cast(func.array_position(_texts(typed), parts[0]), Numeric),
    "is_blank": _blank,
    "is_filled": _filled,
    "add": lambda _typed, parts: _step(parts[0] + parts[1]),
    "subtract": lambda _typed, parts: _step(parts[0] - parts[1]),
    "multiply": lambda _typed, parts: _step(parts[0] * parts[1]),
    "divide": _divide,
    "negate": lambda _typed, parts: _step(-parts[0]),
    "date_plus": lambda _typed, parts: func.finesieve.date_plus(*parts, type_=Date()),
    "date_minus": lambda _typed, parts: cast(parts[0] - parts[1], Numeric),
    "if": _if,
    "else": lambda typed, parts: func.coalesce(*parts, type_=SQL_TYPES[typed.type.kind]),
    "round": _round,
    "sum": _sum,
    "min": _extreme("least"),
    "max": _extreme("greatest"),
    "mean": lambda _typed, parts: func.finesieve.mean(array(parts), type_=Numeric()),
    "count_values": _count_values,
    "label": _label,
    "score": _score,
    "join": _join,
    "concat": _concat,
    "replace": lambda _typed, parts: func.finesieve.replaced(*parts, type_=Text()),
    "date_of": lambda _typed, parts: func.finesieve.date_of(*parts, type_=Date()),
    "years_between": lambda _typed, parts: func.finesieve.years_between(*parts, type_=Numeric()),
}
_AROUND: Final[dict[str, Callable[[Typed, Columns, Moment], Sql]]] = {
    "name": lambda typed, columns, _moment: columns.names[typed.key],
    "house": lambda typed, _columns, moment: bound(moment.house.get(typed.name), typed.type.kind),
    "collect": _collect,
    "today": lambda _typed, _columns, moment: literal(moment.today, Date()),
    "age": _age,
    "to_date": _to_date,
    **dict.fromkeys(PLAIN, _plain),
    **dict.fromkeys(OF_HISTORY, _of_history),
}
"""Operations that need more than their parts: the names in reach, or the moment."""
HANDLED: Final = frozenset(_MAKERS) | frozenset(_AROUND)
"""The operations that SQL can run; a test compares them with all there are."""
