"""Sifting: segments, what each mesh does, who they are, and taking them along as CSV."""

import csv
import io
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Final

from pydantic import Field as Bounds
from sqlmodel import col, func, select

from finesieve.core.catalogue import Catalogue
from finesieve.core.errors import InvalidExpression, InvalidInput, NotFound
from finesieve.core.fields.definition import Field
from finesieve.core.language.printer import print_expression
from finesieve.core.language.problems import Problem
from finesieve.core.language.sentence import Clause, Quoted, tree_to_sentence
from finesieve.core.language.tree import Chain, Node
from finesieve.core.language.typed import Typed
from finesieve.core.sieve.meshes import Tray, meshes, trays
from finesieve.core.values import Type, Value
from finesieve.services.awaiting import awaited_in
from finesieve.services.changes import record_change, refuse_overtaking, snapshot
from finesieve.services.inputs import Input
from finesieve.services.people import PeoplePage, people_page
from finesieve.services.scope import Scope, Unit
from finesieve.store.people import count_each, count_people, count_where, mesh_counts, page_of_people, stream_people
from finesieve.store.tables import Segment

__all__ = [
    "Mesh",
    "SegmentEntry",
    "SegmentInput",
    "SegmentView",
    "change_segment",
    "count_segment",
    "create_segment",
    "export_segment",
    "list_segments",
    "read_segment",
    "remove_segment",
    "tray_people",
]


class SegmentInput(Input):
    """A segment as typed; an empty expression admits everyone."""

    name: str = Bounds(min_length=1, max_length=120)
    description: str = Bounds(default="", max_length=500)
    expression: str = Bounds(default="", max_length=4_000)


@dataclass(frozen=True, slots=True)
class SegmentEntry:
    """A segment in a list; `people` is None where its condition has problems."""

    id: int
    name: str
    people: int | None


@dataclass(frozen=True, slots=True)
class Mesh:
    """One condition of a segment: its text, its clause, and what became of those who reached it."""

    text: str
    clause: Clause | Quoted
    tray: Tray


@dataclass(frozen=True, slots=True)
class SegmentView:
    """A segment with its sieve and the first people who pass."""

    id: int
    name: str
    description: str
    expression: str
    revision: int
    problems: tuple[Problem, ...]
    everyone: int
    meshes: tuple[Mesh, ...]
    people: PeoplePage | None
    catalogue: Catalogue
    awaited: tuple[Field, ...]

    @property
    def passing(self) -> int:
        return self.meshes[-1].tray.passes if self.meshes else self.everyone

    @property
    def costliest(self) -> int | None:
        """The place of the mesh without which most more would pass; None with fewer than two meshes."""
        if len(self.meshes) < 2:
            return None
        return max(range(len(self.meshes)), key=lambda place: self.meshes[place].tray.without)

    @property
    def cant_tell(self) -> int:
        """How many stay on a tray because an answer is missing."""
        return sum(mesh.tray.cant_tell for mesh in self.meshes)


def list_segments(scope: Scope) -> list[SegmentEntry]:
    """All segments with how many people each has now."""
    with scope.transaction("reader") as unit:
        rows = unit.session.exec(select(Segment).order_by(col(Segment.position), col(Segment.id))).all()
        sound = {
            row.id: typed
            for row in rows
            if row.expression and (typed := unit.catalogue.check(row.expression, expect="yes_no").typed) is not None
        }
        everyone, counts = count_each(unit.session, unit.definitions, list(sound.values()), unit.moment)
        sizes = dict(zip(sound, counts, strict=True))
        return [SegmentEntry(row.id or 0, row.name, sizes.get(row.id) if row.expression else everyone) for row in rows]


def _size(unit: Unit, expression: str) -> int | None:
    if not expression:
        return count_people(unit.session, unit.definitions)
    typed = unit.catalogue.check(expression, expect="yes_no").typed
    return None if typed is None else count_where(unit.session, unit.definitions, typed, unit.moment)


def count_segment(scope: Scope, segment_id: int) -> int | None:
    """How many people a segment has now; None where its condition has problems. Raises NotFound."""
    with scope.transaction("reader") as unit:
        return _size(unit, _segment(unit, segment_id).expression)


def _segment(unit: Unit, segment_id: int, *, lock: bool = False) -> Segment:
    row = unit.session.get(Segment, segment_id, with_for_update=True if lock else None)
    if row is None:
        raise NotFound("There is no such segment.")
    return row


def read_segment(scope: Scope, segment_id: int, limit: int = 12) -> SegmentView:
    """A segment, its sieve in one pass over all people, and the first who pass. Raises NotFound."""
    with scope.transaction("reader") as unit:
        row = _segment(unit, segment_id)
        nodes, typed, problems = _meshes(unit, row.expression)
        counts = mesh_counts(unit.session, unit.definitions, typed, unit.moment)
        stacked = trays(counts.everyone, counts.passes, counts.caught, counts.without)
        names = unit.catalogue.names
        layers = tuple(
            Mesh(print_expression(node), _clause(node, names), tray) for node, tray in zip(nodes, stacked, strict=True)
        )
        people = None if problems else _page(unit, typed, "passes", None, limit)
        return SegmentView(
            segment_id,
            row.name,
            row.description,
            row.expression,
            row.revision,
            problems,
            counts.everyone,
            layers,
            people,
            unit.catalogue,
            awaited_in(unit, [row.expression]),
        )


def _clause(node: Node, names: Mapping[str, Type]) -> Clause | Quoted:
    """The mesh as one clause; a chain inside a mesh stays a quoted formula."""
    return Quoted(print_expression(node)) if isinstance(node, Chain) else tree_to_sentence(node, names).clauses[0]


