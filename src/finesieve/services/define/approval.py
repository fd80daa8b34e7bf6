"""Who waits for approval before a level or a role is theirs: the rule of the house, and what they are told."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from typing import Final, Literal

from sqlmodel import select

from finesieve.core.errors import InvalidExpression, InvalidInput
from finesieve.core.limits import EXPRESSION, TEXT
from finesieve.core.model.approving import check_approval
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.model.reader import reader_world
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.texts import refuse_texts
from finesieve.store.tables import ApprovalRow

__all__ = ["TOLD", "Approval", "Told", "approval_of", "change_approval", "could_be_held", "read_approval"]

Told = Literal["waiting", "asked", "approved", "declined", "staff"]
TOLD: Final[Mapping[Told, str]] = {
    "waiting": "Thank you. We will look at it and write to you within a few days.",
    "asked": "We need to know a little more before we can say yes. Follow the link, and tell us.",
    "approved": "Welcome. It is yours from now on.",
    "declined": "We are sorry: we cannot say yes this time. What you told us stays as it is.",
    "staff": "",
}
"""What somebody is told by default, by what has become of it; and what staff are told besides what waits."""


@dataclass(frozen=True, slots=True)
class Approval:
    """The rule, "" where nobody waits; the texts, by what has become of it; the address of staff that is told.

    `holds` are the levels and roles whose orders are held before payment as long as somebody waits, as
    `could_be_held` names them.
    """

    waits_when: str = ""
    texts: Mapping[str, str] = field(default_factory=dict)
    tell: str = ""
    holds: frozenset[str] = frozenset()

    def text(self, what: Told) -> str:
        """What is told, by default what the product says."""
        return self.texts.get(what) or TOLD[what]


def approval_of(unit: Unit) -> Approval:
    """The rule of the house, in this transaction."""
    row = unit.session.exec(select(ApprovalRow)).first()
    return Approval(row.waits_when, row.texts, row.tell, frozenset(row.holds)) if row is not None else Approval()


def read_approval(scope: Scope) -> Approval:
    """The rule of the house."""
    with scope.reading("reader") as unit:
        return approval_of(unit)


def could_be_held(catalogue: Catalogue) -> dict[str, str]:
    """The levels and roles whose orders can be held, as `level.steward` and what they are called."""
    role = catalogue.by_key.get("role")
    levels = {f"level.{one.key}": f"Level: {one.name}" for one in catalogue.levels}
    roles = {f"role.{one.stored_value}": f"Role: {one.label}" for one in (role.offered if role is not None else ())}
    return levels | roles


def change_approval(scope: Scope, rule: str, texts: Mapping[str, str], tell: str, holds: Collection[str] = ()) -> int:
    """Set the rule, the texts, who is told, and whose orders are held; gives the id for undoing.

    Raises InvalidExpression for a rule with problems (`waits_when`), InvalidInput by `text_` and what it is of, and by
    `tell`.
    """
    with scope.transaction("editor") as unit:
        rule, tell = rule.strip(), tell.strip()
        if rule and len(rule) > EXPRESSION:
            raise InvalidInput({"waits_when": "This rule is too long."})
        problems = check_approval(unit.catalogue, rule).problems if rule else ()
        if problems:
            raise InvalidExpression(problems, "waits_when")
        kept = {key: text.strip()[:TEXT] for key, text in texts.items() if key in TOLD and text.strip()}
        refuse_texts(unit, {f"text_{key}": text for key, text in kept.items()}, reader_world(unit.catalogue))
        if tell and ("@" not in tell or len(tell) > 254 or " " in tell):
            raise InvalidInput({"tell": "Write an email address, or nothing."})
        row = unit.session.exec(select(ApprovalRow).with_for_update()).first()
        before = snapshot(unit, "approval", row.id or 0) if row is not None else None
        row = row or ApprovalRow(workspace_id=unit.workspace_id)
        row.waits_when, row.texts, row.tell = rule, kept, tell
        row.holds = [one for one in could_be_held(unit.catalogue) if one in holds]
        unit.session.add(row)
        unit.session.flush()
        return record_change(unit, "approval", row.id or 0, "Changed who waits for approval", before)
