"""The SQL meaning of the plain functions; their Python meaning and their declarations stand in the core."""

from collections.abc import Callable
from typing import Any, Final

from sqlalchemy import ColumnElement, Date, Numeric, Text, cast, extract, func

__all__ = ["PLAIN"]

Sql = ColumnElement[Any]
_Plain = Callable[..., Sql]


def _step(number: Sql) -> Sql:
    return func.finesieve.step(number, type_=Numeric())


def _ours(name: str, type_: Any) -> _Plain:
    """A function of the schema `finesieve`, so that no argument is repeated in the statement."""
    return lambda *parts: getattr(func.finesieve, name)(*parts, type_=type_)


def _part(field: str) -> _Plain:
    return lambda day: cast(extract(field, day), Numeric)


PLAIN: Final[dict[str, _Plain]] = {
    "floor": lambda x: _step(func.floor(x)),
    "ceil": lambda x: _step(func.ceil(x)),
    "abs": lambda x: _step(func.abs(x)),
    "clamp": _ours("clamp", Numeric()),
    "power": _ours("power", Numeric()),
    "remainder": _ours("remainder", Numeric()),
    "number": _ours("number", Numeric()),
    "lower": _ours("small", Text()),
    "upper": _ours("capitals", Text()),
    "trim": _ours("trimmed", Text()),
    "length": lambda text: cast(func.char_length(text), Numeric),
    "left": _ours("beginning", Text()),
    "right": _ours("ending", Text()),
    "now": lambda now: now,
    "days_between": lambda a, b: cast(b - a, Numeric),
    "months_between": _ours("months_between", Numeric()),
    "add_days": _ours("date_plus", Date()),
    "add_months": _ours("add_months", Date()),
    "add_years": _ours("add_years", Date()),
    "year": _part("year"),
    "month": _part("month"),
    "day": _part("day"),
    "weekday": _part("isodow"),
    "next_anniversary": _ours("next_anniversary", Date()),
    "days_until": lambda day, today: cast(day - today, Numeric),
}
"""By the name of a function: its arguments, and where it is worked out at a moment the day or the moment, to SQL."""
