"""Personal links as they are sent: each opens a form as one person, for a time, and never signs in."""

import hashlib
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Final

from sqlmodel import col, delete, select, update

from finesieve.core.errors import Conflict, NotFound
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.store.tables import ChatScriptRow, FormRow, IssuedLink, PersonalLinkRow

__all__ = [
    "LINK_SIGN",
    "PersonsLink",
    "found_by",
    "give_link",
    "is_good",
    "issue",
    "links_of_person",
    "revoke_link",
    "sweep_links",
    "token_for",
    "use_link_once",
]

LINK_SIGN: Final = "p."
"""What every token of a personal link begins with."""
_BYTES: Final = 16
"""128 bits: nobody guesses one."""
_USUALLY: Final = timedelta(days=30)
_SHOWN: Final = 50
_REMEMBERED: Final = timedelta(days=365)


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def token_for(
    unit: Unit,
    form_id: int,
    person_id: int,
    *,
    script_id: int = 0,
    link_id: int = 0,
    only_missing: bool = False,
    once: bool = False,
    lasts: timedelta = _USUALLY,
) -> str:
    """A new link of one person; only the hash of its token is kept."""
    token = LINK_SIGN + secrets.token_urlsafe(_BYTES)
    now = unit.moment.now
    unit.session.add(
        IssuedLink(
            workspace_id=unit.workspace_id, link_id=link_id, form_id=form_id, script_id=script_id, person_id=person_id,
            token_hash=_hash(token), only_missing=only_missing, once=once, at=now, ends_at=now + lasts,
        )
    )  # fmt: skip
    return token


def issue(unit: Unit, person_id: int) -> Callable[[str], str]:
    """What gives the address of a new personal link of somebody, by its key; of one key the same within one text."""
    given: dict[str, str] = {}

    def address(key: str) -> str:
        if key not in given:
            found = unit.session.exec(select(PersonalLinkRow).where(col(PersonalLinkRow.key) == key)).first()
            given[key] = _address(unit, found, person_id) if found is not None else ""
        return given[key]

    return address


def _address(unit: Unit, kind: PersonalLinkRow, person_id: int) -> str:
    opened: FormRow | ChatScriptRow | None = (
        unit.session.get(FormRow, kind.form_id) if kind.form_id else unit.session.get(ChatScriptRow, kind.script_id)
    )
    if opened is None:
        return ""
    way = "join" if isinstance(opened, FormRow) else "chat"
    token = token_for(
        unit, kind.form_id or 0, person_id, script_id=kind.script_id or 0, link_id=kind.id or 0,
        only_missing=kind.only_missing, once=kind.once, lasts=timedelta(days=kind.days),
    )  # fmt: skip
    return f"/{way}/{unit.workspace.slug}/{opened.slug}?me={token}"


def found_by(unit: Unit, token: str) -> IssuedLink | None:
    """The link of a token; None for one that is not known."""
    return unit.session.exec(select(IssuedLink).where(col(IssuedLink.token_hash) == _hash(token[:200]))).first()


def is_good(link: IssuedLink | None, now: datetime) -> bool:
    """Whether a link can be used: it has not run out, was not taken back, nor used where that is once only."""
    return (
        link is not None and link.revoked_at is None and now < link.ends_at and not (link.once and link.used)
    )  # fmt: skip


def use_link_once(unit: Unit, link_id: int) -> None:
    """Count that a form was sent by a link. Raises Conflict where it works only once and was used meanwhile."""
    link = unit.session.get(IssuedLink, link_id, with_for_update=True, populate_existing=True)
    if link is None or not is_good(link, unit.moment.now):
        raise Conflict("This link has been used already.")
    link.used, link.used_at = link.used + 1, unit.moment.now
    unit.session.add(link)


def sweep_links(scope: Scope) -> int:
    """Forget links that ran out, or were taken back, more than a year ago; gives how many."""
    with scope.transaction("owner") as unit:
        end = unit.moment.now - _REMEMBERED
        old = (col(IssuedLink.ends_at) < end) | (col(IssuedLink.revoked_at) < end)
        return int(unit.session.exec(delete(IssuedLink).where(old)).rowcount)


# As the staff see them


@dataclass(frozen=True, slots=True)
class PersonsLink:
    """A link that somebody has been given: of which kind, to which form, and what has become of it."""

    id: int
    name: str
    form: str
    at: datetime
    ends_at: datetime
    used: int
    once: bool
    good: bool
    revoked: bool


def links_of_person(scope: Scope, person_id: int) -> tuple[PersonsLink, ...]:
    """The links that somebody has been given, the newest first."""
    with scope.reading("reader") as unit:
        mine = select(IssuedLink).where(col(IssuedLink.person_id) == person_id).order_by(col(IssuedLink.id).desc())
        rows = unit.session.exec(mine.limit(_SHOWN)).all()
        if not rows:
            return ()
        names = {one.id: one.name for one in unit.catalogue.personal_links}
        forms = unit.session.exec(select(FormRow).where(col(FormRow.id).in_({row.form_id for row in rows}))).all()
        titles = {form.id: str(form.draft["title"]) for form in forms}
        wanted = select(ChatScriptRow).where(col(ChatScriptRow.id).in_({row.script_id for row in rows}))
        talks = {one.id: str(one.draft["title"]) for one in unit.session.exec(wanted).all()}
        return tuple(
            PersonsLink(
                row.id or 0, names.get(row.link_id, ""), titles.get(row.form_id) or talks.get(row.script_id, ""),
                row.at, row.ends_at, row.used,
                row.once, is_good(row, unit.moment.now), row.revoked_at is not None,
            )
            for row in rows
        )  # fmt: skip


def give_link(scope: Scope, person_id: int, key: str) -> str:
    """A new link of somebody, for staff to hand on; gives its address, which is shown once. Raises NotFound."""
    with scope.transaction("clerk") as unit:
        address = issue(unit, person_id)(key)
        if not address:
            raise NotFound("There is no such personal link.")
        return address


def revoke_link(scope: Scope, person_id: int, issued_id: int) -> None:
    """Take back a link of somebody: it does not work any more. Raises NotFound."""
    with scope.transaction("clerk") as unit:
        done = unit.session.exec(
            update(IssuedLink)
            .where(col(IssuedLink.id) == issued_id, col(IssuedLink.person_id) == person_id)
            .values(revoked_at=unit.moment.now)
        )
        if not done.rowcount:
            raise NotFound("There is no such link.")
