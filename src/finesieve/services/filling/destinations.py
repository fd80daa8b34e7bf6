"""What a sent form causes: each destination stores what of it counts, and says what still waits."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Final, Literal

from finesieve.core.fields.about import PERSON
from finesieve.core.forms.by_itself import seen
from finesieve.core.forms.definition import Form
from finesieve.core.forms.joining import NO_LISTS, Joining
from finesieve.core.forms.outcome import Results
from finesieve.core.values import Value, fold
from finesieve.services.filling.situation import store_records
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.writing import add_person, change_person
from finesieve.store.reading.rows import stored_row

__all__ = ["DESTINATIONS", "Destination", "Received", "Sending", "receive"]


@dataclass(frozen=True, slots=True)
class Sending:
    """A filled-in form that may be taken: what it would store, by what it is about, secrets hashed.

    `joining` is what it does to lists, `opened_by` is who followed a personal link, `email_owner` who has the email
    that was given; 0 for nobody.
    """

    form: Form
    results: Results
    joining: Joining = NO_LISTS
    opened_by: int = 0
    email_owner: int = 0

    @property
    def source(self) -> str:
        """The way that history says."""
        return f"form: {self.form.title}"


@dataclass(frozen=True, slots=True)
class Received:
    """What came of it: whose it is, whether it is stored or waits, and a new address that waits to be confirmed."""

    person_id: int
    state: Literal["stored", "held"] = "stored"
    new_address: str = ""


@dataclass(frozen=True, slots=True)
class Destination:
    """One thing that sending can cause: when it is that one, and what it does."""

    key: str
    takes: Callable[[Sending], bool]
    receive: Callable[[Unit, Sending], Received] = field(repr=False)


def _lists(unit: Unit, sending: Sending, held: Value = ()) -> dict[str, Value]:
    return {"lists": sending.joining.held_after(unit.catalogue, held)} if sending.joining else {}


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
    change_person(unit, person_id, kept | _lists(unit, sending, stored.get("lists")), sending.source)
    store_records(unit, person_id, sending.results.records, sending.source)
    return Received(person_id, new_address=new)


def _hold(_unit: Unit, sending: Sending) -> Received:
    """Whoever types a known email may be anybody: nothing that is stored changes before it is decided."""
    return Received(sending.email_owner, "held")


def _sign_up(unit: Unit, sending: Sending) -> Received:
    """Somebody new."""
    values = sending.results.of(PERSON) | _lists(unit, sending) | seen(unit.catalogue, unit.moment, {}, new=True)
    person_id = add_person(unit, values, sending.source)
    store_records(unit, person_id, sending.results.records, sending.source)
    return Received(person_id)


DESTINATIONS: Final = (
    Destination("account", lambda one: bool(one.opened_by), _change_own),
    Destination("decision", lambda one: bool(one.email_owner), _hold),
    Destination("sign-up", lambda one: True, _sign_up),
)
"""In the order in which they are asked; the first that takes a sending receives it."""


def receive(unit: Unit, sending: Sending) -> Received:
    """Hand a sending to its destination."""
    return next(one for one in DESTINATIONS if one.takes(sending)).receive(unit, sending)
