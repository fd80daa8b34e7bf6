"""How a house writes: its language, zone, currency and country."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, tzinfo
from functools import lru_cache
from typing import Final, Literal

from babel import Locale, UnknownLocaleError
from babel.numbers import get_decimal_symbol

__all__ = ["PLAIN", "Manner", "Titles", "locale_names"]


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
    `titles` are those of the records that a choice among them may take.
    """

    language: str = "en_GB"
    zone: tzinfo = UTC
    currency: str = "GBP"
    country: str = "GB"
    titles: Titles = field(default=Titles(), compare=False)

    @property
    def point(self) -> Literal[".", ","]:
        """The sign before decimals."""
        return _point_of(self.language)


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
