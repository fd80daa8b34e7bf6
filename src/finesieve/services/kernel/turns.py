"""Costly work that anybody may ask for: each person has one at a time, and few run at once."""

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Final

from finesieve.core.errors import TooOften, Unavailable
from finesieve.services.kernel.scope import Scope

__all__ = ["SECONDS", "a_turn"]

SECONDS: Final = 2
"""How long a preview may take."""
_AT_ONCE: Final = threading.BoundedSemaphore(4)
_WAIT: Final = 3
_own: Final[dict[tuple[int, str], threading.Lock]] = {}
_guard: Final = threading.Lock()


@contextmanager
def a_turn(scope: Scope) -> Iterator[None]:
    """Wait for one's turn, a moment at the most. Raises TooOften, or Unavailable where many others are at it."""
    with _guard:
        own = _own.setdefault((scope.workspace_id, scope.actor), threading.Lock())
    if not own.acquire(timeout=_WAIT):
        raise TooOften("Your last preview is still running; wait a moment.")
    try:
        if not _AT_ONCE.acquire(timeout=_WAIT):
            raise Unavailable("The server is busy right now; try again in a moment.")
        try:
            yield
        finally:
            _AT_ONCE.release()
    finally:
        own.release()
