"""Reading people: the list, a profile, its history; correcting a value; deciding on held sign-ups."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlmodel import col, select

from finesieve.core.catalogue import Catalogue, Group
from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import from_json
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_text_literal, print_with_values
from finesieve.core.values import Value
from finesieve.services.scope import Scope, Unit
from finesieve.services.values import change_person
from finesieve.store.people import Person, count_people, page_of_people, person_by_id
from finesieve.store.tables import FormRow, History, Submission

__all__ = [
    "HeldLine",
    "HeldSubmission",
    "HistoryLine",
    "PeoplePage",
    "PersonLine",
    "Profile",
    "ValueLine",
    "decide_held",
    "list_people",
    "person_name",
    "read_profile",
    "set_values",
    "worked_out",
]


@dataclass(frozen=True, slots=True)
class PersonLine:
    """One person in a list; `cells` are the shown values of the columns."""

    id: int
    name: str
    cells: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class PeoplePage:
    """A page of people. `next_before` continues the list; None at its end."""

    columns: tuple[Field, ...]
    lines: tuple[PersonLine, ...]
    everyone: int
    next_before: int | None


@dataclass(frozen=True, slots=True)
class ValueLine:
    """One field of a profile. `worked` is a derived field's formula with the values put in."""

    field: Field
    value: Value
    shown: str
    raw: str
    worked: str = ""


@dataclass(frozen=True, slots=True)
class HistoryLine:
    """One change of one value, newest first in lists."""

    at: datetime
    field: Field
    old: str
    new: str
    source: str
    actor: str


@dataclass(frozen=True, slots=True)
class HeldLine:
    """One answer of a held sign-up beside what is stored."""

    field: Field
    stored: str
    answer: str


@dataclass(frozen=True, slots=True)
class HeldSubmission:
    """A sign-up with this person's email that waits for the staff to decide."""

    id: int
    form: str
    received_at: datetime
    lines: tuple[HeldLine, ...]


@dataclass(frozen=True, slots=True)
class Profile:
    """All that is known of one person."""

    id: int
    name: str
    groups: tuple[tuple[Group, tuple[ValueLine, ...]], ...]
    history: tuple[HistoryLine, ...]
    held: tuple[HeldSubmission, ...]


def person_name(values: Mapping[str, Value]) -> str:
    """The name, or the email where no name is known."""
    name = " ".join(str(values[key]) for key in ("first_name", "last_name") if values.get(key))
    return name or str(values.get("email") or "Somebody unknown")


def list_people(scope: Scope, *, search: str = "", before_id: int | None = None, limit: int = 50) -> PeoplePage:
    """People, newest first, whose name or email has every word of `search`."""
    with scope.transaction("reader") as unit:
        keys = ["email", "first_name", "last_name", "signed_up_on"]
        extra = [field.key for field in unit.catalogue.stored if not field.built_in][:2]
        people = page_of_people(
            unit.session,
            unit.definitions,
            unit.moment,
            keys + extra,
            search=search,
            before_id=before_id,
            limit=limit + 1,
        )
        columns = tuple(unit.catalogue.by_key[key] for key in ["email", *extra, "signed_up_on"])
        return people_page(unit, people, columns, limit)


def people_page(unit: Unit, people: Sequence[Person], columns: Sequence[Field], limit: int) -> PeoplePage:
    """A page made of people, one more than `limit` telling that it goes on."""
    lines = tuple(
        PersonLine(
            person.id, person_name(person.values), tuple(field.show(person.values.get(field.key)) for field in columns)
        )
        for person in people[:limit]
    )
    following = people[limit - 1].id if len(people) > limit else None
    return PeoplePage(tuple(columns), lines, count_people(unit.session, unit.definitions), following)


def read_profile(scope: Scope, person_id: int, history_of: str = "") -> Profile:
    """A profile with groups, derived values, history and held sign-ups. Raises NotFound.

    `history_of` restricts the history to one field, by key.
    """
    with scope.transaction("reader") as unit:
        person = _person(unit, person_id)
        row = unit.catalogue.derivation.row(person.values, unit.moment)
        groups = tuple(
            (group, tuple(_line(unit.catalogue, field, row) for field in unit.catalogue.of_group(group.id)))
            for group in unit.catalogue.groups
        )
        return Profile(
            person_id, person_name(person.values), groups, _history(unit, person_id, history_of), _held(unit, person)
        )


def _person(unit: Unit, person_id: int) -> Person:
    person = person_by_id(unit.session, unit.definitions, person_id)
    if person is None:
        raise NotFound("There is no such person.")
    return person


