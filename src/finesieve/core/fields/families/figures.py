"""Figures as people write them: which sign parts thousands, and which one decimals.

A number that could be thousands or decimals is asked about, never guessed: 1,250 may be twelve hundred and fifty, or
one and a quarter.
"""

import re
from decimal import Decimal
from typing import Final

from finesieve.core.phrases import phrase

__all__ = ["find_figure"]

_NUMBER: Final = re.compile(r"[+-]?[0-9]{1,15}([.][0-9]{1,10})?")
_SPACES: Final = " \u00a0\u202f\u2009’'"
_FRACTIONS: Final = {"½": "5", "¼": "25", "¾": "75"}
_MANY: Final = {".": "points", ",": "commas"}
_ONE: Final = {".": "a point", ",": "a comma"}
_THOUSAND: Final = 3
"""How many digits stand in a group."""


def find_figure(text: str, point: str, decimals: int | None = None, language: str = "") -> Decimal:
    """The number that a text writes, decimals after `point`; `decimals` says how many it can have at the most.

    Raises ValueError with a sentence: for what is no number, and for what could be two.
    """
    plain = text.strip().replace("−", "-").replace("–", "-")
    sign = "-" if plain.startswith("-") else ""
    plain = _without_spaces(plain.lstrip("+-").strip())
    if (last := plain[-1:]) in _FRACTIONS and plain[:-1].strip().isdigit() | (len(plain) == 1):
        plain = f"{plain[:-1].strip() or 0}{point}{_FRACTIONS[last]}"
    found = _plainly(plain, point, decimals, language)
    if found is None or not _NUMBER.fullmatch(found):
        raise ValueError(phrase("Write a number in digits, such as 12 or 0{sign}5.", sign=point))
    return Decimal(sign + found) + 0  # + 0: there is no negative zero


def _without_spaces(text: str) -> str:
    """Without what parts the groups of three; other spaces stay, and make it no number."""
    if re.fullmatch(rf"\d{{1,3}}([{_SPACES}]\d{{3}})+([.,]\d+)?", text):
        return re.sub(rf"[{_SPACES}]", "", text)
    return text


def _plainly(text: str, point: str, decimals: int | None, language: str) -> str | None:
    """The number with a point before its decimals; None for what is no number."""
    other = "," if point == "." else "."
    if not re.fullmatch(r"[\d.,]*\d", text):
        return None
    signs = [sign for sign in text if sign in ".,"]
    if not signs:
        return text
    if len(set(signs)) > 1:
        # The last sign is that of the decimals, whatever the language: 1.250,50 can be nothing else.
        last = signs[-1]
        whole, _, rest = text.rpartition(last)
        if signs.count(last) > 1 or not _grouped(whole, signs[0], language):
            return None
        return f"{whole.replace(signs[0], '')}.{rest}"
    if len(signs) > 1:
        return text.replace(signs[0], "") if _grouped(text, signs[0], language) else None
    if signs[0] == other:
        return _one_other_sign(text, point, other, decimals)
    whole, _, rest = text.partition(point)
    return f"{whole or 0}.{rest}"


def _one_other_sign(text: str, point: str, other: str, decimals: int | None) -> str:
    """One sign that is not that of the decimals here: thousands, or decimals written as elsewhere."""
    whole, _, rest = text.partition(other)
    if len(rest) != _THOUSAND or not 1 <= len(whole) <= _THOUSAND or whole == "0":
        return f"{whole or 0}.{rest}"
    if decimals is not None and decimals < _THOUSAND:
        return whole + rest
    template = "Write the number without {other}, decimals after {point}, such as 1250{sign}5."
    raise ValueError(phrase(template, other=_MANY[other], point=_ONE[point], sign=point))


def _grouped(text: str, sign: str, language: str) -> bool:
    """Whether the digits stand in groups of three, or as in India in twos before the last three."""
    mark = re.escape(sign)
    if re.fullmatch(rf"[1-9]\d{{0,2}}({mark}\d{{3}})+", text):
        return True
    return language.endswith("_IN") and bool(re.fullmatch(rf"[1-9]\d?({mark}\d{{2}})*{mark}\d{{3}}", text))
