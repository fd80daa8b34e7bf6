"""Rehearsal: a form filled in as a person of a chosen kind, without storing anything."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, time
from typing import Any
from urllib.parse import parse_qsl

from pydantic import Field as Bounds
from sqlmodel import col, select

from finesieve.core.commerce.amounts import in_currency
from finesieve.core.commerce.bill import Bill
from finesieve.core.commerce.cart import MOST_LINES, MOST_PIECES, Cart, CartLine
from finesieve.core.errors import InvalidInput
from finesieve.core.fields.about import HOUSE, PERSON, record_about
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import to_json
from finesieve.core.forms.by_itself import seen
from finesieve.core.forms.definition import Form
from finesieve.core.forms.evaluate import PreparedForm, prepare
from finesieve.core.forms.joining import NO_LISTS, Joining, joining_of
from finesieve.core.forms.outcome import Outcome
from finesieve.core.forms.rows import FormRow, Situation
from finesieve.core.forms.wording import Wording, worded, wording_of
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.program import Moment
from finesieve.core.language.typed import HISTORY
from finesieve.core.values import Value, plain_number, whole_number
from finesieve.services.commerce.checkouts import bill_or_why, evaluate_where_it_goes, still_to_choose
from finesieve.services.filling.situation import page_parameters, person_situation, shelf_for
from finesieve.services.filling.texts import FormTexts
from finesieve.services.forms.forms import form_of
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.values.value_lines import person_name
from finesieve.services.values.writing import taken_keys
from finesieve.store.tables import Segment

__all__ = [
    "Circumstances",
    "DerivedChange",
    "Kept",
    "Rehearsal",
    "SegmentChange",
    "rehearse",
    "run",
    "situation_for",
    "summary",
]


class Circumstances(Input):
    """As whom, and when, a form is rehearsed. `person` is an id, 0 for someone new; `page` address parameters.

    In a checkout `cart` are its lines, `product:variant:quantity` each.
    """

    person: int = Bounds(default=0, ge=0)
    level: str = Bounds(default="", max_length=60)
    tags: tuple[str, ...] = Bounds(default=(), max_length=200)
    lists: tuple[str, ...] = Bounds(default=(), max_length=200)
    language: str = Bounds(default="", max_length=3)
    day: str = Bounds(default="", pattern=r"^([0-9]{4}-[0-9]{2}-[0-9]{2})?$")
    page: str = Bounds(default="", max_length=1_000)
    cart: tuple[str, ...] = Bounds(default=(), max_length=MOST_LINES)
    delivery: str = Bounds(default="", max_length=60)
    payment: str = Bounds(default="", max_length=60)


@dataclass(frozen=True, slots=True)
class Kept:
    """The stored values and records of a person as a case keeps them, so that it stays what it was."""

    stored: Mapping[str, Value]
    records: Mapping[str, Sequence[tuple[int, Mapping[str, Value]]]]


@dataclass(frozen=True, slots=True)
class DerivedChange:
    """A derived value that would change, from what to what."""

    field: Field
    before: Value
    after: Value


@dataclass(frozen=True, slots=True)
class SegmentChange:
    """A segment whose verdict on the person would change: true, false, or unknown. `before` is None for someone new."""

    id: int
    name: str
    before: bool | None
    after: bool | None
    new: bool

    @property
    def what(self) -> str:
        """`enters`, `leaves` or `cant_tell`."""
        if self.after is True:
            return "enters"
        return "cant_tell" if self.after is None else "leaves"


@dataclass(frozen=True)
class Rehearsal:
    """A rehearsed form: its outcome, worded, and what sending would change.

    `taken` are keys of fields whose values somebody else has; `unseen` those whose
    values the one who rehearses may not see. A checkout has a `bill`, or says why there is `no_bill`,
    and what is `unchosen` of delivery and payment.
    """

    form_id: int
    form: Form
    prepared: PreparedForm
    outcome: Outcome
    say: Wording
    situation: Situation
    moment: Moment
    circumstances: Circumstances
    person: str
    derived: tuple[DerivedChange, ...]
    segments: tuple[SegmentChange, ...]
    taken: tuple[str, ...]
    unseen: frozenset[str] = frozenset()
    joining: Joining = NO_LISTS
    bill: Bill | None = None
    no_bill: str = ""
    unchosen: tuple[str, ...] = ()


def rehearse(scope: Scope, form_id: int, circumstances: Circumstances, answers: Mapping[str, str]) -> Rehearsal:
    """Fill in the draft of a form as people see it, its placeholders filled.

    Raises NotFound, and InvalidInput for circumstances that there cannot be.
    """
    with scope.reading("reader") as unit:
        draft = Form.model_validate(form_of(unit, form_id).draft)
        prepared = prepare(draft, unit.catalogue)
        found = run(unit, form_id, prepared, circumstances, answers)
        seen = FormTexts(unit, prepared, str, None, found.outcome.row, found.moment)
        shown = draft.model_copy(update={"intro": seen(found.say(draft.intro))})
        return replace(found, form=shown, outcome=worded(found.outcome, seen))


def run(
    unit: Unit,
    form_id: int,
    prepared: PreparedForm,
    circumstances: Circumstances,
    answers: Mapping[str, str],
    kept: Kept | None = None,
) -> Rehearsal:
    """Work a form out in circumstances; `kept` stands in for what is stored of the person now."""
    form = prepared.form
    moment = _unseen_blank(unit, _moment(unit, circumstances))
    say = wording_of(form, circumstances.language)
    situation = situation_for(unit, form, circumstances, answers, say.language, kept)
    outcome, cart = evaluate_where_it_goes(unit, prepared, answers, moment, situation)
    situation = replace(situation, cart=cart) if cart is not None else situation
    taken = taken_keys(unit, circumstances.person, outcome.results().of(PERSON))
    if taken and not (circumstances.person == 0 and taken == ["email"]):
        outcome = outcome.taken([key for key in taken if key != "email"])
    person = person_name(situation.stored) if circumstances.person else ""
    bill, no_bill = bill_or_why(situation.cart, outcome) if form.channel == "checkout" else (None, "")
    before, after = _rows(unit, form, outcome, situation, moment)
    return Rehearsal(
        form_id,
        form,
        prepared,
        worded(outcome, say),
        say,
        situation,
        moment,
        circumstances,
        person,
        _derived(unit, before, after, moment),
        _segments(unit, before, after, moment, new=not circumstances.person),
        tuple(taken),
        frozenset(known.key for known in unit.catalogue.fields if not unit.sees(known)),
        joining_of(form, outcome),
        bill,
        no_bill,
        tuple(still_to_choose(situation.cart, bill).values()),
    )


def _unseen_blank(unit: Unit, moment: Moment) -> Moment:
    """The moment, house values that the one who rehearses may not see left blank."""
    hidden = {field.key for field in unit.catalogue.fields_about(HOUSE) if not unit.sees(field)}
    if not hidden:
        return moment
    seen = {field.key for field in unit.catalogue.fields_about(HOUSE) if field.stores or field.derived} - hidden
    return replace(moment, house={key: moment.house.get(key) for key in seen})


def _seen(unit: Unit, about: str, values: Mapping[str, Value]) -> Mapping[str, Value]:
    """The values, those that the one who rehearses may not see left out."""
    keys = unit.catalogue.keys_of(about)
    return {key: value for key, value in values.items() if key not in keys or unit.sees(keys[key])}


def _moment(unit: Unit, circumstances: Circumstances) -> Moment:
    if not circumstances.day:
        return unit.moment
    try:
        day = date.fromisoformat(circumstances.day)
    except ValueError:
        raise InvalidInput({"day": "There is no such day."}) from None
    now = datetime.combine(day, time(12), tzinfo=unit.catalogue.zone)
    return replace(unit.moment, now=now)


def situation_for(
    unit: Unit,
    form: Form,
    circumstances: Circumstances,
    answers: Mapping[str, str],
    language: str,
    kept: Kept | None = None,
) -> Situation:
    """The situation that circumstances describe. Raises InvalidInput for a level or person that is not there."""
    page = page_parameters(dict(parse_qsl(circumstances.page.lstrip("?"))), language)
    shelf = shelf_for(unit, form, answers)
    if kept is not None:
        situation = Situation(kept.stored, kept.records, page, shelf, known=bool(circumstances.person))
    elif circumstances.person:
        situation = person_situation(unit, circumstances.person, page, shelf)
        links = unit.catalogue.collections_of(PERSON)
        records = {
            name: tuple((one, _seen(unit, record_about(links[name].record_type_id), values)) for one, values in held)
            for name, held in situation.records.items()
        }
        situation = replace(situation, stored=_seen(unit, PERSON, situation.stored), records=records)
    else:
        situation = Situation({"tags": (), "lists": ()}, {}, page, shelf)
    own: dict[str, Value] = {}
    if circumstances.level:
        if circumstances.level not in {level.key for level in unit.catalogue.levels}:
            raise InvalidInput({"level": "There is no such level."})
        own["level"] = circumstances.level
    for name in ("tags", "lists"):
        chosen: tuple[str, ...] = getattr(circumstances, name)
        if chosen:
            own[name] = tuple(sorted(set(chosen)))
    cart = _cart(unit, form, circumstances)
    return replace(situation, stored={**situation.stored, **own}, cart=cart)


def _cart(unit: Unit, form: Form, circumstances: Circumstances) -> Cart | None:
    """The cart that circumstances describe; what is not sold (any more) is passed over."""
    shop = unit.catalogue.shop
    if shop is None or form.channel != "checkout":
        return None
    lines = []
    for text in circumstances.cart:
        product, variant, many = (*text.split(":"), "", "")[:3]
        offer, quantity = shop.offer(product, variant), whole_number(many)
        if offer is not None and quantity is not None and 0 < quantity <= MOST_PIECES:
            lines.append(CartLine(offer, quantity))
    delivery, payment = shop.way_of_delivery(circumstances.delivery), shop.way_of_payment(circumstances.payment)
    return Cart(shop, tuple(lines), delivery, payment, shop.place(), unit.moment.today)


def _rows(
    unit: Unit, form: Form, outcome: Outcome, situation: Situation, moment: Moment
) -> tuple[Mapping[str, Value], Mapping[str, Value]]:
    """What is known of the person before sending, and what would be after."""
    assert isinstance(outcome.row, FormRow)
    collections: dict[str, Any] = {name: outcome.row.get(name) or () for name in unit.catalogue.collections_of(PERSON)}
    past: dict[str, Any] = {HISTORY + key: lines for key, lines in situation.history.items()}
    stored = {**situation.stored, **outcome.results().of(PERSON), **collections, **past}
    stored["lists"] = joining_of(form, outcome).held_after(unit.catalogue, situation.stored.get("lists"))
    stored |= seen(unit.catalogue, moment, situation.stored, new=not situation.known)
    return outcome.row.before, unit.catalogue.derivation.row(stored, moment)


def _derived(
    unit: Unit, before: Mapping[str, Value], after: Mapping[str, Value], moment: Moment
) -> tuple[DerivedChange, ...]:
    found = []
    for known in unit.catalogue.derived:
        if known.key in unit.catalogue.broken or not unit.sees(known):
            continue
        old, new = before.get(known.key), after.get(known.key)
        if old != new:
            found.append(DerivedChange(known, old, new))
    return tuple(found)


def _segments(
    unit: Unit, before: Mapping[str, Value], after: Mapping[str, Value], moment: Moment, *, new: bool
) -> tuple[SegmentChange, ...]:
    found = []
    for row in unit.session.exec(select(Segment).order_by(col(Segment.position), col(Segment.id))).all():
        then: Any = None if new else True
        now: Any = True
        if row.expression:
            typed = unit.visible.check_segment(row.expression).typed
            if typed is None:
                continue
            program = compile_python(typed)
            then, now = (None if new else program(before, moment)), program(after, moment)
        if (new and now is not False) or (not new and then != now):
            found.append(SegmentChange(row.id or 0, row.name, then, now, new))
    return tuple(found)


def summary(unit: Unit, rehearsal: Rehearsal) -> dict[str, Any]:
    """What a case expects, as JSON: of every question whether it shows, what is wrong and what would be stored;
    the surcharges, and the total of a checkout; the derived values and segments that would change."""
    outcome, bill = rehearsal.outcome, rehearsal.bill
    questions = {
        one.id: {
            "shows": one.shows,
            "trouble": one.message if one.trouble else "",
            "value": to_json(one.value) if one.field.type.kind != "secret" else one.value is not None,
        }
        for one in outcome.walk()
    }
    sections = {one.section.id: len(one.fillings) if one.verdict is True else 0 for one in outcome.sections}
    return {
        "sections": sections,
        "questions": questions,
        "charges": [[one.label, plain_number(one.amount)] for one in outcome.charges],
        "total": str(in_currency(bill.total, bill.decimals)) if bill is not None else "",
        "derived": {one.field.key: to_json(one.after) for one in rehearsal.derived},
        "segments": {one.name: one.what for one in rehearsal.segments},
    }
