"""Kinds of values, blank, exact decimals, dates.

Blank, the missing value, is Python's None; so is unknown, the blank of yes/no.
"""

import json
import unicodedata
from calendar import monthrange
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta, tzinfo
from decimal import ROUND_HALF_UP, Context, Decimal, InvalidOperation, Overflow
from typing import Any, Final, Literal, get_args

from finesieve.core.phrases import phrase

__all__ = [
    "BLANK",
    "KINDS",
    "UNKNOWN",
    "DayOfYear",
    "Kind",
    "Secret",
    "StoredFile",
    "Structured",
    "Type",
    "Value",
    "add",
    "date_of",
    "date_plus",
    "day_written",
    "divide",
    "exact_sum",
    "fold",
    "keepable",
    "local_date",
    "mean",
    "months_between",
    "months_later",
    "months_start",
    "multiply",
    "plain_number",
    "read_json",
    "round_to",
    "sound_text",
    "step",
    "subtract",
    "tidy_text",
    "whole_number",
    "write_json",
    "years_between",
]

BLANK: Final = None
UNKNOWN: Final = None

Kind = Literal[
    "text",
    "number",
    "money",
    "yes_no",
    "choice",
    "choices",
    "date",
    "time",
    "datetime",
    "day_of_year",
    "text_list",
    "structured",
    "file",
    "secret",
    "collection",
]
KINDS: Final[tuple[Kind, ...]] = get_args(Kind)


@dataclass(frozen=True, order=True, slots=True)
class DayOfYear:
    """A day without a year, such as a birthday; 29 February is one."""

    month: int
    day: int

    def __post_init__(self) -> None:
        date(2000, self.month, self.day)  # a leap year: raises ValueError if impossible

    def __str__(self) -> str:
        return f"{self.month:02}-{self.day:02}"


@dataclass(frozen=True, slots=True)
class Structured:
    """Structured data, kept as its canonical JSON text: keys sorted, no spaces."""

    text: str

    @classmethod
    def of(cls, data: object) -> "Structured":
        """The value for JSON data. Raises ValueError for what JSON cannot hold, such as NaN."""
        return cls(write_json(data))

    @property
    def data(self) -> Any:
        return json.loads(self.text, parse_float=Decimal)

    def __str__(self) -> str:
        return self.text


@dataclass(frozen=True, slots=True)
class StoredFile:
    """A file that is kept: where its bytes are found, and what is known of them.

    `digest` is the SHA-256 of the bytes in hexadecimal; `size` is in bytes;
    width and height are in pixels, 0 for what is no picture.
    """

    digest: str
    name: str
    media_type: str
    size: int
    width: int = 0
    height: int = 0

    @property
    def picture(self) -> bool:
        return self.width > 0

    def __str__(self) -> str:
        return self.name


@dataclass(frozen=True, slots=True)
class Secret:
    """A secret as somebody typed it, or as its hash, which alone is kept. It never shows itself."""

    text: str = field(repr=False)
    hashed: bool = False

    def __str__(self) -> str:
        return "set"


MOST_LEVELS: Final = 50
"""How deep JSON that somebody sends may be nested."""
_MOST_NUMBER: Final = 100
_MOST_EXPONENT: Final = 300


def day_written(text: str) -> date | None:
    """A day written as an address or a form writes it, `2026-11-20`; None for anything else."""
    try:
        return date.fromisoformat(text[:10])
    except ValueError:
        return None


def whole_number(text: str) -> int | None:
    """A whole number written in plain digits, at most fifteen, or None: other scripts' digits and ² are no ids."""
    return int(text) if text.isascii() and text.isdigit() and len(text) <= 15 else None


def write_json(data: Any, indent: int = 0) -> str:
    """JSON with its keys sorted and every digit kept. Raises ValueError for what JSON cannot hold, such as NaN."""
    if not indent:
        try:
            return json.dumps(data, sort_keys=True, separators=(",", ":"), ensure_ascii=False, allow_nan=False)
        except TypeError:
            pass  # the library knows no decimals
    return _written(data, indent, 0)


def _written(data: Any, indent: int, level: int) -> str:
    around, inner = ("\n" + " " * indent * level, "\n" + " " * indent * (level + 1)) if indent else ("", "")
    if isinstance(data, dict):
        after = ": " if indent else ":"
        parts = [
            f"{json.dumps(str(key), ensure_ascii=False)}{after}{_written(data[key], indent, level + 1)}"
            for key in sorted(data, key=str)
        ]
        return "{" + inner + f",{inner}".join(parts) + around + "}" if parts else "{}"
    if isinstance(data, list | tuple):
        parts = [_written(item, indent, level + 1) for item in data]
        return "[" + inner + f",{inner}".join(parts) + around + "]" if parts else "[]"
    if isinstance(data, Decimal):
        if not data.is_finite():
            raise ValueError("no number of JSON")
        return format(data if data else data.copy_abs(), "f")
    return json.dumps(data, ensure_ascii=False, allow_nan=False)


