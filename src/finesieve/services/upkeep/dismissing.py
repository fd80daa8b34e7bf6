"""Findings as one works with them: by weight, dismissed with a reason and back, several mended at once."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from pydantic import Field as Bounds
from sqlmodel import col, select

from finesieve.core.errors import FineSieveError, InvalidInput, NotFound
from finesieve.core.reasoning.findings import Finding, Weight, weight_of
from finesieve.services.forms.asking import forms_asking, set_forms_asking
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.inputs import Input, read_input
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.upkeep.readings import find_all
from finesieve.store.tables import DismissedFinding

__all__ = ["Dismissed", "Found", "ask_in", "bring_back", "count_open", "dismiss", "open_findings"]


class _Reason(Input):
    reason: str = Bounds(min_length=1, max_length=200)


@dataclass(frozen=True, slots=True)
class Dismissed:
    """A finding that was dismissed: why, by whom and when; `there` tells whether it would be found today."""

    id: int
    message: str
    reason: str
    actor: str
    at: datetime
    there: bool


@dataclass(frozen=True, slots=True)
class Found:
    """What is found, by weight, and what was dismissed."""

    by_weight: dict[Weight, tuple[Finding, ...]]
    dismissed: tuple[Dismissed, ...]

    @property
    def open(self) -> int:
        """How many things there are to look at: what is merely unused counts for none."""
        return sum(len(found) for weight, found in self.by_weight.items() if weight != "unused")


def _key(one: Finding) -> tuple[str, int, str]:
    """What a finding is known by: its code, its field, and where it has none the page that it is about."""
    return one.code, one.field_id, "" if one.field_id else one.path


def _rows(unit: Unit) -> Sequence[DismissedFinding]:
    return unit.session.exec(select(DismissedFinding).order_by(col(DismissedFinding.id).desc())).all()


def open_findings(scope: Scope) -> Found:
    """Everything found that nobody has dismissed, by weight; and what was dismissed."""
    with scope.reading("reader") as unit:
        found = find_all(scope)
        seen = {field.id for field in unit.catalogue.all_fields if unit.sees(field)}
        rows = [row for row in _rows(unit) if not row.field_id or row.field_id in seen]
        gone = {(row.code, row.field_id, row.place) for row in rows}
        there = {_key(one) for one in found}
        by_weight: dict[Weight, tuple[Finding, ...]] = {
            weight: tuple(one for one in found if weight_of(one) == weight and _key(one) not in gone)
            for weight in ("wrong", "doubtful", "unused")
        }
        return Found(
            by_weight,
            tuple(
                Dismissed(
                    row.id or 0, row.message, row.reason, row.actor, row.at,
                    (row.code, row.field_id, row.place) in there,
                )
                for row in rows
            ),
        )  # fmt: skip


def count_open(scope: Scope) -> int:
    """How many things there are to look at."""
    return open_findings(scope).open


def dismiss(scope: Scope, code: str, field_id: int, place: str, reason: str) -> int:
    """Dismiss a finding with a reason; gives the id for undoing. Raises NotFound for what is not found."""
    asked = read_input(_Reason, {"reason": reason})
    with scope.transaction("editor") as unit:
        one = next((found for found in find_all(scope) if _key(found) == (code, field_id, place)), None)
        if one is None:
            raise NotFound("This is not found any more.")
        there = select(DismissedFinding).where(
            col(DismissedFinding.code) == code,
            col(DismissedFinding.field_id) == field_id,
            col(DismissedFinding.place) == place,
        )
        if unit.session.exec(there).first() is not None:
            return 0
        row = DismissedFinding(
            workspace_id=unit.workspace_id, code=code, field_id=field_id, place=place, message=one.message,
            reason=asked.reason, actor=unit.actor, at=unit.moment.now,
        )  # fmt: skip
        unit.session.add(row)
        unit.session.flush()
        return record_change(unit, "dismissed_finding", row.id or 0, f"Dismissed: {one.message[:80]}", None)


def bring_back(scope: Scope, dismissed_id: int) -> int:
    """Let a finding be found again; gives the id for undoing. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = unit.session.get(DismissedFinding, dismissed_id)
        if row is None:
            raise NotFound("There is no such finding.")
        before, message = snapshot(unit, "dismissed_finding", dismissed_id), row.message[:80]
        unit.session.delete(row)
        return record_change(unit, "dismissed_finding", dismissed_id, f"Brought back: {message}", before)


def ask_in(scope: Scope, form_id: int, field_ids: Sequence[int]) -> tuple[int, tuple[str, ...]]:
    """Ask several fields in one form; gives how many are asked now, and why others are not.

    Raises InvalidInput where none is chosen.
    """
    if not field_ids:
        raise InvalidInput({"ask": "Tick the fields first."})
    done, refused = 0, []
    for field_id in dict.fromkeys(field_ids):
        try:
            asking = [form.id for form in forms_asking(scope, field_id) if form.asks]
            done += set_forms_asking(scope, field_id, [*asking, form_id])
        except FineSieveError as why:
            refused.append(str(why))
    return done, tuple(dict.fromkeys(refused))
