"""A segment's condition as meshes, one below the other, and the counts on each tray."""

from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from finesieve.core.language import tree

__all__ = ["VERDICTS", "Tray", "Verdicts", "condition_of_tray", "join_meshes", "meshes", "switched_off", "trays"]


def meshes(node: tree.Node) -> tuple[tree.Node, ...]:
    """The conditions that must all be true, in order; one mesh where it is no chain of *and*."""
    return node.parts if isinstance(node, tree.Chain) and node.word == "and" else (node,)


def join_meshes(parts: Sequence[tree.Node]) -> tree.Node:
    """The condition of these meshes together; there must be at least one."""
    return parts[0] if len(parts) == 1 else tree.Chain("and", tuple(parts))


VERDICTS: Final = ("passes", "caught", "cant_tell")
"""What can become of somebody at a mesh."""


def condition_of_tray(nodes: Sequence[tree.Node], verdict: str) -> tree.Node:
    """The condition that is true of just those who reach the last of these meshes and there get this verdict; there
    must be at least one mesh."""
    *above, last = nodes
    if verdict == "caught":
        return join_meshes((*above, tree.Not(last)))
    return join_meshes((*above, tree.IsBlank(last) if verdict == "cant_tell" else last))


@dataclass(frozen=True, slots=True)
class Tray:
    """What became of the people who reached one mesh.

    `reached` = `passes` + `caught` + `cant_tell`. `without` is how many would
    come out below if this mesh alone were taken out.
    """

    reached: int
    passes: int
    caught: int
    without: int

    @property
    def cant_tell(self) -> int:
        return self.reached - self.passes - self.caught


Verdicts = Mapping[tuple[bool | None, ...], int]
"""How many people got which verdicts, one a mesh; together everyone."""


def switched_off(verdicts: Verdicts, off: Container[int]) -> Verdicts:
    """The verdicts as they were if these meshes let everybody fall through."""
    found: dict[tuple[bool | None, ...], int] = {}
    for verdict, people in verdicts.items():
        open_ = tuple(True if place in off else one for place, one in enumerate(verdict))
        found[open_] = found.get(open_, 0) + people
    return found


def trays(verdicts: Verdicts, meshes: Sequence[int]) -> tuple[Tray, ...]:
    """Trays from top to bottom: the meshes by their places in the verdicts, in any order."""
    found = []
    for place, mesh in enumerate(meshes):
        above, others = meshes[:place], [one for one in meshes if one != mesh]
        reached = passes = caught = without = 0
        for verdict, people in verdicts.items():
            if all(verdict[one] is True for one in above):
                reached += people
                passes += people if verdict[mesh] is True else 0
                caught += people if verdict[mesh] is False else 0
            without += people if all(verdict[one] is True for one in others) else 0
        found.append(Tray(reached, passes, caught, without))
    return tuple(found)
