"""How a house writes: its language, zone, currency and country."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, tzinfo
from decimal import Decimal
from functools import lru_cache
from typing import Final, Literal

from babel import Locale, UnknownLocaleError
from babel.dates import format_skeleton
from babel.numbers import format_currency, format_decimal, get_decimal_symbol, get_territory_currencies

__all__ = ["PLAIN", "Manner", "Titles", "locale_names", "manner_of", "write_day", "write_figure", "write_moment"]


@dataclass(frozen=True, slots=True)
class Titles:
    """The titles of records by id, as a choice among them offers them; `more` are left out, to be searched for."""

    by_id: Mapping[str, str] = field(default_factory=dict)
    more: bool = False


@dataclass(frozen=True)
class Manner:
    """How values are written for people, and how loosely written ones are read.

    `language` is a locale such as `en_GB`, `currency` an ISO 4217 code and
    `country` an ISO 3166 code: where a phone number without a prefix belongs.
    `country_beside` is the one answered beside a region or a postcode that follows it.
    `titles` are those of the records that a choice among them may take. `today` is the day it is where something
    is read, for words such as tomorrow and for years of two digits; None where no clock tells.
    """

    language: str = "en_GB"
    zone: tzinfo = UTC
    currency: str = "GBP"
    country: str = "GB"
    titles: Titles = field(default=Titles(), compare=False)
    today: date | None = field(default=None, compare=False)
    country_beside: str = field(default="", compare=False)

    def figure(self, number: int) -> str:
        """A count as people read it."""
        return write_figure(number, self.language)

    def money(self, amount: Decimal) -> str:
        """An amount in the currency of the house, rounded to its decimals for show only."""
        return _money(amount, self.currency, self.language)

    @property
    def point(self) -> Literal[".", ","]:
        """The sign before decimals."""
        return _point_of(self.language)


def manner_of(language: str, country: str, zone: tzinfo = UTC) -> Manner:
    """The manner of a language and a country, each of which may be left out.

    The country decides in which way its language writes: `en` in `US` is `en_US`. Raises ValueError for one that
    there is not.
    """
    place = country.upper()
    if place and not (len(place) == 2 and place.isalpha()):
        raise ValueError(f"country: “{country}” is no ISO 3166 code of two letters")
    spoken = language.replace("-", "_") or (f"en_{place}" if place else PLAIN.language)
    for one in (spoken if "_" in spoken else f"{spoken}_{place}" if place else spoken, spoken):
        try:
            found = Locale.parse(one)
        except (UnknownLocaleError, ValueError):
            continue
        currency = next(iter(get_territory_currencies(place or found.territory or PLAIN.country)), PLAIN.currency)
        return Manner(str(found), zone, currency, place or found.territory or PLAIN.country)
    raise ValueError(f"language: “{language}” is not known")


@lru_cache(maxsize=8_192)
def write_day(day: date, language: str) -> str:
    """A day as the language writes it: `27 May 1984`, `27. Mai 1984`, `May 27, 1984`."""
    # Kept, since Babel reads its pattern anew each time, and a list of people names the same days over and over.
    return str(format_skeleton("yMMMd", day, locale=language))


def write_moment(local: datetime, language: str) -> str:
    """A moment as the clocks there showed it: the day, and the time in hours and minutes, with seconds if any."""
    return f"{write_day(local.date(), language)}, {local:%H:%M:%S}".removesuffix(":00")


def write_figure(number: Decimal | int, language: str) -> str:
    """A count or share in digits, in groups: `12,345`, `12.345`, `7,4`."""
    # By its digits: 6 and 6.0 are one number, and are written each as it is.
    return _figure(str(number), language)


@lru_cache(maxsize=8_192)
def _figure(digits: str, language: str) -> str:
    return str(format_decimal(Decimal(digits), locale=language, decimal_quantization=False))


@lru_cache(maxsize=4_096)
def _money(amount: Decimal, currency: str, language: str) -> str:
    return str(format_currency(amount, currency, locale=language))


@lru_cache(maxsize=64)
def _point_of(language: str) -> Literal[".", ","]:
    return "," if get_decimal_symbol(language) == "," else "."


PLAIN: Final = Manner()
_OFFERED: Final = ("en_GB", "en_US", "cs_CZ", "da_DK", "de_DE", "es_ES", "fi_FI", "fr_FR", "it_IT", "nl_NL", "nb_NO")
_MORE: Final = ("pl_PL", "pt_PT", "sv_SE", "tr_TR", "uk_UA", "el_GR", "ja_JP")


def locale_names() -> dict[str, str]:
    """The languages that a house can write in, each by its own name."""
    names = {}
    for code in _OFFERED + _MORE:
        try:
            names[code] = str(Locale.parse(code).get_display_name() or code)
        except UnknownLocaleError:  # pragma: no cover - depends on the data that babel ships
            continue
    return names
