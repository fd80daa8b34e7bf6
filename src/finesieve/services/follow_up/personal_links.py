"""Kinds of personal links: made, changed, counted, and all that were sent taken back at once."""

from dataclasses import dataclass

from pydantic import Field as Bounds
from sqlmodel import col, func, select, update

from finesieve.core.errors import InvalidInput, NotFound, Overtaken
from finesieve.core.fields.keys import key_from_label
from finesieve.core.limits import NAME
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.usage.uses import Use, uses_of
from finesieve.store.definitions.catalogue import touch
from finesieve.store.tables import ChatScriptRow, FormRow, IssuedLink, PersonalLinkRow

__all__ = [
    "PersonalLinkInput",
    "PersonalLinkLine",
    "change_personal_link",
    "chats_to_open",
    "create_personal_link",
    "forms_to_open",
    "list_personal_links",
    "remove_personal_link",
    "revoke_all",
]

_MOST = 100


class PersonalLinkInput(Input):
    """A kind of personal link as typed: which form or chat it opens, for how many days, once or as often as wanted."""

    name: str = Bounds(min_length=1, max_length=NAME)
    form: int = 0
    script: int = 0
    only_missing: bool = False
    days: int = Bounds(default=30, ge=1, le=3650)
    once: bool = False


@dataclass(frozen=True, slots=True)
class PersonalLinkLine:
    """A kind of personal link with how many were sent, how often forms were sent by them, and how many still work."""

    id: int
    key: str
    asked: PersonalLinkInput
    form: str
    sent: int
    used: int
    open: int
    uses: tuple[Use, ...]


def forms_to_open(scope: Scope) -> tuple[tuple[int, str], ...]:
    """The forms that a personal link can open, by id and title."""
    with scope.reading("reader") as unit:
        # An account is for whoever is signed in, and a checkout belongs to a cart.
        query = select(FormRow).where(col(FormRow.channel) == "sign-up").order_by(col(FormRow.id))
        return tuple((row.id or 0, str(row.draft["title"])) for row in unit.session.exec(query).all())


def chats_to_open(scope: Scope) -> tuple[tuple[int, str], ...]:
    """The chat scripts that a personal link can open, by id and title."""
    with scope.reading("reader") as unit:
        rows = unit.session.exec(select(ChatScriptRow).order_by(col(ChatScriptRow.id))).all()
        return tuple((row.id or 0, str(row.draft["title"])) for row in rows)


def list_personal_links(scope: Scope) -> tuple[PersonalLinkLine, ...]:
    """All kinds, in the order they were made."""
    with scope.reading("reader") as unit:
        now = unit.moment.now
        good = (
            col(IssuedLink.revoked_at).is_(None)
            & (col(IssuedLink.ends_at) > now)
            & (~col(IssuedLink.once) | (col(IssuedLink.used) == 0))
        )
        counted = (
            select(
                col(IssuedLink.link_id), func.count(), func.coalesce(func.sum(col(IssuedLink.used)), 0),
                func.count().filter(good),
            )
            .where(col(IssuedLink.link_id) > 0)
            .group_by(col(IssuedLink.link_id))
        )  # fmt: skip
        counts = {row[0]: row[1:] for row in unit.session.exec(counted).all()}
        uses = uses_of(unit)
        query = (
            select(PersonalLinkRow, FormRow, ChatScriptRow)
            .outerjoin(FormRow, col(FormRow.id) == col(PersonalLinkRow.form_id))
            .outerjoin(ChatScriptRow, col(ChatScriptRow.id) == col(PersonalLinkRow.script_id))
        )
        return tuple(
            PersonalLinkLine(
                row.id or 0, row.key, _input(row), str((form or script).draft["title"]),
                *counts.get(row.id or 0, (0, 0, 0)),
                uses.of_link(row.key),
            )
            for row, form, script in unit.session.exec(query.order_by(col(PersonalLinkRow.id))).all()
        )  # fmt: skip


