"""The words that steer any conversation, in the languages that the product speaks."""

import re
import unicodedata
from collections.abc import Mapping
from functools import lru_cache
from typing import Final, Literal

__all__ = ["STEERED", "Steering", "edits_within", "fold_reply", "steering_word"]

Steering = Literal["back", "start_over", "person", "stop", "start", "skip", "done", "use"]
_WORDS: Final[Mapping[str, Mapping[Steering, str]]] = {
    "en": {
        "back": "back|go back|undo", "start_over": "start over|restart|start again|begin again",
        "person": "a person please|a person, please|a person|talk to a person|a human|help me|a clerk please",
        "stop": "stop|unsubscribe|stop all", "start": "start|unstop", "skip": "skip|pass|no answer|rather not say",
        "done": "done|that is all|that's all|finished", "use": "use as my answer",
    },
    "de": {
        "back": "zurück|einen schritt zurück", "start_over": "von vorn|noch einmal von vorn|neu anfangen",
        "person": "einen menschen bitte|einen menschen, bitte|ein mensch|hilfe bitte", "stop": "stopp|stop|abmelden",
        "start": "start|anmelden", "skip": "überspringen|weiter|keine angabe", "done": "fertig|das ist alles",
        "use": "als antwort nehmen",
    },
}  # fmt: skip
_ENDS: Final = re.compile(r"[\s.!?,;:…]+$")


STEERED: Final[Mapping[Steering, str]] = {"back": "Back", "start_over": "Start over", "person": "A person"}
"""What a word does, as it is offered."""


@lru_cache(maxsize=8_192)
def fold_reply(text: str) -> str:
    """A whole reply as it is compared: without case, accents, spaces around and between, and what ends a sentence."""
    plain = unicodedata.normalize("NFKD", text.casefold().replace("’", "'"))
    plain = "".join(sign for sign in plain if not unicodedata.combining(sign))
    return _ENDS.sub("", " ".join(plain.split()))


_FOLDED: Final = {
    language: {fold_reply(one): word for word, ways in words.items() for one in ways.split("|")}
    for language, words in _WORDS.items()
}


def steering_word(text: str, language: str) -> Steering | None:
    """What a whole reply steers, in the language of the conversation or in English; None for anything else."""
    said = fold_reply(text)
    return _FOLDED.get(language, {}).get(said) or _FOLDED["en"].get(said)


def edits_within(one: str, other: str, most: int) -> bool:
    """Whether one text becomes the other by at most so many letters added, left out, changed, or two changing places.

    Optimal string alignment, by rows.
    """
    if abs(len(one) - len(other)) > most:
        return False
    before: list[int] = []
    row = list(range(len(other) + 1))
    for place, letter in enumerate(one, 1):
        now = [place]
        for column, wanted in enumerate(other, 1):
            cost = min(row[column] + 1, now[column - 1] + 1, row[column - 1] + (letter != wanted))
            if place > 1 and column > 1 and letter == other[column - 2] and one[place - 2] == wanted:
                cost = min(cost, before[column - 2] + 1)
            now.append(cost)
        if min(now) > most:
            return False
        before, row = row, now
    return row[-1] <= most
