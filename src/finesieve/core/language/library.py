"""The plain functions: each declared beside its Python meaning. Their SQL meaning stands in the store's library.

A plain function takes filled arguments only: with a blank one its result is
blank. One of `AT_A_MOMENT` is given the day it is, or the moment, as its last argument.
"""

import re
from collections.abc import Callable
from datetime import date, datetime
from decimal import ROUND_CEILING, ROUND_FLOOR, Context, Decimal
from typing import Final, Literal

from finesieve.core import values
from finesieve.core.language.declare import DATE, NUMBER, NUMBERS, TEXT, Function
from finesieve.core.values import DayOfYear, Kind, Value

__all__ = ["AT_A_MOMENT", "LIBRARY", "MOST_CHARACTERS", "PYTHON_ONLY", "WHITE", "Meaning", "payment", "replaced"]

Meaning = Callable[..., Value]
LIBRARY: Final[dict[str, tuple[Function, Meaning]]] = {}
AT_A_MOMENT: Final[dict[str, Literal["today", "now"]]] = {
    "now": "now",
    "next_anniversary": "today",
    "days_until": "today",
}
"""Functions whose result changes by time passing alone, and what they are given."""

PYTHON_ONLY: Final = frozenset(("matches", "text", "payment"))
"""Operations that SQL does not work out by itself; the store asks Python for them in batches."""
MOST_CHARACTERS: Final = 10_000
"""A text that a function makes is cut here."""
_MOST_YEARS: Final = 1_000
WHITE: Final = (
    "\t\n\x0b\x0c\r \x85\xa0\u1680\u2000\u2001\u2002\u2003\u2004\u2005\u2006\u2007\u2008\u2009\u200a"
    "\u2028\u2029\u202f\u205f\u3000"
)
"""Unicode's white space, spelled out, so that both back ends mean the same."""
_MOST_PERIODS: Final = 12_000
_EXACT: Final = Context(prec=4_000)
_LOAN: Final = Context(prec=100)
_NUMBER_TEXT: Final = re.compile(r"-?[0-9]{1,15}([.][0-9]{1,10})?")


def _declare(
    signature: str, help_: str, example: str, *takes: frozenset[Kind], gives: Kind | Literal["same"], least: int = -1
) -> Callable[[Meaning], Meaning]:
    """Declare a function of the language by its signature; `least` is for one whose last arguments may be left out."""

    def keep(meaning: Meaning) -> Meaning:
        name = signature.partition("(")[0]
        function = Function(name, signature, help_, example, takes, gives, len(takes) if least < 0 else least)
        LIBRARY[name] = (function, meaning)
        return meaning

    return keep


def _whole(number: Decimal, low: int, high: int) -> int | None:
    """A whole number within bounds, or None."""
    return int(number) if number == number.to_integral_value() and low <= number <= high else None


# Numbers


@_declare("floor(x)", "The largest whole number that is not above x.", "floor(plot_length)", NUMBERS, gives="same")
def _floor(x: Decimal) -> Value:
    return values.step(x.to_integral_value(ROUND_FLOOR))


@_declare("ceil(x)", "The smallest whole number that is not below x.", "ceil(plot_length)", NUMBERS, gives="same")
def _ceil(x: Decimal) -> Value:
    return values.step(x.to_integral_value(ROUND_CEILING))


@_declare("abs(x)", "The number without its sign.", "abs(plot_length - 10)", NUMBERS, gives="same")
def _abs(x: Decimal) -> Value:
    return values.step(abs(x))


@_declare(
    "clamp(x, low, high)",
    "The number, brought to the nearer bound where it lies outside; blank where low is above high.",
    "clamp(plot_length, 1, 20)",
    NUMBERS,
    NUMBERS,
    NUMBERS,
    gives="same",
)
def _clamp(x: Decimal, low: Decimal, high: Decimal) -> Value:
    return None if low > high else min(max(x, low), high)


@_declare(
    "power(x, n)",
    "x times itself, n times; n is whole, from 0 to 100, else the result is blank.",
    "power(plot_length, 2)",
    NUMBER,
    NUMBER,
    gives="number",
)
def _power(x: Decimal, n: Decimal) -> Value:
    exponent = _whole(n, 0, 100)
    return None if exponent is None else _fitting(_EXACT.power(x, exponent) if exponent else Decimal(1))


def _fitting(number: Decimal) -> Decimal | None:
    """A result of many digits: blank where it is too large even to be rounded."""
    return None if number.adjusted() > 20 else values.step(number)


@_declare(
    "remainder(x, y)",
    "What is left of x when y is taken away as often as it goes, with the sign of y; blank where y is 0.",
    "remainder(plot_length, 3)",
    NUMBER,
    NUMBER,
    gives="number",
)
def _remainder(x: Decimal, y: Decimal) -> Value:
    if not y:
        return None
    left = _EXACT.remainder(x, y)
    return values.step(left + y if left and (left < 0) != (y < 0) else left)


@_declare(
    "number(text)",
    "The number that a text writes in digits with a point, such as 12.5; blank for any other text.",
    'number("12.5")',
    TEXT,
    gives="number",
)
def _number(text: str) -> Value:
    trimmed = text.strip(WHITE)
    return Decimal(trimmed) + 0 if _NUMBER_TEXT.fullmatch(trimmed) else None


# Texts


@_declare("lower(text)", "The text in small letters.", "lower(name)", TEXT, gives="text")
def _lower(text: str) -> Value:
    return text.lower()


@_declare("upper(text)", "The text in capitals.", "upper(name)", TEXT, gives="text")
def _upper(text: str) -> Value:
    return text.upper()


