"""A level or a role that waits for approval: held back where the rule of the house says so, until staff say yes."""

from collections.abc import Iterator, Mapping
from typing import Any, Final

from sqlmodel import col, select

from finesieve.core.commerce.port import PaymentRefused
from finesieve.core.errors import Conflict
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import to_json
from finesieve.core.forms.wording import wording_without_form
from finesieve.core.language.evaluator import compile_python
from finesieve.core.model.approving import check_approval
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.core.phrases import phrase
from finesieve.core.values import Value
from finesieve.services.commerce.charged import more_to_pay, move_to, order_row
from finesieve.services.commerce.giving import GIVEN, hold_back, release
from finesieve.services.commerce.owing import ask_to_pay, payer_known
from finesieve.services.define.approval import Told, approval_of
from finesieve.services.filling.kinds import DecisionKind, State, Wanted, WantedLine
from finesieve.services.kernel.scope import Unit
from finesieve.services.people.accounts import sign_in_path
from finesieve.services.people.messages import fill_message
from finesieve.services.values.value_lines import person_name, show_past
from finesieve.services.values.writing import change_person
from finesieve.standins.mail import Letter, post
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import Decision, OrderRow

__all__ = [
    "APPROVAL",
    "as_asked",
    "held_back",
    "holds_orders",
    "tell_person",
    "tell_waiting",
    "waiting_approval",
    "what_waits",
]

_HELD: Final = ("level", "role")


class _Asking(Mapping[str, Value]):
    """A person as they would be, with what they ask for after `form.`."""

    def __init__(self, row: Mapping[str, Value], asked: Mapping[str, Value]) -> None:
        self._row, self._asked = row, {f"form.{key}": value for key, value in asked.items()}

    def __getitem__(self, name: str) -> Value:
        return self._asked.get(name) if name.startswith("form.") else self._row[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._row)

    def __len__(self) -> int:
        return len(self._row)


def held_back(
    unit: Unit, values: Mapping[str, Value], stored: Mapping[str, Value]
) -> tuple[dict[str, Value], dict[str, Value]]:
    """What is stored at once of these values of a person, and what of it (a level, a role) waits for approval."""
    asked = {key: values[key] for key in _HELD if values.get(key) is not None and values[key] != stored.get(key)}
    rule = approval_of(unit).waits_when if asked else ""
    typed = check_approval(unit.catalogue, rule).typed if rule else None
    if typed is None:
        return dict(values), {}
    others = {key: value for key, value in values.items() if key not in asked}
    row = unit.catalogue.derivation.row({**stored, **others}, unit.moment)
    if compile_python(typed)(_Asking(row, asked), unit.moment) is not True:
        return dict(values), {}
    return others, asked


def holds_orders(unit: Unit, waits: Mapping[str, Value]) -> bool:
    """Whether an order is held before payment as long as this waits for approval."""
    holds = approval_of(unit).holds if waits else frozenset()
    return any(f"{key}.{value}" in holds for key, value in waits.items())


def _field(unit: Unit, key: str) -> Field | None:
    return unit.catalogue.by_id.get(LEVEL_QUESTION) if key == "level" else unit.catalogue.by_key.get(key)


def _wanted(unit: Unit, row: Decision) -> Wanted:
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id) or {}
    lines = []
    for key, data in row.asked["wants"].items():
        field = _field(unit, key)
        if field is not None:
            lines.append(WantedLine(field, field.show(stored.get(key)), show_past(field, data)))
    return Wanted(tuple(lines))


def _apply(unit: Unit, row: Decision, source: str) -> State:
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id) or {}
    values: dict[str, Value] = {}
    for key, data in row.asked["wants"].items():
        field = _field(unit, key)
        try:
            values[key] = field.from_kept(data) if field is not None else None
        except ValueError:
            values[key] = None
        if values[key] is None:
            raise Conflict(f"“{data}” is not offered any more, so it cannot be given.")
    order = _order(unit, row)
    if order is not None and order.gives:
        if order.state == "cancelled":
            raise Conflict(
                "The order for it was cancelled. Let them ask again, or give them the level on their profile."
            )
        values.pop("level", None)  # it is theirs once the order is paid
    change_person(unit, row.person_id, values, "approval")
    row.asked = {**row.asked, "before": {key: to_json(stored.get(key)) for key in row.asked["wants"]}}
    link = sign_in_path(unit, row.person_id, str(row.asked.get("language", "en")))
    if order is not None:
        _let_go(unit, order)
        link = str(row.asked["order_link"]) if more_to_pay(order) else link
    tell_person(unit, row, "approved", link)
    return "applied"


def _order(unit: Unit, row: Decision) -> OrderRow | None:
    """The order that came with what is asked for, locked; None for none."""
    return order_row(unit, int(row.asked["order"]), lock=True) if row.asked.get("order") else None