def _input(row: PersonalLinkRow) -> PersonalLinkInput:
    return PersonalLinkInput(
        name=row.name,
        form=row.form_id or 0,
        script=row.script_id or 0,
        only_missing=row.only_missing,
        days=row.days,
        once=row.once,
    )


def _row(unit: Unit, link_id: int) -> PersonalLinkRow:
    row = unit.session.get(PersonalLinkRow, link_id, with_for_update=True)
    if row is None:
        raise NotFound("There is no such personal link.")
    return row


def _refuse(unit: Unit, asked: PersonalLinkInput, but: int = 0) -> None:
    form = unit.session.get(FormRow, asked.form) if asked.form else None
    script = unit.session.get(ChatScriptRow, asked.script) if asked.script else None
    if form is not None and script is not None:
        raise InvalidInput({"form": "It opens a form or a chat, not both."})
    if script is None and (form is None or form.channel != "sign-up"):
        raise InvalidInput({"form": "Choose the form or the chat that it opens."})
    taken = (one for one in unit.catalogue.personal_links if one.id != but)
    if any(one.name.lower() == asked.name.lower() for one in taken):
        raise InvalidInput({"name": "There is a personal link of this name already."})


def create_personal_link(scope: Scope, asked: PersonalLinkInput) -> int:
    """Make a kind; gives its id. Raises InvalidInput."""
    with scope.transaction("editor") as unit:
        known = unit.catalogue.personal_links
        if len(known) >= _MOST:
            raise InvalidInput({"name": f"There are {_MOST} personal links already."})
        _refuse(unit, asked)
        key = key_from_label(asked.name, {one.key for one in known})
        row = PersonalLinkRow(workspace_id=unit.workspace_id, key=key, name=asked.name)
        _set(unit, row, asked)
        unit.session.flush()
        touch(unit.session, unit.workspace_id)
        return row.id or 0


def change_personal_link(
    scope: Scope, link_id: int, asked: PersonalLinkInput, was: PersonalLinkInput | None = None
) -> int:
    """Change a kind, for links sent from now on; its key stays. Gives the id for undoing.

    Raises NotFound, InvalidInput, and Overtaken where it is no longer as the page showed (`was`).
    """
    with scope.transaction("editor") as unit:
        row = _row(unit, link_id)
        if was is not None and was != _input(row) != asked:
            raise Overtaken("Somebody else has changed this link meanwhile.", ())
        _refuse(unit, asked, link_id)
        before = snapshot(unit, "personal_link", link_id)
        _set(unit, row, asked)
        unit.session.flush()
        touch(unit.session, unit.workspace_id)
        return record_change(unit, "personal_link", link_id, f"Changed the personal link {asked.name}", before)


def _set(unit: Unit, row: PersonalLinkRow, asked: PersonalLinkInput) -> None:
    row.name, row.only_missing = asked.name, asked.only_missing
    row.form_id, row.script_id = asked.form or None, asked.script or None
    row.days, row.once = asked.days, asked.once
    unit.session.add(row)


def remove_personal_link(scope: Scope, link_id: int) -> None:
    """Remove a kind that no text uses; those that were sent do not work any more. Raises NotFound, InvalidInput."""
    with scope.transaction("editor") as unit:
        row = _row(unit, link_id)
        if uses_of(unit).of_link(row.key):
            raise InvalidInput({"": f"“{{link.{row.key}}}” still stands in a text. Take it out there first."})
        _revoke(unit, link_id)
        unit.session.delete(row)
        unit.session.flush()
        touch(unit.session, unit.workspace_id)


def revoke_all(scope: Scope, link_id: int) -> int:
    """Take back all links of a kind that were sent so far; gives how many worked until now. Raises NotFound."""
    with scope.transaction("editor") as unit:
        _row(unit, link_id)
        return _revoke(unit, link_id)


def _revoke(unit: Unit, link_id: int) -> int:
    still = (col(IssuedLink.link_id) == link_id) & col(IssuedLink.revoked_at).is_(None)
    return int(unit.session.exec(update(IssuedLink).where(still).values(revoked_at=unit.moment.now)).rowcount)
