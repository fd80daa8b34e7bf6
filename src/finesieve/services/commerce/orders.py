"""Orders as staff see them and what they do with them: packed, sent, cancelled, refunded piece by piece, corrected."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Final, Literal

from sqlalchemy import BigInteger, func, literal, tuple_
from sqlmodel import col, select

from finesieve.core.commerce.amounts import in_currency
from finesieve.core.commerce.facts import STATES, State
from finesieve.core.errors import Conflict, FineSieveError, InvalidInput, TookTooLong
from finesieve.core.fields.about import ORDER, PERSON
from finesieve.core.fields.built_in import ADDRESSES, address_keys
from finesieve.core.language.problems import Problem
from finesieve.core.model.changes import ORDER_IDS
from finesieve.services.commerce.answers import Answered, answers_at, columns_of_orders, form_of_order, order_fields_at
from finesieve.services.commerce.charged import (
    NEXT,
    Shown,
    charged_order,
    given_back,
    money_of,
    move_to,
    order_row,
    paid_back,
    show_charges,
    state_of,
)
from finesieve.services.commerce.filled import filled_of
from finesieve.services.commerce.following import followed
from finesieve.services.commerce.giving import GIVEN
from finesieve.services.commerce.owing import count_as_paid, give_back
from finesieve.services.commerce.placing import tell_placed
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.sheets import csv_lines
from finesieve.services.values.addresses import printed_of
from finesieve.services.values.charge_lines import charge_lines
from finesieve.services.values.value_lines import (
    STATE_LABEL,
    HistoryLine,
    ValueLine,
    history_of,
    linked_records,
    person_name,
    read_values,
    value_lines,
)
from finesieve.services.values.writing import change_row, note, row_of
from finesieve.store.connection.database import apart
from finesieve.store.language.compiler import compile_sql
from finesieve.store.language.sources import source_of
from finesieve.store.reading.kept import patience
from finesieve.store.reading.rows import rows_by_ids, stored_row
from finesieve.store.tables import OrderRow

__all__ = [
    "Knot",
    "OrderLine",
    "OrderListing",
    "OrderPage",
    "OrderView",
    "Sort",
    "addresses_of",
    "list_orders",
    "move_order",
    "orders_as_csv",
    "orders_of_person",
    "read_order",
    "refund_pieces",
    "set_order_values",
    "settle_due",
    "ways_of",
]

_PAGE: Final = 50
_SECONDS: Final = 2


@dataclass(frozen=True, slots=True)
class OrderLine:
    """An order in a list."""

    id: int
    number: int
    at: datetime
    state: State
    said: str
    name: str
    person_id: int
    total: str


@dataclass(frozen=True, slots=True)
class OrderPage:
    """A page of orders. `next` continues it, "" at the end. `columns` are the answers that checkouts show in it,
    `cells` those of each order, by its id; `problems` what is wrong with the condition, `failure` why there is none.
    """

    lines: tuple[OrderLine, ...]
    next: str = ""
    columns: tuple[str, ...] = ()
    cells: Mapping[int, tuple[str, ...]] = field(default_factory=dict)
    problems: tuple[Problem, ...] = ()
    failure: str = ""


Sort = Literal["newest", "oldest", "largest", "smallest"]
_SORTS: Final[Mapping[str, tuple[Any, bool]]] = {
    "newest": (OrderRow.id, True), "oldest": (OrderRow.id, False),
    "largest": (OrderRow.total, True), "smallest": (OrderRow.total, False),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class OrderListing:
    """How orders are looked at: in a state, "" for all; whose number or email has the words of `search`; where a
    condition about an order holds."""

    state: str = ""
    search: str = ""
    where: str = ""
    sort: Sort = "newest"


def list_orders(scope: Scope, listing: OrderListing | None = None, after: str = "") -> OrderPage:
    """Orders as they are looked at, the newest first. `after` continues a page, by its `next`."""
    listing = listing or OrderListing()
    with scope.reading("reader") as unit:
        query, problems = _chosen(unit, listing)
        if problems:
            return OrderPage((), problems=problems)
        column, down = _SORTS[listing.sort]
        value, _, last = after.partition(".")
        if value.isdigit() and last.isdigit() and len(after) < 40:
            there = tuple_(col(column), col(OrderRow.id))
            mark = tuple_(literal(int(value), BigInteger), literal(int(last), BigInteger))
            query = query.where(there < mark if down else there > mark)
        order = (col(column), col(OrderRow.id))
        query = query.order_by(*(one.desc() for one in order) if down else order)
        try:
            with apart(unit.session, patience(_SECONDS)):
                rows = unit.session.exec(query.limit(_PAGE + 1)).all()
        except TookTooLong:
            return OrderPage((), failure="This takes too long to list. Make the filter simpler.")
        except FineSieveError:
            return OrderPage((), failure="The database cannot work this out. Write the filter another way.")
        last_row = rows[_PAGE - 1] if len(rows) > _PAGE else None
        key = "total" if listing.sort in ("largest", "smallest") else "id"
        follows = f"{getattr(last_row, key)}.{last_row.id}" if last_row is not None else ""
        return OrderPage(_lines(unit, rows[:_PAGE]), follows, *columns_of_orders(unit, rows[:_PAGE]))


def _chosen(unit: Unit, listing: OrderListing) -> tuple[Any, tuple[Problem, ...]]:
    """The orders that are meant, or what is wrong with the condition."""
    query = select(OrderRow)
    if listing.state in STATES:
        query = query.where(col(OrderRow.state) == listing.state)
    words = listing.search.strip().lower()[:100]
    if words.isascii() and words.isdigit() and len(words) < 10:
        query = query.where(col(OrderRow.number) == int(words))
    elif words:
        query = query.where(func.strpos(func.lower(OrderRow.email), words) > 0)
    if listing.where.strip():
        checked = unit.visible.check(listing.where, "yes_no", ORDER)
        if checked.typed is None:
            return query, checked.problems
        source = source_of(unit.session, unit.definitions, checked.typed.names, unit.moment, ORDER)
        holds = compile_sql(checked.typed, source.columns, unit.moment)
        query = query.where(col(OrderRow.id).in_(select(source.id).select_from(source.table).where(holds)))
    return query, ()


def orders_as_csv(scope: Scope, listing: OrderListing | None = None) -> Iterator[str]:
    """The orders looked at as CSV, line by line: what was charged, and the values of their fields."""
    return csv_lines(_csv_rows(scope, listing or OrderListing()))


def _csv_rows(scope: Scope, listing: OrderListing) -> Iterator[list[str]]:
    with scope.separate("reader") as unit:
        fields = [
            one
            for one in unit.catalogue.stored_about(ORDER)
            if unit.sees(one) and one.type.kind not in ("file", "secret")
        ]
        yield ["number", "placed_at", "state", "email", "total", "refunded", "lines", *(one.key for one in fields)]
        chosen, problems = _chosen(unit, listing)
        before = None
        while not problems:
            query = chosen.order_by(col(OrderRow.id).desc()).limit(_EXPORTED)
            query = query.where(col(OrderRow.id) < before) if before is not None else query
            rows = unit.session.exec(query).all()
            keys = [one.key for one in fields]
            values = rows_by_ids(unit.session, unit.definitions, ORDER, keys, [row.id or 0 for row in rows])
            for row in rows:
                kept = values.get(row.id or 0, {})
                yield [*_exported(row), *(one.show(kept.get(one.key)) for one in fields)]
            if len(rows) < _EXPORTED:
                return
            before = rows[-1].id


_EXPORTED: Final = 500


def _exported(row: OrderRow) -> list[str]:
    decimals = int(row.bill["decimals"])
    goods = [f"{one['pieces']} × {one['label']}" for one in row.bill["lines"] if one["kind"] == "goods"]
    amounts = [str(in_currency(amount, decimals)) for amount in (row.total, given_back(row))]
    return [str(row.number), row.placed_at.isoformat(), STATES[row.state], row.email, *amounts, "; ".join(goods)]


def orders_of_person(scope: Scope, person_id: int) -> tuple[OrderLine, ...]:
    """The last orders of a person."""
    with scope.reading("reader") as unit:
        query = select(OrderRow).where(col(OrderRow.person_id) == person_id).order_by(col(OrderRow.id).desc())
        return _lines(unit, unit.session.exec(query.limit(20)).all())


def _lines(unit: Unit, rows: Any) -> tuple[OrderLine, ...]:
    keys = ["first_name", "last_name", "email"]
    people = rows_by_ids(unit.session, unit.definitions, PERSON, keys, {row.person_id for row in rows if row.person_id})
    return tuple(
        OrderLine(
            row.id or 0, row.number, row.placed_at, state_of(row), STATES[row.state],
            person_name(people[row.person_id]) if row.person_id in people else row.email, row.person_id,
            unit.manner.money(in_currency(row.total, int(row.bill["decimals"]))),
        )
        for row in rows
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Knot:
    """A state that an order has been in, or (without a moment) is to be in."""

    said: str
    at: datetime | None = None


@dataclass(frozen=True, slots=True)
class OrderView:
    """One order with all that belongs to it. `answered` is what was answered with it, besides what is in `asked`: the
    fields of the order that its form asks; `groups` are its other fields. `under` are the answers for pieces, as
    (title, answers), by the key of the line that they belong to. `reasons` say why each
    surcharge and discount was charged, by the key of its line, `addresses` where it and its bill go, as printed;
    see `addresses_of`; `records` are those linked with it, by their type and id, and what each is called. `states` is
    its way so far and on; `opens` tells that its checkout can be opened again, `due` is what is still to be paid of
    what a correction has added. `gives` says which level it is for, and whether that is held yet, in a sentence."""

    line: OrderLine
    shown: Shown
    next: tuple[State, ...]
    states: tuple[Knot, ...]
    asked: tuple[ValueLine, ...]
    groups: tuple[tuple[Any, tuple[ValueLine, ...]], ...]
    history: tuple[HistoryLine, ...]
    delivery: str
    payment: str
    form_id: int
    submission_id: int | None
    answered: Answered
    reasons: Mapping[str, str] = field(default_factory=dict)
    addresses: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    records: tuple[tuple[int, int, str], ...] = ()
    under: Mapping[str, tuple[tuple[str, str], ...]] = field(default_factory=dict)
    opens: bool = False
    due: str = ""
    gives: str = ""

    @property
    def values(self) -> dict[str, str]:
        """All values of its fields that show, by their keys."""
        own = (one for _, lines in self.groups for one in lines)
        return {one.field.key: one.shown for one in (*self.asked, *own)}


def read_order(scope: Scope, order_id: int) -> OrderView:
    """One order. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = order_row(unit, order_id)
        (line,) = _lines(unit, [row])
        stored = stored_row(unit.session, unit.definitions, ORDER, order_id) or {}
        form, shows = form_of_order(unit, row), order_fields_at(unit, row, "order")
        asked = {one.field_id for one in form.questions} if form is not None else set()
        groups = value_lines(unit, ORDER, row_of(unit, ORDER, order_id, stored))
        shown = [one for _, lines in groups for one in lines if shows(one.field)]
        rest = (
            (group, tuple(one for one in lines if one in shown and one.field.id not in asked))
            for group, lines in groups
        )
        answered = answers_at(unit, row, "order", (PERSON,))
        under, pieces = _under_lines(row, answered.pieces)
        history = history_of(unit, ORDER, order_id)
        return OrderView(
            line,
            show_charges(row, unit.manner),
            NEXT[row.state],
            _way_of(row, history),
            tuple(one for one in shown if one.field.id in asked),
            tuple(rest),
            history,
            *ways_of(unit, row),
            row.form_id,
            row.submission_id,
            Answered(answered.answers, pieces),
            _reasons(unit, row),
            addresses_of(unit, row),
            tuple((known.id, record_id, title) for known, record_id, title in linked_records(unit, ORDER, order_id)),
            under,
            form is not None and filled_of(row).typed is not None and row.state != "cancelled",
            money_of(unit, row, row.due) if row.due else "",
            _gives(unit, row),
        )


