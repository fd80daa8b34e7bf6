"""What waits for a decision, of whatever kind: asked once, decided once, by whom it concerns or by the staff."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Final

from sqlmodel import col, select

from finesieve.core.errors import Conflict, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.values import Value
from finesieve.services.filling.approval import APPROVAL, as_asked, tell_waiting, waiting_approval
from finesieve.services.filling.asked_change import ASKED_CHANGE
from finesieve.services.filling.house_values import HOUSE_VALUES
from finesieve.services.filling.kinds import DecisionKind, Wanted
from finesieve.services.filling.known_email import KNOWN_EMAIL
from finesieve.services.filling.new_address import NEW_ADDRESS
from finesieve.services.filling.said_in_chat import SAID_IN_CHAT
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.values.value_lines import person_name
from finesieve.store.reading.rows import rows_by_ids, stored_row
from finesieve.store.reading.submissions import waiting_decisions
from finesieve.store.tables import Decision, FormRow

__all__ = [
    "KINDS",
    "Waiting",
    "all_waiting",
    "ask_for",
    "conclude",
    "decide",
    "let_wait",
    "reopen",
    "waiting_for",
    "waits_for_approval",
    "who_waits",
]

KINDS: Final[Mapping[str, DecisionKind]] = {
    one.key: one for one in (KNOWN_EMAIL, NEW_ADDRESS, HOUSE_VALUES, ASKED_CHANGE, APPROVAL, SAID_IN_CHAT)
}


@dataclass(frozen=True, slots=True)
class Waiting:
    """One thing that waits, as the staff see it: since when, of which kind, through which form and submission, and what
    it wants."""

    id: int
    kind: DecisionKind
    form: str
    at: datetime
    wanted: Wanted
    form_id: int = 0
    submission_id: int = 0

    @property
    def asks(self) -> str:
        """What somebody did, as the end of a sentence."""
        return self.kind.asks.format(form=self.form)


def ask_for(
    unit: Unit,
    kind: DecisionKind,
    person_id: int,
    form_id: int | None,
    submission_id: int | None = None,
    asked: Mapping[str, Any] | None = None,
) -> Decision:
    """Let something wait for a decision."""
    row = Decision(
        workspace_id=unit.workspace_id,
        kind=kind.key,
        person_id=person_id,
        form_id=form_id,
        submission_id=submission_id,
        asked=dict(asked or {}),
        at=unit.moment.now,
    )
    unit.session.add(row)
    unit.session.flush()
    return row


def waits_for_approval(unit: Unit, submission_id: int) -> bool:
    """Whether what came by a submission waits for approval."""
    query = select(Decision.id).where(
        col(Decision.submission_id) == submission_id, col(Decision.kind) == APPROVAL.key,
        col(Decision.state) == "waiting",
    )  # fmt: skip
    return unit.session.exec(query).first() is not None


def waiting_for(scope: Scope, person_id: int) -> tuple[Waiting, ...]:
    """What waits for a decision about a person, the oldest first."""
    with scope.reading("reader") as unit:
        return tuple(_line(unit, row, form) for row, form in waiting_decisions(unit.session, person_id))


def decide(scope: Scope, decision_id: int, *, apply: bool) -> int:
    """Say yes or no as one of the staff; gives the person's id. Decided twice, it counts once.

    Raises NotFound, and Conflict where an answer fits no more.
    """
    with scope.transaction("clerk") as unit:
        row = unit.session.get(Decision, decision_id, with_for_update=True)
        if row is None:
            raise NotFound("There is nothing like this to decide.")
        conclude(unit, row, "form, taken over by staff", apply=apply)
        return row.person_id


def reopen(scope: Scope, decision_id: int) -> int:
    """Take back what was decided, as one of the staff: it waits again; gives the person's id.

    Raises NotFound, and Conflict where that kind cannot be taken back, or it has changed since.
    """
    with scope.transaction("clerk") as unit:
        row = unit.session.get(Decision, decision_id, with_for_update=True)
        if row is None:
            raise NotFound("There is nothing like this to decide.")
        kind = KINDS[row.kind]
        if row.state == "waiting":
            return row.person_id
        if kind.undo is None:
            raise Conflict("This cannot be taken back; change it on the profile.")
        kind.undo(unit, row)
        row.state, row.decided_by, row.decided_at = "waiting", "", None
        unit.session.add(row)
        return row.person_id


def who_waits(scope: Scope, decision_id: int) -> str:
    """The name of whom a decision is about that waits. Raises NotFound where there is none (any more)."""
    with scope.reading("reader") as unit:
        row = unit.session.get(Decision, decision_id)
        stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id) if row is not None else None
        if row is None or row.state != "waiting" or stored is None:
            raise NotFound("There is nothing like this to decide.")
        return person_name(stored)


def all_waiting(scope: Scope, limit: int = 50) -> tuple[tuple[int, str, Waiting], ...]:
    """What waits for a decision, of everybody, the longest first: whom it is about, by id and name, and what it is."""
    with scope.reading("reader") as unit:
        query = (
            select(Decision, FormRow).outerjoin(FormRow, col(FormRow.id) == col(Decision.form_id))
            .where(col(Decision.state) == "waiting").order_by(col(Decision.at), col(Decision.id)).limit(limit)
        )  # fmt: skip
        rows = unit.session.exec(query).all()
        keys = ["email", "first_name", "last_name"]
        people = rows_by_ids(unit.session, unit.definitions, PERSON, keys, {row.person_id for row, _ in rows})
        return tuple(
            (row.person_id, person_name(people[row.person_id]) if row.person_id else "Somebody", _line(unit, row, form))
            for row, form in rows
            if row.person_id in people or not row.person_id
        )


def _line(unit: Unit, row: Decision, form: FormRow | None) -> Waiting:
    kind, title = KINDS[row.kind], str(form.draft["title"] if form is not None else row.asked.get("title", ""))
    return Waiting(row.id or 0, kind, title, row.at, kind.wanted(unit, row), row.form_id or 0, row.submission_id or 0)


def let_wait(
    unit: Unit,
    person_id: int,
    form_id: int,
    submission_id: int,
    wants: Mapping[str, Value],
    language: str,
    order: tuple[int, str] = (0, ""),
) -> None:
    """Let a level, or a role, wait for approval, and say so; what waited of the same person before is replaced.

    `order` is the order that came with it, and its link.
    """
    earlier = waiting_approval(unit, person_id)
    if earlier is not None:
        earlier.asked = {**earlier.asked, "tell": False}
        conclude(unit, earlier, "", apply=False)
    asked = as_asked(wants, language, order)
    tell_waiting(unit, ask_for(unit, APPROVAL, person_id, form_id, submission_id or None, asked))


def conclude(unit: Unit, row: Decision, source: str, *, apply: bool) -> None:
    """Decide what waits, and nothing that is decided; `source` is the way that history says."""
    if row.state != "waiting":
        return
    kind = KINDS[row.kind]
    row.state = kind.apply(unit, row, source) if apply else "refused"
    if not apply and kind.refuse is not None:
        kind.refuse(unit, row)
    row.decided_by, row.decided_at = unit.actor, unit.moment.now
    unit.session.add(row)
