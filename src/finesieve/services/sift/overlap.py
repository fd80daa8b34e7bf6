"""What two to four segments, or versions of one, share: counts of every region, its people, a segment made of it."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final

from finesieve.core.errors import FineSieveError, InvalidExpression, InvalidInput, NotFound, TookTooLong
from finesieve.core.language.printer import print_expression
from finesieve.core.language.typed import Typed
from finesieve.core.sieve.overlap import Region, condition_of, in_order, regions_of
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.people.listing import PeoplePage
from finesieve.services.sift.segments import keep_as_segment, page_of_condition
from finesieve.services.sift.versions import Strand, strand_of
from finesieve.store.connection.database import apart
from finesieve.store.reading.kept import patience
from finesieve.store.reading.people import SECONDS_TO_COUNT, count_verdicts

__all__ = ["MOST", "Overlap", "RegionCount", "overlap_of", "region_people", "region_words", "save_region"]

MOST: Final = 4
_EVERYONE: Final = "true"


@dataclass(frozen=True, slots=True)
class RegionCount:
    """How many people are in just these of the segments, and what that is called."""

    region: Region
    people: int
    words: str


@dataclass(frozen=True, slots=True)
class Overlap:
    """Segments, or earlier versions of them, with their names, and their regions in the order they are drawn; `outside`
    is in none of them.

    `failure` says why nothing was counted.
    """

    segments: tuple[tuple[Strand, str], ...]
    regions: tuple[RegionCount, ...] = ()
    outside: int = 0
    failure: str = ""

    @property
    def union(self) -> int:
        return sum(one.people for one in self.regions)

    def size(self, place: int) -> int:
        """How many are in the segment at a place."""
        return sum(one.people for one in self.regions if one.region[place])


def overlap_of(scope: Scope, chosen: Sequence[Strand]) -> Overlap:
    """The overlap of these segments, in one pass over everybody. Raises NotFound, InvalidInput for one or too many."""
    with scope.reading("reader") as unit:
        strands = _strands(unit, chosen)
        names = [name for name, _ in strands]
        found = Overlap(tuple(zip(dict.fromkeys(chosen), names, strict=True)))
        try:
            typed = [_condition(unit, expression) for _, expression in strands]
            with apart(unit.session, patience(SECONDS_TO_COUNT)):
                verdicts = count_verdicts(unit.session, unit.definitions, typed, unit.moment)
        except InvalidExpression:
            return replace(found, failure="One of these segments cannot be counted, or is not shown to you.")
        except TookTooLong:
            return replace(found, failure="It takes too long to count. Make the conditions simpler.")
        except FineSieveError:
            return replace(found, failure="The database cannot work it out. Write the conditions another way.")
        sizes = regions_of(verdicts)
        counted = tuple(RegionCount(one, sizes[one], region_words(names, one)) for one in in_order(sizes, sizes))
        return replace(found, regions=counted, outside=sizes.get((False,) * len(names), 0))


def region_words(names: Sequence[str], region: Region) -> str:
    """What a region is called: `Thirsty plots and Herb growers, not Trade`."""
    inside = [name for name, is_in in zip(names, region, strict=True) if is_in]
    outside = [name for name, is_in in zip(names, region, strict=True) if not is_in]
    words = " and ".join(inside) if len(inside) < 3 else f"{', '.join(inside[:-1])} and {inside[-1]}"
    if not outside:
        return words if len(inside) < 3 else f"all of {words}"
    return f"{'only ' if len(inside) == 1 else ''}{words}, not {' nor '.join(outside)}"


def _strands(unit: Unit, chosen: Sequence[Strand]) -> list[tuple[str, str]]:
    """What each is called, and its expression."""
    wanted = list(dict.fromkeys(chosen))
    if not 2 <= len(wanted) <= MOST:
        raise InvalidInput({"": f"Choose two to {MOST} segments."})
    return [strand_of(unit, one) for one in wanted]


def _condition(unit: Unit, expression: str) -> Typed:
    checked = unit.visible.check_segment(expression or _EVERYONE)
    if checked.typed is None:
        raise InvalidExpression(checked.problems)
    return checked.typed


def _expression(strands: Sequence[tuple[str, str]], region: Region) -> str:
    expressions = [expression for _, expression in strands]
    outside_everyone = any(not is_in and not one for one, is_in in zip(expressions, region, strict=False))
    if len(region) != len(strands) or not any(region) or outside_everyone:
        raise NotFound("There is no such region.")
    return condition_of(expressions, region)


def region_people(
    scope: Scope, chosen: Sequence[Strand], region: Region, before_id: int | None = None
) -> tuple[str, PeoplePage]:
    """What a region is called, and its people, fifty at a time. Raises NotFound, InvalidInput."""
    with scope.reading("reader") as unit:
        strands = _strands(unit, chosen)
        page = page_of_condition(unit, _expression(strands, region), before_id)
        return region_words([name for name, _ in strands], region), page


def save_region(scope: Scope, chosen: Sequence[Strand], region: Region, name: str) -> int:
    """Make a segment of a region; gives its id. Raises NotFound, and InvalidInput for a condition that grows too long
    or a name that will not do."""
    with scope.transaction("editor") as unit:
        text = _expression(_strands(unit, chosen), region)
        tree = unit.catalogue.check_segment(text).tree
        expression = print_expression(tree) if tree is not None else text
        return keep_as_segment(scope, name, expression)
