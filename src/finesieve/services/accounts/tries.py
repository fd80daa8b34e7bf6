"""Wrong passwords, counted by address and by account: each further one has to wait longer.

An account is never closed by what strangers try: a browser that its owner has signed in with carries a token, and
is counted by itself (device cookies, as the open guidance on slowing down guessing describes them).
"""

import hashlib
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Final

from itsdangerous import BadData, URLSafeTimedSerializer
from sqlalchemy import delete, text
from sqlmodel import col

from finesieve.core.errors import TooOften
from finesieve.core.values import fold
from finesieve.store.connection.database import Store
from finesieve.store.tables import SignInTry

__all__ = ["Devices", "count_try", "forgive_try"]

WINDOW: Final = timedelta(minutes=15)
_FREE: Final = {"address": 20, "account": 8, "device": 8}
"""So many wrong ones before there is any waiting: an office may stand behind one address."""
_LONGEST: Final = 60
_DEVICE_SECONDS: Final = 180 * 24 * 3_600
_COUNT: Final = text(
    "INSERT INTO sign_in_try (who, times, since, last) VALUES (:who, 1, :now, :now) ON CONFLICT (who) DO UPDATE SET "
    "times = CASE WHEN sign_in_try.since < :begin THEN 1 ELSE sign_in_try.times + 1 END, "
    "since = CASE WHEN sign_in_try.since < :begin THEN :now ELSE sign_in_try.since END, last = :now "
    "RETURNING times, (SELECT last FROM sign_in_try AS before WHERE before.who = :who)"
)


class Devices:
    """The tokens of browsers that somebody has signed in with."""

    def __init__(self, secret: str) -> None:
        self._signer = URLSafeTimedSerializer(secret or "none", salt="device")

    def token_for(self, email: str) -> str:
        """A token for the browser that has signed in as this account."""
        return str(self._signer.dumps(_hashed(fold(email))))

    def fits(self, email: str, token: str) -> bool:
        """Whether the browser has signed in as this account within half a year."""
        try:
            return bool(self._signer.loads(token, max_age=_DEVICE_SECONDS) == _hashed(fold(email)))
        except (BadData, ValueError, TypeError):
            return False


def _hashed(who: str) -> str:
    return hashlib.sha256(who.encode()).hexdigest()


def _wait_after(kind: str, times: int) -> int:
    """Seconds to wait after so many wrong ones."""
    over = times - _FREE[kind]
    return 0 if over <= 0 else min(2**over, _LONGEST)


def count_try(store: Store, now: datetime, address: str, account: str) -> Sequence[str]:
    """Count a try before it is looked at, so that many at once count too; gives what to forgive if it is right.

    `account` begins with `account:` or `device:`. Raises TooOften where it comes too soon after the last.
    """
    names = [f"address:{address}", account] if address else [account]
    with store.transaction() as session:
        waits = []
        for name in names:
            kind, who = name.partition(":")[0], _hashed(name)
            values = {"who": who, "now": now, "begin": now - WINDOW}
            times, last = session.execute(_COUNT, values).one()
            due = last + timedelta(seconds=_wait_after(kind, times - 1)) if last else now
            waits.append((due - now).total_seconds())
        session.execute(delete(SignInTry).where(col(SignInTry.last) < now - 2 * WINDOW))
        seconds = max(waits)
        if seconds > 0:
            # Too soon: it is not looked at, and does not count, so that waiting is enough.
            session.rollback()
    if seconds > 0:
        raise TooOften(f"That was wrong several times. Wait {int(seconds) + 1} seconds, then try again.")
    return [_hashed(name) for name in names]


def forgive_try(store: Store, counted: Sequence[str]) -> None:
    """A try was right: it does not count."""
    with store.transaction() as session:
        session.execute(
            text("UPDATE sign_in_try SET times = greatest(times - 1, 0) WHERE who = ANY(:names)"),
            {"names": list(counted)},
        )
