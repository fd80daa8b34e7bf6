"""Segments that are another one over again: their conditions ask the same, or just the same people are in both."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from finesieve.core.errors import FineSieveError
from finesieve.core.language.checker import Checked
from finesieve.core.language.printer import print_expression
from finesieve.core.sieve.alike import normal_form
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.sift.segments import list_segments, segment_named, segment_rows
from finesieve.store.connection.database import apart
from finesieve.store.reading.kept import is_estimated, patience
from finesieve.store.reading.people import SECONDS_TO_COUNT, count_verdicts
from finesieve.store.tables import Segment

__all__ = ["Alike", "alike_of"]

_MOST_COMPARED: Final = 3
"""Segments of the same size whose people are compared with those of one."""


@dataclass(frozen=True, slots=True)
class Alike:
    """Another segment, and whether its condition asks the same; else it has the same people by another condition."""

    id: int
    name: str
    asks_the_same: bool


def alike_of(scope: Scope, segment_id: int) -> tuple[Alike, ...]:
    """The segments that are this one over again, as far as this role sees their conditions. Raises NotFound.

    That they have the same people is told from exact figures only.
    """
    with scope.reading("reader") as unit:
        own = segment_named(unit, segment_id)
        checks = {row.id: unit.visible.check_segment(row.expression) for row in segment_rows(unit) if row.expression}
        if own.id not in checks or checks[own.id].typed is None:
            return ()
        others = [row for row in segment_rows(unit) if row.id in checks and row.id != own.id]
        meant = _meant(checks[own.id])
        asking = [row for row in others if _meant(checks[row.id]) == meant]
        rest = _of_its_size(scope, own, [row for row in others if row not in asking])
        same = _with_its_people(unit, own, rest, checks)
        return (
            *(Alike(row.id or 0, row.name, True) for row in asking),
            *(Alike(row.id or 0, row.name, False) for row in same),
        )


def _meant(checked: Checked) -> str | None:
    return None if checked.tree is None or checked.typed is None else print_expression(normal_form(checked.tree))


def _of_its_size(scope: Scope, own: Segment, others: Sequence[Segment]) -> list[Segment]:
    sizes = {entry.id: entry.people for entry in list_segments(scope)}
    size = sizes.get(own.id or 0)
    return [row for row in others if size and sizes.get(row.id or 0) == size][:_MOST_COMPARED]


def _with_its_people(
    unit: Unit, own: Segment, others: Sequence[Segment], checks: dict[int | None, Checked]
) -> list[Segment]:
    conditions = [typed for row in (own, *others) if (typed := checks[row.id].typed) is not None]
    if not others or is_estimated():
        return []
    try:
        with apart(unit.session, patience(SECONDS_TO_COUNT)):
            verdicts = count_verdicts(unit.session, unit.definitions, conditions, unit.moment)
    except FineSieveError:
        return []
    if is_estimated():
        return []
    return [
        row for place, row in enumerate(others, 1) if all((one[0] is True) == (one[place] is True) for one in verdicts)
    ]