def _gives(unit: Unit, row: OrderRow) -> str:
    """Which level an order is for, and whether it is held yet; "" for none."""
    level = next((one.name for one in unit.catalogue.levels if one.key == row.gives.get("level")), "")
    if not level:
        return ""
    if row.gives.get(GIVEN):
        return (
            f"It was for the level {level}, which they have been given. Cancelling or refunding does not take it back."
        )
    if row.gives.get("waits"):
        return f"It is for the level {level}, which is waiting for approval."
    return f"It is for the level {level}, which they get once it is paid."


def _under_lines(
    row: OrderRow, pieces: tuple[tuple[str, str], ...]
) -> tuple[dict[str, tuple[tuple[str, str], ...]], tuple[tuple[str, str], ...]]:
    """The answers for pieces, by the key of the line that each belongs to; and those that belong to none."""
    goods = {f", {one['label']}": one["key"] for one in row.bill["lines"] if one["kind"] == "goods"}
    under: dict[str, tuple[tuple[str, str], ...]] = {}
    rest = []
    for title, said in pieces:
        of = max((label for label in goods if title.endswith(label)), key=len, default="")
        if of:
            under[goods[of]] = (*under.get(goods[of], ()), (title.removesuffix(of), said))
        else:
            rest.append((title, said))
    return under, tuple(rest)


