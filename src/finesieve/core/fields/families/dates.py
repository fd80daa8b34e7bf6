"""Dates, times, dates and times, days of the year."""

import re
from datetime import UTC, date, datetime, time, tzinfo
from typing import Final

from babel.dates import format_skeleton, format_time

from finesieve.core.fields.asked import Asked
from finesieve.core.fields.families.clocks import find_time, split_time
from finesieve.core.fields.families.days import CalendarDay, find_day
from finesieve.core.fields.manner import write_day, write_moment
from finesieve.core.phrases import asks, phrase
from finesieve.core.values import DayOfYear, Value

__all__ = [
    "instants_of",
    "read_date",
    "read_datetime",
    "read_day_of_year",
    "read_time",
    "show_date",
    "show_datetime",
    "show_day_of_year",
    "show_time",
    "twice",
    "write_datetime",
    "write_instant",
    "write_time",
]

_MOMENT: Final = re.compile(
    r"([0-9]{4}-[0-9]{2}-[0-9]{2}[T ][0-9]{2}:[0-9]{2}(:[0-9]{2})?) ?([+-][0-9]{2}:[0-9]{2}(?::[0-9]{2})?)?"
)
_SAMPLE: Final = date(1984, 5, 27)


def read_date(text: str, asked: Asked) -> Value:
    """A day as people write it; see `days`."""
    example = write_day(_SAMPLE, asked.manner.language)
    found = _find(text, asked, "Write a date that exists, such as {example} or 1984-05-27.", example)
    if found.year is None:
        raise ValueError(phrase("Write the year too, such as {example}.", example=example))
    try:
        return found.within(found.year)
    except ValueError:
        raise ValueError(
            phrase("Write a date that exists, such as {example} or 1984-05-27.", example=example)
        ) from None


def _find(text: str, asked: Asked, template: str, example: str) -> CalendarDay:
    """The day that is written. Raises ValueError: what it asks, or the sentence of the template."""
    try:
        return find_day(text, asked.manner)
    except ValueError as why:
        if asks(why):
            raise
        raise ValueError(phrase(template, example=example)) from None


def read_time(text: str, _asked: Asked) -> Value:
    """A time of day as people write it; see `clocks`."""
    try:
        return find_time(text)
    except ValueError as why:
        if asks(why):
            raise
        raise ValueError("Write a time as hours and minutes, such as 09:30.") from None


def instants_of(local: datetime, zone: tzinfo) -> tuple[datetime, ...]:
    """The instants at which the clocks of a zone show a time: none in a gap, two where they go back, else one."""
    found = {local.replace(tzinfo=zone, fold=fold).astimezone(UTC) for fold in (0, 1)}
    return tuple(sorted(one for one in found if one.astimezone(zone).replace(tzinfo=None) == local.replace(fold=0)))


def _offset_of(instant: datetime, zone: tzinfo) -> str:
    """How far the clocks of a zone were ahead of UTC at an instant: `+01:00`."""
    return instant.astimezone(zone).isoformat()[19:]


def twice(text: str, zone: tzinfo) -> tuple[tuple[str, str], ...]:
    """Where a typed local time comes twice, the two ways to write it, each with its offset; () elsewhere."""
    found = _MOMENT.fullmatch(text)
    try:
        instants = instants_of(datetime.fromisoformat(found[1]), zone) if found else ()
    except (ValueError, OverflowError):
        return ()
    if found is None or len(instants) < 2:
        return ()
    return tuple((f"{found[1]}{_offset_of(one, zone)}", _offset_of(one, zone)) for one in instants)


