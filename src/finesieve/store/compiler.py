"""The SQL back end of the language: checked form to SQLAlchemy expressions with bound parameters."""

import sys
from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import Any, Final

from sqlalchemy import (
    Boolean,
    ColumnElement,
    Date,
    DateTime,
    Numeric,
    Text,
    Time,
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
    true,
)
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.types import TypeEngine

from finesieve.core.errors import NotCompilable
from finesieve.core.language.evaluator import Moment
from finesieve.core.language.typed import Typed
from finesieve.core.values import DayOfYear, Kind, Value

__all__ = ["HANDLED", "SQL_TYPES", "Sql", "bound", "compile_sql"]

Sql = ColumnElement[Any]

SQL_TYPES: Final[dict[Kind, TypeEngine[Any]]] = {
    "text": Text(),
    "number": Numeric(),
    "money": Numeric(),
    "yes_no": Boolean(),
    "choice": Text(),
    "choices": ARRAY(Text()),
    "date": Date(),
    "time": Time(),
    "datetime": DateTime(timezone=True),
    "day_of_year": Text(),
    "text_list": ARRAY(Text()),
}
"""The column type that holds values of each kind."""


def bound(value: Value, kind: Kind) -> Sql:
    """A constant of this kind as a bound, typed parameter."""
    if value is None:
        return cast(null(), SQL_TYPES[kind])
    if isinstance(value, bool):
        return true() if value else false()
    if isinstance(value, DayOfYear):
        return literal(str(value), Text())
    if isinstance(value, tuple):
        return literal(list(value), SQL_TYPES[kind])
    return literal(value, SQL_TYPES[kind])


def compile_sql(typed: Typed, columns: Mapping[str, Sql], moment: Moment) -> Sql:
    """Compile a checked expression.

    `columns` gives the SQL of each name. Raises NotCompilable, with the place,
    for an operation that only Python can run.
    """
    if typed.operation == "name":
        return columns[typed.name]
    if typed.operation == "today":
        return literal(moment.today, Date())
    if typed.operation == "age":
        (born,) = (compile_sql(part, columns, moment) for part in typed.parts)
        return func.finesieve.years_between(born, literal(moment.today, Date()), type_=Numeric())
    if typed.operation == "to_date":
        (instant,) = (compile_sql(part, columns, moment) for part in typed.parts)
        return cast(func.timezone(str(moment.zone), instant), Date)
    maker = _MAKERS.get(typed.operation)
    if maker is None:
        raise NotCompilable(typed.span, "This part is worked out in Python.")
    return maker(typed, [compile_sql(part, columns, moment) for part in typed.parts])


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


_MAKERS: Final[dict[str, _Maker]] = {
    "const": lambda typed, _parts: bound(typed.value, typed.type.kind),
    "not": lambda _typed, parts: not_(parts[0]),
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
    "is_blank": lambda _typed, parts: parts[0].is_(None),
    "is_filled": lambda _typed, parts: parts[0].is_not(None),
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
    "years_between": lambda _typed, parts: func.finesieve.years_between(*parts, type_=Numeric()),
}
HANDLED: Final = frozenset(_MAKERS) | {"name", "today", "age", "to_date"}
"""The operations that SQL can run; a test compares them with all there are."""
