"""Colours as people write them: by their code, or by a name."""

import re
from collections.abc import Mapping
from typing import Final

import webcolors

from finesieve.core.fields.asked import Asked
from finesieve.core.values import Value

__all__ = ["read_colour"]

_HEX: Final = re.compile(r"#?([0-9a-f]{6}|[0-9a-f]{3})")
_RGB: Final = re.compile(r"rgb\(?\s*(\d{1,3})[\s,]+(\d{1,3})[\s,]+(\d{1,3})\s*\)?")
_WORDS: Final[Mapping[str, str]] = {
    "schwarz": "black", "weiß": "white", "weiss": "white", "rot": "red", "grün": "green", "gruen": "green",
    "blau": "blue", "gelb": "yellow", "braun": "brown", "grau": "gray", "violett": "violet", "lila": "purple",
    "rosa": "pink", "türkis": "turquoise", "silber": "silver",
    "noir": "black", "blanc": "white", "rouge": "red", "vert": "green", "bleu": "blue", "jaune": "yellow",
    "marron": "brown", "gris": "gray", "rose": "pink",
    "negro": "black", "blanco": "white", "rojo": "red", "verde": "green", "azul": "blue", "amarillo": "yellow",
    "nero": "black", "bianco": "white", "rosso": "red", "giallo": "yellow",
    "zwart": "black", "wit": "white", "rood": "red", "groen": "green", "blauw": "blue", "geel": "yellow",
    "svart": "black", "vit": "white", "röd": "red", "grön": "green", "blå": "blue", "gul": "yellow",
}  # fmt: skip
"""The commonest colours in the languages a house can write in, by the name that the web has for them."""
_SHADES: Final[Mapping[str, str]] = {"dunkel": "dark", "hell": "light", "donker": "dark", "licht": "light"}


def read_colour(text: str, _asked: Asked) -> Value:
    """A colour, kept as #rrggbb: its code in hexadecimal digits, `rgb(30, 89, 69)`, or a name such as dark green.

    Names are those of the CSS Color Module (W3C), in English, and the commonest in other languages.
    """
    plain = text.lower().strip()
    if found := _HEX.fullmatch(plain):
        digits = found[1]
        return "#" + (digits if len(digits) == 6 else "".join(digit * 2 for digit in digits))
    if found := _RGB.fullmatch(plain):
        parts = [int(part) for part in found.groups()]
        if max(parts) < 256:
            return "#{:02x}{:02x}{:02x}".format(*parts)
    name = re.sub(r"[\s-]+", "", plain)
    for shade, english in _SHADES.items():
        if name.startswith(shade) and name.removeprefix(shade) in _WORDS:
            name = english + _WORDS[name.removeprefix(shade)]
    try:
        return str(webcolors.name_to_hex(_WORDS.get(name, name)))
    except ValueError:
        raise ValueError("Write a colour by its name, such as dark green, or by its code, such as #1e5945.") from None
