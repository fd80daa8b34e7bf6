"""Times of day as people write them: 9:30, 9.30, 0930, 9h30, 9 am, 9 Uhr 30; noon and midnight."""

import re
from datetime import time
from typing import Final

from finesieve.core.fields.families.spellings import time_in_words
from finesieve.core.phrases import phrase

__all__ = ["find_time", "split_time"]

_CLOCK: Final = re.compile(
    r"(?P<hour>\d{1,2})(?:\s*(?:[:.h]|uhr|u)\s*(?P<minute>\d{2})?(?:[:.](?P<second>\d{2}))?)?"
    r"\s*(?P<half>a\.?m\.?|p\.?m\.?)?\s*(?:uhr|h|hrs?|o'clock|uur)?"
)
_WORDS: Final = {
    "noon": time(12), "midday": time(12), "midnight": time(0), "mittag": time(12), "mittags": time(12),
    "mitternacht": time(0), "midi": time(12), "minuit": time(0), "mediodia": time(12), "mezzogiorno": time(12),
}  # fmt: skip
_SPLIT: Final = re.compile(
    r"(?P<day>.+?)(?:[\s,]+(?:at|um|a|à|om|kl\.?)?\s*|t(?=\d))"
    r"(?P<clock>\d{1,2}(?:\s*[:h]\s*\d{2}(?::\d{2})?|\.\d{2}(?=\s*uhr)|\s*uhr(?:\s*\d{2})?)?\s*(?:[ap]\.?m\.?|uhr|h)?"
    r"|noon|midday|midnight|mittags?|mitternacht|midi|minuit)",
    re.IGNORECASE,
)


def find_time(text: str) -> time:
    """The time of day that a text writes.

    Raises ValueError with a sentence that asks where morning or evening is open, and without one for what is no time.
    """
    plain = time_in_words(text) or text.lower().replace("’", "'").strip()
    if plain in _WORDS:
        return _WORDS[plain]
    if re.fullmatch(r"\d{4}", plain):
        plain = f"{plain[:2]}:{plain[2:]}"
    found = _CLOCK.fullmatch(plain)
    if found is None:
        raise ValueError
    hour, minute, second = (int(found[part] or 0) for part in ("hour", "minute", "second"))
    half = (found["half"] or "")[:1]
    if half:
        if not 1 <= hour <= 12:
            raise ValueError
        hour = hour % 12 + (12 if half == "p" else 0)
    elif plain.isdigit() and hour <= 12:
        raise ValueError(phrase("Is this morning or evening? Write {morning} or {evening}.", **_halves(hour)))
    return time(hour, minute, second)


def _halves(hour: int) -> dict[str, str]:
    return {"morning": f"{hour % 12:02}:00", "evening": f"{hour % 12 + 12:02}:00"}


def split_time(text: str) -> tuple[str, str]:
    """A date with a time after it, in two; the second is empty where there is no time."""
    found = _SPLIT.fullmatch(text.strip())
    return (found["day"], found["clock"]) if found else (text, "")
