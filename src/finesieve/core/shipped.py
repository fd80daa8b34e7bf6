"""What the product says itself, on public pages and in messages: gettext catalogues that ship with it.

`finesieve.pot` has every sentence in English; beside it lies a catalogue for each other language.
"""

from collections.abc import Mapping
from functools import cache
from importlib import resources
from types import MappingProxyType

from babel.messages.pofile import read_po

__all__ = ["sentences", "shipped", "shipped_languages"]


@cache
def sentences() -> tuple[str, ...]:
    """Every sentence that the product says itself, in English, in the order of the template."""
    return tuple(str(one.id) for one in _read("finesieve.pot") if one.id)


@cache
def shipped(language: str) -> Mapping[str, str]:
    """The sentences in a language, by the English ones; nothing for English, and for a language that does not ship."""
    if language not in shipped_languages():
        return MappingProxyType({})
    found = _read(f"{language}/LC_MESSAGES/finesieve.po")
    return MappingProxyType({str(one.id): str(one.string) for one in found if one.id and one.string})


@cache
def shipped_languages() -> frozenset[str]:
    """The languages that there are catalogues for; English goes without saying."""
    return frozenset(place.name for place in (resources.files("finesieve") / "locale").iterdir() if place.is_dir())


def _read(path: str):  # type: ignore[no-untyped-def]  # Babel's catalogue
    with (resources.files("finesieve") / "locale" / path).open("rb") as file:
        return read_po(file)
