"""A change is a value: what one act made of stored values, of one thing or of many."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Final

from finesieve.core.fields.encoding import Json

__all__ = ["COMPUTED", "ORDER_IDS", "OWN_IDS", "Change", "ChangeSet"]

OWN_IDS: Final[Mapping[str, int]] = {"tags": -1, "lists": -2, "level": -3}
"""What stands for a field's id in changes of a person's tags, lists and level."""
ORDER_IDS: Final[Mapping[str, int]] = {"state": -4, "refund": -5, "answer": -6, "total": -7, "paid": -8}
"""The same for what an order has besides its fields."""
COMPUTED: Final = "computed"
"""The source of a derived value that followed."""


@dataclass(frozen=True, slots=True)
class Change:
    """One value that became another, both as history keeps them; None is blank.

    `row_id` is of the thing that it is kept of, `field_id` of the field; see `OWN_IDS`, and for links `History`.
    """

    row_id: int
    field_id: int
    old: Json
    new: Json
    computed: bool = False


@dataclass(frozen=True, slots=True)
class ChangeSet:
    """All that one act changed about things of one kind: `changes`, by whom, when, and by which way (`source`).

    Derived values that followed are among the changes, as computed ones.
    """

    about: str
    changes: tuple[Change, ...]
    source: str
    actor: str
    at: datetime

    @property
    def stored(self) -> tuple[Change, ...]:
        """Those of stored values."""
        return tuple(change for change in self.changes if not change.computed)

    @property
    def rows(self) -> frozenset[int]:
        """The ids of what was changed."""
        return frozenset(change.row_id for change in self.changes)

    def __len__(self) -> int:
        """How many stored values were changed."""
        return len(self.stored)

    def lines(self) -> Iterator[dict[str, Json]]:
        """What history keeps of each change."""
        for one in self.changes:
            source = COMPUTED if one.computed else self.source
            yield {"row": one.row_id, "field": one.field_id, "old": one.old, "new": one.new, "source": source}
