"""Numbers and money."""

import re
from decimal import Decimal
from typing import Final

from babel.numbers import format_currency, format_decimal, get_currency_precision

from finesieve.core.fields.asked import Asked
from finesieve.core.phrases import phrase
from finesieve.core.values import Value, plain_number

__all__ = ["read_money", "read_number", "show_money", "show_number", "write_number"]

_NUMBER: Final = re.compile(r"[+-]?[0-9]{1,15}([.][0-9]{1,10})?")
_MANY: Final = {".": "points", ",": "commas"}
_ONE: Final = {".": "a point", ",": "a comma"}


def _decimal(text: str, point: str) -> Decimal:
    """A number with decimals after `point`. What could be thousands or decimals is refused rather than guessed."""
    compact = re.sub(r"[ \u00a0\u202f’']", "", text).replace("−", "-")
    other = "," if point == "." else "."
    if other in compact:
        if re.fullmatch(rf"[+-]?[0-9]{{1,3}}([{other}][0-9]{{3}})+[{point}][0-9]+", compact):
            compact = compact.replace(other, "")
        elif other == "," or re.fullmatch(r"[+-]?[0-9]{1,3}([.][0-9]{3})+", compact) or point in compact:
            template = "Write the number without {other}, decimals after {point}, such as 1250{sign}5."
            raise ValueError(phrase(template, other=_MANY[other], point=_ONE[point], sign=point))
    compact = compact.replace(point, ".")
    if not _NUMBER.fullmatch(compact):
        raise ValueError(phrase("Write a number in digits, such as 12 or 0{sign}5.", sign=point))
    return Decimal(compact) + 0  # + 0: there is no negative zero


def _within(number: Decimal, asked: Asked) -> Decimal:
    low, high, step = asked.settings.low, asked.settings.high, asked.settings.step
    if low is not None and number < low:
        raise ValueError(phrase("This must be at least {low}.", low=plain_number(low)))
    if high is not None and number > high:
        raise ValueError(phrase("This must be at most {high}.", high=plain_number(high)))
    if step is not None and (number - (low or 0)) % step:
        if low:
            template = "This goes in steps of {step} from {low}."
            raise ValueError(phrase(template, step=plain_number(step), low=plain_number(low)))
        raise ValueError(phrase("This goes in steps of {step}.", step=plain_number(step)))
    return number


def read_number(text: str, asked: Asked) -> Value:
    """An exact number within the range, step and decimals of its field."""
    number = _decimal(text, asked.manner.point)
    places = asked.settings.decimals
    if places is not None and number != round(number, places):
        if places == 0:
            raise ValueError("Write a whole number.")
        raise ValueError(phrase("Write at most {places} decimals.", places=str(places)))
    return _within(number, asked)


def _currency(asked: Asked) -> str:
    return asked.settings.currency or asked.manner.currency


def read_money(text: str, asked: Asked) -> Value:
    """An amount with no more decimals than its currency has; a currency sign before or after it is passed over."""
    amount = _decimal(re.sub(r"^\s*[^\d\s+−.-]{1,3}|[^\d\s]{1,3}\s*$", "", text), asked.manner.point)
    places = get_currency_precision(_currency(asked))
    if amount != round(amount, places):
        raise ValueError(phrase("An amount has at most {places} decimals.", places=str(places)))
    return _within(amount, asked)


def show_number(value: Value, asked: Asked) -> str:
    """Digits in the way of the language, without groups, so that they can be copied."""
    if not isinstance(value, Decimal):
        return str(value)
    return str(format_decimal(value, locale=asked.manner.language, decimal_quantization=False, group_separator=False))


def show_money(value: Value, asked: Asked) -> str:
    """The amount with its currency, rounded to the currency's decimals for show only."""
    if not isinstance(value, Decimal):
        return str(value)
    return str(format_currency(value, _currency(asked), locale=asked.manner.language))


def write_number(value: Value, asked: Asked) -> str:
    """Digits as they stand in an input, decimals after the sign of the language."""
    if not isinstance(value, Decimal):
        return str(value or "")
    return plain_number(value).replace(".", asked.manner.point)
