"""Why a person is in a segment, out of it, or cannot be told: the condition that decided."""

from dataclasses import dataclass
from typing import Final

from finesieve.core.errors import NotAllowed
from finesieve.core.fields.about import PERSON
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.printer import print_expression
from finesieve.core.language.sentence import Part
from finesieve.services.kernel.scope import Scope
from finesieve.services.sift.segments import meshes_of, segment_rows
from finesieve.services.values.value_lines import worked_out
from finesieve.services.values.writing import row_of
from finesieve.store.reading.rows import stored_row

__all__ = ["Belonging", "segments_of_person"]

_MOST: Final = 40


@dataclass(frozen=True, slots=True)
class Belonging:
    """A segment and a person: passes, caught or can't tell; by which condition, as a clause and with their values."""

    segment_id: int
    name: str
    verdict: str
    clause: Part | None = None
    worked: str = ""


def segments_of_person(scope: Scope, person_id: int) -> tuple[Belonging, ...]:
    """Every segment that this role may see, and what it makes of a person; none where there is no such person."""
    with scope.reading("reader") as unit:
        stored = stored_row(unit.session, unit.definitions, PERSON, person_id)
        if stored is None:
            return ()
        row, found = row_of(unit, PERSON, person_id, stored), []
        for segment in segment_rows(unit)[:_MOST]:
            try:
                nodes, typed, problems = meshes_of(unit, segment.expression)
            except NotAllowed:
                continue
            if problems:
                continue
            one = Belonging(segment.id or 0, segment.name, "passes")
            for node, mesh in zip(nodes, typed, strict=True):
                verdict = compile_python(mesh)(row, unit.moment)
                if verdict is not True:
                    said = "caught" if verdict is False else "cant_tell"
                    worked = worked_out(unit, print_expression(node), row)
                    one = Belonging(one.segment_id, one.name, said, unit.visible.clause(node), worked)
                    break
            found.append(one)
        return tuple(found)
