"""How people spell what they mean: one table for forms, conversations and files."""

import re
from collections.abc import Mapping
from typing import Final

__all__ = ["is_no", "is_yes", "plainly_said", "time_in_words", "without_about", "without_unit"]

_LONGEST: Final = 80
_ABOUT: Final = re.compile(
    r"^(?:about|around|approximately|approx\.?|roughly|some|nearly|maybe|perhaps|circa|ca\.?|c\.|etwa|ungefähr|ungef\.|rund|"
    r"vielleicht|environ|cerca de|ongeveer|omkring|~|≈)\s*",
    re.IGNORECASE,
)
_END: Final = re.compile(r"[\s.!,;…]+$")
_POLITE: Final = re.compile(
    r"[\s,]+(?:please|thanks|thank you|ta|of course|bitte|danke|gern|gerne|s'il vous plaît|merci)$", re.IGNORECASE
)

_YES: Final = frozenset(
    (
        "yes y yeah yep yup true 1 on ok okay sure certainly ja j jo jawohl klar gern gerne oui si sí sì sim "
        "tak ano kyllä evet igen"
    ).split()
) | {"of course", "that is right", "that's right", "all right", "go on", "na klar", "aber ja", "stimmt", "right"}
_NO: Final = frozenset("no n nope nah false 0 off nein nee nö non não nej nei nie ne ei hayır nem".split()) | {
    "not now",
    "not really",
    "rather not",
    "no way",
    "lieber nicht",
    "nicht jetzt",
}

_HOURS: Final[Mapping[str, int]] = {
    word: number
    for words in (
        "zero one two three four five six seven eight nine ten eleven twelve",
        "null eins zwei drei vier fünf sechs sieben acht neun zehn elf zwölf",
    )
    for number, word in enumerate(words.split())
}
_UNITS: Final[Mapping[str, tuple[str, ...]]] = {
    "m": ("metre", "metres", "meter", "meters", "metern", "mtr"),
    "cm": ("centimetre", "centimetres", "centimeter", "centimeters"),
    "m²": ("m2", "sqm", "square metres", "square metre", "square meters", "quadratmeter", "qm"),
    "l": ("litre", "litres", "liter", "liters"),
    "litres": ("l", "litre", "liter", "liters"),
    "kg": ("kilo", "kilos", "kilogram", "kilograms", "kilogramm"),
    "g": ("gram", "grams", "gramm", "grammes"),
    "km": ("kilometre", "kilometres", "kilometer", "kilometers"),
    "%": ("percent", "per cent", "prozent"),
    "€": ("euro", "euros", "eur"),
    "h": ("hour", "hours", "stunde", "stunden", "hrs"),
    "min": ("minute", "minutes", "minuten", "mins"),
}
"""What else a unit is called."""


def plainly_said(text: str) -> str:
    """A reply without what goes around it: a point after it, `please`."""
    if len(text) > _LONGEST:
        return text
    return _POLITE.sub("", _END.sub("", text.strip())).strip() or text.strip()


def without_about(text: str) -> str:
    """A figure without `about` or `roughly` before it."""
    return _ABOUT.sub("", text.strip()) or text if len(text) <= _LONGEST else text


def is_yes(text: str) -> bool:
    """Whether a reply says yes."""
    return plainly_said(text).casefold() in _YES


def is_no(text: str) -> bool:
    """Whether a reply says no."""
    return plainly_said(text).casefold() in _NO


def without_unit(text: str, unit: str) -> str:
    """A figure without its unit, however that was written after it."""
    if not unit or len(text) > _LONGEST:
        return text
    plain = text.rstrip(". ")
    low = plain.casefold()
    for name in (unit, *_UNITS.get(unit, ())):
        if low.endswith(name.casefold()) and not low[: -len(name)][-1:].isalpha():
            return plain[: -len(name)].rstrip()
    return text


_PAST: Final = re.compile(
    r"^(half past|quarter past|a quarter past|quarter to|a quarter to|halb|viertel nach|viertel vor) (\w+)$"
)
_MINUTES: Final = {
    "half past": 30, "quarter past": 15, "a quarter past": 15, "quarter to": -15, "a quarter to": -15, "halb": -30,
    "viertel nach": 15, "viertel vor": -15,
}  # fmt: skip


def time_in_words(text: str) -> str:
    """A time of the clock said in words, as `HH:MM`; "" for what is none: `half past three`, `viertel nach neun`."""
    found = _PAST.match(plainly_said(text).casefold())
    if found is None:
        return ""
    hour = int(found[2]) if found[2].isdecimal() and len(found[2]) < 3 else _HOURS.get(found[2])
    if hour is None or not 0 <= hour <= 24:
        return ""
    minutes = hour * 60 + _MINUTES[found[1]]
    return f"{minutes // 60 % 24:02d}:{minutes % 60:02d}"
