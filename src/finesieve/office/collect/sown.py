"""The rows and cells of a sowing plan."""

from collections.abc import Mapping
from dataclasses import dataclass, field

__all__ = ["Cell", "Row"]


@dataclass(frozen=True, slots=True)
class Cell:
    """A cell of a sowing plan: its sign and word, and what pressing it posts; or the rule that it `opens`."""

    sign: str
    word: str
    posts: str = ""
    opens: str = ""


@dataclass(frozen=True, slots=True)
class Row:
    """A question of a sowing plan, its cells by column."""

    id: str
    label: str
    cells: Mapping[str, Cell] = field(default_factory=dict)
    posts: str = ""
    note: str = ""
