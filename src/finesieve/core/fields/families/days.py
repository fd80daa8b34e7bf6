"""Days as people write them: in figures in the order of their country, with the month in words, or as tomorrow.

What two people would read as two different days is asked about, never guessed: 3/4/2026 where neither the language
nor the country says whether the day or the month comes first; a year of two digits that may lie ahead or a lifetime
back; a weekday that the day does not fall on.
"""

import re
import unicodedata
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import date, timedelta
from functools import lru_cache
from typing import Final, Literal

from babel import Locale, UnknownLocaleError

from finesieve.core.fields.manner import Manner, locale_names
from finesieve.core.phrases import phrase

__all__ = ["WHICH_DAY", "CalendarDay", "find_day"]

Order = Literal["dmy", "mdy", "ymd", ""]
WHICH_DAY: Final = "This could be {first} or {second}. Write the month in letters."

_RELATIVE: Final[Mapping[str, tuple[int, ...]]] = {
    "today": (0,), "tomorrow": (1,), "yesterday": (-1,), "day after tomorrow": (2,), "day before yesterday": (-2,),
    "heute": (0,), "morgen": (1,), "gestern": (-1,), "ubermorgen": (2,), "vorgestern": (-2,),
    "aujourd'hui": (0,), "demain": (1,), "hier": (-1,), "hoy": (0,), "manana": (1,), "ayer": (-1,),
    "oggi": (0,), "domani": (1,), "ieri": (-1,), "vandaag": (0,), "gisteren": (-1,), "overmorgen": (2,),
    "i dag": (0,), "idag": (0,), "i morgen": (1,), "imorgen": (1,), "i morgon": (1,), "imorgon": (1,),
    "i gar": (-1,), "igar": (-1,), "dzisiaj": (0,), "dzis": (0,), "jutro": (1,), "wczoraj": (-1,),
    "hoje": (0,), "amanha": (1,), "ontem": (-1,), "dnes": (0,), "zitra": (1,), "vcera": (-1,),
    "tanaan": (0,), "huomenna": (1,), "eilen": (-1,), "bugun": (0,), "yarin": (1,), "dun": (-1,),
}  # fmt: skip
_FILLERS: Final = frozenset("of the de del di den der am on le el il d a р року roku".split())  # Ukrainian
_ENDINGS: Final = re.compile(r"(\d{1,2})(st|nd|rd|th|er|re|ste|de|e|º|ª|°|a|o)\b")
_SHORTEST: Final = 3
_LONGEST: Final = 80
_MARKED: Final = re.compile(r"(?:(\d{4})\s*[年년]\s*)?(\d{1,2})\s*[月월]\s*(\d{1,2})\s*[日일]")
_MONTH_FIRST: Final = frozenset(("ja", "zh", "ko", "hu"))
"""Languages that begin with the year, and write a day without one as month and day."""
_NEAR, _LIFETIME = 10, 100
"""How many years ahead a day is still likely, and how many back."""


@dataclass(frozen=True, slots=True)
class CalendarDay:
    """A day that was written, with its year where that was written too."""

    day: int
    month: int
    year: int | None = None

    def within(self, year: int) -> date:
        """The day in a year. Raises ValueError where it does not exist."""
        return date(year, self.month, self.day)


def find_day(text: str, manner: Manner) -> CalendarDay:
    """The day that a text writes, in the manner of a house.

    Raises ValueError with a sentence that asks where two days are possible, and without one for what is no day.
    """
    if len(text) > _LONGEST:
        raise ValueError
    folded = _fold(text)
    for read in (_relative, _with_marks, _in_figures, _in_words):
        found = read(folded, manner)
        if found is not None:
            return found
    raise ValueError


def _fold(text: str) -> str:
    """Small letters without accents and without signs that say nothing."""
    plain = unicodedata.normalize("NFKD", text.lower().replace("ß", "ss").replace("ı", "i"))
    plain = "".join(sign for sign in plain if not unicodedata.combining(sign)).replace("’", "'")
    return re.sub(r"\s+", " ", plain).strip(" ,")


# Today and tomorrow ---------------------------------------------------------------------------


def _relative(text: str, manner: Manner) -> CalendarDay | None:
    steps = _RELATIVE.get(text)
    if steps is None or manner.today is None:
        return None
    day = manner.today + timedelta(days=steps[0])
    return CalendarDay(day.day, day.month, day.year)


# In figures -----------------------------------------------------------------------------------


