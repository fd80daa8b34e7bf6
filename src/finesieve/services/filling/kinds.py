"""What can wait for a decision: each kind says what would change, and what happens on a yes."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from finesieve.core.fields.definition import Field
from finesieve.services.kernel.scope import Unit
from finesieve.store.tables import Decision

__all__ = ["DecisionKind", "State", "Wanted", "WantedLine"]

State = Literal["waiting", "applied", "refused", "taken"]


@dataclass(frozen=True, slots=True)
class WantedLine:
    """One value beside what is stored, both as shown; `refused` why the person may not change it themself."""

    field: Field
    stored: str
    answer: str
    refused: str = ""


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a yes would change: values, and records that it would add, as (type, values) pairs."""

    lines: tuple[WantedLine, ...]
    records: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class DecisionKind:
    """One kind. `wanted` is for those who may see the person; `apply` does it, saying by which way in the history.

    `apply` gives the state that it ends in, and raises Conflict where an answer fits no more; `yes` stands on its
    button. `refuse` is what a no causes besides, `undo` takes back what was decided; it raises
    Conflict where that cannot be. `no` stands on the other button.
    """

    key: str
    title: str
    asks: str
    wanted: Callable[[Unit, Decision], Wanted]
    apply: Callable[[Unit, Decision, str], State]
    yes: str = "Use these answers"
    refuse: Callable[[Unit, Decision], None] | None = None
    undo: Callable[[Unit, Decision], None] | None = None
    no: str = "Discard"
