"""Staff: signing in and out, workspaces and who may do what in them."""

import hashlib
import secrets
from dataclasses import dataclass
from datetime import timedelta
from functools import cache
from typing import Final

from pwdlib.hashers.argon2 import Argon2Hasher
from pydantic import Field as Bounds
from pydantic import field_validator
from sqlmodel import Session, col, delete, select

from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.core.fields.built_in import ALWAYS, PARTS
from finesieve.core.limits import NAME
from finesieve.core.values import fold
from finesieve.services.accounts.tries import Devices, count_try, forgive_try
from finesieve.services.kernel.hashing import Hasher
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.scope import Clock, Role, Scope
from finesieve.services.kernel.slugs import slug_from_name
from finesieve.store.connection.database import Store, enter_workspace
from finesieve.store.definitions.catalogue import add_column, create_workspace_schema, field_from_row, unique_column
from finesieve.store.definitions.entering import who_enters
from finesieve.store.tables import FieldGroupRow, FieldRow, Membership, Staff, StaffSession, Workspace

__all__ = [
    "NewWorkspace",
    "OpenedWorkspace",
    "SignedIn",
    "SignedInAs",
    "StaffAccounts",
    "WorkspaceEntry",
]

_SESSION_DAYS: Final = 14


@dataclass(frozen=True, slots=True)
class SignedIn:
    """A signed-in staff member and the secret that their forms must carry."""

    staff_id: int
    name: str
    csrf: str


@dataclass(frozen=True, slots=True)
class SignedInAs:
    """A new session's token, and the token by which the browser is known when it signs in again."""

    token: str
    device: str


@dataclass(frozen=True, slots=True)
class WorkspaceEntry:
    """A workspace that a staff member may enter."""

    slug: str
    name: str
    role: Role


@dataclass(frozen=True, slots=True)
class OpenedWorkspace:
    """A workspace somebody has entered."""

    slug: str
    name: str
    zone: str
    language: str
    scope: Scope


class NewWorkspace(Input):
    """What a new workspace needs."""

    name: str = Bounds(min_length=1, max_length=NAME)
    zone: str = "UTC"

    @field_validator("zone")
    @classmethod
    def _known(cls, zone: str) -> str:
        from zoneinfo import available_timezones

        if zone not in available_timezones():
            raise ValueError("No such time zone; one is written like Europe/London.")
        return zone


_PASSWORDS: Final = Argon2Hasher()


def _signed_in(session: StaffSession, staff: Staff) -> SignedIn:
    return SignedIn(staff.id or 0, staff.name, session.csrf)


def _token_hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


