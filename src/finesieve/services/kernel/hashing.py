"""Hashing passwords and secrets: slow and large on purpose, so few at a time, and in no transaction."""

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Final

from pwdlib import PasswordHash
from pwdlib.hashers.argon2 import Argon2Hasher

from finesieve.core.errors import Unavailable

__all__ = ["Hasher"]

_AT_ONCE: Final = threading.BoundedSemaphore(2)
"""Each takes some tens of megabytes for as long as it runs."""
_WAIT: Final = 5
_CHEAP: Final = Argon2Hasher(time_cost=1, memory_cost=64, parallelism=1)


@contextmanager
def _turn() -> Iterator[None]:
    if not _AT_ONCE.acquire(timeout=_WAIT):
        raise Unavailable("Many people are signing in right now; try again in a moment.")
    try:
        yield
    finally:
        _AT_ONCE.release()


class Hasher:
    """Hashes, and compares with hashes. `cheap` makes that quick and weak; for tests only."""

    def __init__(self, how: Argon2Hasher, *, cheap: bool = False) -> None:
        self._hasher = PasswordHash((_CHEAP if cheap else how,))

    def hash(self, text: str) -> str:
        """The hash of a text. Raises Unavailable where many are waiting."""
        with _turn():
            return self._hasher.hash(text)

    def verify(self, text: str, hashed: str) -> bool:
        """Whether a text has this hash. Raises Unavailable where many are waiting."""
        with _turn():
            return self._hasher.verify(text, hashed)
