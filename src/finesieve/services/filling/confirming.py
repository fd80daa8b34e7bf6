"""Messages that ask somebody to confirm: answers, a new address. Nothing counts before they have."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any, Final

from sqlmodel import col, select

from finesieve.core.errors import NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.forms.definition import Form
from finesieve.core.forms.joining import Joining
from finesieve.core.forms.wording import Wording, wording_of
from finesieve.core.phrases import phrase
from finesieve.services.filling.decisions import ask_for, conclude
from finesieve.services.filling.kinds import State
from finesieve.services.filling.known_email import KNOWN_EMAIL
from finesieve.services.filling.new_address import NEW_ADDRESS
from finesieve.services.kernel.links import Links
from finesieve.services.kernel.scope import Unit
from finesieve.services.people.personal_links import token_for
from finesieve.services.values.value_lines import record_lines, show_past
from finesieve.standins.mail import Letter, post
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import Decision, FormRow, FormVersion, Submission

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
    """Answers that wait, as the one who follows the link in the message sees them: what they sent, nothing else."""

    house: str
    title: str
    lines: tuple[tuple[str, str], ...]
    state: str
    me: str = ""


@dataclass(frozen=True, slots=True)
class AddressView:
    """A change of somebody's address, from `old` to `new`; `other` is the address that was not asked here."""

    house: str
    old: str
    new: str
    state: str
    other: str


def _path(unit: Unit, form_id: int, rest: str) -> str:
    row = unit.session.get(FormRow, form_id)
    return f"/join/{unit.workspace.slug}/{row.slug if row else ''}/{rest}"


def _decision(unit: Unit, form: FormRow, kind: str, decision_id: object) -> Decision:
    row = unit.session.get(Decision, decision_id, with_for_update=True)
    if row is None or row.form_id != form.id or row.kind != kind:
        raise NotFound(_INCOMPLETE)
    return row


# Answers


def ask_about_answers(
    unit: Unit,
    links: Links,
    sent: Submission,
    form: Form,
    joining: Joining,
    passing: Iterable[str],
    say: Wording,
    email: str,
    order_link: str = "",
) -> None:
    """Let the answers wait, and ask whether they are theirs; the message says nothing of what is known.

    `passing` are the keys of answers that are not kept on the person; `order_link` leads to the order they came with.
    """
    asked: dict[str, Any] = {"passing": sorted(passing)} | ({"order_link": order_link} if order_link else {})
    asked |= {"joins": sorted(joining.joins), "leaves": sorted(joining.leaves)} if joining else {}
    row = ask_for(unit, KNOWN_EMAIL, sent.person_id, sent.form_id, sent.id, asked)
    token = links.give("answers", unit.moment.now, row.id)
    body = say(
        phrase(
            "Somebody has filled in “{title}” with your address. If it was you, follow the link and say so; "
            "then the answers count. If it was not, do nothing: nothing changes.",
            title=form.title,
        )
    )
    link = _path(unit, sent.form_id, f"confirm?lang={say.language}&letter={token}")
    subject = say(phrase("Your answers to {house}", house=unit.workspace.name))
    post(
        unit.session, unit.workspace_id, sent.person_id, Letter("confirm", email, subject, body, link), unit.moment.now
    )


def _asked_about(unit: Unit, links: Links, form: FormRow, token: str) -> Decision:
    parts = links.read("answers", unit.moment.now, token)
    if not parts:
        raise NotFound(_INCOMPLETE)
    return _decision(unit, form, KNOWN_EMAIL.key, parts[0])


def read_answers(unit: Unit, links: Links, form: FormRow, token: str, *languages: str) -> Confirmation:
    """What a message's link leads to, in the words of the form. Raises NotFound for one not ours, or ended."""
    row = _asked_about(unit, links, form, token)
    submission = unit.session.get(Submission, row.submission_id)
    if submission is None:
        raise NotFound(_INCOMPLETE)
    document, say = _words(unit, form, submission.version, languages)
    asked = {question.field_id: question.label for question in document.questions}
    lines = [
        (say(asked.get(field.id) or field.label), say(show_past(field, submission.answers[field.key])))
        for field in unit.catalogue.stored_about(PERSON)
        if field.key in submission.answers and field.type.kind != "secret"
    ]
    lines += record_lines(unit, submission.records, lambda field: field.type.kind != "secret")
    return Confirmation(unit.workspace.name, say(document.title), tuple(lines), row.state)


