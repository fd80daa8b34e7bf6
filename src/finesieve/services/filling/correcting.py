"""Correcting an order: its checkout is opened again by staff, and what it costs now is charged or given back."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import timedelta
from fractions import Fraction
from typing import Any, Final

from finesieve.core.commerce.amounts import in_currency
from finesieve.core.commerce.bill import Bill, Entry
from finesieve.core.commerce.cart import Cart, CartLine
from finesieve.core.commerce.facts import ORDERS
from finesieve.core.commerce.port import Payer
from finesieve.core.commerce.shop import Method, Offer, Product, Shop
from finesieve.core.errors import Conflict, NotFound
from finesieve.core.fields.about import ORDER, PERSON, record_about
from finesieve.core.fields.definition import Field, Shelf
from finesieve.core.forms.definition import Form
from finesieve.core.forms.fees import FEE
from finesieve.core.forms.outcome import Outcome, Results
from finesieve.core.forms.rows import Situation
from finesieve.core.model.changes import ORDER_IDS
from finesieve.core.values import StoredFile, Value
from finesieve.services.commerce.behind import shop_behind
from finesieve.services.commerce.charged import money_of, move_to, order_row, submission_of, written
from finesieve.services.commerce.filled import Filled, OrderedLine, filled_of
from finesieve.services.commerce.following import followed
from finesieve.services.commerce.owing import ask_to_pay, give_back, payer_of
from finesieve.services.commerce.placing import tell_corrected, tell_placed
from finesieve.services.filling.kept import as_filled
from finesieve.services.filling.situation import records_from_json
from finesieve.services.kernel.links import Links
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.people.records import add_linked_record, link_with_order, set_record_values
from finesieve.services.values.value_lines import record_lines, show_past
from finesieve.services.values.writing import change_row, note
from finesieve.store.definitions.state import mark_changed
from finesieve.store.reading.rows import rows_by_ids, stored_row
from finesieve.store.tables import FormRow, OrderRow

__all__ = ["Correction", "begin_correction", "correct_order", "correction_of", "key_of", "why_not_corrected"]

_ENDS: Final = timedelta(hours=1)
_SOURCE: Final = "correction"


def begin_correction(scope: Scope, secret: str, order_id: int) -> str:
    """The path of the checkout that an order came by, opened to correct it by who works here.

    Raises NotFound, and Conflict for an order that is cancelled, or of which it is not known how it was filled in.
    """
    with scope.transaction("clerk") as unit:
        row = order_row(unit, order_id)
        form, filled = unit.session.get(FormRow, row.form_id), filled_of(row)
        if row.state == "cancelled":
            raise Conflict("The order is cancelled; its answers stay as they are.")
        if form is None or filled.typed is None or submission_of(unit, row) is None:
            raise Conflict("It is not known any more how this order was filled in, so it cannot be opened again.")
        until = int((unit.moment.now + _ENDS).timestamp())
        person_id = row.person_id if filled.known else 0
        me = Links(secret).give("me", unit.moment.now, form.id, person_id, unit.actor, order_id, until=until)
        slug = unit.workspace.slug
        return f"/join/{slug}/{form.slug}?me={me}"


@dataclass(frozen=True, slots=True)
class Correction:
    """An order whose checkout is open again: the situation it stands in, and what the form begins with."""

    row: OrderRow
    situation: Situation
    typed: Mapping[str, str]


def key_of(row: OrderRow) -> str:
    """The key of a correction: another one as soon as somebody else has corrected the order."""
    return f"correction-{row.id}-{row.revision}"


def correction_of(
    unit: Unit, order_id: int, form: Form, situation: Situation, methods: Mapping[str, str] | None
) -> Correction:
    """An order to be corrected, in the situation that its form is filled in under. Raises NotFound."""
    row = order_row(unit, order_id)
    filled = filled_of(row)
    stored = stored_row(unit.session, unit.definitions, ORDER, order_id) or {}
    kept = dict(_kept_values(unit, form, filled, stored))
    asked = ((one.id, unit.catalogue.by_id.get(one.field_id)) for one in form.questions)
    fields = {name: field for name, field in asked if field is not None}
    files = {f"kept-{name}": value for name, value in kept.items() if isinstance(value, StoredFile)}
    typed = dict(filled.typed or {})
    for name, value in kept.items():
        field = fields[name.partition(".")[0]]
        if field.type.kind != "secret":
            typed[name] = f"kept-{name}" if isinstance(value, StoredFile) else field.raw(value)
    shelf = situation.shelf or Shelf({})
    shelf = replace(
        shelf,
        files={**shelf.files, **files},
        sent_for={**shelf.sent_for, **{token: fields[token[5:].partition(".")[0]].id for token in files}},
    )
    ours = {one.get("id") for one in filled.records}
    records = {
        name: tuple((one, values) for one, values in held if one not in (ours if name != ORDERS else {order_id}))
        for name, held in situation.records.items()
    }
    return Correction(
        row,
        replace(
            situation, stored={**situation.stored, **stored}, records=records, shelf=shelf, known=True,
            locked=frozenset(), again=True, cart=_cart(unit, row, filled, methods or {}),
        ),
        typed,
    )  # fmt: skip


def _kept_values(unit: Unit, form: Form, filled: Filled, stored: Mapping[str, Value]) -> Iterator[tuple[str, Value]]:
    """The values that are kept elsewhere than with the order's answers, by the names of their inputs, as they are now:
    its fields, the records that its pieces became, and files."""
    for section in form.sections:
        rows = list(_rows(unit, section.id, filled)) if section.repeat else []
        for question in section.questions:
            field = unit.catalogue.by_id.get(question.field_id)
            if field is None or question.hidden:
                continue
            if section.repeat:
                for filling, values in rows:
                    yield f"{question.id}.{filling}", values.get(field.key)
            elif field.about == ORDER and (question.id in (filled.typed or {}) or stored.get(field.key) is not None):
                yield question.id, stored.get(field.key)
            elif field.type.kind == "file" and filled.answers.get(field.key) is not None:
                yield question.id, field.from_kept(filled.answers[field.key])


def _rows(unit: Unit, section_id: str, filled: Filled) -> Iterator[tuple[str, Mapping[str, Value]]]:
    """The fillings of a section with the values of the records that they became, or as they were sent."""
    for kept, sent in zip(filled.records, records_from_json(unit, filled.records), strict=False):
        of, _, filling = str(kept.get("place", "")).partition(".")
        if of != section_id or not filling:
            continue
        about, record_id = record_about(sent.record_type), int(kept.get("id") or 0)
        keys = list(sent.values)
        found = rows_by_ids(unit.session, unit.definitions, about, keys, [record_id]) if record_id else {}
        yield filling, found.get(record_id, sent.values)


def _cart(unit: Unit, row: OrderRow, filled: Filled, methods: Mapping[str, str]) -> Cart:
    """What was ordered, at the prices of then, taxed as of the day it was placed."""
    shop = shop_behind(unit).sold()
    if shop is None:
        raise NotFound("There is no shop here.")
    lines = tuple(CartLine(_offer(shop, one), one.pieces) for one in filled.lines)
    delivery = _way(row, "delivery", shop.way_of_delivery(methods.get("delivery") or row.bill["delivery"]))
    payment = _way(row, "payment", shop.way_of_payment(methods.get("payment") or row.bill["payment"]))
    day = row.placed_at.astimezone(unit.moment.zone).date()
    if not lines:
        shop = shop.model_copy(update={"delivery": ()})
    return Cart(shop, lines, delivery, payment, shop.place(), day, _fee(row))


def _fee(row: OrderRow) -> Entry | None:
    """What was charged for a level, as it was charged: a correction does not change it."""
    charged = next((one for one in row.bill["lines"] if one["key"] == FEE), None)
    if charged is None:
        return None
    amount = Fraction(in_currency(charged["amount"], int(row.bill["decimals"])))
    return Entry(FEE, charged["label"], "goods", amount, str(row.gives.get("tax_class", "")))


def _offer(shop: Shop, line: OrderedLine) -> Offer:
    sold = shop.offer(line.product, line.variant)
    if sold is None:
        gone = Product(key=line.product, label=line.product, price=line.price, tax_class=line.tax_class)
        return Offer(product=gone, variant=None, price=line.price)
    product = sold.product.model_copy(update={"tax_class": line.tax_class})
    return Offer(product=product, variant=sold.variant, price=line.price)


def _way(row: OrderRow, part: str, way: Method | None) -> Method | None:
    """A way of delivery or payment; the one that was chosen costs what it cost."""
    if way is None or way.key != row.bill[part]:
        return way
    charged = sum(one["amount"] for one in row.bill["lines"] if one["kind"] == part)
    return way.model_copy(update={"price": in_currency(charged, int(row.bill["decimals"]))})


def _written(row: OrderRow, cart: Cart, bill: Bill) -> dict[str, Any]:
    """The bill as it is kept; what was ordered keeps the name that it was ordered under."""
    names = {one["key"]: one["label"] for one in row.bill["lines"] if one["kind"] != "surcharge"}
    new = written(cart, bill)
    kept = ("goods", "delivery" if new["delivery"] == row.bill["delivery"] else "")
    for one in new["lines"]:
        if one["kind"] in kept:
            one["label"] = names.get(one["key"], one["label"])
    return new


def why_not_corrected(row: OrderRow, cart: Cart, bill: Bill) -> str:
    """Why an order cannot be corrected like this, in one sentence; "" where it can."""
    if row.state == "cancelled":
        return "The order is cancelled; its answers stay as they are."
    if any(row.returned.values()) and _written(row, cart, bill) != row.bill:
        return "Some of it has been refunded already, so what was charged cannot change any more."
    return ""


def correct_order(
    unit: Unit, row: OrderRow, results: Results, outcome: Outcome, charged: tuple[Cart, Bill], link: str
) -> None:
    """Correct an order, locked by this transaction: its fields, what was answered, its pieces, and what it costs.

    `results` are with secrets hashed. A difference is asked for, or given back, and whoever ordered is told so under
    the `link` of the order; the profile stays as it is. Raises PaymentRefused.
    """
    cart, bill = charged
    was = filled_of(row)
    row.revision += 1
    with followed(unit, row, fields=True):
        change_row(unit, ORDER, row.id or 0, {**results.of(ORDER), **_not_asked_any_more(was, outcome)}, _SOURCE)
    now = as_filled(outcome, results, cart, was.page, known=was.known)
    unasked = {key: kept for key, kept in was.answers.items() if _is_kept_elsewhere(unit, key)}
    answers = {key: data for key, data in {**now.answers, **unasked}.items() if data is not None}
    _note_answers(unit, row, was.answers, answers)
    records = _correct_records(unit, row, was, now)
    row.filled = now.model_copy(update={"answers": answers, "records": records}).model_dump(mode="json")
    row.email = str(answers.get("email") or row.email)
    unit.session.add(row)
    _charge(unit, row, _written(row, cart, bill), bill.total, payer_of(results.answers), link)
    mark_changed(unit.session, unit.workspace_id, ORDER, [row.id or 0])


def _not_asked_any_more(was: Filled, outcome: Outcome) -> dict[str, Value]:
    """The fields of the order whose question was answered, and does not show any more."""
    shown = {one.field.key for one in outcome.walk() if one.verdict is True}
    gone = (one for one in outcome.walk() if one.field.about == ORDER and one.verdict is not True)
    return {one.field.key: None for one in gone if one.id in (was.typed or {}) and one.field.key not in shown}


def _is_kept_elsewhere(unit: Unit, key: str) -> bool:
    """Whether a correction leaves an answer about the person as it was sent: a secret, a file."""
    field = unit.catalogue.by_key.get(key)
    return field is not None and field.type.kind in ("secret", "file")


def _note_answers(unit: Unit, row: OrderRow, was: Mapping[str, Any], now: Mapping[str, Any]) -> None:
    for key in {**was, **now}:
        field = unit.catalogue.by_key.get(key)
        if field is None or field.about != PERSON or was.get(key) == now.get(key):
            continue
        old, new = (_said(field, one.get(key)) for one in (was, now))
        note(unit, ORDER, row.id or 0, ORDER_IDS["answer"], old, new, _SOURCE)


def _said(field: Field, data: object) -> str:
    return f"{field.label}: {show_past(field, data) if data is not None else '–'}"


def _correct_records(unit: Unit, row: OrderRow, was: Filled, now: Filled) -> list[dict[str, Any]]:
    """Correct the records that the pieces of an order became; gives them as they are kept from now on."""
    before = {str(one.get("place", "")): one for one in was.records}
    found, link_ids = [], {one["record_type"]: one["link"] for one in was.records}
    for kept, sent in zip(now.records, records_from_json(unit, now.records), strict=True):
        old = before.pop(str(kept["place"]), None)
        known = unit.catalogue.record_types_by_id[sent.record_type]
        record_id = int((old or {}).get("id") or 0)
        if record_id:
            gone = {key: None for key in old["values"] if key not in sent.values} if old else {}
            set_record_values(unit, known, record_id, {**gone, **sent.values}, _SOURCE)
        elif row.person_id:
            linked = {link_ids.get(known.id, sent.link): [row.person_id]}
            record_id = add_linked_record(unit, known, sent.values, linked, _SOURCE)
            link_with_order(unit, [(known.id, record_id)], row.id or 0, _SOURCE)
        _note_piece(unit, row, old, kept)
        found.append({**kept, "id": record_id})
    for old in before.values():
        record_id = int(old.get("id") or 0)
        if record_id and old["record_type"] in unit.catalogue.record_types_by_id:
            known = unit.catalogue.record_types_by_id[old["record_type"]]
            set_record_values(unit, known, record_id, dict.fromkeys(old["values"]), _SOURCE)
            found.append({**old, "values": {}})  # asked again, it is the same record
        _note_piece(unit, row, old, None)
    return found


def _note_piece(unit: Unit, row: OrderRow, old: dict[str, Any] | None, new: dict[str, Any] | None) -> None:
    if old is not None and new is not None and old["values"] == new["values"]:
        return
    said = [_piece(unit, one) for one in (old, new)]
    note(unit, ORDER, row.id or 0, ORDER_IDS["answer"], said[0], said[1], _SOURCE)


def _piece(unit: Unit, kept: dict[str, Any] | None) -> str | None:
    lines = record_lines(unit, [kept], unit.sees) if kept is not None else ()
    return f"{lines[0][0]}: {lines[0][1]}" if lines else None


def _charge(unit: Unit, row: OrderRow, bill: dict[str, Any], total: int, payer: Payer, link: str) -> None:
    """Charge what is on the bill now: the difference is asked for, or given back."""
    if bill == row.bill:
        return
    before, more = money_of(unit, row, row.total), total - row.total
    with followed(unit, row):
        row.bill, row.total = bill, total
        unit.session.add(row)
    if more:
        note(unit, ORDER, row.id or 0, ORDER_IDS["total"], before, money_of(unit, row, total), _SOURCE)
    if row.state == "awaiting_payment":
        if total:
            ask_to_pay(unit, row, payer)
        else:
            move_to(unit, row, "placed", _SOURCE)
            tell_placed(unit, row.id or 0, link)
            return
    elif more > 0:
        row.due += more
        ask_to_pay(unit, row, payer)
    elif more < 0:
        give_back(unit, row, -more, f"correction-{row.revision}")
        note(unit, ORDER, row.id or 0, ORDER_IDS["refund"], None, money_of(unit, row, -more), _SOURCE)
        ask_to_pay(unit, row, payer)
    if more:
        tell_corrected(unit, row, more, link)
