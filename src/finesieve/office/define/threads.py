"""The dependency picture: fields at the left, what is computed from them in columns to the right, threads between."""

from dataclasses import dataclass

from finesieve.core.model.catalogue import Catalogue

__all__ = ["Knot", "Picture", "Thread", "draw"]

COLUMN = 270
ROW = 30
MOST_KNOTS = 160


@dataclass(frozen=True, slots=True)
class Knot:
    """A field in the picture. `dark` is the chosen one, its ancestors and heirs; all are, when none is chosen."""

    field_id: int
    label: str
    about: str
    derived: bool
    x: int
    y: int
    dark: bool
    chosen: bool


@dataclass(frozen=True, slots=True)
class Thread:
    """A line from what is read, behind its words, to what reads it."""

    x1: int
    y1: int
    x2: int
    y2: int
    dark: bool


@dataclass(frozen=True, slots=True)
class Picture:
    """What to draw, in pixels. `left_out` counts knots that found no room."""

    knots: tuple[Knot, ...]
    threads: tuple[Thread, ...]
    width: int
    height: int
    left_out: int


def _edges(catalogue: Catalogue) -> dict[int, set[int]]:
    """For each derived field the ids of what it reads; a collection stands for the derived fields over it."""
    ids = {(field.about, field.key): field.id for field in catalogue.all_fields}
    found: dict[int, set[int]] = {}
    for about, derivation in catalogue.derivations.items():
        for key, formula in derivation.formulas.items():
            read = {ids[place] for place in formula.reads if place in ids}
            found[ids[(about, key)]] = read
    return found


def _reach(start: int, edges: dict[int, set[int]]) -> set[int]:
    found: set[int] = set()
    waiting = [start]
    while waiting:
        current = waiting.pop()
        if current not in found:
            found.add(current)
            waiting.extend(edges.get(current, ()))
    return found


def draw(catalogue: Catalogue, chosen: int = 0) -> Picture:
    """The picture of all fields that anything is computed from, and all that are computed."""
    needs = _edges(catalogue)
    heirs: dict[int, set[int]] = {}
    for field_id, read in needs.items():
        for other in read:
            heirs.setdefault(other, set()).add(field_id)
    if chosen and (chosen in needs or chosen in heirs):
        dark = _reach(chosen, needs) | _reach(chosen, heirs)
    else:
        dark, chosen = set(needs) | set(heirs), 0
    depth = _depths(needs)
    knots = {field_id for field_id in (*needs, *heirs)}
    shown = sorted(knots, key=lambda field_id: (field_id not in dark, depth.get(field_id, 0)))[:MOST_KNOTS]
    placed = _placed(catalogue, set(shown), depth, needs)
    drawn = tuple(
        Knot(
            field_id,
            catalogue.by_id[field_id].short,
            "" if catalogue.by_id[field_id].about == "person" else catalogue.say_about(catalogue.by_id[field_id].about),
            catalogue.by_id[field_id].derived,
            x,
            y,
            field_id in dark,
            field_id == chosen,
        )
        for field_id, (x, y) in placed.items()
    )
    threads = tuple(
        Thread(
            placed[read][0] + _words_end(catalogue, read),
            placed[read][1],
            placed[field_id][0] - 8,
            placed[field_id][1],
            {read, field_id} <= dark,
        )
        for field_id, reads in needs.items()
        for read in sorted(reads)
        if field_id in placed and read in placed
    )
    width = max((x for x, _ in placed.values()), default=0) + COLUMN
    height = max((y for _, y in placed.values()), default=0) + ROW
    return Picture(drawn, threads, width, height, len(knots) - len(shown))


def _words_end(catalogue: Catalogue, field_id: int) -> int:
    """About where the words beside a knot end, in pixels from it."""
    field = catalogue.by_id[field_id]
    about = "" if field.about == "person" else catalogue.say_about(field.about)
    return min(18 + 7 * min(len(field.short), 24) + 7 * min(len(about), 14), COLUMN - 30)


def _depths(needs: dict[int, set[int]]) -> dict[int, int]:
    depth: dict[int, int] = {}
    changed = True
    while changed:  # there is no circle, so this ends
        changed = False
        for field_id, read in needs.items():
            deep = 1 + max((depth.get(other, 0) for other in read), default=0)
            if depth.get(field_id) != deep:
                depth[field_id] = deep
                changed = True
    return depth


def _placed(
    catalogue: Catalogue, shown: set[int], depth: dict[int, int], needs: dict[int, set[int]]
) -> dict[int, tuple[int, int]]:
    """Left to right by depth; within a column near the middle of what is read, in the order of the catalogue."""
    order = {field.id: place for place, field in enumerate(catalogue.all_fields)}
    columns: dict[int, list[int]] = {}
    for field_id in sorted(shown, key=lambda one: order.get(one, 0)):
        columns.setdefault(depth.get(field_id, 0), []).append(field_id)
    placed: dict[int, tuple[int, int]] = {}
    for column, members in sorted(columns.items()):
        if column:
            members.sort(key=lambda one: _middle(one, needs, placed))
        for row, field_id in enumerate(members):
            placed[field_id] = (column * COLUMN + 10, row * ROW + 18)
    heirs = {source: {one for one, read in needs.items() if source in read} for source in columns.get(0, ())}
    for row, field_id in enumerate(sorted(heirs, key=lambda one: _middle(one, heirs, placed))):
        placed[field_id] = (10, row * ROW + 18)
    return placed


def _middle(field_id: int, edges: dict[int, set[int]], placed: dict[int, tuple[int, int]]) -> float:
    rows = [placed[other][1] for other in edges.get(field_id, ()) if other in placed]
    return sum(rows) / len(rows) if rows else 0.0
