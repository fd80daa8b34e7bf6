"""What several segments share: the regions of their overlap, in an order that draws well, and their conditions."""

from collections.abc import Iterable, Mapping, Sequence
from itertools import pairwise

from finesieve.core.sieve.meshes import Verdicts

__all__ = ["Region", "condition_of", "in_order", "regions_of"]

Region = tuple[bool, ...]
"""Which of the segments somebody is in, by their places."""


def regions_of(verdicts: Verdicts) -> dict[Region, int]:
    """How many people are in which of the segments and in none of the others; unknown is not in. Whoever is in none is
    counted too, as the region of nothing but False."""
    found: dict[Region, int] = {}
    for verdict, people in verdicts.items():
        region = tuple(one is True for one in verdict)
        found[region] = found.get(region, 0) + people
    return found


def in_order(regions: Iterable[Region], sizes: Mapping[Region, int]) -> tuple[Region, ...]:
    """Regions beside one another so that each segment is drawn in few stretches: from each one on to the nearest, the
    best of all beginnings, the widest first where several do as well."""
    known = sorted((one for one in regions if any(one)), key=lambda one: -sizes[one])
    best: tuple[Region, ...] = tuple(known)
    for first in known:
        row, left = [first], [one for one in known if one != first]
        while left:
            nearest = min(left, key=lambda one: (_apart(row[-1], one), -sizes[one]))
            row.append(nearest)
            left.remove(nearest)
        if _breaks(row) < _breaks(best):
            best = tuple(row)
    return best


def _apart(one: Region, other: Region) -> int:
    return sum(a != b for a, b in zip(one, other, strict=True))


def _breaks(row: Sequence[Region]) -> int:
    return sum(_apart(one, other) for one, other in pairwise(row))


def condition_of(expressions: Sequence[str], region: Region) -> str:
    """The condition for a region: true of whoever is in just these. An empty expression admits everyone."""
    inside = [f"({text})" for text, is_in in zip(expressions, region, strict=True) if is_in and text.strip()]
    outside = [f"not (({text}) else false)" for text, is_in in zip(expressions, region, strict=True) if not is_in]
    return "\nand ".join((*inside, *outside))
