"""Sifting: segments, what each mesh does, who they are, and taking them along as CSV."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Final

from pydantic import Field as Bounds
from sqlmodel import col, func, select

from finesieve.core.errors import (
    FineSieveError,
    InvalidExpression,
    InvalidInput,
    NotAllowed,
    NotFound,
    TookTooLong,
)
from finesieve.core.fields.definition import Field
from finesieve.core.fields.keys import key_from_label
from finesieve.core.fields.manner import write_figure
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_expression
from finesieve.core.language.problems import Problem
from finesieve.core.language.sentence import Part
from finesieve.core.language.tree import Chain, Node
from finesieve.core.language.typed import Typed
from finesieve.core.limits import DESCRIPTION, EXPRESSION, LABEL
from finesieve.core.model.catalogue import Catalogue, field_of
from finesieve.core.sieve.meshes import Tray, meshes, switched_off, trays
from finesieve.services.kernel.changes import record_change, refuse_overtaking, snapshot
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.people.listing import PeoplePage, people_page
from finesieve.services.usage.awaiting import awaited_in
from finesieve.store.connection.database import apart, remembered
from finesieve.store.definitions.catalogue import touch
from finesieve.store.reading.kept import comes_later, in_time_for_a_page, is_estimated, patience
from finesieve.store.reading.people import (
    SECONDS_TO_COUNT,
    count_each,
    count_one,
    count_people,
    count_verdicts,
    page_of_people,
)
from finesieve.store.tables import Segment

__all__ = [
    "SECONDS_FOR_EXPORT",
    "Mesh",
    "SegmentEntry",
    "SegmentInput",
    "SegmentView",
    "ask_whether_filled",
    "change_segment",
    "count_segment",
    "create_segment",
    "keep_as_segment",
    "list_segments",
    "meshes_of",
    "name_of_segment",
    "page_of_condition",
    "people_at",
    "read_segment",
    "remove_segment",
    "segment_named",
    "segment_rows",
    "without",
    "worked_out_in",
]


SECONDS_FOR_EXPORT: Final = 120


class SegmentInput(Input):
    """A segment as typed; an empty expression admits everyone."""

    name: str = Bounds(min_length=1, max_length=LABEL)
    description: str = Bounds(default="", max_length=DESCRIPTION)
    expression: str = Bounds(default="", max_length=EXPRESSION)
    folder: str = Bounds(default="", max_length=60)


@dataclass(frozen=True, slots=True)
class SegmentEntry:
    """A segment in a list; where `people` is None, `why` says so: broken, not shown, not counted."""

    id: int
    name: str
    people: int | None
    why: str = ""
    folder: str = ""

    def shown(self, language: str) -> str:
        """The number, as the language writes it, or why there is none."""
        return self.why if self.people is None else write_figure(self.people, language)


@dataclass(frozen=True, slots=True)
class Mesh:
    """One condition of a segment: its text, its clause, and what became of those who reached it.

    One that is `off` for a look lets everybody fall through.
    """

    text: str
    clause: Part
    tray: Tray
    off: bool = False


@dataclass(frozen=True, slots=True)
class SegmentView:
    """A segment with its sieve and the first people who pass.

    `withheld` where its condition reads what only editors see; `failure` says why a sound one was not counted.
    """

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
    withheld: bool = False
    failure: str = ""
    key: str = ""
    folder: str = ""
    owner: str = ""
    named_by: tuple[tuple[int, str], ...] = ()

    @property
    def counted(self) -> bool:
        """Whether there is a sieve to look at."""
        return not (self.problems or self.withheld or self.failure)

    @property
    def off(self) -> tuple[int, ...]:
        """The places of the meshes that are off for a look."""
        return tuple(place for place, mesh in enumerate(self.meshes) if mesh.off)

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
    with scope.reading("reader") as unit:
        rows = segment_rows(unit)
        checked = {row.id: _typed(unit, row.expression) for row in rows if row.expression}
        sound = {row_id: typed for row_id, (typed, _) in checked.items() if typed is not None}
        everyone, counts = count_each(unit.session, unit.definitions, list(sound.values()), unit.moment)
        sizes = dict(zip(sound, counts, strict=True))
        return [_entry(row, everyone, sizes, checked) for row in rows]


def _entry(
    row: Segment,
    everyone: int,
    sizes: Mapping[int | None, int | None],
    checked: Mapping[int | None, tuple[Typed | None, str]],
) -> SegmentEntry:
    if not row.expression:
        return SegmentEntry(row.id or 0, row.name, everyone, "", row.folder)
    size = sizes.get(row.id)
    why = "" if size is not None else checked[row.id][1] or "not counted"
    return SegmentEntry(row.id or 0, row.name, size, why, row.folder)


def _typed(unit: Unit, expression: str) -> tuple[Typed | None, str]:
    """The checked condition, or why there is none: broken for everybody, or not shown to this role."""
    typed = unit.visible.check_segment(expression).typed
    if typed is not None:
        return typed, ""
    sound = unit.catalogue.check_segment(expression).typed is not None
    return None, "not shown" if sound else "broken"


def count_segment(scope: Scope, segment_id: int) -> int | None:
    """How many people a segment has now; None where that cannot be told, or not to this role. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = segment_named(unit, segment_id)
        if not row.expression:
            return count_people(unit.session, unit.definitions)
        typed, _ = _typed(unit, row.expression)
        return None if typed is None else count_one(unit.session, unit.definitions, typed, unit.moment)