def _meshes(unit: Unit, expression: str) -> tuple[tuple[Node, ...], tuple[Typed, ...], tuple[Problem, ...]]:
    """The meshes of an expression, as trees and checked; or its problems."""
    if not expression:
        return (), (), ()
    checked = unit.catalogue.check(expression, expect="yes_no")
    if checked.tree is None or checked.typed is None:
        return (), (), checked.problems
    nodes = meshes(checked.tree)
    typed = checked.typed.parts if len(nodes) > 1 else (checked.typed,)
    return nodes, typed, ()


def _page(unit: Unit, typed: tuple[Typed, ...], verdict: str, before_id: int | None, limit: int) -> PeoplePage:
    used = frozenset().union(*(mesh.names for mesh in typed)) if typed else frozenset[str]()
    if verdict == "cant_tell":
        # What is missing is seen only in the fields that a derived one is worked out from.
        used = unit.catalogue.derivation.ancestors(used)
    shown = [
        field
        for field in unit.catalogue.fields
        if field.key in used and field.key not in ("first_name", "last_name") and unit.sees(field)
    ]
    columns = tuple(shown[:5]) or (unit.catalogue.by_key["email"],)
    keys = list(dict.fromkeys(["email", "first_name", "last_name", *(field.key for field in columns)]))
    people = page_of_people(
        unit.session,
        unit.definitions,
        unit.moment,
        keys,
        meshes=typed,
        verdict=verdict,
        before_id=before_id,
        limit=limit + 1,
    )
    return people_page(unit, people, columns, limit)


def tray_people(
    scope: Scope, segment_id: int, place: int, verdict: str, before_id: int | None = None, limit: int = 50
) -> PeoplePage:
    """Those who reach mesh `place` (from 0) and there pass, are caught, or can't be told.

    Raises NotFound for no such segment or mesh.
    """
    with scope.transaction("reader") as unit:
        row = _segment(unit, segment_id)
        _, typed, _ = _meshes(unit, row.expression)
        if verdict not in ("passes", "caught", "cant_tell") or not 0 <= place < max(len(typed), 1):
            raise NotFound("There is no such tray.")
        return _page(unit, typed[: place + 1], verdict, before_id, limit)


def create_segment(scope: Scope, name: str) -> int:
    """Make a segment that admits everyone so far; gives its id. Raises InvalidInput for an empty name."""
    with scope.transaction("editor") as unit:
        name = name.strip()
        if not name or len(name) > 120:
            raise InvalidInput({"name": "Give the segment a name of at most 120 characters."})
        last = unit.session.exec(select(func.max(Segment.position))).one()
        row = Segment(workspace_id=unit.workspace_id, name=name, position=(last or 0) + 1)
        unit.session.add(row)
        unit.session.flush()
        return row.id or 0


def change_segment(scope: Scope, segment_id: int, revision: int, asked: SegmentInput) -> int:
    """Change name, description and condition; gives the id for undoing.

    Raises InvalidExpression for a condition with problems, Overtaken where
    somebody else has changed it meanwhile.
    """
    with scope.transaction("editor") as unit:
        row = _segment(unit, segment_id, lock=True)
        if row.revision != revision:
            refuse_overtaking(unit, "segment", segment_id, abs(row.revision - revision))
        if asked.expression:
            problems = unit.catalogue.check(asked.expression, expect="yes_no").problems
            if problems:
                raise InvalidExpression(problems)
        before = snapshot(unit, "segment", segment_id)
        row.name, row.description, row.expression = asked.name, asked.description, asked.expression
        unit.session.add(row)
        change_id = record_change(unit, "segment", segment_id, f"Changed {asked.name}", before)
        if change_id:
            row.revision += 1
        return change_id


def remove_segment(scope: Scope, segment_id: int) -> int:
    """Remove a segment, never its people; gives the id for undoing. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = _segment(unit, segment_id, lock=True)
        before = snapshot(unit, "segment", segment_id)
        name = row.name
        unit.session.delete(row)
        return record_change(unit, "segment", segment_id, f"Removed {name}", before)


# Signs that make a spreadsheet take a text for a formula.
_RISKY: Final = ("=", "+", "-", "@", "\t", "\r")


def _cell(value: Value, raw: str) -> str:
    return f"'{raw}" if isinstance(value, str) and raw.startswith(_RISKY) else raw


def export_segment(scope: Scope, segment_id: int) -> tuple[str, Iterator[str]]:
    """The name of a segment and its people as CSV, line by line, with field keys at the top.

    Texts that a spreadsheet would run as a formula get a quote before them.
    Raises NotFound, and InvalidExpression where the condition has problems.
    """
    with scope.transaction("reader") as unit:
        row = _segment(unit, segment_id)
        _, typed, problems = _meshes(unit, row.expression)
        if problems:
            raise InvalidExpression(problems)
        return row.name, _csv_lines(scope, typed)


def _csv_lines(scope: Scope, typed: tuple[Typed, ...]) -> Iterator[str]:
    with scope.transaction("reader") as unit:
        fields = [field for field in unit.catalogue.fields if field.key not in unit.catalogue.broken]
        fields = [field for field in fields if unit.sees(field)]
        keys = [field.key for field in fields]
        buffer = io.StringIO()
        writer = csv.writer(buffer)
        writer.writerow(keys)
        for person in stream_people(unit.session, unit.definitions, unit.moment, keys, typed):
            row = []
            for field in fields:
                value = person.values[field.key]
                row.append(_cell(value, field.plain(value)))
            writer.writerow(row)
            if buffer.tell() > 32_768:
                yield buffer.getvalue()
                buffer.seek(0)
                buffer.truncate()
        yield buffer.getvalue()
