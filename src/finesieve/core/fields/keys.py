"""Keys: the names by which expressions call fields."""

import re
import unicodedata
from collections.abc import Container
from typing import Final

from finesieve.core.fields.contexts import CONTEXTS
from finesieve.core.limits import KEY

__all__ = ["PREFIXES", "RESERVED", "key_from_label", "key_problem"]

RESERVED: Final = tuple(
    "or and not between in contains starts ends with holds any every no is blank filled "
    "matches else where by true false".split()
)
"""Words of the expression language; never a key."""
PREFIXES: Final = frozenset(CONTEXTS)
_OWN: Final = frozenset(("role", "tags", "lists", "people", "orders"))
_KEY: Final = re.compile(r"[a-z][a-z0-9_]*")


def key_problem(key: str, word: str = "key") -> str:
    """Why the key cannot be used, in one sentence; "" where it can. `word` is what the page calls it."""
    if len(key) > KEY:
        return f"A {word} has at most {KEY} characters."
    if not _KEY.fullmatch(key):
        return f"A {word} begins with a small letter a–z; letters, digits and _ follow."
    if key in RESERVED or key in PREFIXES or key in _OWN:
        return f"“{key}” is a word of the expression language; choose another {word}."
    return ""


def key_from_label(label: str, taken: Container[str] = ()) -> str:
    """A key made from a label, free among those `taken`: `Plot length` gives `plot_length`."""
    letters = unicodedata.normalize("NFKD", label).encode("ascii", "ignore").decode().lower()
    base = re.sub(r"[^a-z0-9]+", "_", letters).strip("_")[: KEY - 4] or "field"
    if not base[0].isalpha() or key_problem(base):
        base = f"field_{base}"[: KEY - 4].rstrip("_")
    key, number = base, 1
    while key in taken:
        number += 1
        key = f"{base}_{number}"
    return key
