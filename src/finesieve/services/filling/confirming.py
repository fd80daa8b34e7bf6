"""Letters that ask somebody to confirm: held answers, a new address. Nothing counts before they have."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from sqlmodel import col, select

from finesieve.core.errors import NotFound
from finesieve.core.fields.about import PERSON
from finesieve.services.filling.held import apply_held
from finesieve.services.kernel.links import Links
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.value_lines import record_lines, show_past
from finesieve.services.values.writing import change_person
from finesieve.standins.mail import Letter, post
from finesieve.store.reading.rows import find_by_email, stored_row
from finesieve.store.tables import EmailChange, FormRow, Submission, Workspace

__all__ = [
    "AddressView",
    "Confirmation",
    "ask_about_address",
    "ask_about_answers",
    "confirm_address",
    "confirm_answers",
    "read_address",
    "read_answers",
]

_INCOMPLETE: Final = "This link is incomplete or has expired. Copy it from the message again."


@dataclass(frozen=True, slots=True)
class Confirmation:
    """A held sign-up, as the one who follows the link in the letter sees it: what they sent, nothing else.

    `state` is held, applied or set_aside.
    """

    house: str
    title: str
    lines: tuple[tuple[str, str], ...]
    state: str
    me: str = ""


@dataclass(frozen=True, slots=True)
class AddressView:
    """A change of somebody's address: from `old` to `new`; `state` is waiting, done, refused or taken."""

    house: str
    old: str
    new: str
    state: str
    other: str


def _house(unit: Unit) -> str:
    return unit.session.exec(select(Workspace.name).where(col(Workspace.id) == unit.workspace_id)).one()


def _path(unit: Unit, form_id: int, rest: str) -> str:
    row = unit.session.get(FormRow, form_id)
    slug = unit.session.exec(select(Workspace.slug).where(col(Workspace.id) == unit.workspace_id)).one()
    return f"/join/{slug}/{row.slug if row else ''}/{rest}"


# Held answers


def ask_about_answers(unit: Unit, links: Links, submission: Submission, title: str, email: str) -> None:
    """The letter that asks whether these answers are theirs; it says nothing of what is known."""
    token = links.give("held", unit.moment.now, submission.id)
    body = (
        f"Somebody has filled in “{title}” with your address. If it was you, follow the link "
        "and say so; then the answers count. If it was not, do nothing: nothing changes."
    )
    link = _path(unit, submission.form_id, f"confirm?letter={token}")
    letter = Letter("confirm", email, f"Your answers to {_house(unit)}", body, link)
    post(unit.session, unit.workspace_id, submission.person_id, letter, unit.moment.now)


def _held(unit: Unit, links: Links, form: FormRow, token: str) -> Submission:
    parts = links.read("held", unit.moment.now, token)
    row = unit.session.get(Submission, parts[0], with_for_update=True) if parts else None
    if row is None or row.form_id != form.id:
        raise NotFound(_INCOMPLETE)
    return row


def read_answers(unit: Unit, links: Links, form: FormRow, token: str) -> Confirmation:
    """What a letter's link leads to. Raises NotFound for one that is not ours, or has run out."""
    row = _held(unit, links, form, token)
    lines = [
        (known.label, show_past(known, row.answers[known.key]))
        for known in unit.catalogue.stored_about(PERSON)
        if known.key in row.answers and known.type.kind != "secret"
    ]
    lines += record_lines(unit, row.records, lambda known: known.type.kind != "secret")
    return Confirmation(_house(unit), str(form.draft["title"]), tuple(lines), row.state)


def confirm_answers(unit: Unit, links: Links, form: FormRow, token: str, *, mine: bool) -> Confirmation:
    """Let held answers count, or set them aside; once only. Raises NotFound, and Conflict where one fits no more.

    `me` of the result is a personal link's token: whoever has said that the answers are theirs, and reads this
    mailbox, may see what is kept of them.
    """
    row = _held(unit, links, form, token)
    if row.state == "held":
        apply_held(unit, row, "form, confirmed by mail", apply=mine)
    good = mine and row.state == "applied"
    me = links.give("me", unit.moment.now, row.form_id, row.person_id) if good else ""
    return Confirmation(_house(unit), str(form.draft["title"]), (), row.state, me)


# A new address


def ask_about_address(unit: Unit, links: Links, form_id: int, person_id: int, new: str) -> None:
    """Ask at the old address and at the new one. An earlier change that still waits is taken back."""
    stored = stored_row(unit.session, unit.definitions, PERSON, person_id) or {}
    old = str(stored.get("email") or "")
    waiting = select(EmailChange).where(col(EmailChange.person_id) == person_id, col(EmailChange.state) == "waiting")
    for earlier in unit.session.exec(waiting).all():
        earlier.state = "refused"
        unit.session.add(earlier)
    row = EmailChange(workspace_id=unit.workspace_id, form_id=form_id, person_id=person_id, old=old, new=new)
    unit.session.add(row)
    unit.session.flush()
    for side, recipient in (("old", old), ("new", new)):
        token = links.give("address", unit.moment.now, row.id, side)
        body = (
            f"Somebody asked us to write to {new} instead of {old}. If it was you, follow the link and say so: "
            "the change counts once it is confirmed at both addresses. If it was not, do nothing."
        )
        link = _path(unit, form_id, f"address?letter={token}")
        letter = Letter("address", recipient, f"Your address at {_house(unit)}", body, link)
        post(unit.session, unit.workspace_id, person_id, letter, unit.moment.now)


def _change(unit: Unit, links: Links, form: FormRow, token: str) -> tuple[EmailChange, str]:
    parts = links.read("address", unit.moment.now, token)
    row = unit.session.get(EmailChange, parts[0], with_for_update=True) if parts else None
    if row is None or parts is None or row.form_id != form.id:
        raise NotFound(_INCOMPLETE)
    return row, str(parts[1])


def _view(unit: Unit, row: EmailChange, side: str) -> AddressView:
    other = row.new if side == "old" else row.old
    return AddressView(_house(unit), row.old, row.new, row.state, other)


def read_address(unit: Unit, links: Links, form: FormRow, token: str) -> AddressView:
    """What the link in a letter about a new address leads to. Raises NotFound."""
    row, side = _change(unit, links, form, token)
    return _view(unit, row, side)


def confirm_address(unit: Unit, links: Links, form: FormRow, token: str, *, wanted: bool) -> AddressView:
    """Say yes or no to a new address at one of the two; it counts once both have said yes. Raises NotFound."""
    row, side = _change(unit, links, form, token)
    if row.state == "waiting":
        if not wanted:
            row.state = "refused"
        elif side == "old":
            row.confirmed_old = True
        else:
            row.confirmed_new = True
        if row.state == "waiting" and row.confirmed_old and row.confirmed_new:
            row.state = _applied(unit, row)
        unit.session.add(row)
    return _view(unit, row, side)


def _applied(unit: Unit, row: EmailChange) -> str:
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id)
    if stored is None or stored.get("email") != row.old:
        return "refused"
    holder = find_by_email(unit.session, unit.definitions, row.new)
    if holder is not None and holder != row.person_id:
        return "taken"
    change_person(unit, row.person_id, {"email": row.new}, "form, confirmed by mail at both addresses")
    return "done"


def waiting_addresses(unit: Unit, person_id: int) -> Sequence[str]:
    """The new addresses of a person that wait to be confirmed."""
    query = select(EmailChange.new).where(col(EmailChange.person_id) == person_id, col(EmailChange.state) == "waiting")
    return unit.session.exec(query).all()