_USUAL_WAY: Final[tuple[State, ...]] = ("awaiting_payment", "placed", "packed", "sent")


def _way_of(row: OrderRow, history: Sequence[HistoryLine]) -> tuple[Knot, ...]:
    """The states of an order with their moments, and those that are usually still to come."""
    been = tuple(Knot(one.new, one.at) for one in reversed(history) if one.label == STATE_LABEL)
    been = been or (Knot(STATES[row.state], row.placed_at),)
    place = _USUAL_WAY.index(state_of(row)) if row.state in _USUAL_WAY else len(_USUAL_WAY)
    place = -1 if row.state == "held" else place
    return (*been, *(Knot(STATES[one]) for one in _USUAL_WAY[place + 1 :]))


def ways_of(unit: Unit, row: OrderRow) -> tuple[str, str]:
    """How an order is delivered and paid, in words; by their keys where the shop does not know them any more."""
    shop, delivery, payment = unit.catalogue.shop, str(row.bill["delivery"]), str(row.bill["payment"])
    ways = (shop.way_of_delivery(delivery), shop.way_of_payment(payment)) if shop is not None else (None, None)
    return (ways[0].label if ways[0] else delivery), (ways[1].label if ways[1] else payment)


def addresses_of(unit: Unit, row: OrderRow) -> dict[str, tuple[str, ...]]:
    """Where it goes and where the bill goes, as printed: as answered, what was not asked as it is known of who ordered.

    One of which nothing was answered with the order is told apart: `delivery`, or `delivery_known`.
    """
    stored = stored_row(unit.session, unit.definitions, PERSON, row.person_id) if row.person_id else None
    answers: Mapping[str, Any] = filled_of(row).answers
    found = {}
    for kind in ADDRESSES:
        given = any(answers.get(key) for line, key in address_keys(kind).items() if line != "country")
        found[kind if given else f"{kind}_known"] = printed_of(unit, kind, {**(stored or {}), **answers})
    return {kind: lines for kind, lines in found.items() if lines}


