"""The fixed tables, in the schema `public`, each row of one workspace."""

from datetime import UTC, datetime
from typing import Any

from sqlalchemy import BigInteger, Column, DateTime, ForeignKey, Identity, Index, Integer, UniqueConstraint, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Field, SQLModel

__all__ = [
    "GUARDED",
    "DefinitionChange",
    "FieldGroupRow",
    "FieldRow",
    "FormRow",
    "FormVersion",
    "History",
    "Membership",
    "Segment",
    "Staff",
    "StaffSession",
    "Submission",
    "Workspace",
]


def _now() -> datetime:
    return datetime.now(UTC)


def _moment() -> Any:
    return Field(default_factory=_now, sa_column=Column(DateTime(timezone=True), nullable=False))


def _workspace() -> Any:
    return Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False, index=True))


def _json(**options: Any) -> Any:
    return Field(default=None, sa_column=Column(JSONB(none_as_null=True), **options))


class Workspace(SQLModel, table=True):
    """One business's separate set of everything.

    `catalogue_version` counts changes of the definition, so that what is
    built from it can be cached.
    """

    __tablename__ = "workspace"
    id: int | None = Field(default=None, primary_key=True)
    slug: str = Field(unique=True)
    name: str
    zone: str = "UTC"
    catalogue_version: int = 1
    created_at: datetime = _moment()


class Staff(SQLModel, table=True):
    """Somebody who works in the back office."""

    __tablename__ = "staff"
    id: int | None = Field(default=None, primary_key=True)
    email: str = Field(unique=True)
    name: str
    password_hash: str
    created_at: datetime = _moment()


class Membership(SQLModel, table=True):
    """What a staff member may do in a workspace."""

    __tablename__ = "membership"
    workspace_id: int = Field(foreign_key="workspace.id", primary_key=True, ondelete="CASCADE")
    staff_id: int = Field(foreign_key="staff.id", primary_key=True, ondelete="CASCADE")
    role: str


class StaffSession(SQLModel, table=True):
    """A signed-in browser, known by the hash of its token."""

    __tablename__ = "staff_session"
    token_hash: str = Field(primary_key=True)
    staff_id: int = Field(foreign_key="staff.id", ondelete="CASCADE")
    csrf: str
    expires_at: datetime = Field(sa_column=Column(DateTime(timezone=True), nullable=False, index=True))


class FieldGroupRow(SQLModel, table=True):
    """A named, ordered set of fields."""

    __tablename__ = "field_group"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    name: str
    description: str = ""
    position: int = 0


class FieldRow(SQLModel, table=True):
    """The definition of a field; `options` is a list of [label, stored value]."""

    __tablename__ = "field"
    __table_args__ = (UniqueConstraint("workspace_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    group_id: int = Field(foreign_key="field_group.id")
    key: str
    label: str
    type_key: str
    help: str = ""
    required: bool = False
    unit: str = ""
    options: list[list[str]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    built_in: bool = False
    formula: str = ""
    position: int = 0
    created_at: datetime = _moment()


class FormRow(SQLModel, table=True):
    """A form: its draft, and the number of the version in force (0 for none).

    `revision` counts changes of the draft, so that two people editing it
    notice each other.
    """

    __tablename__ = "form"
    __table_args__ = (UniqueConstraint("workspace_id", "slug"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    slug: str
    channel: str = "sign-up"
    draft: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    revision: int = 1
    published: int = 0
    created_at: datetime = _moment()


class FormVersion(SQLModel, table=True):
    """A published version; never changed."""

    __tablename__ = "form_version"
    form_id: int = Field(foreign_key="form.id", primary_key=True)
    number: int = Field(primary_key=True)
    workspace_id: int = _workspace()
    document: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    published_by: str
    published_at: datetime = _moment()


class Segment(SQLModel, table=True):
    """The people for whom a condition is true; an empty one admits everyone."""

    __tablename__ = "segment"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    name: str
    description: str = ""
    expression: str = ""
    revision: int = 1
    position: int = 0
    created_at: datetime = _moment()


class Submission(SQLModel, table=True):
    """One sent form. The key was made when the form was opened; a key counts once.

    `state`: stored · held (the email was known already) · applied · set_aside.
    """

    __tablename__ = "submission"
    __table_args__ = (UniqueConstraint("form_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    form_id: int = Field(foreign_key="form.id")
    version: int
    key: str
    person_id: int = Field(sa_column=Column(BigInteger, nullable=False, index=True))
    state: str
    answers: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    received_at: datetime = Field(
        default_factory=_now, sa_column=Column(DateTime(timezone=True), nullable=False, index=True)
    )


class History(SQLModel, table=True):
    """Every change of every value, append-only."""

    __tablename__ = "history"
    __table_args__ = (
        Index("ix_history_person", "workspace_id", "person_id", "field_id", "id"),
        Index("ix_history_at", "workspace_id", "at"),
    )
    id: int | None = Field(default=None, sa_column=Column(BigInteger, Identity(), primary_key=True))
    workspace_id: int = Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False))
    person_id: int = Field(sa_column=Column(BigInteger, nullable=False))
    field_id: int
    old: Any = _json()
    new: Any = _json()
    source: str
    actor: str
    at: datetime = _moment()


class DefinitionChange(SQLModel, table=True):
    """A change of a definition, with what was before, so that it can be taken back."""

    __tablename__ = "definition_change"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    entity: str
    entity_id: int
    label: str
    before: Any = _json()
    after: Any = _json()
    actor: str
    undone: bool = Field(default=False, sa_column_kwargs={"server_default": text("false")})
    at: datetime = _moment()


GUARDED = (
    "field_group",
    "field",
    "form",
    "form_version",
    "segment",
    "submission",
    "history",
    "definition_change",
)
"""Tables behind row-level security: only rows of the transaction's workspace are seen."""