def _line(catalogue: Catalogue, field: Field, row: Mapping[str, Value]) -> ValueLine:
    value = row.get(field.key)
    worked = worked_out(catalogue, field.formula, row) if field.derived else ""
    return ValueLine(field, value, field.show(value), "" if field.derived else field.type.raw(value), worked)


def worked_out(catalogue: Catalogue, formula: str, row: Mapping[str, Value]) -> str:
    """A formula with this person's values put in: `round(6 * 3, 1)`."""
    tree = parse(formula).tree
    if tree is None:
        return ""
    shown = {}
    for field in catalogue.fields:
        value = row.get(field.key)
        shown[field.key] = (
            "blank"
            if value is None
            else print_text_literal(value)
            if isinstance(value, str)
            else field.type.show(value)
        )
    return print_with_values(tree, shown)


def _history(unit: Unit, person_id: int, key: str, limit: int = 200) -> tuple[HistoryLine, ...]:
    query = select(History).where(col(History.person_id) == person_id)
    if key in unit.catalogue.by_key:
        query = query.where(col(History.field_id) == unit.catalogue.by_key[key].id)
    rows = unit.session.exec(query.order_by(col(History.id).desc()).limit(limit)).all()
    lines = []
    for row in rows:
        field = unit.catalogue.by_id.get(row.field_id)
        if field is not None:
            old, new = _shown(field, row.old), _shown(field, row.new)
            lines.append(HistoryLine(row.at, field, old, new, row.source, row.actor))
    return tuple(lines)


def _shown(field: Field, data: object) -> str:
    """A value of the past as people read it, even if an option or the type has gone since."""
    try:
        return field.show(from_json(data, field.value_type))  # type: ignore[arg-type]  # JSON by its making
    except ValueError:
        return str(data)


def _held(unit: Unit, person: Person) -> tuple[HeldSubmission, ...]:
    rows = unit.session.exec(
        select(Submission, FormRow)
        .join(FormRow, col(FormRow.id) == col(Submission.form_id))
        .where(col(Submission.person_id) == person.id, col(Submission.state) == "held")
        .order_by(col(Submission.id))
    ).all()
    held = []
    for submission, form in rows:
        lines = []
        for key, data in submission.answers.items():
            field = unit.catalogue.by_key.get(key)
            if field is not None:
                lines.append(HeldLine(field, field.show(person.values.get(key)), _shown(field, data)))
        held.append(HeldSubmission(submission.id or 0, form.draft["title"], submission.received_at, tuple(lines)))
    return tuple(held)


def decide_held(scope: Scope, submission_id: int, *, apply: bool) -> int:
    """Store the answers of a held sign-up, or set it aside; gives the person's id.

    Decided twice, it counts once. Raises NotFound, and Conflict where an answer
    is no option any more.
    """
    with scope.transaction("clerk") as unit:
        row = unit.session.get(Submission, submission_id, with_for_update=True)
        if row is None or row.state not in ("held", "applied", "set_aside"):
            raise NotFound("There is no such held sign-up.")
        if row.state == "held":
            if apply:
                values = _held_values(unit, row.answers)
                change_person(unit, row.person_id, values, "form, taken over by staff")
            row.state = "applied" if apply else "set_aside"
            unit.session.add(row)
        return row.person_id


def _held_values(unit: Unit, answers: Mapping[str, Any]) -> dict[str, Value]:
    values: dict[str, Value] = {}
    for key, data in answers.items():
        field = unit.catalogue.by_key.get(key)
        if field is None or key == "email":
            continue
        try:
            values[key] = from_json(data, field.value_type)
        except ValueError:
            message = (
                f"“{data}” cannot be taken over as {field.label} any more. Bring the option back, or set it aside."
            )
            raise Conflict(message) from None
    return values


def set_values(scope: Scope, person_id: int, typed: Mapping[str, str]) -> int:
    """Correct values as typed, by field key; gives how many changed.

    Fields that are not named stay. Raises InvalidInput by key for what cannot
    be read, and Conflict for an email that somebody else has.
    """
    try:
        with scope.transaction("clerk") as unit:
            return change_person(unit, person_id, _read_values(unit, typed), "staff")
    except Conflict:
        raise InvalidInput({"email": "Somebody else has this email."}) from None


def _read_values(unit: Unit, typed: Mapping[str, str]) -> dict[str, Value]:
    values: dict[str, Value] = {}
    messages: dict[str, str] = {}
    for field in unit.catalogue.stored:
        if field.key not in typed:
            continue
        try:
            value = field.type.parse(typed[field.key], [option.stored_value for option in field.options])
            if value is None and field.key == "email":
                raise ValueError("A person needs an email.")
            values[field.key] = value
        except ValueError as problem:
            messages[field.key] = str(problem)
    if messages:
        raise InvalidInput(messages)
    return values
