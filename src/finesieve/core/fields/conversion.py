"""From a value of one field to a value of another: what a change of type does to each stored value."""

import re
from collections.abc import Callable
from datetime import date, datetime
from decimal import Decimal
from typing import Final

from babel.dates import get_month_names, parse_date

from finesieve.core.fields.definition import Field
from finesieve.core.values import DayOfYear, Structured, Value

__all__ = ["NotConverted", "convert"]


class NotConverted(ValueError):
    """The value has no counterpart in the other field; the words say why."""


def convert(value: Value, old: Field, new: Field) -> Value:
    """The value as the new field holds it; blank stays blank.

    A value that is no free text is converted only where it can be read back, but for what the other has no room for.
    Raises NotConverted.
    """
    if value is None:
        return None
    if old.type.kind == "secret" or new.type.kind == "secret":
        raise NotConverted("A secret cannot become anything else, nor anything a secret.")
    if new.type.kind == "file" or old.type.kind == "file":
        if old.type.kind == new.type.kind:
            return value
        raise NotConverted("A file can only become a file.")
    converted = _read(value, old, new)
    if old.type_key not in _FREE and (old.type.kind, new.type.kind) not in _NARROWER:
        try:
            back = _read(converted, new, old)
        except NotConverted:
            back = None
        if back != value:
            raise NotConverted("It could not be turned back into the same value.")
    return converted


_FREE: Final = ("short_text", "long_text")
_NARROWER: Final = frozenset(
    (("datetime", "date"), ("datetime", "time"), ("datetime", "day_of_year"), ("date", "day_of_year"))
)
"""Kinds of which the second keeps a part of the first, and everybody knows which."""


def _read(value: Value, old: Field, new: Field) -> Value:
    reader = _READERS.get(new.type.kind, _by_text)
    try:
        return reader(value, old, new)
    except NotConverted:
        raise
    except ValueError as problem:
        raise NotConverted(str(problem)) from None


def _text_of(value: Value, old: Field) -> str:
    """The value as text: labels for options, one item a line for several."""
    if isinstance(value, tuple):
        return "\n".join(old.label_of(item) for item in value)
    if isinstance(value, str):
        return old.label_of(value) if old.options else value
    if isinstance(value, bool):
        return "yes" if value else "no"
    return old.raw(value)


def _by_text(value: Value, old: Field, new: Field) -> Value:
    return new.parse(_text_of(value, old))


def _text(value: Value, old: Field, new: Field) -> Value:
    if new.type_key not in _FREE:
        return new.parse(_text_of(value, old))
    if isinstance(value, tuple):
        return new.parse(_listed(_text_of(value, old).split("\n"), lines=new.type_key == "long_text"))
    text = value.text if isinstance(value, Structured) else old.show(value)
    return new.parse(text.replace("\n", ", ") if new.type_key == "short_text" else text)


def _listed(items: list[str], *, lines: bool) -> str:
    """Several texts as one, so that they can be told apart again. Raises NotConverted where they could not."""
    if not lines and len(items) > 1 and any(sign in item for sign in ",;" for item in items):
        raise NotConverted("Its parts hold commas or semicolons, so they could not be told apart in one line.")
    return ("\n" if lines else ", ").join(items)


def _parts(text: str) -> list[str]:
    """The parts of a text that lists several: its lines, else what its commas and semicolons part."""
    between = r"\n" if "\n" in text else r"[,;]"
    return [part.strip() for part in re.split(between, text) if part.strip()]


def _number(value: Value, old: Field, new: Field) -> Value:
    if isinstance(value, bool):
        return new.parse("1" if value else "0")
    if isinstance(value, Decimal):
        return new.parse(new.raw(value))
    text = _text_of(value, old).strip()
    for unit in (old.unit, new.unit):
        text = text.removesuffix(unit).strip() if unit else text
    point = new.manner.point
    group = "," if point == "." else "."
    if re.fullmatch(rf"[+-]?[0-9]{{1,3}}([{group}][0-9]{{3}})+([{point}][0-9]+)?", text):
        text = text.replace(group, "")  # groups of thousands
    elif re.fullmatch(rf"[+-]?[0-9]+[{group}][0-9]{{1,2}}", text):
        text = text.replace(group, ".")  # decimals after the other sign: too few digits for a group
    text = text.replace(point, ".")
    loose = re.fullmatch(r"[+-]?[0-9]{1,15}([.][0-9]{1,10})?", text)
    return new.parse(new.raw(Decimal(text)) if loose else text)


_YES: Final = frozenset(("yes", "y", "true", "1", "agreed"))
_NO: Final = frozenset(("no", "n", "false", "0", "none"))


