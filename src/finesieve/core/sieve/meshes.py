"""A segment's condition as meshes, one below the other, and the counts on each tray."""

from collections.abc import Sequence
from dataclasses import dataclass

from finesieve.core.language import tree

__all__ = ["Tray", "join_meshes", "meshes", "trays"]


def meshes(node: tree.Node) -> tuple[tree.Node, ...]:
    """The conditions that must all be true, in order; one mesh where it is no chain of *and*."""
    return node.parts if isinstance(node, tree.Chain) and node.word == "and" else (node,)


def join_meshes(parts: Sequence[tree.Node]) -> tree.Node:
    """The condition of these meshes together; there must be at least one."""
    return parts[0] if len(parts) == 1 else tree.Chain("and", tuple(parts))


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


def trays(everyone: int, passes: Sequence[int], caught: Sequence[int], without: Sequence[int]) -> tuple[Tray, ...]:
    """Trays from top to bottom; `passes[i]` people pass meshes 0…i, `caught[i]` pass all before and fail i."""
    reached = [everyone, *passes][: len(passes)]
    return tuple(
        Tray(reach, passing, failing, out)
        for reach, passing, failing, out in zip(reached, passes, caught, without, strict=True)
    )