def _with_marks(text: str, _manner: Manner) -> CalendarDay | None:
    """With the signs for year, month and day after the figures, as in East Asia."""
    found = _MARKED.fullmatch(unicodedata.normalize("NFC", text))
    if found is None:
        return None
    day = _existing(int(found[1] or 2000), int(found[2]), int(found[3]))
    return CalendarDay(day.day, day.month, day.year if found[1] else None) if day else None


def _in_figures(text: str, manner: Manner) -> CalendarDay | None:
    compact = re.sub(r"\s*([./-])\s*", r"\1", text).rstrip(".")
    if re.fullmatch(r"\d{8}", compact):
        return _eight_digits(compact)
    found = re.fullmatch(r"(\d{1,4})([./ -])(\d{1,2})\2(\d{1,4})", compact)
    if found:
        return _three_parts(found[1], found[3], found[4], found[2], manner)
    found = re.fullmatch(r"(\d{1,2})([./-])(\d{1,2})", compact)
    return _two_parts(found[1], found[3], found[2], manner) if found else None


def _eight_digits(text: str) -> CalendarDay | None:
    readings = (text[:4], text[4:6], text[6:]), (text[4:], text[2:4], text[:2])
    found = {day for year, month, day_ in readings if (day := _existing(int(year), int(month), int(day_)))}
    if len(found) > 1:
        raise ValueError(phrase("Write the date with the month in letters, such as {example}.", example="27 May 1984"))
    return _calendar(next(iter(found))) if found else None


def _three_parts(first: str, second: str, third: str, sign: str, manner: Manner) -> CalendarDay | None:
    if len(first) == 4:
        # Year, month, day: nobody writes year, day, month.
        day = _existing(int(first), int(second), int(third))
        return _calendar(day) if day else None
    if len(third) not in (2, 4) or len(first) > 2:
        return None
    order = _order(manner)
    if sign == "." and (order != "ymd" or manner.language[:2] not in _MONTH_FIRST):
        order = "dmy"
    if order == "ymd" and len(third) == 2:
        year = _full_year(first, manner)
        day = _existing(year, int(second), int(third))
        return _calendar(day) if day else None
    year = _full_year(third, manner)
    day_first, month_first = (_existing(year, int(second), int(first)), _existing(year, int(first), int(second)))
    day = _chosen(day_first, month_first, order, manner)
    return _calendar(day) if day else None


def _two_parts(first: str, second: str, sign: str, manner: Manner) -> CalendarDay | None:
    """A day and a month; a leap year makes room for 29 February."""
    if sign == "-" and len(first) == len(second) == 2:
        # As files have it, whatever the language: month-day; but where dates are written with dashes, day-month.
        order: Order = "" if _dashes(manner.language) else "mdy"
    elif manner.language[:2] in _MONTH_FIRST:
        order = "mdy"
    else:
        order = "dmy" if sign == "." else _order(manner)
    day = _chosen(_existing(2000, int(second), int(first)), _existing(2000, int(first), int(second)), order, manner)
    return CalendarDay(day.day, day.month) if day else None


def _chosen(day_first: date | None, month_first: date | None, order: Order, manner: Manner) -> date | None:
    """Which of the two readings is meant: the only one there is, or that of the house."""
    if day_first is None or month_first is None or day_first == month_first:
        return day_first or month_first
    if order == "dmy":
        return day_first
    if order == "mdy":
        return month_first
    first, second = (_say(day, manner) for day in (day_first, month_first))
    raise ValueError(phrase(WHICH_DAY, first=first, second=second))


def _say(day: date, manner: Manner) -> str:
    return f"{day.day} {_locale(manner.language).months['format']['wide'][day.month]}"


def _existing(year: int, month: int, day: int) -> date | None:
    try:
        return date(year, month, day)
    except ValueError:
        return None


def _calendar(day: date) -> CalendarDay:
    return CalendarDay(day.day, day.month, day.year)


def _full_year(written: str, manner: Manner) -> int:
    """The year of two or four digits; one that may lie ahead or a lifetime back is asked about."""
    if len(written) == 4:
        return int(written)
    asks = ValueError(
        phrase("Write the year in four digits: {first} or {second}.", first=f"19{written}", second=f"20{written}")
    )
    if manner.today is None:
        raise asks
    now, century = manner.today.year, manner.today.year // 100 * 100
    likely = [
        year for year in (century - 100 + int(written), century + int(written)) if now - _LIFETIME < year <= now + _NEAR
    ]
    if len(likely) != 1:
        raise asks
    return likely[0]


@lru_cache(maxsize=256)
def _locale(language: str) -> Locale:
    try:
        return Locale.parse(language.replace("-", "_"))
    except (UnknownLocaleError, ValueError):
        return Locale.parse(language[:2])


