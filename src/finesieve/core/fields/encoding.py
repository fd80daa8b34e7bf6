"""Values to JSON and back: numbers as strings, blank as null, dates and times in ISO."""

from datetime import date, datetime, time
from decimal import Decimal, InvalidOperation
from functools import lru_cache
from typing import Final, TypeVar

from finesieve.core.values import DayOfYear, Secret, StoredFile, Structured, Type, Value, plain_number

__all__ = [
    "Json",
    "from_json",
    "to_json",
]

_T = TypeVar("_T")
_FILE_PARTS = ("digest", "name", "media_type", "size", "width", "height")
Json = None | bool | int | float | str | list["Json"] | dict[str, "Json"]


def to_json(value: Value) -> Json:
    """The value as JSON has it."""
    if value is None or isinstance(value, bool | str):
        return value
    if isinstance(value, Decimal):
        return plain_number(value)
    if isinstance(value, tuple):
        return list(value)
    if isinstance(value, Structured):
        data: Json = value.data
        return data
    if isinstance(value, Secret):
        return value.text if value.hashed else str(value)
    if isinstance(value, StoredFile):
        return {slot: getattr(value, slot) for slot in _FILE_PARTS if getattr(value, slot)}
    return value.isoformat() if isinstance(value, date | time) else str(value)


def from_json(data: Json, type_: Type) -> Value:
    """The value of this type that `to_json` wrote. Raises ValueError for anything else.

    Whole JSON numbers are taken for numbers too; a datetime needs its offset.
    """
    if data in (None, "", []):
        return None
    kind = type_.kind
    if kind == "structured":
        return Structured.of(data)
    if kind == "file":
        return _file(data)
    if kind == "yes_no":
        return _expected(data, bool)
    if kind in ("number", "money"):
        return _decimal(data)
    if kind in ("choices", "text_list"):
        return _texts(data, type_)
    text = _expected(data, str)
    if kind == "secret":
        return Secret(text, hashed=True)
    if kind == "choice" and type_.options and text not in type_.options:
        raise ValueError(f"“{text}” is none of the options")
    return _from_text(text, type_)


def _expected(data: Json, wanted: type[_T]) -> _T:
    if not isinstance(data, wanted):
        raise ValueError(f"{data!r} is not a {wanted.__name__}")
    return data


def _file(data: Json) -> StoredFile:
    parts = _expected(data, dict)
    if set(parts) - set(_FILE_PARTS) or not isinstance(parts.get("digest"), str):
        raise ValueError("no stored file")
    return StoredFile(
        str(parts["digest"]),
        str(parts.get("name", "")),
        str(parts.get("media_type", "")),
        *(int(str(parts.get(part, 0))) for part in ("size", "width", "height")),
    )


_TOO_LARGE: Final = Decimal("1e15")


def _is_too_fine(number: Decimal) -> bool:
    exponent = number.as_tuple().exponent
    return isinstance(exponent, int) and exponent < -10 and number != round(number, 10)


def _decimal(data: Json) -> Decimal:
    if isinstance(data, bool) or not isinstance(data, str | int):
        raise ValueError(f"{data!r} is no exact number; write it as a string")
    digits = str(data)
    return _short_figure(digits) if len(digits) <= _SHORT else _figure(digits)


def _figure(data: str) -> Decimal:
    try:
        number = Decimal(data)
    except InvalidOperation:
        raise ValueError(f"“{data}” is no number") from None
    if not number.is_finite() or abs(number) >= _TOO_LARGE or _is_too_fine(number):
        raise ValueError(f"“{data}” has more than 15 digits before the point or 10 after it")
    return number + 0


_SHORT: Final = 32
_short_figure: Final = lru_cache(maxsize=4_096)(_figure)
"""The same few figures are read again at every reply of a conversation."""


def _texts(data: Json, type_: Type) -> tuple[str, ...]:
    if not isinstance(data, list) or not all(isinstance(item, str) for item in data):
        raise ValueError(f"{data!r} is not a list of texts")
    texts = [str(item) for item in data]
    if type_.kind == "choices":
        unknown = [text for text in texts if type_.options and text not in type_.options]
        if unknown:
            raise ValueError(f"“{unknown[0]}” is none of the options")
    return tuple(texts)


def _from_text(text: str, type_: Type) -> Value:
    if type_.kind == "date":
        return date.fromisoformat(text)
    if type_.kind == "time":
        return time.fromisoformat(text)
    if type_.kind == "day_of_year":
        month, _, day = text.partition("-")
        return DayOfYear(int(month), int(day))
    if type_.kind == "datetime":
        instant = datetime.fromisoformat(text)
        if instant.tzinfo is None:
            raise ValueError(f"“{text}” lacks its offset, such as Z or +02:00")
        return instant
    return text
