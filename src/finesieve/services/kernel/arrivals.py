"""How often somebody sends something: a limit against robots."""

import hashlib
from datetime import datetime, timedelta
from typing import Final

from sqlalchemy import bindparam, delete, select
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import col

from finesieve.core.errors import TooOften
from finesieve.services.kernel.scope import Scope
from finesieve.store.definitions.entering import entering
from finesieve.store.tables import Arrivals

__all__ = ["count_arrival"]

WINDOW: Final = timedelta(minutes=10)
MOST: Final = 60
_PARTS: Final = ("workspace_id", "who", "since", "times")
# Made once: each sending needs it, and putting a statement together costs as much again as the database does.
_COUNT: Final = (
    insert(Arrivals)
    .from_select(_PARTS, select(entering(bindparam("workspace_id")), *(bindparam(name) for name in _PARTS[1:])))
    .on_conflict_do_update(index_elements=["workspace_id", "who", "since"], set_={"times": col(Arrivals.times) + 1})
    .returning(col(Arrivals.times))
)


def count_arrival(scope: Scope, what: str, who: str) -> None:
    """Count one arrival from an address. Raises TooOften beyond 60 in ten minutes.

    The address is kept as a hash only, and for an hour.
    """
    with scope.store.transaction() as session:
        now = scope.clock()
        row = {
            "workspace_id": scope.workspace_id,
            "who": hashlib.sha256(f"{scope.workspace_id}:{what}:{who}".encode()).hexdigest(),
            "since": _begin(now),
            "times": 1,
        }
        times = int(session.connection().execute(_COUNT, row).scalar_one())
        if times == 1:
            session.execute(delete(Arrivals).where(col(Arrivals.since) < now - timedelta(hours=1)))
    if times > MOST:
        raise TooOften("That is a lot in a short time. Wait a few minutes, then send it again; nothing is lost.")


def _begin(now: datetime) -> datetime:
    """The beginning of the stretch of ten minutes that a moment lies in."""
    return now - (now - datetime.min.replace(tzinfo=now.tzinfo)) % WINDOW
