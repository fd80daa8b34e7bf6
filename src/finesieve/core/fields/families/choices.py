"""Yes or no, agreements, choices, places."""

from collections.abc import Sequence
from functools import cache
from typing import Final

import pycountry
from babel import Locale

from finesieve.core.fields.asked import Asked
from finesieve.core.phrases import phrase
from finesieve.core.values import Value

__all__ = [
    "country_codes",
    "country_name",
    "country_names",
    "read_agreement",
    "read_choice",
    "read_choices",
    "read_country",
    "read_record",
    "read_region",
    "read_yes_no",
    "regions_of",
    "show_agreement",
    "show_country",
    "show_record",
    "show_region",
    "show_yes_no",
    "write_yes_no",
]

_YES: Final = frozenset("yes y yeah yep true 1 on ja j jo oui si sí sì sim tak ano kyllä evet igen".split())
_NO: Final = frozenset("no n nope false 0 off nein nee non não nej nei nie ne ei hayır nem".split())


def read_yes_no(text: str, _asked: Asked) -> Value:
    """Yes or no."""
    if text.lower() in _YES:
        return True
    if text.lower() in _NO:
        return False
    raise ValueError("Choose yes or no.")


def show_yes_no(value: Value, _asked: Asked) -> str:
    return "yes" if value else "no"


def write_yes_no(value: Value, _asked: Asked) -> str:
    return "" if value is None else "yes" if value else "no"


def read_agreement(text: str, asked: Asked) -> Value:
    """Agreed, or blank: there is no agreeing to the contrary."""
    return True if read_yes_no(text, asked) else None


def show_agreement(value: Value, _asked: Asked) -> str:
    return "agreed" if value else ""


def _offered(asked: Asked) -> Sequence[str]:
    return [option.stored_value for option in asked.options]


def read_choice(text: str, asked: Asked) -> Value:
    """One stored value of the options. A retired one is taken too: who holds it may keep it."""
    if text not in _offered(asked):
        raise ValueError("Choose one of the options offered.")
    return text


def read_choices(text: str, asked: Asked) -> Value:
    """Stored values, one a line; kept in the order of the options."""
    chosen = {line.strip() for line in text.splitlines() if line.strip()}
    offered = _offered(asked)
    if chosen - set(offered):
        raise ValueError("Choose among the options offered.")
    if asked.settings.most and len(chosen) > asked.settings.most:
        raise ValueError(phrase("Choose at most {high}.", high=str(asked.settings.most)))
    if asked.settings.fewest and chosen and len(chosen) < asked.settings.fewest:
        raise ValueError(phrase("Choose at least {low}.", low=str(asked.settings.fewest)))
    return tuple(option for option in offered if option in chosen) or None


@cache
def country_codes() -> tuple[str, ...]:
    """All countries by their ISO 3166 code of two letters."""
    return tuple(sorted(country.alpha_2 for country in pycountry.countries))


def country_name(code: str, language: str = "en_GB") -> str:
    """The name of a country in a language; the code itself where it is unknown."""
    return str(Locale.parse(language).territories.get(code, code))


@cache
def country_names(language: str) -> tuple[str, ...]:
    """The names of all countries in a language, in the order of their codes."""
    return tuple(country_name(code, language) for code in country_codes())


def read_country(text: str, asked: Asked) -> Value:
    """A country by its code, or by its name in the language of the house."""
    code = text.upper()
    if code in country_codes():
        return code
    for known in country_codes():
        if country_name(known, asked.manner.language).lower() == text.lower():
            return known
    raise ValueError("Choose a country.")


def show_country(value: Value, asked: Asked) -> str:
    return country_name(str(value), asked.manner.language)


@cache
def regions_of(country: str) -> tuple[tuple[str, str], ...]:
    """The regions of a country, (ISO 3166-2 code, name) each, by name."""
    found = pycountry.subdivisions.get(country_code=country) or []  # type: ignore[no-untyped-call]  # it has none
    return tuple(sorted(((region.code, region.name) for region in found), key=lambda pair: pair[1]))


def read_region(text: str, asked: Asked) -> Value:
    """A region of the field's country, by its code or its name."""
    regions = regions_of(asked.settings.country or asked.manner.country)
    for code, name in regions:
        if text.upper() == code or text.lower() == name.lower():
            return code
    raise ValueError("Choose a region.")


def show_region(value: Value, _asked: Asked) -> str:
    region = pycountry.subdivisions.get(code=str(value))  # type: ignore[no-untyped-call]  # it has none
    return str(region.name) if region else str(value)


def read_record(text: str, asked: Asked) -> Value:
    """A record by its id; it must be one of those that there are."""
    if text not in asked.manner.titles.by_id:
        raise ValueError("Choose one of those offered.")
    return text


def show_record(value: Value, asked: Asked) -> str:
    return asked.manner.titles.by_id.get(str(value), f"no. {value}")