def _order(manner: Manner) -> Order:
    return _order_of(manner.language)


@lru_cache(maxsize=256)
def _dashes(language: str) -> bool:
    """Whether the language writes its dates with dashes, the day first."""
    pattern = str(_locale(language).date_formats["short"].pattern)
    return "-" in pattern and pattern.startswith("d")


@lru_cache(maxsize=256)
def _order_of(language: str) -> Order:
    """Which comes first where a date is written in figures; "" for English of no country, where nobody can tell."""
    if language in ("en", "en_001", "en_150"):
        return ""
    pattern = str(_locale(language).date_formats["short"].pattern).lower()
    places = sorted("dmy", key=pattern.index)
    return "".join(places)  # type: ignore[return-value]  # one of the three in use


# In words -------------------------------------------------------------------------------------


@lru_cache(maxsize=64)
def _months(language: str) -> Mapping[str, int]:
    """The months by their names, in full and short, in the language and in English."""
    found = {name: number for one in ("en", language) for name, number in _month_names(one)} | {"sept": 9}
    return {name: number for name, number in found.items() if not name[:1].isdigit()}


def _month_names(language: str) -> Iterator[tuple[str, int]]:
    for use in ("format", "stand-alone"):
        for width in ("wide", "abbreviated"):
            for number, name in _locale(language).months[use][width].items():
                yield _fold(name).rstrip("."), number


@lru_cache(maxsize=1)
def _months_elsewhere() -> Mapping[str, int]:
    """The months by their names in all languages that a house can write in, where these agree on what is meant."""
    found: dict[str, set[int]] = {}
    for language in locale_names():
        for name, number in _month_names(language):
            found.setdefault(name, set()).add(number)
    return {name: min(numbers) for name, numbers in found.items() if len(numbers) == 1 and not name[:1].isdigit()}


@lru_cache(maxsize=64)
def _weekdays(language: str) -> Mapping[str, int]:
    """The days of the week by their names, Monday 0, in the language and in English."""
    found: dict[str, int] = {}
    for one in ("en", language):
        locale = _locale(one)
        for use in ("format", "stand-alone"):
            for width in ("wide", "abbreviated"):
                found |= {_fold(name).rstrip("."): number for number, name in locale.days[use][width].items()}
    return found


def _in_words(text: str, manner: Manner) -> CalendarDay | None:
    plain = _ENDINGS.sub(r"\1", text.replace("'", " "))
    words = [word for word in re.split(r"[\s,./-]+|(?<=\d)(?=[^\W\d])|(?<=[^\W\d])(?=\d)", plain) if word]
    months, weekdays = _months(manner.language), _weekdays(manner.language)
    month = weekday = None
    numbers: list[str] = []
    for word in words:
        if word.isdigit():
            numbers.append(word)
        elif month is None and (number := _named(word, months)) is not None:
            month = number
        elif weekday is None and word in weekdays:
            weekday = weekdays[word]
        elif word not in _FILLERS:
            return None
    if month is None or not 1 <= len(numbers) <= 2:
        return None
    found = _day_and_year(numbers, month, manner)
    if weekday is not None and found is not None and found.year is not None:
        _refuse_weekday(found.within(found.year), weekday, manner)
    return found


def _named(word: str, months: Mapping[str, int]) -> int | None:
    """The month of a name, or of as much of it as tells it apart, from three letters on."""
    if word in months:
        return months[word]
    near = {number for name, number in months.items() if len(word) >= _SHORTEST and name.startswith(word)}
    return next(iter(near)) if len(near) == 1 else _months_elsewhere().get(word)


def _day_and_year(numbers: list[str], month: int, manner: Manner) -> CalendarDay | None:
    if len(numbers) == 1:
        if len(numbers[0]) > 2:
            return None
        day = _existing(2000, month, int(numbers[0]))
        return CalendarDay(day.day, day.month) if day else None
    first, second = numbers
    if len(first) == 4:
        first, second = second, first
    if len(first) > 2 or len(second) not in (2, 4):
        return None
    day = _existing(_full_year(second, manner), month, int(first))
    return _calendar(day) if day else None


def _refuse_weekday(day: date, weekday: int, manner: Manner) -> None:
    if day.weekday() != weekday:
        names = _locale(manner.language).days["format"]["wide"]
        template = "{day} is a {weekday}. Check the date."
        raise ValueError(phrase(template, day=_say(day, manner), weekday=str(names[day.weekday()])))
