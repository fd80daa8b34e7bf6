"""Signed tokens in addresses and forms. Each is of one kind, and carries its end."""

from datetime import datetime, timedelta
from typing import Any, Final, Literal

from itsdangerous import BadData, URLSafeSerializer

__all__ = ["ENDS", "Links"]

Kind = Literal["form", "answers", "me", "address", "sent", "order", "ask"]
ENDS: Final[dict[Kind, timedelta]] = {
    "form": timedelta(days=7),
    "answers": timedelta(days=30),
    "me": timedelta(days=30),
    "address": timedelta(days=7),
    "sent": timedelta(hours=1),
    "order": timedelta(days=365),
    "ask": timedelta(days=7),
}
"""How long each kind is good for: a form that is open, the letter about a held sign-up, a personal link, the letter
about a new address, the page after sending, an order, a question of a
conversation that is answered on a page."""


class Links:
    """Makes tokens and reads them; nobody else can make one."""

    def __init__(self, secret: str) -> None:
        self._signer = URLSafeSerializer(secret, salt="links")

    def give(self, kind: Kind, now: datetime, *parts: Any, until: int = 0) -> str:
        """A token. `until`, in seconds since 1970, ends it earlier than its kind would."""
        end = int((now + ENDS[kind]).timestamp())
        return str(self._signer.dumps([kind, min(end, until) if until else end, *parts]))

    def read(self, kind: Kind, now: datetime, token: str, *, ended: bool = False) -> list[Any] | None:
        """What a token holds; None for one that is not ours, of another kind, or, unless asked for, has run out."""
        try:
            what, end, *parts = self._signer.loads(token)
        except (BadData, ValueError, TypeError):
            return None
        return parts if what == kind and isinstance(end, int) and (ended or now.timestamp() <= end) else None

    def end_of(self, token: str) -> int:
        """When a token that was read ends, in seconds since 1970."""
        return int(self._signer.loads(token)[1])
