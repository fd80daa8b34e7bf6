"""A letter to many people: looked at first, then written by a task, to each in words of their own, and once."""

import secrets
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Final

from pydantic import Field as Bounds
from sqlmodel import col, select

from finesieve.core.errors import Conflict, FineSieveError, InvalidInput, TookTooLong
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.built_in import CONSENTS
from finesieve.core.forms.definition import Form
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.reader import reader_world
from finesieve.core.values import Value
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.tasks import Progress, Stopped, begin_task, work_of
from finesieve.services.kernel.texts import refuse_texts
from finesieve.services.people.bulk import AT_ONCE, Chosen, ids_of
from finesieve.services.people.listing import Listing
from finesieve.services.people.messages import fill_message
from finesieve.services.values.value_lines import person_name
from finesieve.standins.mail import Letter, post
from finesieve.store.reading.rows import rows_by_ids
from finesieve.store.tables import BulkChange, FormRow, FormVersion, PersonalLinkRow

__all__ = ["LetterInput", "LetterPlan", "asking_for", "asks_consent", "plan_letter", "write_to_many"]

_BATCH: Final = 100
"""So many letters are written in one transaction."""
_AGREED: Final = next(one.given for one in CONSENTS if one.channel == "email")


class LetterInput(Input):
    """What is written: placeholders are filled for each reader. With `agreed` only to those who agreed to emails."""

    subject: str = Bounds(default="", max_length=200)
    text: str = Bounds(default="", max_length=5_000)
    agreed: bool = True


@dataclass(frozen=True, slots=True)
class LetterPlan:
    """Who would get it, of `looked_at` people: `readers` would; the others have no email, or have not agreed. `more`
    tells that there are others, of whom the same can be expected. `name`, `subject` and `body` are as the first reads
    it, with an address of nobody for their personal link."""

    looked_at: int
    readers: int
    no_email: int
    not_agreed: int
    more: bool
    name: str = ""
    subject: str = ""
    body: str = ""


def asks_consent(catalogue: Catalogue) -> bool:
    """Whether the house asks people if they agree to emails."""
    return _AGREED in catalogue.by_key


def asking_for(scope: Scope, keys: Sequence[str]) -> LetterInput:
    """A letter that asks for these answers, by the personal link whose form asks most of them and only what is missing.

    What is private to staff is not asked for.
    """
    with scope.reading("editor") as unit:
        known = [unit.catalogue.by_key[key] for key in keys if key in unit.catalogue.by_key]
        known = [one for one in known if (PERSON, one.key) not in unit.catalogue.not_for_the_person]
        asked = _and([one.label for one in known]) or "a few things"
        link, house = _link_that_asks(unit, {one.id for one in known}), unit.workspace.name
        lines = [
            'Hello {first_name else "neighbour"},',
            f"we would like to know from you: {asked}.".replace("{", "{{").replace("}", "}}"),
            f"You can answer here: {{link.{link}}}" if link else "Just reply to this email.",
            house.replace("{", "{{").replace("}", "}}"),
        ]
        subject = f"A question from {house}"[:200].replace("{", "").replace("}", "")
        return LetterInput(subject=subject, text="\n\n".join(lines), agreed=False)


def _and(words: Sequence[str]) -> str:
    return " and ".join(part for part in (", ".join(words[:-1]), *words[-1:]) if part)


def _link_that_asks(unit: Unit, wanted: set[int]) -> str:
    """The key of the link whose form, as it is in force, asks most of these fields; "" where none asks any."""
    query = (
        select(PersonalLinkRow.key, FormVersion.document)
        .join(FormRow, col(FormRow.id) == col(PersonalLinkRow.form_id))
        .join(FormVersion, col(FormVersion.form_id) == col(FormRow.id))
        .where(col(PersonalLinkRow.only_missing), col(FormVersion.number) == col(FormRow.published))
        .order_by(col(PersonalLinkRow.id))
    )
    found = [
        (len(wanted & {question.field_id for question in Form.model_validate(document).questions}), key)
        for key, document in unit.session.exec(query).all()
    ]
    most, key = max(found, key=lambda pair: pair[0], default=(0, ""))
    return key if most else ""


def _checked(unit: Unit, asked: LetterInput) -> None:
    """Raises InvalidInput for a letter that says nothing, or whose placeholders cannot work."""
    missing = {name: "Write something." for name in ("subject", "text") if not getattr(asked, name).strip()}
    if missing:
        raise InvalidInput(missing)
    refuse_texts(unit, {"subject": asked.subject, "text": asked.text}, reader_world(unit.catalogue))


def _why_not(unit: Unit, asked: LetterInput, stored: dict[str, Value]) -> str:
    """Why somebody gets no letter; "" for whoever does."""
    if not stored.get("email"):
        return "no_email"
    return "not_agreed" if asked.agreed and asks_consent(unit.catalogue) and stored.get(_AGREED) is not True else ""


