"""What was: changes of a value as the history keeps them, and the Python meaning of the functions that read them."""

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, Final

from finesieve.core.fields.encoding import Json, from_json
from finesieve.core.language.program import Moment, Program
from finesieve.core.language.typed import Typed
from finesieve.core.values import Kind, Type, Value, local_date

__all__ = ["OF_PAST", "PAST_SHAPES", "PastLine", "past_line"]

_DAY: Final = "[0-9]{4}-[0-9]{2}-[0-9]{2}"
_CLOCK: Final = "([01][0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9]([.][0-9]{1,6})?)?"
PAST_SHAPES: Final[Mapping[Kind, str]] = {
    "number": "-?[0-9]{1,15}([.][0-9]{1,10})?",
    "money": "-?[0-9]{1,15}([.][0-9]{1,10})?",
    "date": _DAY,
    "time": _CLOCK,
    "datetime": f"{_DAY}T{_CLOCK}[+-](0[0-9]|1[0-4]):[0-5][0-9]",
    "day_of_year": "[0-9]{2}-[0-9]{2}",
}
"""How values that are kept as texts are written. What a field kept while it was of another type may look otherwise;
the database reads the history by the same shapes."""


@dataclass(frozen=True, slots=True)
class PastLine:
    """One change of a value: when, the value since then, and the options that were held before it or since.

    The value is as the field has it now: blank where it does not hold such a one any more.
    """

    at: datetime
    value: Value
    held: frozenset[str]


def past_line(at: datetime, old: Json, new: Json, type_: Type, renamed: Mapping[str, str]) -> PastLine:
    """A line of the history of a field of this type, whose options are `renamed` from what they were called once."""
    held = frozenset(renamed.get(one, one) for data in (old, new) for one in _texts(data))
    return PastLine(at, _value(new, type_, renamed), held)


def _texts(data: Json) -> Iterable[str]:
    found = data if isinstance(data, list) else [data]
    return (one for one in found if isinstance(one, str))


def _value(data: Json, type_: Type, renamed: Mapping[str, str]) -> Value:
    shape = PAST_SHAPES.get(type_.kind)
    if shape is not None and not (isinstance(data, str) and re.fullmatch(shape, data)):
        return None
    if isinstance(data, str):
        data = renamed.get(data, data)
    elif isinstance(data, list):
        data = [renamed.get(one, one) if isinstance(one, str) else one for one in data]
    try:
        return from_json(data, type_)
    except (ValueError, TypeError):
        return None


def _lines(typed: Typed) -> Callable[[Mapping[str, Value]], tuple[PastLine, ...]]:
    key = typed.key

    def found(row: Mapping[str, Value]) -> tuple[PastLine, ...]:
        lines: Any = row.get(key)
        return lines or ()

    return found


def _last_change(typed: Typed, _parts: tuple[Program, ...]) -> Program:
    lines = _lines(typed)
    return lambda row, moment: max((one.at for one in lines(row)), default=None)


def _ever_held(typed: Typed, _parts: tuple[Program, ...]) -> Program:
    lines, items = _lines(typed), frozenset(typed.items)
    return lambda row, moment: any(not items.isdisjoint(one.held) for one in lines(row))


def _value_on(typed: Typed, parts: tuple[Program, ...]) -> Program:
    lines, (day,) = _lines(typed), parts

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        on = day(row, moment)
        if not isinstance(on, date):
            return None
        before = [(one.at, place) for place, one in enumerate(lines(row)) if _day(one, moment) < on]
        return lines(row)[max(before)[1]].value if before else None

    return run


def _day(line: PastLine, moment: Moment) -> date:
    return local_date(line.at, moment.zone) or date.max


OF_PAST: Final[Mapping[str, Callable[[Typed, tuple[Program, ...]], Program]]] = {
    "last_change": _last_change,
    "ever_held": _ever_held,
    "value_on": _value_on,
}
"""The meaning of each function over the history, of lines in the order in which they were written."""
