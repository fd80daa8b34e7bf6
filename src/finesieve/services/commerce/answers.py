"""The answers that an order came with, at the places where the form says that they show."""

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlmodel import col, select

from finesieve.core.fields.about import ORDER, PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.forms.definition import Form, Question
from finesieve.core.forms.prepare import can_ask
from finesieve.core.forms.showing import FOR_THE_CUSTOMER, may_show, usual_places
from finesieve.core.forms.wording import Wording, wording_of, wording_without_form
from finesieve.core.model.catalogue import hidden_groups
from finesieve.core.values import Value
from finesieve.services.commerce.charged import submission_of
from finesieve.services.commerce.filled import filled_of
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.value_lines import record_lines, show_past
from finesieve.store.reading.rows import rows_by_ids
from finesieve.store.tables import FormRow, FormVersion, OrderRow

__all__ = ["Answered", "answers_at", "columns_of_orders", "form_of_order", "order_fields_at", "words_of_order"]


@dataclass(frozen=True, slots=True)
class Answered:
    """What shows of an order at a place: answers as (what was asked, what was answered), and those for lines and
    pieces as (`Plaque 2 of 3`, its answers)."""

    answers: tuple[tuple[str, str], ...] = ()
    pieces: tuple[tuple[str, str], ...] = ()

    @property
    def lines(self) -> list[str]:
        """All of it, a line each."""
        return [f"{title}: {said}" for title, said in (*self.answers, *self.pieces) if said]

    def shortened(self, most: int, most_said: int) -> "Answered":
        """So many of each, of so many characters, and how many more there are."""

        def short(lines: Sequence[tuple[str, str]]) -> tuple[tuple[str, str], ...]:
            shown = [
                (asked, said if len(said) <= most_said else f"{said[:most_said]} …") for asked, said in lines[:most]
            ]
            more = len(lines) - len(shown)
            return (*shown, *([("More", f"{more:,} more answers, on the order itself")] if more else []))

        return Answered(short(self.answers), short(self.pieces))


def form_of_order(unit: Unit, row: OrderRow) -> Form | None:
    """The form that an order came by, in the version that was filled in; None where that is not known any more."""
    sent = submission_of(unit, row)
    version = unit.session.get(FormVersion, (row.form_id, sent.version)) if sent is not None else None
    return Form.model_validate(version.document) if version is not None else None


def words_of_order(unit: Unit, row: OrderRow) -> Wording:
    """The words of an order, in the language that its checkout was filled in in."""
    form, language = form_of_order(unit, row), filled_of(row).language
    return wording_of(form, language) if form is not None else wording_without_form(language)


def answers_at(
    unit: Unit,
    row: OrderRow,
    place: str,
    abouts: Collection[str] = (PERSON, ORDER),
    say: Callable[[str], str] = str,
) -> Answered:
    """What shows of an order at a place, as answered, about these things, in the words of a language; about the order
    as it is kept now."""
    form, filled = form_of_order(unit, row), filled_of(row)
    if form is None:
        return Answered()
    shown = _shown_at(unit, form, place)
    asked = [one for one in shown.values() if one[1].about in abouts]
    pieces = record_lines(unit, filled.records, lambda field: field.id in shown)
    found = tuple((say(title), say(said)) for title, said in _said(unit, asked, row.id or 0, filled.answers))
    return Answered(found, tuple((title, said) for title, said in pieces if said))


def order_fields_at(unit: Unit, row: OrderRow, place: str) -> Callable[[Field], bool]:
    """Whether a field of the order shows at a place: what the form does not ask shows on the order’s own page."""
    form = form_of_order(unit, row)
    asked = {question.field_id for question in form.questions} if form is not None else set()
    shown = _shown_at(unit, form, place) if form is not None else {}
    return lambda field: field.id in shown or (place == "order" and field.id not in asked)


def _shown_at(unit: Unit, form: Form, place: str) -> dict[int, tuple[Question, Field]]:
    """The questions whose answers show at a place, by the id of their field."""
    hidden = hidden_groups(unit.catalogue)
    found = {}
    for question in form.questions:
        field = unit.catalogue.by_id.get(question.field_id)
        if field is None or not may_show(field, place) or place not in _places(question, field):
            continue
        if can_ask(field, hidden, field.about) if place in FOR_THE_CUSTOMER else unit.sees(field):
            found[field.id] = (question, field)
    return found


def _places(question: Question, field: Field) -> tuple[str, ...]:
    return usual_places(field.about) if question.shown_at is None else question.shown_at


def _said(
    unit: Unit, asked: Sequence[tuple[Question, Field]], order_id: int, sent: Mapping[str, Any]
) -> Iterator[tuple[str, str]]:
    keys = [field.key for _, field in asked if field.about == ORDER]
    kept = rows_by_ids(unit.session, unit.definitions, ORDER, keys, [order_id]).get(order_id, {}) if keys else {}
    for question, field in asked:
        said = _said_of(field, kept, sent)
        if said:
            yield question.label or field.label, said


def _said_of(field: Field, kept: Mapping[str, Value], sent: Mapping[str, Any]) -> str:
    if field.about == ORDER:
        return field.show(kept.get(field.key))
    return show_past(field, sent[field.key]) if field.about == PERSON and sent.get(field.key) is not None else ""


def columns_of_orders(unit: Unit, rows: Iterable[OrderRow]) -> tuple[tuple[str, ...], dict[int, tuple[str, ...]]]:
    """The answers that the checkouts in force show in the list of orders: what each is called, and of every order, by
    its id, what was answered."""
    query = select(FormVersion).join(FormRow, col(FormRow.id) == FormVersion.form_id).where(
        col(FormRow.channel) == "checkout", col(FormVersion.number) == col(FormRow.published)
    )  # fmt: skip
    shown: dict[int, tuple[Question, Field]] = {}
    for version in unit.session.exec(query.order_by(col(FormVersion.form_id))).all():
        shown = {**_shown_at(unit, Form.model_validate(version.document), "list"), **shown}
    fields = [field for _, field in shown.values()]
    if not fields:
        return (), {}
    rows = list(rows)
    keys = [field.key for field in fields if field.about == ORDER]
    kept = rows_by_ids(unit.session, unit.definitions, ORDER, keys, [row.id or 0 for row in rows]) if keys else {}
    names = tuple(question.label or field.label for question, field in shown.values())
    return names, {
        row.id or 0: tuple(
            _said_of(field, kept.get(row.id or 0, {}), row.filled.get("answers", {})) for field in fields
        )
        for row in rows
    }