def _reasons(unit: Unit, row: OrderRow) -> Mapping[str, str]:
    """Why each surcharge and discount was charged, by the key of its line."""
    charged = charge_lines(unit, filled_of(row).charges)
    return {f"charge{number}": one.reason for number, one in enumerate(charged, 1)}


def move_order(scope: Scope, order_id: int, state: str) -> None:
    """Pack, send or cancel an order, or say that it was paid another way; cancelled, all of it is refunded.

    Raises NotFound, Conflict.
    """
    with scope.transaction("clerk") as unit:
        row = order_row(unit, order_id, lock=True)
        if row.state == state:
            return
        wanted = next((one for one in NEXT[row.state] if one == state), None)
        if wanted is None:
            raise Conflict(f"The order is {STATES[row.state]}; it cannot become {STATES.get(state, state)} from there.")
        if wanted == "cancelled" and row.state not in ("held", "awaiting_payment"):
            for line in charged_order(row).lines.values():
                left = line.pieces - row.returned.get(line.key, 0)
                if left:
                    _refund(unit, row, line.key, left)
        paid_otherwise = row.state == "awaiting_payment" and wanted == "placed"
        row.due = 0 if wanted == "cancelled" else row.due
        move_to(unit, row, wanted, "staff")
        if paid_otherwise:
            tell_placed(unit, order_id, "")


def refund_pieces(scope: Scope, order_id: int, key: str, pieces: int) -> None:
    """Give back so many pieces of a line. Raises NotFound, Conflict before it is paid, InvalidInput for too many."""
    with scope.transaction("clerk") as unit:
        row = order_row(unit, order_id, lock=True)
        if row.state in ("held", "awaiting_payment", "cancelled"):
            raise Conflict(f"The order is {STATES[row.state]}; there is nothing to refund.")
        _refund(unit, row, key, pieces)


def _refund(unit: Unit, row: OrderRow, key: str, pieces: int) -> None:
    order = charged_order(row)
    if key not in order.lines:
        raise InvalidInput({"line": "The order has no such line."})
    try:
        back = paid_back(row, order.refund(key, pieces))
    except ValueError as problem:
        raise InvalidInput({"pieces": str(problem)}) from None
    row.returned = order.returned
    unit.session.add(row)
    give_back(unit, row, back, f"{key}-{order.returned[key]}")
    label = next(one["label"] for one in row.bill["lines"] if one["key"] == key)
    said = f"{money_of(unit, row, back)} for {pieces} × {label}"
    note(unit, ORDER, row.id or 0, ORDER_IDS["refund"], None, said, "staff")


def set_order_values(scope: Scope, order_id: int, typed: Mapping[str, str]) -> int:
    """Correct values of an order as typed, by field key; gives how many changed. Raises InvalidInput, NotFound."""
    with scope.transaction("clerk") as unit:
        row = order_row(unit, order_id, lock=True)
        row.revision += 1
        unit.session.add(row)
        stored = stored_row(unit.session, unit.definitions, ORDER, order_id, lock=True) or {}
        values = read_values(unit, ORDER, typed, stored)
        with followed(unit, row, fields=True):
            return len(change_row(unit, ORDER, order_id, values, "staff"))


def settle_due(scope: Scope, order_id: int) -> None:
    """Say that what a correction has added was paid another way. Raises NotFound; twice, it counts once."""
    with scope.transaction("clerk") as unit:
        row = order_row(unit, order_id, lock=True)
        if row.due:
            count_as_paid(unit, row, "staff")
