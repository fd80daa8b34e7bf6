"""What people do with their own account: sign in and out, set a password, see where they are signed in."""

import json
import secrets
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from functools import cache
from typing import Any, Final

from pwdlib.hashers.argon2 import Argon2Hasher
from sqlalchemy import delete
from sqlmodel import col, select

from finesieve.core.commerce.facts import STATES
from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import ORDER, PERSON
from finesieve.core.forms.wording import Wording
from finesieve.core.model.level_ends import LEVEL_ENDS
from finesieve.core.values import StoredFile, fold
from finesieve.services.accounts.tries import count_try, forgive_try
from finesieve.services.commerce.answers import Answered, answers_at
from finesieve.services.commerce.charged import money_of, more_to_pay
from finesieve.services.filling.approval import what_waits
from finesieve.services.kernel.arrivals import count_arrival
from finesieve.services.kernel.hashing import Hasher
from finesieve.services.kernel.links import Links
from finesieve.services.kernel.scope import Clock, Scope, Unit, public_scope
from finesieve.services.people.accounts import (
    account_form,
    begin_session,
    form_for_levels,
    hashed,
    open_account,
    send_link,
    use_link,
)
from finesieve.services.people.personal_links import issue
from finesieve.services.values.files import OpenedFile
from finesieve.services.values.value_lines import linked_records, person_name, value_lines
from finesieve.services.values.writing import row_of
from finesieve.store.connection.database import Store
from finesieve.store.files.keeping import FileStore
from finesieve.store.reading.rows import find_by_email, stored_row
from finesieve.store.tables import MemberAccount, MemberSession, OrderRow

__all__ = ["MemberAccounts", "MemberOrder", "MemberSessionLine", "MemberView", "SignedInMember", "WaysIn"]

_SHORTEST: Final = 10
_LONGEST: Final = 200
_SEEN: Final = timedelta(minutes=10)
_ORDERS: Final = 20
_PASSWORDS: Final = Argon2Hasher()


@dataclass(frozen=True, slots=True)
class SignedInMember:
    """A person who is signed in, with which session, and when that ends (in seconds since 1970)."""

    person_id: int
    session_id: int
    ends: int
    name: str


@dataclass(frozen=True, slots=True)
class MemberSessionLine:
    """A browser that somebody is signed in with; `here` is the one that asks."""

    id: int
    browser: str
    begun_at: datetime
    seen_at: datetime
    here: bool


@dataclass(frozen=True, slots=True)
class MemberOrder:
    """An order of theirs, with the token of its page; `to_pay` is what is still to be paid."""

    number: int
    at: datetime
    said: str
    total: str
    to_pay: str
    token: str
    answered: Answered


@dataclass(frozen=True, slots=True)
class WaysIn:
    """How a person signs in: the browsers that are signed in now, and whether there is a password."""

    sessions: tuple[MemberSessionLine, ...]
    has_password: bool
    zone: str


@dataclass(frozen=True, slots=True)
class MemberView:
    """What stands on the account of a person around the form of it. `level_ends` is the last day of their level,
    `level_form` the short name of the form by which they move to another or renew it, "" for none; `waits` what of
    theirs waits for approval, as (what it is, what they asked for)."""

    name: str
    level: str
    level_ends: date | None
    orders: tuple[MemberOrder, ...]
    zone: str
    level_form: str = ""
    waits: tuple[tuple[str, str], ...] = ()


