"""The condition of a segment as it was: what it said until each of its changes."""

from dataclasses import dataclass
from datetime import datetime

from sqlmodel import col, select

from finesieve.core.errors import NotFound
from finesieve.core.fields.manner import write_moment
from finesieve.services.kernel.scope import Unit
from finesieve.services.sift.segments import segment_named
from finesieve.store.tables import DefinitionChange

__all__ = ["Strand", "Version", "definition_changes", "strand_of", "versions_of"]

_MOST = 20


@dataclass(frozen=True, slots=True)
class Version:
    """What the condition of a segment was until a change of it, by its id, and who made that change.

    The expression is "" where it took in everybody; `shown` is False where this role may not see it.
    """

    change_id: int
    until: datetime
    by: str
    expression: str
    shown: bool = True


@dataclass(frozen=True, slots=True)
class Strand:
    """A segment as it is now, or as it was until a change of its condition, by its id. Written `12` and `12-190`."""

    segment_id: int
    until_change: int = 0

    def __str__(self) -> str:
        return f"{self.segment_id}-{self.until_change}" if self.until_change else str(self.segment_id)


def definition_changes(unit: Unit, segment_id: int) -> list[DefinitionChange]:
    """The changes of the condition of a segment, the earliest first."""
    query = (
        select(DefinitionChange)
        .where(col(DefinitionChange.entity) == "segment", col(DefinitionChange.entity_id) == segment_id)
        .order_by(col(DefinitionChange.id))
    )
    rows = unit.session.exec(query.limit(500)).all()
    changes = [one for one in rows if (one.before or {}).get("expression") != (one.after or {}).get("expression")]
    # A segment is made empty, and gets its condition next: that is no change of it.
    return changes[1:] if changes and not (changes[0].before or {}).get("expression") else changes


def versions_of(unit: Unit, segment_id: int) -> tuple[Version, ...]:
    """The last versions of a segment's condition before the present one, the latest first."""
    return tuple(_version(unit, one) for one in reversed(definition_changes(unit, segment_id)[-_MOST:]))


def _version(unit: Unit, change: DefinitionChange) -> Version:
    expression = str((change.before or {}).get("expression") or "")
    checked = unit.visible.check_segment(expression).typed if expression else None
    sound = unit.catalogue.check_segment(expression).typed if expression else None
    shown = checked is not None or sound is None
    return Version(change.id or 0, change.at, change.actor, expression if shown else "", shown)


def strand_of(unit: Unit, strand: Strand) -> tuple[str, str]:
    """What a segment, or a version of one, is called, and its expression. Raises NotFound."""
    row = segment_named(unit, strand.segment_id)
    if not strand.until_change:
        return row.name, row.expression
    for change in definition_changes(unit, strand.segment_id):
        if change.id == strand.until_change:
            until = change.at.astimezone(unit.moment.zone).replace(second=0, microsecond=0)
            return f"{row.name} until {write_moment(until, unit.manner.language)}", str(
                (change.before or {}).get("expression") or ""
            )
    raise NotFound("There is no such version.")