def _let_go(unit: Unit, order: OrderRow) -> None:
    """An order whose person is approved: one that is held is to be paid now; what it is for is given once it is."""
    if order.state == "held":
        move_to(unit, order, "awaiting_payment" if order.total else "placed", "approval")
        try:
            ask_to_pay(unit, order, payer_known(unit, order))
        except PaymentRefused as refused:
            raise Conflict(f"Their order cannot be paid: {refused}") from None
    release(unit, order)


def _refuse(unit: Unit, row: Decision) -> None:
    order = _order(unit, row)
    if order is not None and order.state == "held":
        move_to(unit, order, "cancelled", "approval")
        row.asked = {**row.asked, "cancelled": True}
    if row.asked.get("tell", True):
        tell_person(unit, row, "declined")


def _undo(unit: Unit, row: Decision) -> None:
    """Bring back what was held before a yes, where nothing else has been given since; an order waits as it did."""
    order = _order(unit, row)
    if row.state != "applied":
        if order is not None and order.state == "cancelled" and row.asked.get("cancelled"):
            move_to(unit, order, "held", "approval, taken back")
        return
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id) or {}
    wants = row.asked["wants"]
    unpaid = {"level"} if order is not None and order.gives and not order.gives.get(GIVEN) else set()
    if any(to_json(stored.get(key)) != wants[key] for key in wants if key not in unpaid):
        raise Conflict("It has changed since; nothing was taken back.")
    if order is not None:
        hold_back(unit, order)
        if order.state == "awaiting_payment" and holds_orders(unit, wants):
            move_to(unit, order, "held", "approval, taken back")
    change_person(unit, row.person_id, dict(row.asked.get("before", {})), "approval, taken back")


def waiting_approval(unit: Unit, person_id: int) -> Decision | None:
    """What waits for approval of a person, if anything."""
    query = select(Decision).where(
        col(Decision.person_id) == person_id, col(Decision.state) == "waiting", col(Decision.kind) == APPROVAL.key
    )
    return unit.session.exec(query.order_by(col(Decision.id).desc())).first()


def what_waits(unit: Unit, person_id: int) -> tuple[tuple[str, str], ...]:
    """What of somebody waits for approval, as (what it is, what they asked for)."""
    row = waiting_approval(unit, person_id)
    return tuple((one.field.label, one.answer) for one in _wanted(unit, row).lines) if row is not None else ()


def tell_person(unit: Unit, row: Decision, what: Told, link: str = "", text: str = "") -> None:
    """Write to a person what has become of what they asked for: the text of the house, or a `text` for them alone."""
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id) or {}
    if not stored.get("email"):
        return
    say = wording_without_form(str(row.asked.get("language", "")))
    name = unit.workspace.name
    subjects = {
        "waiting": phrase("We have what you sent to {house}", house=name),
        "asked": phrase("A question from {house}", house=name),
        "approved": phrase("Welcome at {house}", house=name),
        "declined": phrase("What you asked {house}", house=name),
    }
    body = fill_message(unit, text or say(approval_of(unit).text(what)), row.person_id, stored)
    letter = Letter("approval", str(stored["email"]), say(subjects[what]), body, link)
    post(unit.session, unit.workspace_id, row.person_id, letter, unit.moment.now)


def tell_waiting(unit: Unit, row: Decision) -> None:
    """Write to a person that they wait, and to staff that somebody does."""
    tell_person(unit, row, "waiting")
    tell = approval_of(unit).tell
    if not tell:
        return
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id) or {}
    said = ", ".join(f"{line.field.label}: {line.answer}" for line in _wanted(unit, row).lines)
    subject = f"{person_name(stored)} waits for approval"
    own = fill_message(unit, approval_of(unit).text("staff"), row.person_id, stored)
    body = "\n\n".join(part for part in (own, said) if part)
    letter = Letter("approval", tell, subject, body, f"/w/{unit.workspace.slug}/waiting")
    post(unit.session, unit.workspace_id, row.person_id, letter, unit.moment.now)


APPROVAL: Final = DecisionKind(
    "approval",
    "Waits for approval",
    "asked for this in “{form}”. It is theirs once you approve it.",
    _wanted,
    _apply,
    "Approve",
    _refuse,
    _undo,
    "Decline",
)


def as_asked(wants: Mapping[str, Value], language: str, order: tuple[int, str] = (0, "")) -> dict[str, Any]:
    """What a decision keeps of what waits; `order` is the order that came with it and its link, 0 for none."""
    kept = {"wants": {key: to_json(value) for key, value in wants.items()}, "language": language}
    return kept | ({"order": order[0], "order_link": order[1]} if order[0] else {})