def plan_letter(scope: Scope, chosen: Chosen, asked: LetterInput) -> LetterPlan:
    """Who would get a letter, looked at for the first thousand people, and as the first of them would read it.

    Nothing is written. Raises InvalidInput.
    """
    with scope.reading("editor") as unit:
        _checked(unit, asked)
        ids = ids_of(unit, chosen, None, AT_ONCE + 1)
        rows = _rows(unit, ids[:AT_ONCE])
        why = {one: _why_not(unit, asked, row) for one, row in rows.items()}
        count = list(why.values()).count
        plan = LetterPlan(len(rows), count(""), count("no_email"), count("not_agreed"), len(ids) > AT_ONCE)
        first = next((one for one in ids if why.get(one) == ""), None)
        if first is None:
            return plan
        said = _filled(unit, asked, first, rows[first], lambda _key: f"/join/{unit.workspace.slug}/…")
        return LetterPlan(
            plan.looked_at, plan.readers, plan.no_email, plan.not_agreed, plan.more, person_name(rows[first]), *said
        )


def _rows(unit: Unit, ids: list[int]) -> dict[int, dict[str, Value]]:
    keys = [field.key for field in unit.catalogue.stored] + ["tags", "lists", "level"]
    found = rows_by_ids(unit.session, unit.definitions, PERSON, keys, ids)
    return {one: dict(found[one]) for one in ids if one in found}


def write_to_many(scope: Scope, chosen: Chosen, asked: LetterInput, once: str = "") -> int:
    """Have a worker write to them; gives the id of the task. `once` is a key that the preview was given: sent twice
    with it, it counts once. Raises InvalidInput."""
    once = once or secrets.token_urlsafe(12)
    try:
        with scope.transaction("editor") as unit:
            _checked(unit, asked)
            what = {"what": "write", **asked.model_dump(mode="json")}
            row = BulkChange(workspace_id=unit.workspace_id, once=once, what=what, at=unit.moment.now)
            unit.session.add(row)
            unit.session.flush()
            listing = chosen.listing.model_dump(mode="json") if chosen.listing else None
            payload = {"bulk": row.id, "ids": list(chosen.ids), "listing": listing}
            row.task_id = begin_task(unit, "letters", f"Write “{asked.subject}”", payload)
            unit.session.add(row)
            return row.task_id
    except Conflict:
        # The other click came first.
        with scope.reading("editor") as unit:
            found = unit.session.exec(select(BulkChange).where(col(BulkChange.once) == once)).first()
            if found is None:
                raise
            return found.task_id


@work_of("letters")
def _write(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Batch by batch, each with how far it came, so that nobody gets it twice; what was written when it is stopped is
    written."""
    listing = Listing.model_validate(payload["listing"]) if payload["listing"] else None
    chosen = Chosen(tuple(payload["ids"]), listing)
    before_id, looked_at = payload.get("before"), int(payload.get("looked_at", 0))
    try:
        while True:
            with scope.transaction("owner") as unit:
                row = unit.session.get(BulkChange, payload["bulk"], with_for_update=True)
                if row is None or row.applied:
                    return {"message": _told(unit, row.people if row else 0)}
                asked = LetterInput.model_validate({key: one for key, one in row.what.items() if key != "what"})
                ids = ids_of(unit, chosen, before_id, _BATCH)
                row.people += _written(unit, asked, ids)
                row.applied = len(ids) < _BATCH
                unit.session.add(row)
                before_id, looked_at = ids[-1] if ids else before_id, looked_at + len(ids)
                progress.keep(unit, before=before_id, looked_at=looked_at)
            progress.say(looked_at, looked_at if row.applied else looked_at + _BATCH)
    except (Stopped, InvalidInput, TookTooLong) as why:
        # What has been written by then stays written, and is said.
        with scope.separate("owner") as unit:
            row = unit.session.get(BulkChange, payload["bulk"])
            said = _told(unit, row.people if row else 0)
        if isinstance(why, Stopped):
            raise Stopped(f"It was stopped. {said}") from None
        raise FineSieveError(f"{why} {said}") from why


def _written(unit: Unit, asked: LetterInput, ids: list[int]) -> int:
    rows = {one: row for one, row in _rows(unit, ids).items() if not _why_not(unit, asked, row)}
    for one, stored in rows.items():
        subject, body = _filled(unit, asked, one, stored)
        letter = Letter("written", str(stored["email"]), subject, body)
        post(unit.session, unit.workspace_id, one, letter, unit.moment.now)
    return len(rows)


def _filled(
    unit: Unit, asked: LetterInput, person_id: int, stored: dict[str, Value], link: Callable[[str], str] | None = None
) -> tuple[str, str]:
    """The subject, which is one line whatever stands in a placeholder, and the text, as somebody reads them."""
    subject, body = (fill_message(unit, text, person_id, stored, link) for text in (asked.subject, asked.text))
    return " ".join(subject.split()), body


def _told(unit: Unit, people: int) -> str:
    return f"Written to {unit.manner.figure(people)} {'person' if people == 1 else 'people'}."