def _words(unit: Unit, form: FormRow, version: int, languages: Sequence[str]) -> tuple[Form, Wording]:
    row = unit.session.get(FormVersion, (form.id, version))
    document = Form.model_validate(row.document if row else form.draft)
    return document, wording_of(document, *languages)


def confirm_answers(unit: Unit, links: Links, form: FormRow, token: str, *languages: str, mine: bool) -> Confirmation:
    """Let the answers count, or not; once only. Raises NotFound, and Conflict where one fits no more.

    `me` of the result is a personal link's token: whoever has said that the answers are theirs, and reads this
    mailbox, may see what is kept of them.
    """
    row = _asked_about(unit, links, form, token)
    conclude(unit, row, "form, confirmed by mail", apply=mine)
    good = mine and row.state == "applied"
    me = token_for(unit, row.form_id or 0, row.person_id) if good else ""
    submission = unit.session.get(Submission, row.submission_id)
    document, say = _words(unit, form, submission.version if submission else form.published, languages)
    return Confirmation(unit.workspace.name, say(document.title), (), row.state, me)


# A new address


def ask_about_address(unit: Unit, links: Links, form_id: int, say: Wording, person_id: int, new: str) -> None:
    """Ask at the old address and at the new one. An earlier change that still waits is taken back."""
    stored = stored_row(unit.session, unit.definitions, PERSON, person_id) or {}
    old = str(stored.get("email") or "")
    waiting = select(Decision).where(
        col(Decision.person_id) == person_id, col(Decision.state) == "waiting", col(Decision.kind) == NEW_ADDRESS.key
    )
    for earlier in unit.session.exec(waiting).all():
        conclude(unit, earlier, "", apply=False)
    row = ask_for(unit, NEW_ADDRESS, person_id, form_id, asked={"old": old, "new": new, "confirmed": []})
    for side, recipient in (("old", old), ("new", new)):
        token = links.give("address", unit.moment.now, row.id, side)
        body = say(
            phrase(
                "Somebody asked us to write to {new} instead of {old}. If it was you, follow the link and say so: the "
                "change counts once it is confirmed at both addresses. If it was not, do nothing.",
                new=new,
                old=old,
            )
        )
        link = _path(unit, form_id, f"address?lang={say.language}&letter={token}")
        subject = say(phrase("Your address at {house}", house=unit.workspace.name))
        post(
            unit.session,
            unit.workspace_id,
            person_id,
            Letter("address", recipient, subject, body, link),
            unit.moment.now,
        )


def _change(unit: Unit, links: Links, form: FormRow, token: str) -> tuple[Decision, str]:
    parts = links.read("address", unit.moment.now, token)
    if not parts:
        raise NotFound(_INCOMPLETE)
    return _decision(unit, form, NEW_ADDRESS.key, parts[0]), str(parts[1])


def _view(unit: Unit, row: Decision, side: str) -> AddressView:
    old, new = row.asked["old"], row.asked["new"]
    return AddressView(unit.workspace.name, old, new, row.state, new if side == "old" else old)


def read_address(unit: Unit, links: Links, form: FormRow, token: str) -> AddressView:
    """What the link in a message about a new address leads to. Raises NotFound."""
    row, side = _change(unit, links, form, token)
    return _view(unit, row, side)


def confirm_address(unit: Unit, links: Links, form: FormRow, token: str, *, wanted: bool) -> AddressView:
    """Say yes or no to a new address at one of the two; it counts once both have said yes. Raises NotFound."""
    row, side = _change(unit, links, form, token)
    state: State = row.state  # type: ignore[assignment]  # written by `conclude` alone
    if state == "waiting" and not wanted:
        conclude(unit, row, "", apply=False)
    elif state == "waiting":
        confirmed = sorted({*row.asked["confirmed"], side})
        row.asked = {**row.asked, "confirmed": confirmed}
        unit.session.add(row)
        if confirmed == ["new", "old"]:
            conclude(unit, row, "form, confirmed by mail at both addresses", apply=True)
    return _view(unit, row, side)