def _yes_no(value: Value, old: Field, new: Field) -> Value:
    word = _text_of(value, old).strip().lower()
    if word in _YES:
        return new.parse("yes")
    if word in _NO:
        return new.parse("no")
    raise NotConverted("It says neither yes nor no.")


def _option(text: str, new: Field) -> str:
    """The stored value that a text means: itself, or the label, whatever the case."""
    wanted = text.strip().lower()
    for option in new.options:
        if wanted in (option.stored_value.lower(), option.label.lower()):
            return option.stored_value
    if not new.options:
        parsed = new.parse(text)
        return parsed if isinstance(parsed, str) else text
    raise NotConverted(f"“{text[:60]}” is none of the options.")


def _choice(value: Value, old: Field, new: Field) -> Value:
    if isinstance(value, tuple):
        if len(value) > 1:
            raise NotConverted("Several are chosen, and there is room for one.")
        value = value[0]
    if isinstance(value, str) and value in new.value_type.options:
        return value
    return _option(_text_of(value, old), new)


def _choices(value: Value, old: Field, new: Field) -> Value:
    items = value if isinstance(value, tuple) else tuple(_items(_text_of(value, old), new))
    texts = [old.label_of(item) if old.options else item for item in items if item.strip()]
    stored = {
        item if item in new.value_type.options else _option(text, new) for item, text in zip(items, texts, strict=False)
    }
    return new.parse("\n".join(stored))


def _items(text: str, new: Field) -> list[str]:
    """The texts of several choices: the whole where it is one option, else its parts."""
    whole = text.strip().lower()
    if any(whole in (option.label.lower(), option.stored_value.lower()) for option in new.options):
        return [text]
    return _parts(text)


def _text_list(value: Value, old: Field, new: Field) -> Value:
    text = _text_of(value, old)
    single = isinstance(value, tuple) or not isinstance(value, str) or bool(old.options)
    return new.parse(text if single else "\n".join(_parts(text)))


def _date(value: Value, old: Field, new: Field) -> Value:
    if isinstance(value, datetime):
        return value.astimezone(new.manner.zone).date()
    if isinstance(value, date):
        return value
    text = _text_of(value, old).strip()
    try:
        return new.parse(text)
    except ValueError:
        if not re.search(r"[0-9]{4}", text):
            raise NotConverted("The year is missing.") from None
    try:
        return _date_in_words(text, new.manner.language) or parse_date(text, locale=new.manner.language)
    except (ValueError, IndexError, KeyError):
        raise NotConverted("It is no date.") from None


def _date_in_words(text: str, language: str) -> date | None:
    """A day, a month by its name and a year, in either order of the first two; None for anything else."""
    found = re.fullmatch(r"(\d{1,2})[.]?\s+([^\W\d]+)[.]?\s+(\d{4})|([^\W\d]+)[.]?\s+(\d{1,2}),?\s+(\d{4})", text)
    if found is None:
        return None
    day, name, year = found.groups()[:3] if found[1] else (found[5], found[4], found[6])
    for width in ("wide", "abbreviated"):
        for month, word in get_month_names(width, locale=language).items():
            if word.rstrip(".").lower() == name.lower():
                return date(int(year), month, int(day))
    return None


def _day_of_year(value: Value, old: Field, new: Field) -> Value:
    if isinstance(value, datetime):
        value = value.astimezone(new.manner.zone).date()
    if isinstance(value, date):
        return DayOfYear(value.month, value.day)
    text = _text_of(value, old)
    # In a leap year, so that 29 February is a day.
    day = _date_in_words(f"{text.strip()} 2000", new.manner.language)
    return DayOfYear(day.month, day.day) if day else new.parse(text)


_SHOWN_MOMENT: Final = re.compile(r"(.+), ([0-9]{2}:[0-9]{2}(?::[0-9]{2})?)(?: \(([+-][0-9:]+)\))?")


def _datetime(value: Value, old: Field, new: Field) -> Value:
    if isinstance(value, datetime):
        return value
    if isinstance(value, date):
        return new.parse(f"{value.isoformat()} 00:00")
    text = _text_of(value, old)
    shown = _SHOWN_MOMENT.fullmatch(text.strip())
    day = _date_in_words(shown[1], new.manner.language) if shown else None
    return new.parse(f"{day.isoformat()} {shown[2]}{shown[3] or ''}" if shown and day else text)


_READERS: Final[dict[str, Callable[[Value, Field, Field], Value]]] = {
    "text": _text,
    "number": _number,
    "money": _number,
    "yes_no": _yes_no,
    "choice": _choice,
    "choices": _choices,
    "text_list": _text_list,
    "date": _date,
    "datetime": _datetime,
    "day_of_year": _day_of_year,
}
"""By the kind that is wanted; the others are read from the text."""
