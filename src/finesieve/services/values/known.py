"""Who has an address already."""

from typing import Final

from sqlalchemy import text

from finesieve.core.values import fold
from finesieve.services.kernel.scope import Unit
from finesieve.store.reading.rows import find_by_email

__all__ = ["known_by_email"]

_ALONE: Final = text("SELECT pg_advisory_xact_lock(hashtext('email'), hashtext(:who))")


def known_by_email(unit: Unit, email: str) -> int:
    """Who has this address, 0 for nobody. Until the transaction ends, nobody else comes with it."""
    unit.session.execute(_ALONE, {"who": f"{unit.workspace_id}:{fold(email)}"})
    return find_by_email(unit.session, unit.definitions, email) or 0
