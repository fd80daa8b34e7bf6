"""The catalogue of field types: how each is read from an answer, shown, and stamped."""

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from typing import Final

from babel.dates import format_date
from email_validator import EmailNotValidError, validate_email

from finesieve.core.values import Kind, Value, plain_number, tidy_text

__all__ = ["TYPES", "FieldType", "show_value"]

MOST_TEXT: Final = 500


@dataclass(frozen=True, slots=True)
class FieldType:
    """One type of field.

    `read` takes the tidied, non-empty text of an answer and gives the value, or
    raises ValueError with a plain sentence. `stamp` is the sign in lists.
    """

    key: str
    label: str
    example: str
    stamp: str
    kind: Kind
    read: Callable[[str, Sequence[str]], Value]

    def parse(self, raw: str, options: Sequence[str] = ()) -> Value:
        """Read an answer; an empty one is blank. Raises ValueError with a plain sentence."""
        try:
            text = tidy_text(raw)
        except ValueError:
            raise ValueError("This holds a character that cannot be kept; type it anew.") from None
        return self.read(text, options) if text else None

    def show(self, value: object) -> str:
        """The value as people read it."""
        return show_value(value)

    def raw(self, value: object) -> str:
        """The value as it stands in an input."""
        if isinstance(value, bool):
            return "yes" if value else "no"
        if isinstance(value, Decimal):
            return plain_number(value)
        return "" if value is None else str(value)


def show_value(value: object) -> str:
    """Any value as people read it, options aside; "" where it is blank."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, Decimal):
        return plain_number(value)
    if isinstance(value, date) and not isinstance(value, datetime):
        return format_date(value, "d MMM y", locale="en_GB")
    if isinstance(value, tuple):
        return ", ".join(value)
    return str(value)


def _short_text(text: str, _options: Sequence[str]) -> str:
    if "\n" in text or "\r" in text:
        raise ValueError("Write this on one line.")
    if len(text) > MOST_TEXT:
        raise ValueError(f"This is too long; at most {MOST_TEXT} characters.")
    return text


def _email(text: str, _options: Sequence[str]) -> str:
    try:
        return validate_email(text, check_deliverability=False, test_environment=True).normalized
    except EmailNotValidError:
        raise ValueError("This is not a complete email address; it looks like name@example.org.") from None


_NUMBER: Final = re.compile(r"[+-]?[0-9]{1,15}([.][0-9]{1,10})?")


def _number(text: str, _options: Sequence[str]) -> Decimal:
    compact = text.replace(" ", "").replace("\u00a0", "").replace("−", "-")
    if "," in compact:
        raise ValueError("Write the number without commas, decimals after a point, such as 1250.5.")
    if not _NUMBER.fullmatch(compact):
        raise ValueError("Write a number in digits, such as 12 or 0.5.")
    return Decimal(compact) + 0  # + 0: there is no negative zero


def _yes_no(text: str, _options: Sequence[str]) -> bool:
    answers = {"yes": True, "no": False}
    if text.lower() not in answers:
        raise ValueError("Choose yes or no.")
    return answers[text.lower()]


def _choice(text: str, options: Sequence[str]) -> str:
    if text not in options:
        raise ValueError("Choose one of the options offered.")
    return text


def _date(text: str, _options: Sequence[str]) -> date:
    try:
        if not re.fullmatch(r"[0-9]{4}-[0-9]{2}-[0-9]{2}", text):
            raise ValueError
        return date.fromisoformat(text)
    except ValueError:
        raise ValueError("Write a date that exists as year-month-day, such as 1984-05-27.") from None


TYPES: Final[dict[str, FieldType]] = {
    type_.key: type_
    for type_ in (
        FieldType("short_text", "Short text", "what they call their plot", "Txt", "text", _short_text),
        FieldType("email", "Email", "where letters are sent", "Mail", "text", _email),
        FieldType("number", "Number", "litres a day", "Num", "number", _number),
        FieldType("yes_no", "Yes or no", "has a greenhouse", "Y/N", "yes_no", _yes_no),
        FieldType("choice", "One of several", "how they water", "1 of", "choice", _choice),
        FieldType("date", "Date", "when they were born", "Date", "date", _date),
    )
}