class StaffAccounts:
    """Accounts of staff, kept apart from any one workspace.

    `fast_hashes` makes password checks cheap and weak; for tests only.
    """

    def __init__(self, store: Store, clock: Clock, secret: str = "", *, fast_hashes: bool = False) -> None:
        self._store = store
        self._clock = clock
        self._hasher = Hasher(_PASSWORDS, cheap=fast_hashes)
        self._devices = Devices(secret)

    def add_staff(self, email: str, name: str, password: str) -> int:
        """Add somebody who may sign in; gives the id. Raises Conflict where the email is taken."""
        hashed = self._hasher.hash(password)
        with self._store.transaction() as session:
            staff = Staff(email=fold(email), name=name, password_hash=hashed)
            session.add(staff)
            session.flush()
            return staff.id or 0

    def sign_in(self, email: str, password: str, came_from: str = "", device: str = "") -> SignedInAs:
        """Sign in; gives the token of a new session, and what this browser is known by from now on.

        Wrong passwords are counted by address and by account, and each further one has to wait longer. A browser
        that somebody has signed in with before is counted by itself, so that strangers lock nobody out. Raises
        InvalidInput where email and password do not fit, TooOften where it is too soon, Unavailable where many
        passwords are being looked at.
        """
        email = fold(email.strip())
        known_device = self._devices.fits(email, device)
        counted = count_try(
            self._store, self._clock(), came_from, f"device:{device}" if known_device else f"account:{email}"
        )
        with self._store.transaction() as session:
            staff = session.exec(select(Staff).where(col(Staff.email) == email)).first()
        # The check runs for unknown emails too, so that its time tells nothing; it is long, so in no transaction.
        fits = self._hasher.verify(password, staff.password_hash if staff else self._unknown_hash())
        if staff is None or not fits:
            raise InvalidInput({"": "That email and password do not belong together."})
        forgive_try(self._store, counted)
        with self._store.transaction() as session:
            return SignedInAs(self._open_session(session, staff.id or 0), self._devices.token_for(email))

    def sign_in_as(self, email: str) -> str:
        """The token of a new session without a password: the demo's one click. Raises NotFound."""
        with self._store.transaction() as session:
            staff = session.exec(select(Staff).where(col(Staff.email) == fold(email))).first()
            if staff is None:
                raise NotFound("There is no such staff member.")
            return self._open_session(session, staff.id or 0)

    def _open_session(self, session: Session, staff_id: int) -> str:
        token = secrets.token_urlsafe(32)
        row = StaffSession(
            token_hash=_token_hash(token),
            staff_id=staff_id,
            csrf=secrets.token_urlsafe(24),
            expires_at=self._clock() + timedelta(days=_SESSION_DAYS),
        )
        session.add(row)
        return token

    @cache  # noqa: B019 - one small value for the life of the one instance
    def _unknown_hash(self) -> str:
        return self._hasher.hash(secrets.token_urlsafe(8))

    def who(self, token: str) -> SignedIn | None:
        """Who holds this token, or None where it is unknown or has run out."""
        with self._store.reading() as session:
            found = session.exec(
                select(StaffSession, Staff)
                .join(Staff, col(Staff.id) == col(StaffSession.staff_id))
                .where(col(StaffSession.token_hash) == _token_hash(token), col(StaffSession.expires_at) > self._clock())
            ).first()
            return None if found is None else _signed_in(*found)

    def sign_out(self, token: str) -> None:
        """End a session."""
        with self._store.transaction() as session:
            session.execute(delete(StaffSession).where(col(StaffSession.token_hash) == _token_hash(token)))

    def sweep_sessions(self) -> int:
        """Remove the sessions that have run out; gives how many."""
        with self._store.transaction() as session:
            done = session.execute(delete(StaffSession).where(col(StaffSession.expires_at) <= self._clock()))
            return int(done.rowcount)  # type: ignore[attr-defined]  # a delete has a row count

    def workspaces(self, staff_id: int) -> list[WorkspaceEntry]:
        """The workspaces that somebody may enter, by name."""
        with self._store.reading() as session:
            rows = session.exec(
                select(Workspace, Membership)
                .join(Membership, col(Membership.workspace_id) == col(Workspace.id))
                .where(col(Membership.staff_id) == staff_id)
                .order_by(col(Workspace.name))
            ).all()
            return [WorkspaceEntry(workspace.slug, workspace.name, member.role) for workspace, member in rows]  # type: ignore[arg-type]  # roles are checked on writing

    def enter(self, slug: str, signed_in: SignedIn) -> OpenedWorkspace:
        """Enter a workspace. Raises NotFound where there is none, or the person does not belong to it."""
        with self._store.reading() as session:
            found = session.exec(
                select(Workspace, Membership)
                .join(Membership, col(Membership.workspace_id) == col(Workspace.id))
                .where(col(Workspace.slug) == slug, col(Membership.staff_id) == signed_in.staff_id)
            ).first()
        if found is None:
            raise NotFound("There is no such workspace, or you do not belong to it.")
        return self._opened(*found, signed_in)

    def who_enters(self, token: str, slug: str) -> tuple[SignedIn, OpenedWorkspace] | None:
        """Both at once: who holds this token, and the workspace, entered; None where `who` or `enter` say why not."""
        with self._store.reading() as session:
            found = who_enters(session, _token_hash(token), self._clock(), slug)
        if found is None:
            return None
        signed_in = _signed_in(found[0], found[1])
        return signed_in, self._opened(found[2], found[3], signed_in)

    def _opened(self, workspace: Workspace, member: Membership, signed_in: SignedIn) -> OpenedWorkspace:
        # Roles are checked on writing.
        scope = Scope(self._store, workspace.id or 0, signed_in.name, member.role, self._clock)  # type: ignore[arg-type]
        return OpenedWorkspace(workspace.slug, workspace.name, workspace.zone, workspace.language, scope)

    def create_workspace(self, asked: NewWorkspace, staff_id: int) -> str:
        """Make a workspace with the built-in fields, owned by a staff member; gives its slug."""
        for attempt in range(1, 100):
            slug = slug_from_name(asked.name) + (f"-{attempt}" if attempt > 1 else "")
            try:
                self._make_workspace(asked, slug, staff_id)
            except Conflict:
                continue
            return slug
        raise Conflict("There are too many workspaces of this name; choose another.")

    def _make_workspace(self, asked: NewWorkspace, slug: str, staff_id: int) -> None:
        with self._store.transaction() as session:
            workspace = Workspace(slug=slug, name=asked.name, zone=asked.zone)
            session.add(workspace)
            session.flush()
            workspace_id = workspace.id or 0
            session.add(Membership(workspace_id=workspace_id, staff_id=staff_id, role="owner"))
            create_workspace_schema(session, workspace_id)
            enter_workspace(session, workspace_id)
            group = FieldGroupRow(
                workspace_id=workspace_id, name="Who they are", description="Names, and how to reach them."
            )
            session.add(group)
            session.flush()
            basics = next(part for part in PARTS if part.key == ALWAYS)
            for position, built_in in enumerate(basics.fields):
                row = FieldRow(
                    workspace_id=workspace_id,
                    group_id=group.id or 0,
                    key=built_in.key,
                    label=built_in.label,
                    type_key=built_in.type_key,
                    required=built_in.required,
                    help=built_in.help,
                    built_in=True,
                    position=position,
                )
                session.add(row)
                session.flush()
                add_column(session, workspace_id, field_from_row(row))
                if built_in.key == "email":
                    unique_column(session, workspace_id, field_from_row(row))
