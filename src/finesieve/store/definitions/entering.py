"""Entering a workspace: what stands at the head of every request and of every command.

The statements are made once, since putting one together costs as much again as the database does; and reading the
workspace lets row-level security through to its rows in the same breath.
"""

from datetime import datetime
from typing import Final

from sqlalchemy import ColumnElement, Integer, Text, bindparam, cast, func, select
from sqlmodel import Session, col

from finesieve.store.connection.database import mark_entered
from finesieve.store.tables import Membership, Staff, StaffSession, Workspace

__all__ = ["enter_by_id", "enter_by_slug", "entering", "who_enters"]

_ENTERING: Final = func.set_config("finesieve.workspace", cast(col(Workspace.id), Text), True)
_BY_ID: Final = (
    select(Workspace, _ENTERING).where(col(Workspace.id) == bindparam("id")).execution_options(populate_existing=True)
)
_BY_SLUG: Final = select(Workspace, _ENTERING).where(col(Workspace.slug) == bindparam("slug"))
_WHO_ENTERS: Final = (
    select(StaffSession, Staff, Workspace, Membership, _ENTERING)
    .join(Staff, col(Staff.id) == col(StaffSession.staff_id))
    .join(Membership, col(Membership.staff_id) == col(Staff.id))
    .join(Workspace, col(Workspace.id) == col(Membership.workspace_id))
    .where(col(StaffSession.token_hash) == bindparam("token"), col(StaffSession.expires_at) > bindparam("now"))
    .where(col(Workspace.slug) == bindparam("slug"))
)


def entering(workspace_id: ColumnElement[int]) -> ColumnElement[int]:
    """The id of a workspace, which is entered as it is read: for a statement that stands alone in its transaction."""
    return cast(func.set_config("finesieve.workspace", cast(workspace_id, Text), True), Integer)


def enter_by_id(session: Session, workspace_id: int) -> Workspace | None:
    """Enter a workspace, read anew; None where there is none."""
    found = session.execute(_BY_ID, {"id": workspace_id}).first()
    workspace: Workspace | None = None if found is None else found[0]
    return workspace


def enter_by_slug(session: Session, slug: str) -> Workspace | None:
    """Enter the workspace with this short name; None where there is none."""
    found = session.execute(_BY_SLUG, {"slug": slug}).first()
    if found is None:
        return None
    workspace: Workspace = found[0]
    mark_entered(session, workspace.id or 0)
    return workspace


def who_enters(
    session: Session, token_hash: str, now: datetime, slug: str
) -> tuple[StaffSession, Staff, Workspace, Membership] | None:
    """The session of this token, whose it is, the workspace, which is entered, and their place in it.

    None where one of them is not.
    """
    found = session.execute(_WHO_ENTERS, {"token": token_hash, "now": now, "slug": slug}).first()
    if found is None:
        return None
    mark_entered(session, found[2].id)
    return found[0], found[1], found[2], found[3]
