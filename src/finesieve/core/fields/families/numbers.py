"""Numbers and money."""

import re
from decimal import Decimal
from functools import lru_cache
from typing import Final

from babel.numbers import (
    format_currency,
    format_decimal,
    get_currency_name,
    get_currency_precision,
    get_currency_symbol,
)

from finesieve.core.fields.asked import Asked
from finesieve.core.fields.families.figures import find_figure
from finesieve.core.fields.families.spellings import without_about, without_unit
from finesieve.core.phrases import phrase
from finesieve.core.values import Value, plain_number

__all__ = ["read_money", "read_number", "show_money", "show_number", "write_number"]


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
    places = asked.settings.decimals
    figure = without_unit(without_about(text), asked.unit)
    number = find_figure(figure, asked.manner.point, places, asked.manner.language)
    if places is not None and number != round(number, places):
        if places == 0:
            raise ValueError("Write a whole number.")
        raise ValueError(phrase("Write at most {places} decimals.", places=str(places)))
    return _within(number, asked)


_LONGEST: Final = 80


def _currency(asked: Asked) -> str:
    return asked.settings.currency or asked.manner.currency


def read_money(text: str, asked: Asked) -> Value:
    """An amount with no more decimals than its currency has; its currency may stand before or after it.

    An amount in another currency is refused: it would be another amount.
    """
    currency = _currency(asked)
    places = get_currency_precision(currency)
    figure = _without_currency(without_about(text), currency, asked.manner.language)
    amount = find_figure(figure, asked.manner.point, places, asked.manner.language)
    if amount != round(amount, places):
        raise ValueError(phrase("An amount has at most {places} decimals.", places=str(places)))
    return _within(amount, asked)


def _without_currency(text: str, currency: str, language: str) -> str:
    """The figure alone. Raises ValueError for another currency than that of the field."""
    if len(text) > _LONGEST:
        return text
    text = re.sub(r"[,.]\s?(-|–|—)+(?=\D*$)", "", text.strip())  # 12,- for a round amount
    found = re.fullmatch(
        r"(?P<sign>[+−–-]?)(?P<before>[^\d.,]*?)(?P<figure>[\d.,][\d.,\s’'½¼¾]*)(?P<after>[^\d]*)", text
    )
    if found is None:
        return text
    before, after = found["before"].strip(), found["after"].strip()
    if before.endswith(("-", "−", "–")):
        before, sign = before[:-1].strip(), "-"
    else:
        sign = found["sign"]
    for named in filter(None, (before, after)):
        if named.lower().rstrip(".") not in _names_of(currency, language):
            if named.lower().rstrip(".") in _all_currencies(language):
                own = get_currency_name(currency, count=2, locale=language)
                raise ValueError(phrase("Amounts here are in {currency}. Write the amount in that.", currency=str(own)))
            return text
    return sign + found["figure"].strip()


@lru_cache(maxsize=512)
def _names_of(currency: str, language: str) -> frozenset[str]:
    """What a currency is called and how it is signed, in the language and in English, in small letters."""
    found = {currency}
    for one in ("en", language):
        found |= {get_currency_symbol(currency, one), get_currency_name(currency, locale=one)}
        found |= {get_currency_name(currency, count=count, locale=one) for count in (1, 2)}
        # The sign alone, and the last word alone: pounds, Kronen.
        found |= {found_name.split()[-1] for found_name in tuple(found)}
    narrow = {"USD": "$", "CAD": "$", "AUD": "$", "NZD": "$", "GBP": "£", "SEK": "kr", "NOK": "kr", "DKK": "kr"}
    found |= {narrow.get(currency, currency), _COLLOQUIAL.get(currency, currency)}
    return frozenset(name.lower().rstrip(".") for name in found)


_COLLOQUIAL: Final = {"GBP": "quid", "USD": "bucks", "CHF": "sfr"}


@lru_cache(maxsize=64)
def _all_currencies(language: str) -> frozenset[str]:
    """How the better known currencies are called and signed."""
    known = (
        "EUR",
        "USD",
        "GBP",
        "CHF",
        "SEK",
        "NOK",
        "DKK",
        "PLN",
        "CZK",
        "JPY",
        "CAD",
        "AUD",
        "NZD",
        "TRY",
        "UAH",
        "INR",
    )
    return frozenset(name for currency in known for name in _names_of(currency, language)) | {"$", "£", "€", "¥"}


def show_number(value: Value, asked: Asked) -> str:
    """Digits in the way of the language, without groups, so that they can be copied."""
    if not isinstance(value, Decimal):
        return str(value)
    return _digits(str(value), asked.manner.language)


@lru_cache(maxsize=4_096)
def _digits(number: str, language: str) -> str:
    # By its text, since numbers that are equal may have been written with more or fewer decimals.
    return str(format_decimal(Decimal(number), locale=language, decimal_quantization=False, group_separator=False))


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
