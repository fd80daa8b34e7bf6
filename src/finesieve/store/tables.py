"""The fixed tables, in the schema `public`, each row of one workspace."""

from datetime import UTC, date, datetime
from typing import Any

from sqlalchemy import BigInteger, Column, DateTime, ForeignKey, Identity, Index, Integer, UniqueConstraint, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Field, SQLModel

__all__ = [
    "GUARDED",
    "ApprovalRow",
    "Arrivals",
    "AudienceList",
    "BulkChange",
    "CartRow",
    "ChatCase",
    "ChatScriptRow",
    "ChatScriptVersion",
    "CheckoutRow",
    "Conversation",
    "ConversationLine",
    "Decision",
    "DefinitionChange",
    "DismissedFinding",
    "FieldGroupRow",
    "FieldRow",
    "FormCase",
    "FormRow",
    "FormVersion",
    "History",
    "HouseGrant",
    "HouseMapping",
    "HouseSchedule",
    "IssuedLink",
    "KeptField",
    "LevelRow",
    "MemberAccount",
    "MemberLink",
    "MemberSession",
    "Membership",
    "NamedCheckRow",
    "OptionListRow",
    "OrderRow",
    "OutboxMessage",
    "PageRow",
    "PageVersion",
    "PaymentRow",
    "PeopleView",
    "PersonalLinkRow",
    "RecordLinkRow",
    "RecordTypeRow",
    "Segment",
    "SegmentSize",
    "ShopRow",
    "SignInTry",
    "Staff",
    "StaffSession",
    "Submission",
    "TagRow",
    "Task",
    "Upload",
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

    `catalogue_version` marks the state of the definition, so that what is
    built from it can be cached. `description` is that of the starter set that it began with.
    """

    __tablename__ = "workspace"
    id: int | None = Field(default=None, primary_key=True)
    slug: str = Field(unique=True)
    name: str
    description: str = ""
    zone: str = "UTC"
    language: str = "en_GB"
    currency: str = "GBP"
    country: str = "GB"
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


class SignInTry(SQLModel, table=True):
    """Passwords tried by somebody since a moment; `who` is a hash of an address, an account or a browser."""

    __tablename__ = "sign_in_try"
    who: str = Field(primary_key=True)
    times: int
    since: datetime = Field(sa_column=Column(DateTime(timezone=True), nullable=False))
    last: datetime = Field(sa_column=Column(DateTime(timezone=True), nullable=False, index=True))


class FieldGroupRow(SQLModel, table=True):
    """A named, ordered set of fields about one thing, see `core.fields.about`."""

    __tablename__ = "field_group"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    about: str = "person"
    name: str
    description: str = ""
    settings: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    position: int = 0


class FieldRow(SQLModel, table=True):
    """The definition of a field; `options` as `core.fields.options` writes them.

    `generation` counts the columns it has had, `generation_since` is the last line of the history before the present
    one was taken up; `deleted_at` is set while it can be brought back.
    """

    __tablename__ = "field"
    __table_args__ = (UniqueConstraint("workspace_id", "about", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    group_id: int = Field(foreign_key="field_group.id")
    key: str
    label: str
    type_key: str
    help: str = ""
    required: bool = False
    unit: str = ""
    options: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    built_in: bool = False
    formula: str = ""
    position: int = 0
    about: str = "person"
    settings: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    generation: int = 0
    generation_since: int = Field(default=0, sa_column=Column(BigInteger, nullable=False, server_default="0"))
    deleted_at: datetime | None = Field(default=None, sa_column=Column(DateTime(timezone=True)))
    deleted_by: str = ""
    created_at: datetime = _moment()


class RecordTypeRow(SQLModel, table=True):
    """A kind of thing a person has several of. `title_field` is the id of the field that names a record."""

    __tablename__ = "record_type"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    key: str
    singular: str
    plural: str
    symbol: str = ""
    description: str = ""
    title_field: int = 0
    position: int = 0
    archived: bool = False
    created_at: datetime = _moment()


class RecordLinkRow(SQLModel, table=True):
    """A link of a record type to people in a role, to orders, or to other records; see `core.catalogue.Link`."""

    __tablename__ = "record_link"
    __table_args__ = (UniqueConstraint("workspace_id", "target", "back_key"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    record_type_id: int = Field(foreign_key="record_type.id", index=True)
    name: str
    target: str = "person"
    many: bool = False
    back_name: str
    back_key: str
    position: int = 0


class OptionListRow(SQLModel, table=True):
    """A list of options that several fields use."""

    __tablename__ = "option_list"
    __table_args__ = (UniqueConstraint("workspace_id", "name"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    name: str
    options: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))


class AudienceList(SQLModel, table=True):
    """A set of people kept for a purpose."""

    __tablename__ = "audience_list"
    __table_args__ = (UniqueConstraint("workspace_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    key: str
    name: str
    description: str = ""


class LevelRow(SQLModel, table=True):
    """A membership level; the values of its fields stand in the workspace's own schema. `lasts` is a `LevelEnd`,
    `fee` a `LevelFee`."""

    __tablename__ = "level"
    __table_args__ = (UniqueConstraint("workspace_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    key: str
    name: str
    description: str = ""
    position: int = 0
    lasts: Any = _json(nullable=True)
    fee: Any = _json(nullable=True)


class TagRow(SQLModel, table=True):
    """A tag; after `ends_on` it is taken off everyone."""

    __tablename__ = "tag"
    __table_args__ = (UniqueConstraint("workspace_id", "name"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    name: str
    ends_on: date | None = None


class HouseSchedule(SQLModel, table=True):
    """A house value that takes effect at a moment; `applied` once it has been written into its place."""

    __tablename__ = "house_schedule"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    field_id: int
    value: Any = _json()
    effective_at: datetime = Field(sa_column=Column(DateTime(timezone=True), nullable=False))
    applied: bool = False
    actor: str


class HouseGrant(SQLModel, table=True):
    """Leave for another workspace to set house values of this one, by its forms. `keys` are those allowed."""

    __tablename__ = "house_grant"
    __table_args__ = (UniqueConstraint("workspace_id", "from_slug"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    from_slug: str
    keys: list[str] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))


class HouseMapping(SQLModel, table=True):
    """Which answers of a form set which house values, here or, with `target_slug`, in another workspace.

    `pairs` is a list of [id of the field asked, key of the house value]. Nothing is set before somebody of the staff
    has `allowed` it, since anybody may fill in a form. `who` may then: anyone · yes (it waits for a yes of the staff) ·
    known (who came by a personal link) · segment:7 (known people of a segment).
    """

    __tablename__ = "house_mapping"
    __table_args__ = (UniqueConstraint("workspace_id", "form_id", "target_slug"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    form_id: int
    target_slug: str = ""
    pairs: list[list[Any]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    allowed: bool = False
    who: str = "anyone"


class Task(SQLModel, table=True):
    """Long work: what it is, how far it has come, how it ended.

    `state`: waiting · running · done · failed · stopped.
    """

    __tablename__ = "task"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    kind: str
    title: str
    state: str = "waiting"
    done: int = 0
    total: int = 0
    message: str = ""
    payload: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    result: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    actor: str
    started_at: datetime = _moment()


class Upload(SQLModel, table=True):
    """A file that was sent for a field, on a form or (0) in the office, and waits to be kept.

    The token is known to its sender alone.
    """

    __tablename__ = "upload"
    token: str = Field(primary_key=True)
    workspace_id: int = _workspace()
    digest: str
    name: str
    media_type: str
    size: int
    width: int = 0
    height: int = 0
    field_id: int = 0
    form_id: int = 0
    at: datetime = _moment()


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
    """A published version; never changed, but for stored values of options that are renamed everywhere."""

    __tablename__ = "form_version"
    form_id: int = Field(foreign_key="form.id", primary_key=True)
    number: int = Field(primary_key=True)
    workspace_id: int = _workspace()
    document: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    published_by: str
    published_at: datetime = _moment()


class NamedCheckRow(SQLModel, table=True):
    """A check that many questions use; see `core.forms.checks.OwnCheck`."""

    __tablename__ = "named_check"
    __table_args__ = (UniqueConstraint("workspace_id", "name"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    name: str
    settings: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))


class FormCase(SQLModel, table=True):
    """A kept rehearsal of a form: the circumstances, the answers, and what is expected to come of them."""

    __tablename__ = "form_case"
    __table_args__ = (UniqueConstraint("form_id", "name"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    form_id: int = Field(foreign_key="form.id", index=True)
    name: str
    circumstances: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    answers: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    expected: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))


class OutboxMessage(SQLModel, table=True):
    """A message that would be sent; the stand-in for delivery keeps it here."""

    __tablename__ = "outbox"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    person_id: int = Field(sa_column=Column(BigInteger, nullable=False))
    kind: str
    recipient: str
    subject: str
    body: str
    link: str = ""
    at: datetime = _moment()


class Decision(SQLModel, table=True):
    """Something about a person that waits to be decided, by themself or by the staff; see `services/filling/decisions`.

    `kind`: known_email · new_address · house_values · asked_change · approval · conversation. `asked` is what the kind
    needs to know; what came by a conversation has no form.
    `state`: waiting · applied · refused · taken (a new address that somebody else has by now).
    """

    __tablename__ = "decision"
    __table_args__ = (
        Index("ix_decision_person", "workspace_id", "person_id"),
        Index("ix_decision_waiting", "workspace_id", "at", postgresql_where=text("state = 'waiting'")),
    )
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    kind: str
    person_id: int = Field(sa_column=Column(BigInteger, nullable=False))
    form_id: int | None = Field(default=None, foreign_key="form.id", ondelete="CASCADE")
    submission_id: int | None = Field(default=None, foreign_key="submission.id", ondelete="CASCADE")
    asked: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    state: str = "waiting"
    at: datetime = _moment()
    decided_by: str = ""
    decided_at: datetime | None = Field(default=None, sa_column=Column(DateTime(timezone=True)))


class Arrivals(SQLModel, table=True):
    """How often somebody sent something within a stretch of time; `who` is a hash, never an address."""

    __tablename__ = "arrivals"
    workspace_id: int = Field(foreign_key="workspace.id", primary_key=True)
    who: str = Field(primary_key=True)
    since: datetime = Field(sa_column=Column(DateTime(timezone=True), primary_key=True))
    times: int = 1


class Segment(SQLModel, table=True):
    """The people for whom a condition is true; an empty one admits everyone. `key` names it in other conditions;
    `owner` is who made it."""

    __tablename__ = "segment"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    key: str
    name: str
    description: str = ""
    expression: str = ""
    folder: str = ""
    owner: str = ""
    revision: int = 1
    position: int = 0
    created_at: datetime = _moment()


class SegmentSize(SQLModel, table=True):
    """How many people a segment had on a day, of how many in all."""

    __tablename__ = "segment_size"
    segment_id: int = Field(primary_key=True)
    day: date = Field(primary_key=True)
    workspace_id: int = _workspace()
    people: int
    everyone: int


class KeptField(SQLModel, table=True):
    """A derived field whose values are kept in a table of their own, `kept_<field>_<generation>`.

    They are good while `meaning` is what they would be worked out from today and the state is ready. Of those `checked`
    last, so many `differed` from what is worked out.
    """

    __tablename__ = "kept_field"
    field_id: int = Field(primary_key=True)
    workspace_id: int = _workspace()
    state: str = "building"
    meaning: str = ""
    generation: int = 0
    built_to: int = 0
    people: int = 0
    seconds: float = 0
    built_at: datetime | None = Field(default=None, sa_column=Column(DateTime(timezone=True)))
    task_id: int = 0
    checked: int = 0
    differed: int = 0
    checked_at: datetime | None = Field(default=None, sa_column=Column(DateTime(timezone=True)))


class PeopleView(SQLModel, table=True):
    """A way of looking at the list of people: which columns, which people, in which order."""

    __tablename__ = "people_view"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    name: str
    state: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    position: int = 0
    created_at: datetime = _moment()


class BulkChange(SQLModel, table=True):
    """One change of a value for many people at once, or one letter to many: `what` it was; its lines of the history
    have this moment.

    It is `applied`, or taken back. A key counts `once`; `people` is how many changed, `change_id` what undoes it.
    """

    __tablename__ = "bulk_change"
    __table_args__ = (UniqueConstraint("workspace_id", "once"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    once: str
    what: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    applied: bool = False
    people: int = 0
    change_id: int = 0
    task_id: int = 0
    at: datetime = _moment()


class DismissedFinding(SQLModel, table=True):
    """A finding that somebody has looked at and meant so, with the reason; `place` tells those of one field apart."""

    __tablename__ = "dismissed_finding"
    __table_args__ = (UniqueConstraint("workspace_id", "code", "field_id", "place"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    code: str
    field_id: int
    place: str
    message: str
    reason: str
    actor: str
    at: datetime = _moment()


class Submission(SQLModel, table=True):
    """One sent form. The key was made when the form was opened; a key counts once.

    `state`: stored · held (the email was known already, so that the answers waited for a decision).
    """

    __tablename__ = "submission"
    __table_args__ = (
        UniqueConstraint("form_id", "key"),
        Index("ix_submission_arrived", "workspace_id", "received_at", "id"),
    )
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    form_id: int = Field(foreign_key="form.id")
    version: int
    key: str
    person_id: int = Field(sa_column=Column(BigInteger, nullable=False, index=True))
    state: str
    answers: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    records: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    charges: list[list[Any]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    received_at: datetime = Field(default_factory=_now, sa_column=Column(DateTime(timezone=True), nullable=False))


class ShopRow(SQLModel, table=True):
    """What the shop of a workspace sells and how it is taxed, as `core.commerce.shop` has it.

    `checkout` is the form that it uses, 0 for the first that is in force.
    """

    __tablename__ = "shop"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = Field(
        sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False, unique=True)
    )
    document: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    checkout: int = 0


class CartRow(SQLModel, table=True):
    """A cart of the stand-in shop, known by its `key` alone. `lines` is a list of [product, variant, quantity]."""

    __tablename__ = "cart"
    __table_args__ = (
        Index("ux_cart", "workspace_id", "key", unique=True),
        Index("ix_cart_changed", "workspace_id", "changed_at"),
    )
    id: int | None = Field(default=None, sa_column=Column(BigInteger, primary_key=True))
    workspace_id: int = Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False))
    key: str
    lines: list[list[Any]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    changed_at: datetime = _moment()


class CheckoutRow(SQLModel, table=True):
    """What was answered at the checkout with a cart so far, and the ways of delivery and payment that were chosen.

    `order_id` is the order that was placed with the lines `ordered`, 0 for none.
    """

    __tablename__ = "checkout"
    __table_args__ = (
        Index("ux_checkout", "workspace_id", "cart", unique=True),
        Index("ix_checkout_changed", "workspace_id", "changed_at"),
    )
    id: int | None = Field(default=None, sa_column=Column(BigInteger, primary_key=True))
    workspace_id: int = Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False))
    cart: str
    delivery: str = ""
    payment: str = ""
    answers: dict[str, str] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    order_id: int = Field(default=0, sa_column=Column(BigInteger, nullable=False))
    ordered: list[list[Any]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    changed_at: datetime = _moment()


class OrderRow(SQLModel, table=True):
    """An order: what was charged, as it was charged. Values of its fields stand in the table of orders’ values.

    `state`: held · awaiting_payment · placed · packed · sent · cancelled. `number` counts without gaps; `key` is that
    of the filling-in. `returned` says how many pieces of each line were refunded. `person_id` is 0 as long as nobody
    has confirmed whose it is. `filled` is the checkout as it was filled in, and corrected since; see
    `services.commerce.filled`. `revision` counts corrections, `asked_again` how often another payment was begun.
    `total` is in the smallest unit, as is `due`: what a correction has added and nobody has paid yet. `gives` is the
    membership level that it is for; see `services.commerce.giving`.
    """

    __tablename__ = "shop_order"
    __table_args__ = (
        Index("ux_shop_order_number", "workspace_id", "number", unique=True),
        Index("ux_shop_order_key", "workspace_id", "form_id", "key", unique=True),
        Index("ix_shop_order_person", "workspace_id", "person_id", "id"),
        Index("ix_shop_order_total", "workspace_id", "total", "id"),
        Index("ix_shop_order_due", "workspace_id", "id", postgresql_where=text("due > 0")),
    )
    id: int | None = Field(default=None, sa_column=Column(BigInteger, primary_key=True))
    workspace_id: int = Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False))
    number: int
    key: str
    form_id: int
    submission_id: int | None = None
    person_id: int = Field(default=0, sa_column=Column(BigInteger, nullable=False))
    email: str = ""
    state: str
    bill: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    returned: dict[str, int] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    filled: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    gives: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    total: int = Field(sa_column=Column(BigInteger, nullable=False))
    due: int = Field(default=0, sa_column=Column(BigInteger, nullable=False))
    asked_again: int = 0
    revision: int = 0
    placed_at: datetime = _moment()


class PageRow(SQLModel, table=True):
    """A member page: its draft, see `core.pages.definition`, and the number of the version in force, 0 for none."""

    __tablename__ = "member_page"
    __table_args__ = (UniqueConstraint("workspace_id", "slug"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    slug: str
    draft: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    published: int = 0
    revision: int = 0


class PageVersion(SQLModel, table=True):
    """A published version of a member page."""

    __tablename__ = "member_page_version"
    page_id: int = Field(foreign_key="member_page.id", ondelete="CASCADE", primary_key=True)
    number: int = Field(primary_key=True)
    workspace_id: int = _workspace()
    document: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    at: datetime = _moment()
    actor: str = ""


class ApprovalRow(SQLModel, table=True):
    """Who waits for approval before a level or a role is theirs: where `waits_when` is true. `texts` are what they are
    told (waiting, asked, approved, declined), `tell` is the address of staff that is told; `holds` names the
    levels and roles whose orders are held meanwhile, `level.steward`."""

    __tablename__ = "approval"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = Field(
        sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False, unique=True)
    )
    waits_when: str = ""
    texts: dict[str, str] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    tell: str = ""
    holds: list[str] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))


class MemberAccount(SQLModel, table=True):
    """A person who has signed in, or was asked to. Without a `password_hash` a link in a message is the way in."""

    __tablename__ = "member_account"
    __table_args__ = (Index("ux_member_account", "workspace_id", "person_id", unique=True),)
    id: int | None = Field(default=None, sa_column=Column(BigInteger, primary_key=True))
    workspace_id: int = Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False))
    person_id: int = Field(sa_column=Column(BigInteger, nullable=False))
    password_hash: str = ""
    last_in: datetime | None = Field(default=None, sa_column=Column(DateTime(timezone=True)))
    at: datetime = _moment()


class MemberSession(SQLModel, table=True):
    """A browser that somebody is signed in with, known by the hash of its token; `browser` is what it calls itself."""

    __tablename__ = "member_session"
    __table_args__ = (
        Index("ux_member_session", "workspace_id", "token_hash", unique=True),
        Index("ix_member_session_person", "workspace_id", "person_id"),
    )
    id: int | None = Field(default=None, sa_column=Column(BigInteger, primary_key=True))
    workspace_id: int = Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False))
    person_id: int = Field(sa_column=Column(BigInteger, nullable=False))
    token_hash: str
    browser: str = ""
    begun_at: datetime = _moment()
    seen_at: datetime = _moment()
    ends_at: datetime = _moment()


class MemberLink(SQLModel, table=True):
    """A link that signs somebody in, once, known by the hash of its token."""

    __tablename__ = "member_link"
    __table_args__ = (
        Index("ux_member_link", "workspace_id", "token_hash", unique=True),
        Index("ix_member_link_person", "workspace_id", "person_id"),
    )
    id: int | None = Field(default=None, sa_column=Column(BigInteger, primary_key=True))
    workspace_id: int = Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False))
    person_id: int = Field(sa_column=Column(BigInteger, nullable=False))
    token_hash: str
    ends_at: datetime = _moment()
    used_at: datetime | None = Field(default=None, sa_column=Column(DateTime(timezone=True)))


class PersonalLinkRow(SQLModel, table=True):
    """A link that messages and pages can hold as `{link.key}`: which form or chat it opens, and how. `days` is how
    long one is good for, `once` whether it can be used only once, `only_missing` whether the form asks only what is not
    known."""

    __tablename__ = "personal_link"
    __table_args__ = (UniqueConstraint("workspace_id", "key"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    key: str
    name: str
    form_id: int | None = Field(default=None, foreign_key="form.id", ondelete="CASCADE")
    script_id: int | None = Field(default=None, foreign_key="chat_script.id", ondelete="CASCADE")
    only_missing: bool = False
    days: int = 30
    once: bool = False


class IssuedLink(SQLModel, table=True):
    """A personal link of one person, known by the hash of its token. `link_id` is the kind it is of, 0 for one that the
    product sent by itself; `used` is how often the form was sent by it."""

    __tablename__ = "issued_link"
    __table_args__ = (
        Index("ux_issued_link", "workspace_id", "token_hash", unique=True),
        Index("ix_issued_link_person", "workspace_id", "person_id", "id"),
        Index("ix_issued_link_of", "workspace_id", "link_id"),
    )
    id: int | None = Field(default=None, sa_column=Column(BigInteger, primary_key=True))
    workspace_id: int = Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False))
    link_id: int = 0
    form_id: int = 0
    script_id: int = Field(default=0, sa_column_kwargs={"server_default": "0"})
    person_id: int = Field(sa_column=Column(BigInteger, nullable=False))
    token_hash: str
    only_missing: bool = False
    once: bool = False
    at: datetime = _moment()
    ends_at: datetime = _moment()
    used: int = 0
    used_at: datetime | None = Field(default=None, sa_column=Column(DateTime(timezone=True)))
    revoked_at: datetime | None = Field(default=None, sa_column=Column(DateTime(timezone=True)))


class ChatScriptRow(SQLModel, table=True):
    """A chat script: its draft, see `core.chat.script`, and the number of the version in force, 0 for none."""

    __tablename__ = "chat_script"
    __table_args__ = (UniqueConstraint("workspace_id", "slug"),)
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    slug: str
    draft: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    published: int = 0
    revision: int = 0


class ChatScriptVersion(SQLModel, table=True):
    """A published version of a chat script."""

    __tablename__ = "chat_script_version"
    script_id: int = Field(foreign_key="chat_script.id", ondelete="CASCADE", primary_key=True)
    number: int = Field(primary_key=True)
    workspace_id: int = _workspace()
    document: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    at: datetime = _moment()
    actor: str = ""


class ChatCase(SQLModel, table=True):
    """A trial of a script that is kept: what was replied, as whom (None for somebody new), and what came of it."""

    __tablename__ = "chat_case"
    id: int | None = Field(default=None, primary_key=True)
    workspace_id: int = _workspace()
    script_id: int = Field(foreign_key="chat_script.id", ondelete="CASCADE", index=True)
    name: str
    replies: list[str] = Field(sa_column=Column(JSONB, nullable=False))
    person: dict[str, Any] | None = Field(default=None, sa_column=Column(JSONB))
    expected: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))


class Conversation(SQLModel, table=True):
    """A conversation: known to a browser by the hash of its token, on the text channel by the `address` of the other.

    `person_id` is who it is about, 0 for nobody yet; `confirmed` tells that it is them. `mode` is that of its state,
    see `core.chat.journal`; `waits_since` is since when it wants a clerk, `note` why, `clerk` who has it. `due_at` is
    when a wait, or the silence, has lasted long enough.
    """

    __tablename__ = "conversation"
    __table_args__ = (
        Index("ux_conversation", "workspace_id", "token_hash", unique=True),
        Index("ix_conversation_script", "workspace_id", "script_id", "last_at"),
        Index("ix_conversation_person", "workspace_id", "person_id", "id"),
        Index("ix_conversation_address", "workspace_id", "address", "id", postgresql_where=text("address <> ''")),
        Index("ix_conversation_desk", "workspace_id", "waits_since", postgresql_where=text("mode = 'clerk'")),
        Index("ix_conversation_due", "due_at", postgresql_where=text("due_at IS NOT NULL")),
    )
    id: int | None = Field(default=None, sa_column=Column(BigInteger, primary_key=True))
    workspace_id: int = Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False))
    script_id: int
    token_hash: str
    person_id: int = Field(default=0, sa_column=Column(BigInteger, nullable=False))
    confirmed: bool = False
    channel: str = "web"
    address: str = ""
    mode: str = "script"
    state: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    note: str = ""
    clerk: str = ""
    begun_at: datetime = _moment()
    last_at: datetime = _moment()
    waits_since: datetime | None = Field(default=None, sa_column=Column(DateTime(timezone=True)))
    due_at: datetime | None = Field(default=None, sa_column=Column(DateTime(timezone=True)))


class ConversationLine(SQLModel, table=True):
    """Something said: by the `house`, the `person` or a `clerk`. `more` has what goes with it: a picture, a link, the
    answers of a sum-up. A secret is never kept here."""

    __tablename__ = "conversation_line"
    __table_args__ = (
        Index("ix_conversation_line_of", "conversation_id", "id"),
        Index("ix_conversation_line_workspace", "workspace_id"),
    )
    id: int | None = Field(default=None, sa_column=Column(BigInteger, primary_key=True))
    workspace_id: int = Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False))
    conversation_id: int = Field(
        sa_column=Column(BigInteger, ForeignKey("conversation.id", ondelete="CASCADE"), nullable=False)
    )
    speaker: str
    kind: str
    text: str
    more: dict[str, Any] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    at: datetime = _moment()


class PaymentRow(SQLModel, table=True):
    """A payment of the stand-in, by the key that was given when it was started. `refunds` are amounts by their keys.

    `state`: started · declined · approved · paid.
    """

    __tablename__ = "payment"
    __table_args__ = (Index("ux_payment", "workspace_id", "key", unique=True),)
    id: int | None = Field(default=None, sa_column=Column(BigInteger, primary_key=True))
    workspace_id: int = Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False))
    key: str
    amount: int = Field(sa_column=Column(BigInteger, nullable=False))
    returned: int = Field(default=0, sa_column=Column(BigInteger, nullable=False))
    state: str = "started"
    refunds: dict[str, int] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    at: datetime = _moment()


class History(SQLModel, table=True):
    """Every change of every value, append-only.

    `entity_id` is of the person, record, order or level that `about` says; 0 for the
    house. A change of a link has the link's id, made negative, as `field_id`.
    """

    __tablename__ = "history"
    __table_args__ = (
        Index("ix_history_entity", "workspace_id", "about", "entity_id", "field_id", "id"),
        Index("ix_history_field", "workspace_id", "field_id", "at"),
        Index("ix_history_at", "workspace_id", "at"),
    )
    id: int | None = Field(default=None, sa_column=Column(BigInteger, Identity(), primary_key=True))
    workspace_id: int = Field(sa_column=Column(Integer, ForeignKey("workspace.id", ondelete="CASCADE"), nullable=False))
    about: str = "person"
    entity_id: int = Field(sa_column=Column(BigInteger, nullable=False))
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
    "segment_size",
    "kept_field",
    "submission",
    "history",
    "definition_change",
    "record_type",
    "record_link",
    "option_list",
    "audience_list",
    "level",
    "tag",
    "house_schedule",
    "house_grant",
    "house_mapping",
    "task",
    "upload",
    "named_check",
    "form_case",
    "outbox",
    "arrivals",
    "decision",
    "people_view",
    "bulk_change",
    "dismissed_finding",
    "shop",
    "cart",
    "checkout",
    "shop_order",
    "payment",
    "member_account",
    "member_session",
    "member_link",
    "approval",
    "member_page",
    "member_page_version",
    "personal_link",
    "issued_link",
    "chat_script",
    "chat_script_version",
    "chat_case",
    "conversation",
    "conversation_line",
)
"""Tables behind row-level security: only rows of the transaction's workspace are seen."""
