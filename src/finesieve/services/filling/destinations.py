"""What a sent form causes: each destination stores what of it counts, and says what still waits."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Final, Literal

from finesieve.core.commerce.bill import Bill
from finesieve.core.commerce.cart import Cart
from finesieve.core.fields.about import ORDER, PERSON
from finesieve.core.forms.by_itself import seen
from finesieve.core.forms.definition import Form
from finesieve.core.forms.fees import Fee
from finesieve.core.forms.joining import NO_LISTS, Joining
from finesieve.core.forms.outcome import Results
from finesieve.core.model.level_ends import LEVEL_ENDS
from finesieve.core.values import Value, fold
from finesieve.services.commerce.giving import longer
from finesieve.services.commerce.owing import payer_of
from finesieve.services.commerce.placing import Placing, place_order
from finesieve.services.filling.approval import held_back, holds_orders
from finesieve.services.filling.situation import store_records
from finesieve.services.kernel.scope import Unit
from finesieve.services.people.records import link_with_order
from finesieve.services.values.writing import add_person, change_person
from finesieve.store.reading.rows import stored_row

__all__ = ["DESTINATIONS", "Checkout", "Destination", "Received", "Sending", "receive"]


@dataclass(frozen=True, slots=True)
class Checkout:
    """A cart and what it comes to, by the key of its filling-in; and the `fee` on it, if a level is paid for."""

    form_id: int
    key: str
    cart: Cart
    bill: Bill
    fee: Fee | None = None


@dataclass(frozen=True, slots=True)
class Sending:
    """A filled-in form that may be taken: what it would store, by what it is about, secrets hashed.

    `joining` is what it does to lists, `opened_by` is who followed a personal link, `email_owner` who has the email
    that was given; 0 for nobody. `placing` is what is about to be ordered. `renews` tells that they hold their level
    for longer from now on.
    """

    form: Form
    results: Results
    joining: Joining = NO_LISTS
    opened_by: int = 0
    email_owner: int = 0
    placing: Checkout | None = None
    renews: bool = False

    @property
    def is_paid(self) -> bool:
        """Whether the level that is chosen is theirs only once it is paid."""
        return self.placing is not None and self.placing.fee is not None

    @property
    def source(self) -> str:
        """The way that history says."""
        return f"form: {self.form.title}"


@dataclass(frozen=True, slots=True)
class Received:
    """What came of it: whose it is, whether it is stored or waits, a new address that waits to be confirmed, the
    order that was placed, the records that were added, by type and id, and what `waits` for approval."""

    person_id: int
    state: Literal["stored", "held"] = "stored"
    new_address: str = ""
    order: int = 0
    records: tuple[tuple[int, int], ...] = ()
    waits: Mapping[str, Value] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Destination:
    """One thing that sending can cause: when it is that one, and what it does."""

    key: str
    takes: Callable[[Sending], bool]
    receive: Callable[[Unit, Sending], Received] = field(repr=False)


def _lists(unit: Unit, sending: Sending, held: Value = ()) -> dict[str, Value]:
    return {"lists": sending.joining.held_after(unit.catalogue, held)} if sending.joining else {}


def _without_waiting(
    unit: Unit, sending: Sending, values: Mapping[str, Value], stored: Mapping[str, Value]
) -> tuple[dict[str, Value], dict[str, Value]]:
    """What is stored at once, and what waits for approval; a level that is paid for does neither, see `giving`."""
    kept, waits = held_back(unit, values, stored)
    if sending.is_paid:
        kept.pop("level", None)
    return kept, waits


def _change_own(unit: Unit, sending: Sending) -> Received:
    """Somebody changes what is kept of them. A new address waits until both addresses have confirmed it."""
    person_id = sending.opened_by
    stored = stored_row(unit.session, unit.definitions, PERSON, person_id) or {}
    values = sending.results.of(PERSON)
    given = values.get("email")
    new = given if isinstance(given, str) and fold(given) != fold(str(stored.get("email") or "")) else ""
    kept = {key: value for key, value in values.items() if key != "email"} | seen(
        unit.catalogue, unit.moment, stored, new=False
    )
    kept, waits = _without_waiting(unit, sending, kept, stored)
    if sending.renews and not sending.is_paid:
        kept |= longer(unit, str(stored.get("level")), stored.get(LEVEL_ENDS))
    change_person(unit, person_id, kept | _lists(unit, sending, stored.get("lists")), sending.source)
    records = store_records(unit, person_id, sending.results.records, sending.source)
    return Received(person_id, new_address=new, records=records, waits=waits)


def _hold(_unit: Unit, sending: Sending) -> Received:
    """Whoever types a known email may be anybody: nothing that is stored changes before it is decided."""
    return Received(sending.email_owner, "held")


def _sign_up(unit: Unit, sending: Sending) -> Received:
    """Somebody new."""
    values = sending.results.of(PERSON) | _lists(unit, sending) | seen(unit.catalogue, unit.moment, {}, new=True)
    values, waits = _without_waiting(unit, sending, values, {})
    person_id = add_person(unit, values, sending.source)
    records = store_records(unit, person_id, sending.results.records, sending.source)
    return Received(person_id, records=records, waits=waits)


def _check_out(unit: Unit, sending: Sending) -> Received:
    """An order, for goods or for a level, and with it what any form would cause about the person.

    Somebody who merely types a known email orders freely: whose order it is waits, with what was said of the person.
    """
    assert sending.placing is not None
    about = _first(_OF_PEOPLE, sending).receive(unit, sending)
    known, fee = about.person_id if about.state == "stored" else 0, sending.placing.fee
    gives = {"level": fee.level.key, "renews": fee.renews, "waits": "level" in about.waits} if fee is not None else {}
    gives |= {"tax_class": fee.tax_class} if fee is not None else {}
    placing = Placing(
        sending.placing.form_id,
        sending.placing.key,
        sending.source,
        known,
        str(sending.results.answers.get("email") or ""),
        sending.results.of(ORDER),
        sending.placing.cart,
        sending.placing.bill,
        payer_of(sending.results.answers),
        gives,
        held=holds_orders(unit, about.waits),
    )
    order = place_order(unit, placing).id or 0
    link_with_order(unit, about.records, order, sending.source)
    return replace(about, order=order)


_OF_PEOPLE: Final = (
    Destination("account", lambda one: bool(one.opened_by), _change_own),
    Destination("decision", lambda one: bool(one.email_owner), _hold),
    Destination("sign-up", lambda one: True, _sign_up),
)
DESTINATIONS: Final = (Destination("checkout", lambda one: one.placing is not None, _check_out), *_OF_PEOPLE)
"""In the order in which they are asked; the first that takes a sending receives it."""


def receive(unit: Unit, sending: Sending) -> Received:
    """Hand a sending to its destination."""
    return _first(DESTINATIONS, sending).receive(unit, sending)


def _first(among: Sequence[Destination], sending: Sending) -> Destination:
    return next(one for one in among if one.takes(sending))