def read_json(text: str) -> Any:
    """JSON that somebody has sent: numbers with a point are decimals, digit for digit.

    Raises ValueError with a sentence for what is no JSON, names a key twice, is nested too deeply, has endless
    numbers, or holds what no text can.
    """
    try:
        data = json.loads(
            text, parse_float=_number, parse_int=_whole_number, parse_constant=_no_number, object_pairs_hook=_keys_once
        )
    except RecursionError:
        raise ValueError("This is nested too deeply.") from None
    except json.JSONDecodeError as problem:
        place = f" (line {problem.lineno}, column {problem.colno})"
        raise ValueError(phrase("This is not JSON{place}.", place=place)) from None
    _within_bounds(data)
    return data


def _number(digits: str) -> Decimal:
    number = Decimal(digits) if len(digits) <= _MOST_NUMBER else None
    if number is None or abs(number.adjusted()) > _MOST_EXPONENT:
        raise ValueError("A number here has too many digits.")
    return number


def _whole_number(digits: str) -> int:
    if len(digits) > _MOST_NUMBER:
        raise ValueError("A number here has too many digits.")
    return int(digits)


def _no_number(word: str) -> Any:
    raise ValueError(phrase("This is not JSON{place}.", place=f" ({word})"))


def _keys_once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) < len(pairs):
        seen: set[str] = set()
        twice = next(key for key, _ in pairs if key in seen or seen.add(key))  # type: ignore[func-returns-value]  # a set's add
        raise ValueError(phrase("“{name}” stands here twice.", name=twice))
    return found


def _within_bounds(data: Any) -> None:
    waiting = [(data, 1)]
    while waiting:
        part, level = waiting.pop()
        if level > MOST_LEVELS:
            raise ValueError("This is nested too deeply.")
        texts = [part] if isinstance(part, str) else list(part) if isinstance(part, dict) else []
        if not all(keepable(one) for one in texts):
            raise ValueError("This holds a character that cannot be kept.")
        below = part.values() if isinstance(part, dict) else part if isinstance(part, list) else ()
        waiting += [(one, level + 1) for one in below]


Value = (
    None
    | bool
    | Decimal
    | str
    | date
    | time
    | datetime
    | DayOfYear
    | tuple[str, ...]
    | Structured
    | StoredFile
    | Secret
)


@dataclass(frozen=True, slots=True)
class Type:
    """The type of an expression or a field.

    `options` are the stored values of a choice, in order; none stand for an open
    choice, such as tags. `source` is the key of the field that the choice comes
    from; `ordered` says that the options are steps. `never_blank` marks what is never
    blank but empty, such as tags. `member` is what a collection is of. `labels`
    and `scores` are those of the options, in their order, and `unit` is that of a
    field; they do not tell types apart.
    """

    kind: Kind
    options: tuple[str, ...] = ()
    source: str = ""
    ordered: bool = False
    never_blank: bool = False
    member: str = ""
    labels: tuple[str, ...] = field(default=(), compare=False)
    scores: tuple[Decimal, ...] = field(default=(), compare=False)
    unit: str = field(default="", compare=False)

    @property
    def words(self) -> tuple[str, ...]:
        """The options as people read them; the stored values where there are no labels."""
        return self.labels or self.options

    @property
    def points(self) -> tuple[Decimal, ...]:
        """What each option counts; one without a score counts nothing."""
        return self.scores or (Decimal(0),) * len(self.options)


# A private context: the default of 28 digits rounds twice and gives wrong digits.
_CONTEXT: Final = Context(prec=100, rounding=ROUND_HALF_UP)
_quantize, _add, _subtract, _multiply = _CONTEXT.quantize, _CONTEXT.add, _CONTEXT.subtract, _CONTEXT.multiply
_TEN_PLACES: Final = Decimal("1e-10")
_MOST_DIGITS: Final = 15  # before the point: from 10¹⁵ on a number is blank
_ZERO: Final = Decimal(0)
_MOST_DAYS: Final = 365_250  # 1,000 years


def step(number: Decimal) -> Decimal | None:
    """Round one result half away from zero to 10 places; blank from 10¹⁵ on."""
    rounded = _quantize(number, _TEN_PLACES)
    return rounded if rounded.adjusted() < _MOST_DIGITS else None


# The four operations are written out: a call more each would cost a fifth of all that formulas take.


def add(a: Decimal, b: Decimal) -> Decimal | None:
    rounded = _quantize(_add(a, b), _TEN_PLACES)
    return rounded if rounded.adjusted() < _MOST_DIGITS else None


