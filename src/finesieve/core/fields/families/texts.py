"""Texts: short, long, email, phone, web address, list of texts, secret."""

import re
from typing import Final
from urllib.parse import urlsplit

import phonenumbers
from email_validator import EmailNotValidError, validate_email

from finesieve.core.fields.asked import Asked
from finesieve.core.phrases import phrase
from finesieve.core.values import Secret, Value

__all__ = [
    "read_email",
    "read_long_text",
    "read_phone",
    "read_secret",
    "read_short_text",
    "read_text_list",
    "read_url",
    "show_phone",
    "show_secret",
    "show_text_list",
    "write_lines",
]

MOST_SHORT: Final = 500
MOST_LONG: Final = 10_000
MOST_LINES: Final = 200


def _sized(text: str, asked: Asked, most: int) -> str:
    limit = min(asked.settings.longest or most, most)
    if len(text) > limit:
        raise ValueError(phrase("Write at most {high} characters.", high=str(limit)))
    return text


def read_short_text(text: str, asked: Asked) -> Value:
    """One line of text."""
    if "\n" in text or "\r" in text:
        raise ValueError("Write this on one line.")
    return _sized(text, asked, MOST_SHORT)


def read_long_text(text: str, asked: Asked) -> Value:
    """Text of several lines; every line break is kept as one sign."""
    return _sized(text.replace("\r\n", "\n").replace("\r", "\n"), asked, MOST_LONG)


def read_email(text: str, _asked: Asked) -> Value:
    """A complete address; its domain in its canonical form."""
    try:
        return validate_email(text, check_deliverability=False, test_environment=True).normalized
    except EmailNotValidError:
        raise ValueError("This is not a complete email address; it looks like name@example.org.") from None


def read_phone(text: str, asked: Asked) -> Value:
    """A phone number, kept in the international form E.164, such as +441632960123."""
    region = asked.settings.country or asked.manner.country
    try:
        number = phonenumbers.parse(text, region)
    except phonenumbers.NumberParseException:
        raise ValueError("Write a phone number in digits, such as 01632 960123 or +44 1632 960123.") from None
    if not phonenumbers.is_possible_number(number) or number.extension:
        raise ValueError("This number is too long or too short for a phone number.")
    return phonenumbers.format_number(number, phonenumbers.PhoneNumberFormat.E164)


def show_phone(value: Value, asked: Asked) -> str:
    """Grouped as is usual in its country."""
    try:
        number = phonenumbers.parse(str(value), None)
    except phonenumbers.NumberParseException:
        return str(value)
    return phonenumbers.format_number(number, phonenumbers.PhoneNumberFormat.INTERNATIONAL)


def read_url(text: str, asked: Asked) -> Value:
    """A web address; https:// is added where nothing stands before the host."""
    address = text if re.match(r"[a-zA-Z][a-zA-Z0-9+.-]*:", text) else f"https://{text}"
    complaint = ValueError("This is not a web address; one looks like https://example.org/page.")
    try:
        parts = urlsplit(address)
        host = parts.hostname or ""
        _ = parts.port
    except ValueError:
        raise complaint from None
    if parts.scheme.lower() not in ("http", "https") or "." not in host.strip(".") or re.search(r"\s", address):
        raise complaint
    return _sized(address, asked, 2_000)


def read_text_list(text: str, asked: Asked) -> Value:
    """One text a line; empty lines count for nothing."""
    lines = tuple(line.strip() for line in text.splitlines() if line.strip())
    most = min(asked.settings.most or MOST_LINES, MOST_LINES)
    if len(lines) > most:
        raise ValueError(phrase("At most {high} lines.", high=str(most)))
    if asked.settings.fewest and lines and len(lines) < asked.settings.fewest:
        raise ValueError(phrase("At least {low} lines.", low=str(asked.settings.fewest)))
    for line in lines:
        _sized(line, asked, MOST_SHORT)
    return lines or None


def show_text_list(value: Value, _asked: Asked) -> str:
    """The texts, parted by commas."""
    return ", ".join(value) if isinstance(value, tuple) else str(value)


def write_lines(value: Value, _asked: Asked) -> str:
    """One text a line."""
    return "\n".join(value) if isinstance(value, tuple) else str(value or "")


def read_secret(text: str, _asked: Asked) -> Value:
    """The words as typed; whoever stores them keeps only their hash."""
    if len(text) < 8:
        raise ValueError("Use at least 8 characters.")
    if len(text) > 200:
        raise ValueError(phrase("Write at most {high} characters.", high="200"))
    return Secret(text)


def show_secret(_value: Value, _asked: Asked) -> str:
    """Never the secret itself."""
    return "set"
