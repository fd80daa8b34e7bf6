"""What a submission was charged, line by line, and why."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from finesieve.services.kernel.scope import Unit

__all__ = ["ChargeLine", "charge_lines"]


@dataclass(frozen=True, slots=True)
class ChargeLine:
    """Money that an answer added, and why: the question with its answer, where that was kept."""

    label: str
    amount: Decimal
    reason: str


def charge_lines(unit: Unit, charges: Sequence[Sequence[Any]]) -> Iterator[ChargeLine]:
    """The charges as they are kept; an answer that this role may not see is no reason that is told."""
    for label, amount, *more in charges:
        reason, field_id = (*more, "", 0)[:2] if len(more) == 2 else ("", 0)
        field = unit.catalogue.by_id.get(field_id)
        told = field is None or unit.sees(field)
        yield ChargeLine(str(label), Decimal(str(amount)), str(reason) if told else "")