def read_datetime(text: str, asked: Asked) -> Value:
    """A local date and time, with its offset where it comes twice; kept as an instant.

    A time that the clocks pass over, and one that comes twice without an offset, is said, not guessed.
    """
    zone = asked.manner.zone
    written = _written_out(text, asked)
    found = _MOMENT.fullmatch(written)
    try:
        if not found:
            raise ValueError
        local = datetime.fromisoformat(found[1])
        instants = instants_of(local, zone)
    except (ValueError, OverflowError):
        raise ValueError("Write a date and a time, such as 2026-04-18 14:30.") from None
    if not instants:
        template = "The clocks go forward at that time, so {time} does not exist. Choose another time."
        raise ValueError(phrase(template, time=found[1][11:]))
    if found[3]:
        instants = tuple(one for one in instants if _offset_of(one, zone) == found[3])
        if not instants:
            raise ValueError("Write a date and a time, such as 2026-04-18 14:30.")
    if len(instants) > 1:
        first, second = (_offset_of(one, zone) for one in instants)
        template = (
            "The clocks go back at that time, so {time} comes twice. "
            "Say which one: the first ({first}) or the second ({second})."
        )
        raise ValueError(phrase(template, time=found[1][11:], first=first, second=second))
    return instants[0]


def _written_out(text: str, asked: Asked) -> str:
    """A date with a time as inputs have it, `2026-04-18 14:30`; the text itself where it is that, or neither."""
    if _MOMENT.fullmatch(text):
        return text
    day, clock = split_time(text)
    if not day or not clock:
        return text
    try:
        found, at = find_day(day, asked.manner), find_time(clock)
        return f"{found.within(found.year or 0).isoformat()} {at.isoformat('seconds' if at.second else 'minutes')}"
    except ValueError as why:
        if asks(why):
            raise
        return text


def read_day_of_year(text: str, asked: Asked) -> Value:
    """A day without a year, as people write it; a year that is written with it is passed over."""
    example = str(show_day_of_year(DayOfYear(5, 27), asked))
    found = _find(text, asked, "Write a day and a month, such as {example}.", example)
    return DayOfYear(found.month, found.day)


def show_date(value: Value, asked: Asked) -> str:
    """27 May 1984, in the language of the house."""
    if not isinstance(value, date):
        return str(value)
    return write_day(value, asked.manner.language)


def show_time(value: Value, asked: Asked) -> str:
    """09:30; seconds only where there are any."""
    if not isinstance(value, time):
        return str(value)
    return str(format_time(value, "HH:mm:ss" if value.second else "HH:mm", locale=asked.manner.language))


def show_datetime(value: Value, asked: Asked) -> str:
    """The date and time that the clocks of the house showed; with the offset where they showed it twice."""
    if not isinstance(value, datetime):
        return str(value)
    try:
        local = value.astimezone(asked.manner.zone)
    except OverflowError:
        local = value
    shown = write_moment(local, asked.manner.language)
    return f"{shown} ({_offset_of(value, asked.manner.zone)})" if _comes_twice(value, asked.manner.zone) else shown


def write_instant(value: datetime, zone: tzinfo) -> str:
    """For files that programs read: local time with its offset, in seconds where there are any."""
    try:
        local = value.astimezone(zone)
    except OverflowError:
        local = value
    return local.isoformat("T", "seconds" if local.second else "minutes")


def _comes_twice(value: datetime, zone: tzinfo) -> bool:
    try:
        return len(instants_of(value.astimezone(zone).replace(tzinfo=None, fold=0), zone)) > 1
    except OverflowError:
        return False


def show_day_of_year(value: Value, asked: Asked) -> str:
    """27 May."""
    if not isinstance(value, DayOfYear):
        return str(value)
    return str(format_skeleton("MMMMd", date(2000, value.month, value.day), locale=asked.manner.language))


def write_time(value: Value, _asked: Asked) -> str:
    """As an input for times has it."""
    return value.isoformat("seconds" if value.second else "minutes") if isinstance(value, time) else ""


def write_datetime(value: Value, asked: Asked) -> str:
    """As an input for local dates and times has it; with the offset where the time comes twice."""
    if not isinstance(value, datetime):
        return ""
    zone = asked.manner.zone
    try:
        local = value.astimezone(zone).replace(tzinfo=None, fold=0)
    except OverflowError:
        local = value.replace(tzinfo=None)
    written = local.isoformat("T", "seconds" if local.second else "minutes")
    return written + (_offset_of(value, zone) if _comes_twice(value, zone) else "")