@_declare("trim(text)", "The text without white space at its ends.", "trim(name)", TEXT, gives="text")
def _trim(text: str) -> Value:
    return text.strip(WHITE) or None


@_declare("length(text)", "How many characters the text has.", "length(name) > 3", TEXT, gives="number")
def _length(text: str) -> Value:
    return Decimal(len(text))


@_declare(
    "left(text, n)",
    "The first n characters; blank unless n is whole and not negative.",
    "left(name, 1)",
    TEXT,
    NUMBER,
    gives="text",
)
def _left(text: str, n: Decimal) -> Value:
    count = _whole(n, 0, 10**15)
    return None if count is None else text[:count] or None


@_declare(
    "right(text, n)",
    "The last n characters; blank unless n is whole and not negative.",
    "right(name, 4)",
    TEXT,
    NUMBER,
    gives="text",
)
def _right(text: str, n: Decimal) -> Value:
    count = _whole(n, 0, 10**15)
    return (text[-count:] or None) if count else None


def replaced(text: str, old: str, new: str) -> str | None:
    """The text with every `old` in it made `new`, from the left, cut at 10,000 characters."""
    pieces = text.split(old)
    # So many seams fill the result; what comes after them would be made only to be cut off.
    enough = MOST_CHARACTERS // max(len(new), 1) + 2
    return new.join(pieces[:enough])[:MOST_CHARACTERS] or None


# Dates


@_declare("now()", "The moment it is.", "now() >= seen", gives="datetime")
def _now(now: datetime) -> Value:
    return now


@_declare(
    "days_between(from, to)",
    "Days from one date to another; negative backwards.",
    "days_between(born, today())",
    DATE,
    DATE,
    gives="number",
)
def _days_between(a: date, b: date) -> Value:
    return Decimal((b - a).days)


@_declare(
    "months_between(from, to)",
    "Whole months from one date to another; negative backwards.",
    "months_between(born, today())",
    DATE,
    DATE,
    gives="number",
)
def _months_between(a: date, b: date) -> Value:
    return Decimal(values.months_between(a, b))


@_declare(
    "add_days(date, n)",
    "The date n days later; earlier where n is negative. n is whole, at most 1,000 years.",
    "add_days(born, 100)",
    DATE,
    NUMBER,
    gives="date",
)
def _add_days(day: date, n: Decimal) -> Value:
    return values.date_plus(day, n)


@_declare(
    "add_months(date, n)",
    "The date n months later, kept to the last day of a shorter month. n is whole, at most 1,000 years.",
    "add_months(born, 6)",
    DATE,
    NUMBER,
    gives="date",
)
def _add_months(day: date, n: Decimal) -> Value:
    count = _whole(n, -12 * _MOST_YEARS, 12 * _MOST_YEARS)
    return None if count is None else values.months_later(day, count)


@_declare(
    "add_years(date, n)",
    "The date n years later; 29 February becomes 28 in other years. n is whole, at most 1,000.",
    "add_years(born, 18)",
    DATE,
    NUMBER,
    gives="date",
)
def _add_years(day: date, n: Decimal) -> Value:
    count = _whole(n, -_MOST_YEARS, _MOST_YEARS)
    return None if count is None else values.months_later(day, 12 * count)


@_declare("year(date)", "The year of a date.", "year(born)", DATE, gives="number")
def _year(day: date) -> Value:
    return Decimal(day.year)


@_declare("month(date)", "The month of a date, 1 to 12.", "month(born) = 5", DATE, gives="number")
def _month(day: date) -> Value:
    return Decimal(day.month)


@_declare("day(date)", "The day of the month of a date.", "day(born)", DATE, gives="number")
def _day(day: date) -> Value:
    return Decimal(day.day)


@_declare(
    "weekday(date)", "The day of the week: 1 for Monday, 7 for Sunday.", "weekday(born) <= 5", DATE, gives="number"
)
def _weekday(day: date) -> Value:
    return Decimal(day.isoweekday())


@_declare(
    "next_anniversary(date or day of the year)",
    "The first day from today on with that month and day; 29 February counts as 1 March in other years.",
    "next_anniversary(born)",
    frozenset(("date", "day_of_year")),
    gives="date",
)
def _next_anniversary(day: date | DayOfYear, today: date) -> Value:
    for year in (today.year, today.year + 1):
        found = values.months_start(year, day.month)
        if found is None:
            return None
        found = values.date_plus(found, Decimal(day.day - 1))
        if found is not None and found >= today:
            return found
    return None


@_declare(
    "days_until(date)",
    "Days from today to a date; negative where it has passed.",
    "days_until(next_anniversary(born)) <= 7",
    DATE,
    gives="number",
)
def _days_until(day: date, today: date) -> Value:
    return Decimal((day - today).days)


# Loans


def payment(rate: Decimal, periods: Decimal, principal: Decimal) -> Decimal | None:
    """The equal payment a period that pays a loan back: P·r / (1 − (1 + r)^−n), and P / n without interest.

    The annuity formula of elementary finance. Blank unless the number of periods is
    whole, from 1 to 12,000, and the rate above −1.
    """
    count = _whole(periods, 1, _MOST_PERIODS)
    if count is None or rate <= -1:
        return None
    if not rate:
        return values.divide(principal, periods)
    growth = _LOAN.power(_LOAN.add(rate, Decimal(1)), count)
    # P·r / (1 − 1/g) is P·r·g / (g − 1): one division.
    share = _LOAN.divide(_LOAN.multiply(_LOAN.multiply(principal, rate), growth), _LOAN.subtract(growth, Decimal(1)))
    return values.step(share)