class MemberAccounts:
    """The accounts of the people of all workspaces, by the short name of each. A session is known by its token.

    `fast_hashes` makes password checks cheap and weak; for tests only.
    """

    def __init__(self, store: Store, clock: Clock, secret: str, *, fast_hashes: bool = False) -> None:
        self._store, self._clock, self._links = store, clock, Links(secret)
        self._hasher = Hasher(_PASSWORDS, cheap=fast_hashes)

    def form_of(self, slug: str) -> tuple[str, str, str]:
        """The house's name and locale, and the short name of the form of its account page. Raises NotFound."""
        scope, house = self._scope(slug)
        with scope.reading("public") as unit:
            form = account_form(unit)
            if form is None:
                raise NotFound("There is no such page.")
            return house, unit.manner.language, form.slug

    # Signing in and out

    def count_asking(self, slug: str, came_from: str) -> None:
        """Count that somebody asks for a link. Raises NotFound, and TooOften."""
        self.form_of(slug)
        scope, _ = self._scope(slug)
        count_arrival(scope, "sign-in", came_from)

    def ask_link(self, slug: str, email: str, say: Wording) -> None:
        """Send a link to whoever has this email, if anybody; to be done after the answer has gone out."""
        scope, _ = self._scope(slug)
        with scope.transaction("public") as unit:
            person = find_by_email(unit.session, unit.definitions, email.strip()) if email.strip() else None
            if person and account_form(unit) is not None:
                send_link(unit, person, say)

    def knows_link(self, slug: str, token: str) -> bool:
        """Whether a link still signs somebody in; looking does not use it."""
        scope, _ = self._scope(slug)
        with scope.reading("public") as unit:
            return bool(use_link(unit, token, use=False))

    def enter(self, slug: str, token: str, browser: str) -> str:
        """Sign in by a link; gives the token of the session. Raises NotFound for one that does not work (any more)."""
        scope, _ = self._scope(slug)
        with scope.transaction("public") as unit:
            person = use_link(unit, token)
            if not person:
                raise NotFound("This link has been used already, or has expired. Ask for a new one.")
            return begin_session(unit, person, browser)

    def sign_in(self, slug: str, email: str, password: str, came_from: str, browser: str) -> str:
        """Sign in by a password; gives the token of the session.

        Raises InvalidInput where they do not fit, TooOften where it is too soon. It takes as long for an email that
        nobody has.
        """
        scope, _ = self._scope(slug)
        email = fold(email.strip())[:254]
        counted = count_try(self._store, self._clock(), came_from, f"account:{scope.workspace_id}:{email}")
        with scope.reading("public") as unit:
            person = find_by_email(unit.session, unit.definitions, email) if email else None
            known = self._account(unit, person or 0)
            kept = known.password_hash if known is not None else ""
        fits = self._hasher.verify(password[:_LONGEST], kept or self._unknown_hash())
        if not person or not kept or not fits:
            raise InvalidInput({"": "That email and password do not belong together."})
        forgive_try(self._store, counted)
        with scope.transaction("public") as unit:
            return begin_session(unit, person, browser)

    @cache  # noqa: B019 - one small value for the life of the one instance
    def _unknown_hash(self) -> str:
        return self._hasher.hash(secrets.token_urlsafe(8))

    def who(self, slug: str, token: str) -> SignedInMember | None:
        """Who is signed in with this session, None for nobody (any more)."""
        if not token:
            return None
        try:
            scope, _ = self._scope(slug)
        except NotFound:
            return None
        with scope.reading("public") as unit:
            row = self._session(unit, token)
            values = stored_row(unit.session, unit.definitions, PERSON, row.person_id) if row is not None else None
            if row is None or values is None:
                return None
            found = SignedInMember(row.person_id, row.id or 0, int(row.ends_at.timestamp()), person_name(values))
            stale = row.seen_at < unit.moment.now - _SEEN
        if stale:
            with scope.transaction("public") as unit:
                row = self._session(unit, token)
                if row is not None:
                    row.seen_at = unit.moment.now
                    unit.session.add(row)
        return found

    def _session(self, unit: Unit, token: str) -> MemberSession | None:
        query = select(MemberSession).where(
            col(MemberSession.token_hash) == hashed(token), col(MemberSession.ends_at) > unit.moment.now
        )
        return unit.session.exec(query).first()

    def end_sessions(self, slug: str, member: SignedInMember, session_id: int = 0, *, others: bool = False) -> None:
        """End one session of theirs, or all others than this."""
        scope, _ = self._scope(slug)
        with scope.transaction("public") as unit:
            own = delete(MemberSession).where(col(MemberSession.person_id) == member.person_id)
            here = col(MemberSession.id) == (session_id or member.session_id)
            unit.session.execute(own.where(~here if others else here))

    # Passwords

    def set_password(self, slug: str, member: SignedInMember, password: str, current: str = "") -> None:
        """Set a password, or ("") take it away; other browsers are signed out.

        Raises InvalidInput by `password` and `current`: whoever has one must give it. Raises TooOften.
        """
        scope, _ = self._scope(slug)
        with scope.reading("public") as unit:
            known = self._account(unit, member.person_id)
            kept = known.password_hash if known is not None else ""
        if kept:
            # Whoever sits down at a browser that is signed in must not try out the password at their leisure.
            counted = count_try(self._store, self._clock(), "", f"account:{scope.workspace_id}:{member.person_id}")
            if not self._hasher.verify(current[:_LONGEST], kept):
                raise InvalidInput({"current": "That is not your password."})
            forgive_try(self._store, counted)
        if password and not _SHORTEST <= len(password) <= _LONGEST:
            raise InvalidInput({"password": f"Choose a password of at least {_SHORTEST} characters."})
        new = self._hasher.hash(password) if password else ""
        with scope.transaction("public") as unit:
            account = open_account(unit, member.person_id)
            account.password_hash = new
            unit.session.add(account)
        self.end_sessions(slug, member, others=True)

    def link_to(self, slug: str, member: SignedInMember, key: str) -> str:
        """The address of a new personal link of whoever is signed in. Raises NotFound, TooOften."""
        scope, _ = self._scope(slug)
        count_arrival(scope, "link", f"person:{member.person_id}")
        with scope.transaction("public") as unit:
            address = issue(unit, member.person_id)(key)
            if not address:
                raise NotFound("There is no such page.")
            return address

    def _account(self, unit: Unit, person_id: int) -> MemberAccount | None:
        query = select(MemberAccount).where(col(MemberAccount.person_id) == person_id)
        return unit.session.exec(query).first()

    # What stands on the account

    def view(self, slug: str, member: SignedInMember, say: Wording) -> MemberView:
        """What stands around the form of the account page."""
        scope, _ = self._scope(slug)
        with scope.reading("public") as unit:
            stored = stored_row(unit.session, unit.definitions, PERSON, member.person_id) or {}
            level = next((one for one in unit.catalogue.levels if one.key == stored.get("level")), None)
            ends = stored.get(LEVEL_ENDS) if level is not None and level.lasts is not None else None
            orders = tuple(self._orders(unit, member.person_id, say))
            held = level.name if level is not None else ""
            last = ends if isinstance(ends, date) else None
            view = MemberView(member.name, held, last, orders, str(unit.moment.zone))
            if not unit.catalogue.levels and "role" not in unit.catalogue.by_key:
                return view
            return replace(view, level_form=form_for_levels(unit), waits=what_waits(unit, member.person_id))

    def ways_in(self, slug: str, member: SignedInMember) -> WaysIn:
        """How somebody signs in: whether by a password too, and with which browsers they are."""
        scope, _ = self._scope(slug)
        with scope.reading("public") as unit:
            known = self._account(unit, member.person_id)
            mine = select(MemberSession).where(
                col(MemberSession.person_id) == member.person_id, col(MemberSession.ends_at) > unit.moment.now
            )
            sessions = tuple(
                MemberSessionLine(
                    row.id or 0, _browser_name(row.browser), row.begun_at, row.seen_at, row.id == member.session_id
                )
                for row in unit.session.exec(mine.order_by(col(MemberSession.seen_at).desc()).limit(50)).all()
            )
            return WaysIn(sessions, bool(known is not None and known.password_hash), str(unit.moment.zone))

    def _orders(self, unit: Unit, person_id: int, say: Wording) -> list[MemberOrder]:
        query = select(OrderRow).where(col(OrderRow.person_id) == person_id).order_by(col(OrderRow.id).desc())
        return [
            MemberOrder(
                row.number, row.placed_at, STATES[row.state], money_of(unit, row, row.total),
                money_of(unit, row, more_to_pay(row)) if more_to_pay(row) else "",
                self._links.give("order", unit.moment.now, row.id), answers_at(unit, row, "account", say=say),
            )
            for row in unit.session.exec(query.limit(_ORDERS)).all()
        ]  # fmt: skip

    def everything(self, slug: str, member: SignedInMember) -> str:
        """All that is kept of a person and may be shown to them, as JSON."""
        scope, house = self._scope(slug)
        with scope.reading("public") as unit:
            stored = stored_row(unit.session, unit.definitions, PERSON, member.person_id) or {}
            records = [
                {"is": known.singular, "title": title, **_shown(unit, known.about, record_id)}
                for known, record_id, title in linked_records(unit, PERSON, member.person_id)
            ]
            mine = select(OrderRow).where(col(OrderRow.person_id) == member.person_id).order_by(col(OrderRow.id))
            orders = [
                {
                    "number": row.number, "placed": row.placed_at.isoformat(), "state": STATES[row.state],
                    "total": money_of(unit, row, row.total), "lines": [one["label"] for one in row.bill["lines"]],
                    **_shown(unit, ORDER, row.id or 0),
                }
                for row in unit.session.exec(mine.limit(5_000)).all()
            ]  # fmt: skip
            names = {one.key: one.name for one in (*unit.catalogue.lists, *unit.catalogue.levels)}
            lists: Any = stored.get("lists") or ()
            kept = {
                "house": house,
                "made_at": unit.moment.now.isoformat(),
                "you": _shown(unit, PERSON, member.person_id),
                "level": names.get(str(stored.get("level") or ""), ""),
                "lists": [names.get(one, one) for one in lists],
                "records": records,
                "orders": orders,
            }
            return json.dumps(kept, indent=2, ensure_ascii=False)

    def file_of(self, slug: str, member: SignedInMember, field_id: int, files: FileStore) -> OpenedFile:
        """A file that is kept of whoever is signed in, but for what is private to staff. Raises NotFound."""
        scope, _ = self._scope(slug)
        with scope.reading("public") as unit:
            field = unit.catalogue.by_id.get(field_id)
            told = field is not None and (PERSON, field.key) not in unit.catalogue.not_for_the_person
            stored = stored_row(unit.session, unit.definitions, PERSON, member.person_id) if told else None
            value = stored.get(field.key) if stored and field is not None and field.about == PERSON else None
        data = files.read(scope.workspace_id, value.digest) if isinstance(value, StoredFile) else None
        if not isinstance(value, StoredFile) or data is None:
            raise NotFound("There is no such file.")
        return OpenedFile(value, data)

    def _scope(self, slug: str) -> tuple[Scope, str]:
        return public_scope(self._store, slug, self._clock)


def _shown(unit: Unit, about: str, row_id: int) -> Mapping[str, str]:
    """The values of one thing as its person may see them, by label: nothing private to staff, no secrets."""
    row = row_of(unit, about, row_id, stored_row(unit.session, unit.definitions, about, row_id) or {})
    return {
        line.field.label: line.shown
        for _, lines in value_lines(unit, about, row)
        for line in lines
        if line.shown
        and (about, line.field.key) not in unit.catalogue.not_for_the_person
        and line.field.value_type.kind != "secret"
    }


_BROWSERS: Final = {"Edg": "Edge", "OPR": "Opera", "Firefox": "Firefox", "Chrome": "Chrome", "Safari": "Safari"}
_SYSTEMS: Final = {
    "Windows": "Windows", "Android": "Android", "iPhone": "iPhone", "iPad": "iPad", "Mac OS": "Mac", "Linux": "Linux",
}  # fmt: skip


def _browser_name(told: str) -> str:
    """A browser as people call it, from what it calls itself: `Firefox, Windows`; the first that fits counts."""
    names = (next((name for sign, name in known.items() if sign in told), "") for known in (_BROWSERS, _SYSTEMS))
    return ", ".join(name for name in names if name)
