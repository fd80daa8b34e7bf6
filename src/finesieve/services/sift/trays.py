"""What lies on one tray of a segment: its people, the condition that is true of just these, a segment made of it."""

from collections.abc import Collection

from finesieve.core.errors import NotFound
from finesieve.core.language.printer import print_expression
from finesieve.core.sieve.meshes import VERDICTS, condition_of_tray
from finesieve.services.kernel.scope import Scope
from finesieve.services.people.listing import PeoplePage
from finesieve.services.sift.segments import (
    keep_as_segment,
    meshes_of,
    people_at,
    segment_named,
    without,
    worked_out_in,
)
from finesieve.store.reading.people import SECONDS_TO_COUNT

__all__ = ["missing_at", "save_tray", "tray_condition", "tray_people"]


def tray_people(
    scope: Scope,
    segment_id: int,
    place: int,
    verdict: str,
    before_id: int | None = None,
    limit: int = 50,
    off: Collection[int] = (),
) -> PeoplePage:
    """Those who reach mesh `place` (from 0) and there pass, are caught, or can't be told; without the meshes `off`.

    Raises NotFound for no such segment or mesh, and for who stays on a mesh that is off.
    """
    with scope.reading("reader") as unit:
        _, typed, _ = meshes_of(unit, segment_named(unit, segment_id).expression)
        _refuse_unknown(len(typed), place, verdict, off)
        with worked_out_in(unit, SECONDS_TO_COUNT):
            return people_at(unit, without(typed[: place + 1], off), verdict, before_id, limit)


def _refuse_unknown(count: int, place: int, verdict: str, off: Collection[int]) -> None:
    nobody_stays = not count or place in off
    if verdict not in VERDICTS or not 0 <= place < max(count, 1) or (nobody_stays and verdict != "passes"):
        raise NotFound("There is no such tray.")


def tray_condition(scope: Scope, segment_id: int, place: int, verdict: str, off: Collection[int] = ()) -> str:
    """The condition that is true of just those whom `tray_people` gives; empty where that is everybody.

    Raises NotFound as that does.
    """
    with scope.reading("reader") as unit:
        nodes, typed, _ = meshes_of(unit, segment_named(unit, segment_id).expression)
        _refuse_unknown(len(typed), place, verdict, off)
        on = [node for at, node in enumerate(nodes[: place + 1]) if at not in off]
        return print_expression(condition_of_tray(on, verdict)) if on else ""


def missing_at(scope: Scope, segment_id: int, place: int) -> tuple[str, ...]:
    """The keys of the stored fields that a mesh reads, over however many derived ones: what those who cannot be told
    there may lack. Raises NotFound, NotAllowed."""
    with scope.reading("reader") as unit:
        _, typed, _ = meshes_of(unit, segment_named(unit, segment_id).expression)
        if not 0 <= place < len(typed):
            return ()
        read = unit.catalogue.derivation.ancestors(typed[place].names)
        return tuple(field.key for field in unit.catalogue.stored if field.key in read)


def save_tray(scope: Scope, segment_id: int, place: int, verdict: str, name: str, off: Collection[int] = ()) -> int:
    """Make a segment of a tray; gives its id. Raises NotFound, and InvalidInput for a condition that grows too long or
    a name that will not do."""
    return keep_as_segment(scope, name, tray_condition(scope, segment_id, place, verdict, off))
