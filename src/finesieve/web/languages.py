"""The languages that a browser asks for."""

from typing import Final

__all__ = ["accepted_languages"]

_MOST: Final = 20


def accepted_languages(header: str) -> tuple[str, ...]:
    """The languages of Accept-Language by their two or three letters, the most wished first, each once.

    Without a weight it is 1; one of 0 is not wanted; equal ones stay in their order.
    """
    wished: list[tuple[float, str]] = []
    for part in header.split(",")[:_MOST]:
        name, _, rest = part.partition(";")
        language = name.strip().replace("_", "-").partition("-")[0].lower()
        weight = _weight(rest)
        if language.isalpha() and language.isascii() and 1 < len(language) < 4 and weight > 0:
            wished.append((weight, language))
    return tuple(dict.fromkeys(language for _, language in sorted(wished, key=lambda one: -one[0])))


def _weight(text: str) -> float:
    name, _, number = text.strip().partition("=")
    if not text.strip():
        return 1.0
    try:
        return min(max(float(number), 0.0), 1.0) if name.strip() == "q" else 0.0
    except ValueError:
        return 0.0
