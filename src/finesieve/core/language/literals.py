"""Texts read as the type they meet: dates, times, days of the year."""

import re
from collections.abc import Callable
from datetime import UTC, date, datetime, time, tzinfo
from typing import Final

from finesieve.core.values import DayOfYear, Kind, Value

__all__ = ["WRITTEN", "read_literal"]

_DATE: Final = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")
_TIME: Final = re.compile(r"[0-9]{2}:[0-9]{2}(:[0-9]{2})?")
_DATETIME: Final = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}(:[0-9]{2})?")
_DAY: Final = re.compile(r"([0-9]{2})-([0-9]{2})")

WRITTEN: Final[dict[Kind, str]] = {
    "date": "YYYY-MM-DD",
    "time": "HH:MM",
    "datetime": "YYYY-MM-DDTHH:MM",
    "day_of_year": "MM-DD",
}
"""How a value of each kind is written as a text literal."""


def _day_of_year(text: str) -> DayOfYear:
    month, day = text.split("-")
    return DayOfYear(int(month), int(day))


def read_literal(text: str, kind: Kind, zone: tzinfo) -> Value:
    """Read a text literal as a date, time, datetime or day of the year.

    A local time becomes an instant in `zone`, the first occurrence when the
    clock goes back. Raises ValueError where the text is no such value.
    """
    # In UTC, since Python finds an instant in the hour that comes twice equal to none of another zone.
    readers: dict[Kind, tuple[re.Pattern[str], Callable[[str], Value]]] = {
        "date": (_DATE, date.fromisoformat),
        "time": (_TIME, time.fromisoformat),
        "datetime": (_DATETIME, lambda written: datetime.fromisoformat(written).replace(tzinfo=zone).astimezone(UTC)),
        "day_of_year": (_DAY, _day_of_year),
    }
    pattern, read = readers[kind]
    if not pattern.fullmatch(text):
        raise ValueError(f"not written as {WRITTEN[kind]}")
    try:
        return read(text)
    except OverflowError:
        raise ValueError("outside the years 1 to 9999") from None
