"""Dates, times, dates and times, days of the year."""

import re
from datetime import UTC, date, datetime, time
from typing import Final

from babel.dates import format_date, format_datetime, format_time

from finesieve.core.fields.asked import Asked
from finesieve.core.values import DayOfYear, Value

__all__ = [
    "read_date",
    "read_datetime",
    "read_day_of_year",
    "read_time",
    "show_date",
    "show_datetime",
    "show_day_of_year",
    "show_time",
    "write_datetime",
    "write_time",
]

_DATE: Final = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")
_TIME: Final = re.compile(r"[0-9]{1,2}:[0-9]{2}(:[0-9]{2})?")
_MOMENT: Final = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}[T ][0-9]{2}:[0-9]{2}(:[0-9]{2})?")
_DAY: Final = re.compile(r"([0-9]{1,2})-([0-9]{1,2})")


def read_date(text: str, _asked: Asked) -> Value:
    """A day, written year-month-day."""
    try:
        if not _DATE.fullmatch(text):
            raise ValueError
        return date.fromisoformat(text)
    except ValueError:
        raise ValueError("Write a date that exists as year-month-day, such as 1984-05-27.") from None


def read_time(text: str, _asked: Asked) -> Value:
    """A time of day, written hours:minutes."""
    try:
        if not _TIME.fullmatch(text):
            raise ValueError
        return time.fromisoformat(text.zfill(5) if len(text) < 6 else text)
    except ValueError:
        raise ValueError("Write a time as hours and minutes, such as 09:30.") from None


def read_datetime(text: str, asked: Asked) -> Value:
    """A local date and time; kept as an instant, the first one where the clock goes back."""
    try:
        if not _MOMENT.fullmatch(text):
            raise ValueError
        return datetime.fromisoformat(text).replace(tzinfo=asked.manner.zone).astimezone(UTC)
    except (ValueError, OverflowError):
        raise ValueError("Write a date and a time, such as 2026-04-18 14:30.") from None


def read_day_of_year(text: str, _asked: Asked) -> Value:
    """A day without a year, written month-day."""
    match = _DAY.fullmatch(text)
    try:
        if match is None:
            raise ValueError
        return DayOfYear(int(match[1]), int(match[2]))
    except ValueError:
        raise ValueError("Write a day as month-day, such as 05-27 for 27 May.") from None


def show_date(value: Value, asked: Asked) -> str:
    """27 May 1984, in the language of the house."""
    if not isinstance(value, date):
        return str(value)
    return str(format_date(value, "d MMM y", locale=asked.manner.language))


def show_time(value: Value, asked: Asked) -> str:
    """09:30; seconds only where there are any."""
    if not isinstance(value, time):
        return str(value)
    return str(format_time(value, "HH:mm:ss" if value.second else "HH:mm", locale=asked.manner.language))


def show_datetime(value: Value, asked: Asked) -> str:
    """The date and time that the clocks of the house showed."""
    if not isinstance(value, datetime):
        return str(value)
    local = value.astimezone(asked.manner.zone)
    return str(format_datetime(local, "d MMM y, HH:mm", locale=asked.manner.language))


def show_day_of_year(value: Value, asked: Asked) -> str:
    """27 May."""
    if not isinstance(value, DayOfYear):
        return str(value)
    return str(format_date(date(2000, value.month, value.day), "d MMMM", locale=asked.manner.language))


def write_time(value: Value, _asked: Asked) -> str:
    """As an input for times has it."""
    return value.isoformat("seconds" if value.second else "minutes") if isinstance(value, time) else ""


def write_datetime(value: Value, asked: Asked) -> str:
    """As an input for local dates and times has it."""
    if not isinstance(value, datetime):
        return ""
    local = value.astimezone(asked.manner.zone).replace(tzinfo=None)
    return local.isoformat("T", "seconds" if local.second else "minutes")