def segment_named(unit: Unit, segment_id: int, *, lock: bool = False) -> Segment:
    """The row of a segment. Raises NotFound."""
    if lock:
        row = unit.session.get(Segment, segment_id, with_for_update=True)
    else:
        row = next((one for one in segment_rows(unit) if one.id == segment_id), None)
    if row is None:
        raise NotFound("There is no such segment.")
    return row


def name_of_segment(scope: Scope, segment_id: int) -> str:
    """What a segment is called. Raises NotFound."""
    with scope.reading("reader") as unit:
        return segment_named(unit, segment_id).name


def segment_rows(unit: Unit) -> Sequence[Segment]:
    """All segments in order. They are few, and a page that shows one lists them all."""
    query = select(Segment).order_by(col(Segment.position), col(Segment.id))
    return remembered(unit.session, "segments", lambda: unit.session.exec(query).all())


def read_segment(scope: Scope, segment_id: int, limit: int = 12, off: Collection[int] = ()) -> SegmentView:
    """A segment, its sieve in one pass over all people, and the first who pass; the meshes at the places `off` are left
    out for this look. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = segment_named(unit, segment_id)
        empty = SegmentView(
            segment_id, row.name, row.description, row.expression, row.revision, (), 0, (), None, unit.visible, (),
            key=row.key, folder=row.folder, owner=row.owner, named_by=_named_by(unit, row.key),
        )  # fmt: skip
        if row.expression and _typed(unit, row.expression)[1] == "not shown":
            return replace(empty, withheld=True)
        nodes, typed, problems = meshes_of(unit, row.expression)
        empty = replace(empty, problems=problems, awaited=awaited_in(unit, [row.expression]))
        try:
            with apart(unit.session, patience(SECONDS_TO_COUNT)):
                return _sieve(unit, empty, nodes, typed, limit, off)
        except TookTooLong:
            return replace(empty, failure="It takes too long to count. Make the condition simpler.")
        except FineSieveError:
            return replace(empty, failure="The database cannot work it out. Write the condition another way.")


def _sieve(
    unit: Unit,
    view: SegmentView,
    nodes: tuple[Node, ...],
    typed: tuple[Typed, ...],
    limit: int,
    off: Collection[int],
) -> SegmentView:
    verdicts = switched_off(count_verdicts(unit.session, unit.definitions, typed, unit.moment), off)
    stacked = trays(verdicts, range(len(typed)))
    layers = tuple(
        Mesh(print_expression(node), unit.visible.clause(node), tray, place in off)
        for place, (node, tray) in enumerate(zip(nodes, stacked, strict=True))
    )
    everyone = sum(verdicts.values())
    people = None if view.problems else _first_people(unit, without(typed, off), limit, everyone)
    return replace(view, everyone=everyone, meshes=layers, people=people)


def without(typed: tuple[Typed, ...], off: Collection[int]) -> tuple[Typed, ...]:
    """The meshes that are on."""
    return tuple(one for place, one in enumerate(typed) if place not in off)


def _first_people(unit: Unit, typed: tuple[Typed, ...], limit: int, everyone: int) -> PeoplePage | None:
    """The first who pass; where they are few among very many, they come with the exact figures."""
    seconds = in_time_for_a_page() if is_estimated() else 0
    if not seconds:
        return people_at(unit, typed, "passes", None, limit, everyone)
    try:
        with apart(unit.session, seconds):
            return people_at(unit, typed, "passes", None, limit, everyone)
    except TookTooLong:
        comes_later()
        return None


def _named_by(unit: Unit, key: str) -> tuple[tuple[int, str], ...]:
    """The segments whose condition names this one, over however many steps."""
    rows = segment_rows(unit)
    return tuple((row.id or 0, row.name) for row in rows if key in unit.catalogue.segments_below(row.expression))


def meshes_of(unit: Unit, expression: str) -> tuple[tuple[Node, ...], tuple[Typed, ...], tuple[Problem, ...]]:
    """The meshes of an expression, as trees and checked; or its problems. Raises NotAllowed where it is not shown."""
    if not expression:
        return (), (), ()
    if _typed(unit, expression)[1] == "not shown":
        raise NotAllowed("This segment uses something that only editors and owners see.")
    checked = unit.catalogue.check_segment(expression)
    if checked.tree is None or checked.typed is None:
        return (), (), checked.problems
    nodes = meshes(checked.tree)
    typed = checked.typed.parts if len(nodes) > 1 else (checked.typed,)
    return nodes, typed, ()


def people_at(
    unit: Unit, typed: tuple[Typed, ...], verdict: str, before_id: int | None, limit: int, everyone: int | None = None
) -> PeoplePage:
    """Those who reach the last of these meshes and there get this verdict, with the fields that the meshes read."""
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
    return people_page(unit, people, columns, limit, everyone)


def page_of_condition(unit: Unit, expression: str, before_id: int | None = None, limit: int = 50) -> PeoplePage:
    """Those for whom a condition is true, the newest first, as a segment of it would show them.

    Raises InvalidExpression, NotAllowed, TookTooLong, and InvalidInput where the database cannot work it out.
    """
    _, typed, problems = meshes_of(unit, expression)
    if problems:
        raise InvalidExpression(problems)
    with worked_out_in(unit, SECONDS_TO_COUNT):
        return people_at(unit, typed, "passes", before_id, limit)


@contextmanager
def worked_out_in(unit: Unit, seconds: float) -> Iterator[None]:
    """Work for which the database goes over people. Raises TookTooLong, and InvalidInput where it cannot be done."""
    try:
        with apart(unit.session, seconds):
            yield
    except FineSieveError as problem:
        if type(problem) is not FineSieveError:
            raise
        raise InvalidInput({"": "The database cannot work this out. Write the condition another way."}) from problem


def create_segment(scope: Scope, name: str) -> int:
    """Make a segment that admits everyone so far; gives its id. Raises InvalidInput for an empty name."""
    with scope.transaction("editor") as unit:
        name = name.strip()
        if not name or len(name) > LABEL:
            raise InvalidInput({"name": "Give the segment a name of at most 120 characters."})
        touch(unit.session, unit.workspace_id)  # whoever makes one at the same time waits here
        last = unit.session.exec(select(func.max(Segment.position))).one()
        key = key_from_label(name, {one.key for one in segment_rows(unit)})
        row = Segment(workspace_id=unit.workspace_id, key=key, name=name, position=(last or 0) + 1, owner=unit.actor)
        unit.session.add(row)
        unit.session.flush()
        return row.id or 0


def keep_as_segment(scope: Scope, name: str, expression: str) -> int:
    """Make a segment of a condition; gives its id. One of this name with this condition is given as it is, so that what
    is sent twice counts once. Raises InvalidInput for a condition that is too long, or a name that will not do."""
    with scope.transaction("editor") as unit:
        if len(expression) > EXPRESSION:
            raise InvalidInput({"": "This condition grows too long for one segment."})
        touch(unit.session, unit.workspace_id)  # whoever makes one at the same time waits here
        twin = select(Segment.id).where(col(Segment.name) == name.strip(), col(Segment.expression) == expression)
        there = unit.session.exec(twin.limit(1)).first()
        if there:
            return there
        made = create_segment(scope, name)
        change_segment(scope, made, 1, SegmentInput(name=name.strip(), expression=expression))
        return made


def change_segment(scope: Scope, segment_id: int, revision: int, asked: SegmentInput) -> int:
    """Change name, description and condition; gives the id for undoing.

    Raises InvalidExpression for a condition with problems, Overtaken where
    somebody else has changed it meanwhile.
    """
    with scope.transaction("editor") as unit:
        row = segment_named(unit, segment_id, lock=True)
        if row.revision != revision:
            refuse_overtaking(unit, "segment", segment_id, abs(row.revision - revision))
        return _change(unit, row, asked)


def _change(unit: Unit, row: Segment, asked: SegmentInput) -> int:
    if asked.expression:
        problems = unit.catalogue.check_segment(asked.expression, row.key).problems
        if problems:
            raise InvalidExpression(problems)
    assert row.id is not None
    before = snapshot(unit, "segment", row.id)
    row.name, row.description, row.expression = asked.name, asked.description, asked.expression
    row.folder = asked.folder.strip()
    unit.session.add(row)
    change_id = record_change(unit, "segment", row.id, f"Changed {asked.name}", before)
    if change_id:
        row.revision += 1
    return change_id


def _as_it_is(row: Segment) -> SegmentInput:
    return SegmentInput(name=row.name, description=row.description, expression=row.expression, folder=row.folder)


def ask_whether_filled(scope: Scope, segment_id: int, field_id: int) -> int:
    """Add to a segment's condition that a field is filled; gives the id for undoing, 0 where it was left as it is.

    One whose conditions are joined by *or* is left: one more would not narrow it, so the specialist says how it joins.
    Raises NotFound.
    """
    with scope.transaction("editor") as unit:
        field, row = field_of(unit.catalogue, field_id), segment_named(unit, segment_id)
        tree = parse(row.expression).tree
        if isinstance(tree, Chain) and tree.word == "or":
            return 0
        condition = f"{field.name} is filled"
        expression = f"{row.expression}\nand {condition}" if row.expression.strip() else condition
        return _change(unit, row, _as_it_is(row).model_copy(update={"expression": expression}))


def remove_segment(scope: Scope, segment_id: int) -> int:
    """Remove a segment, never its people; gives the id for undoing. Raises NotFound, InvalidInput while others are made
    of it."""
    with scope.transaction("editor") as unit:
        row = segment_named(unit, segment_id, lock=True)
        others = _named_by(unit, row.key)
        if others:
            names = ", ".join(name for _, name in others)
            raise InvalidInput({"": f"Other segments are made of this one: {names}. Change those first."})
        before = snapshot(unit, "segment", segment_id)
        name = row.name
        unit.session.delete(row)
        return record_change(unit, "segment", segment_id, f"Removed {name}", before)
