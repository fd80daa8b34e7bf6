"""What waits for a decision, of whatever kind: asked once, decided once, by whom it concerns or by the staff."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Final

from finesieve.core.errors import NotFound
from finesieve.services.filling.asked_change import ASKED_CHANGE
from finesieve.services.filling.house_values import HOUSE_VALUES
from finesieve.services.filling.kinds import DecisionKind, Wanted
from finesieve.services.filling.known_email import KNOWN_EMAIL
from finesieve.services.filling.new_address import NEW_ADDRESS
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.store.reading.submissions import waiting_decisions
from finesieve.store.tables import Decision

__all__ = ["KINDS", "Waiting", "ask_for", "conclude", "decide", "waiting_for"]

KINDS: Final[Mapping[str, DecisionKind]] = {
    one.key: one for one in (KNOWN_EMAIL, NEW_ADDRESS, HOUSE_VALUES, ASKED_CHANGE)
}


@dataclass(frozen=True, slots=True)
class Waiting:
    """One thing that waits, as the staff see it: since when, of which kind, through which form, and what it wants."""

    id: int
    kind: DecisionKind
    form: str
    at: datetime
    wanted: Wanted

    @property
    def asks(self) -> str:
        """What somebody did, as the end of a sentence."""
        return self.kind.asks.format(form=self.form)


def ask_for(
    unit: Unit,
    kind: DecisionKind,
    person_id: int,
    form_id: int,
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


def waiting_for(scope: Scope, person_id: int) -> tuple[Waiting, ...]:
    """What waits for a decision about a person, the oldest first."""
    with scope.reading("reader") as unit:
        return tuple(
            Waiting(row.id or 0, KINDS[row.kind], form.draft["title"], row.at, KINDS[row.kind].wanted(unit, row))
            for row, form in waiting_decisions(unit.session, person_id)
        )


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
