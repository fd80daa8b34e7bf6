"""Putting a task into the queue, in the transaction that causes it."""

import json
from typing import Any

from sqlalchemy import text
from sqlmodel import Session

__all__ = ["enqueue"]

_DEFER = text(
    "SELECT procrastinate_defer_jobs_v1(ARRAY[ROW('default', :name, 0, NULL, NULL, CAST(:args AS jsonb), NULL)"
    "::procrastinate_job_to_defer_v1])"
)


def enqueue(session: Session, name: str, **arguments: Any) -> None:
    """Have a worker run the named task once this transaction is committed."""
    session.execute(_DEFER, {"name": name, "args": json.dumps(arguments)})