def subtract(a: Decimal, b: Decimal) -> Decimal | None:
    rounded = _quantize(_subtract(a, b), _TEN_PLACES)
    return rounded if rounded.adjusted() < _MOST_DIGITS else None


def multiply(a: Decimal, b: Decimal) -> Decimal | None:
    rounded = _quantize(_multiply(a, b), _TEN_PLACES)
    return rounded if rounded.adjusted() < _MOST_DIGITS else None


def divide(a: Decimal, b: Decimal) -> Decimal | None:
    """a / b, blank where b is zero."""
    return step(_CONTEXT.divide(a, b)) if b else None


def exact_sum(numbers: Iterable[Decimal]) -> Decimal | None:
    """The sum, rounded once at the end; the sum of nothing is 0."""
    total = _ZERO
    for number in numbers:
        total = _CONTEXT.add(total, number)
    return step(total)


def mean(numbers: list[Decimal]) -> Decimal | None:
    """The exact sum divided once. Raises ZeroDivisionError for no numbers."""
    total = _ZERO
    for number in numbers:
        total = _CONTEXT.add(total, number)
    return step(_CONTEXT.divide(total, Decimal(len(numbers))))


def round_to(number: Decimal, places: Decimal) -> Decimal | None:
    """Round half away from zero; blank unless `places` is whole and in −15…10."""
    if places != places.to_integral_value() or not -15 <= places <= 10:
        return None
    try:
        rounded = _CONTEXT.quantize(number, Decimal(1).scaleb(-int(places), context=_CONTEXT))
    except (InvalidOperation, Overflow):
        return None
    return step(rounded)


def plain_number(number: Decimal) -> str:
    """Digits without trailing zeros and without an exponent: `12.5`, `-3`, `0`."""
    text = format(number, "f")
    if "." in text:
        text = text.rstrip("0").rstrip(".")
    return "0" if text in ("-0", "") else text


def date_plus(day: date, days: Decimal) -> date | None:
    """`day` moved by whole days, at most 1,000 years; blank outside years 1–9999."""
    if days != days.to_integral_value() or abs(days) > _MOST_DAYS:
        return None
    try:
        return day + timedelta(days=int(days))
    except OverflowError:
        return None


def local_date(instant: datetime, zone: tzinfo) -> date | None:
    """The day that an instant lies in where the clocks of `zone` hang; blank outside years 1–9999."""
    try:
        return instant.astimezone(zone).date()
    except OverflowError:
        return None


def _months_forward(a: date, b: date) -> int:
    return 12 * (b.year - a.year) + b.month - a.month - (1 if b.day < a.day else 0)


def date_of(year: Decimal, month: Decimal, day: Decimal) -> date | None:
    """The date of these whole numbers; blank where there is no such day."""
    if any(number != number.to_integral_value() or not 1 <= number <= 9999 for number in (year, month, day)):
        return None
    try:
        return date(int(year), int(month), int(day))
    except ValueError:
        return None


def months_between(a: date, b: date) -> int:
    """Whole months from a to b, negative when b is earlier."""
    return _months_forward(a, b) if a <= b else -_months_forward(b, a)


def months_start(year: int, month: int) -> date | None:
    """The first day of a month, blank outside years 1–9999."""
    return date(year, month, 1) if 1 <= year <= 9999 else None


def months_later(day: date, months: int) -> date | None:
    """`day` moved by whole months, kept to the last day of a shorter month; blank outside years 1–9999."""
    year, month = divmod(day.year * 12 + day.month - 1 + months, 12)
    start = months_start(year, month + 1)
    return None if start is None else start.replace(day=min(day.day, monthrange(year, month + 1)[1]))


def years_between(a: date, b: date) -> int:
    """Whole years from a to b, negative when b is earlier.

    A person born on 29 February counts a year on 1 March.
    """
    return _months_forward(a, b) // 12 if a <= b else -(_months_forward(b, a) // 12)


def fold(text: str) -> str:
    """The form in which texts are compared without regard to case."""
    return text.lower().replace("ς", "σ")


def keepable(text: str) -> bool:
    """Whether a database can hold the text: neither NUL nor half a pair of surrogates is in it."""
    return "\x00" not in text and not any("\ud800" <= sign <= "\udfff" for sign in text)


def sound_text(text: str) -> str:
    """Text composed (NFC). Raises ValueError for what no database text can hold."""
    if not keepable(text):
        raise ValueError("This holds a character that cannot be kept; type it anew.")
    return unicodedata.normalize("NFC", text)


def tidy_text(text: str) -> str:
    """Text as it is kept: composed and trimmed. Raises ValueError as `sound_text` does."""
    return sound_text(text).strip()
