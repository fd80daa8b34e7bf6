"""Accounts of people: who may sign in, the links that let them, the browsers that they are signed in with."""

import hashlib
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Final

from sqlalchemy import delete, func
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import col, select

from finesieve.core.errors import NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.forms.wording import Wording, wording_without_form
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.core.phrases import phrase
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.standins.mail import Letter, post
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import FormRow, FormVersion, MemberAccount, MemberLink, MemberSession

__all__ = [
    "LINK_ENDS",
    "AccountOfPerson",
    "account_form",
    "begin_session",
    "end_sessions_of",
    "form_for_levels",
    "hashed",
    "open_account",
    "read_account",
    "send_link",
    "send_link_to",
    "sign_in_path",
    "use_link",
]

LINK_ENDS: Final = timedelta(hours=1)
_SESSION_ENDS: Final = timedelta(days=30)
_MOST_LINKS: Final = 5
"""So many links wait for one person at once; a further one is not sent."""


def hashed(token: str) -> str:
    """What is kept of a token: whoever reads the database cannot use it."""
    return hashlib.sha256(token.encode()).hexdigest()


def account_form(unit: Unit) -> FormRow | None:
    """The form by which people see and change what is kept of them: the first in force; None where nobody signs in."""
    query = select(FormRow).where(col(FormRow.channel) == "account", col(FormRow.published) > 0)
    return unit.session.exec(query.order_by(col(FormRow.id)).limit(1)).first()


def form_for_levels(unit: Unit) -> str:
    """The short name of the form by which people move to another level or renew theirs: the first sign-up in force that
    asks for the level, "" for none."""
    in_force = (col(FormVersion.form_id) == col(FormRow.id)) & (col(FormVersion.number) == col(FormRow.published))
    asks = col(FormVersion.document).contains({"sections": [{"items": [{"field_id": LEVEL_QUESTION}]}]})
    query = select(FormRow.slug).join(FormVersion, in_force).where(col(FormRow.channel) == "sign-up", asks)
    return unit.session.exec(query.order_by(col(FormRow.id)).limit(1)).first() or ""


def open_account(unit: Unit, person_id: int) -> MemberAccount:
    """The account of a person, made where there is none; locked until the transaction ends."""
    made = insert(MemberAccount).values(
        workspace_id=unit.workspace_id, person_id=person_id, password_hash="", at=unit.moment.now
    )
    unit.session.execute(made.on_conflict_do_nothing())
    query = select(MemberAccount).where(col(MemberAccount.person_id) == person_id)
    return unit.session.exec(query.with_for_update()).one()


def sign_in_path(unit: Unit, person_id: int, language: str) -> str:
    """The path of a new link that signs a person in, once, within the hour; "" where there is no account page."""
    if account_form(unit) is None:
        return ""
    token = secrets.token_urlsafe(32)
    ends = unit.moment.now + LINK_ENDS
    unit.session.add(
        MemberLink(workspace_id=unit.workspace_id, person_id=person_id, token_hash=hashed(token), ends_at=ends)
    )
    slug = unit.workspace.slug
    return f"/account/{slug}/enter?lang={language}&link={token}"


def send_link(unit: Unit, person_id: int, say: Wording) -> bool:
    """Write to a person with a link that signs them in, once, within the hour; whether one went out.

    None does to somebody without an email, or for whom several wait already.
    """
    now = unit.moment.now
    unit.session.execute(delete(MemberLink).where(col(MemberLink.ends_at) < now - timedelta(days=1)))
    open_account(unit, person_id)
    live = select(func.count()).select_from(MemberLink).where(
        col(MemberLink.person_id) == person_id, col(MemberLink.ends_at) > now, col(MemberLink.used_at).is_(None)
    )  # fmt: skip
    email = (stored_row(unit.session, unit.definitions, PERSON, person_id) or {}).get("email")
    if not isinstance(email, str) or unit.session.exec(live).one() >= _MOST_LINKS:
        return False
    subject = say(phrase("Sign in at {house}", house=unit.workspace.name))
    body = say(
        phrase("Follow the link to sign in. It works once, and within one hour. If you did not ask for it, do nothing.")
    )
    letter = Letter("sign_in", email, subject, body, sign_in_path(unit, person_id, say.language))
    post(unit.session, unit.workspace_id, person_id, letter, now)
    return True


@dataclass(frozen=True, slots=True)
class AccountOfPerson:
    """What staff see of somebody's account: when they last signed in, None for never, and in how many browsers they
    are signed in; `ready` is whether there is an account page at all."""

    ready: bool
    last_in: datetime | None
    browsers: int


def read_account(scope: Scope, person_id: int) -> AccountOfPerson:
    """The account of a person, as staff see it."""
    with scope.reading("reader") as unit:
        account = unit.session.exec(select(MemberAccount).where(col(MemberAccount.person_id) == person_id)).first()
        live = select(func.count()).select_from(MemberSession).where(
            col(MemberSession.person_id) == person_id, col(MemberSession.ends_at) > unit.moment.now
        )  # fmt: skip
        last = account.last_in if account is not None else None
        return AccountOfPerson(account_form(unit) is not None, last, unit.session.exec(live).one())


def send_link_to(scope: Scope, person_id: int) -> bool:
    """Send a person a link to sign in by, as one of the staff; whether one went out. Raises NotFound."""
    with scope.transaction("clerk") as unit:
        if stored_row(unit.session, unit.definitions, PERSON, person_id) is None or account_form(unit) is None:
            raise NotFound("There is no such person, or no account page.")
        return send_link(unit, person_id, wording_without_form(unit.manner.language[:2]))


def end_sessions_of(scope: Scope, person_id: int) -> None:
    """Sign a person out everywhere, as one of the staff; links that wait do not work any more."""
    with scope.transaction("clerk") as unit:
        unit.session.execute(delete(MemberSession).where(col(MemberSession.person_id) == person_id))
        unit.session.execute(delete(MemberLink).where(col(MemberLink.person_id) == person_id))


def use_link(unit: Unit, token: str, *, use: bool = True) -> int:
    """Whose link this is, 0 for none, or one that was used or has ended; from now on it is used."""
    query = select(MemberLink).where(col(MemberLink.token_hash) == hashed(token))
    row = unit.session.exec(query.with_for_update() if use else query).first()
    if row is None or row.used_at is not None or row.ends_at <= unit.moment.now:
        return 0
    if use:
        row.used_at = unit.moment.now
        unit.session.add(row)
    return row.person_id


def begin_session(unit: Unit, person_id: int, browser: str) -> str:
    """Sign a person in with a browser; gives the token of the session. Sessions that have ended are removed."""
    now, token = unit.moment.now, secrets.token_urlsafe(32)
    unit.session.execute(delete(MemberSession).where(col(MemberSession.ends_at) <= now))
    account = open_account(unit, person_id)
    account.last_in = now
    unit.session.add(account)
    unit.session.add(
        MemberSession(
            workspace_id=unit.workspace_id, person_id=person_id, token_hash=hashed(token), browser=browser[:200],
            begun_at=now, seen_at=now, ends_at=now + _SESSION_ENDS,
        )
    )  # fmt: skip
    return token
