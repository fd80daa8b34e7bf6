"""The papers of an order: its invoice, and the slip that it is packed by."""

from dataclasses import dataclass, field
from datetime import datetime
from typing import Final, Literal

from finesieve.core.commerce.facts import STATES
from finesieve.core.errors import Conflict, NotFound
from finesieve.core.forms.wording import Wording, wording_without_form
from finesieve.services.commerce.answers import Answered, answers_at, words_of_order
from finesieve.services.commerce.behind import shop_behind
from finesieve.services.commerce.charged import Shown, money_of, order_row, payment_keys, show_charges
from finesieve.services.commerce.orders import addresses_of, ways_of
from finesieve.services.kernel.scope import Scope

__all__ = ["PAPERS", "Paper", "PaperKind", "read_paper"]

PaperKind = Literal["invoice", "packing"]
PAPERS: Final[dict[PaperKind, str]] = {"invoice": "Invoice", "packing": "Packing slip"}
"""What each paper is called."""


@dataclass(frozen=True, slots=True)
class Paper:
    """A paper of an order, as it is printed. `address` is where the bill, or the parcel, goes, `due` what a correction
    has added and nobody has paid yet; `say` puts it into the language of who reads it."""

    kind: PaperKind
    title: str
    house: str
    language: str
    number: int
    at: datetime
    zone: str
    email: str
    address: tuple[str, ...]
    shown: Shown
    answered: Answered
    delivery: str
    payment: str
    paid_at: datetime | None
    due: str = ""
    say: Wording = field(default_factory=wording_without_form)


_MOST: Final = 100
"""As many answers, and as many for pieces, as a paper takes; each of so many characters at the most."""
_MOST_SAID: Final = 1_000


def read_paper(scope: Scope, order_id: int, kind: str, role: Literal["reader", "public"] = "reader") -> Paper:
    """A paper of an order. Raises NotFound, and Conflict for an order that is not placed (any more)."""
    with scope.reading(role) as unit:
        wanted = next((one for one in PAPERS if one == kind), None)
        if wanted is None:
            raise NotFound("There is no such paper.")
        row = order_row(unit, order_id)
        if row.state in ("held", "awaiting_payment", "cancelled"):
            raise Conflict(f"The order is {STATES[row.state]}; it has no papers.")
        delivery, payment = ways_of(unit, row)
        payments = [one for one in map(shop_behind(unit).find_payment, payment_keys(row)) if one is not None]
        house = unit.workspace.name
        found = addresses_of(unit, row)
        first, second = ("billing", "delivery") if wanted == "invoice" else ("delivery", "billing")
        # Whoever holds the link of an order may be somebody else than whose profile it is: only what was answered.
        kinds = (first, second) if role == "public" else (first, f"{first}_known", second, f"{second}_known")
        address = next((found[one] for one in kinds if one in found), ())
        say = words_of_order(unit, row) if wanted == "invoice" else wording_without_form(unit.manner.language[:2])
        answered = answers_at(unit, row, wanted, say=say).shortened(_MOST, _MOST_SAID)
        return Paper(
            wanted, PAPERS[wanted], house, unit.manner.language, row.number, row.placed_at, str(unit.moment.zone),
            row.email, address, show_charges(row, unit.manner), answered, delivery, payment,
            next((one.at for one in payments if one.state == "paid"), None),
            money_of(unit, row, row.due) if row.due else "",
            say,
        )  # fmt: skip
