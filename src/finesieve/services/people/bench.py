"""The bench: what there is, what came in, what waits; and finding anything."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, Literal

from sqlmodel import col, func, select

from finesieve.core.fields.about import PERSON
from finesieve.core.values import fold
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.usage.documents import rows_of_forms
from finesieve.services.values.value_lines import person_name
from finesieve.store.reading.people import count_people, page_of_people
from finesieve.store.reading.rows import rows_by_ids
from finesieve.store.reading.submissions import sent_by_week
from finesieve.store.tables import Decision, FormRow, OrderRow, Segment, Submission

__all__ = ["Arrival", "Bench", "Found", "find_anything", "read_bench"]


@dataclass(frozen=True, slots=True)
class Arrival:
    """One sent form; `state` is stored, or that of the decision it waited for; of what waits, its kind."""

    person_id: int
    name: str
    form: str
    received_at: datetime
    state: str


@dataclass(frozen=True, slots=True)
class Bench:
    """The first page. `weeks` counts sign-ups of the last twelve weeks, oldest first; `to_pack` orders that are placed
    and not packed yet, None without a shop."""

    people: int
    fields: int
    derived: int
    forms: int
    segments: int
    weeks: tuple[int, ...]
    arrivals: tuple[Arrival, ...]
    waiting: tuple[Arrival, ...]
    drafts: tuple[tuple[int, str], ...]
    broken: tuple[tuple[int, str], ...]
    to_pack: int | None


def read_bench(scope: Scope) -> Bench:
    """Counts, the latest sign-ups, and what waits to be done."""
    with scope.reading("reader") as unit:
        forms = rows_of_forms(unit)
        catalogue = unit.catalogue
        # To the full hour, so that the same weeks need not be counted again at every look.
        hour = unit.moment.now.replace(minute=0, second=0, microsecond=0) + timedelta(hours=1)
        return Bench(
            people=count_people(unit.session, unit.definitions),
            fields=len(catalogue.stored),
            derived=len(catalogue.derived),
            forms=len(forms),
            segments=unit.session.exec(select(func.count()).select_from(Segment)).one(),
            weeks=sent_by_week(unit.session, unit.definitions, hour, 12),
            arrivals=_arrivals(unit, limit=8),
            waiting=_waiting(unit, limit=20),
            drafts=tuple(
                (form.id or 0, form.draft["title"])
                for form, version in forms
                if version is None or version.document != form.draft
            ),
            broken=tuple((field.id, field.label) for field in catalogue.derived if field.key in catalogue.broken),
            to_pack=_to_pack(unit),
        )


def _arrivals(unit: Unit, limit: int) -> tuple[Arrival, ...]:
    """What was sent last; what waited for a decision, with what came of that."""
    query = (
        select(Submission, FormRow, Decision)
        .join(FormRow, col(FormRow.id) == col(Submission.form_id))
        .outerjoin(Decision, col(Decision.submission_id) == col(Submission.id))
        .order_by(col(Submission.received_at).desc(), col(Submission.id).desc())
        .limit(limit)
    )
    return _named(
        unit,
        [
            (sent.person_id, form.draft, sent.received_at, decision.state if decision else sent.state)
            for sent, form, decision in unit.session.exec(query).all()
        ],
    )


def _waiting(unit: Unit, limit: int) -> tuple[Arrival, ...]:
    """What waits for a decision, the oldest first; its kind in place of a state."""
    query = (
        select(Decision, FormRow)
        .join(FormRow, col(FormRow.id) == col(Decision.form_id))
        .where(col(Decision.state) == "waiting")
        .order_by(col(Decision.at), col(Decision.id))
        .limit(limit)
    )
    found = unit.session.exec(query).all()
    return _named(unit, [(row.person_id, form.draft, row.at, row.kind) for row, form in found])


def _named(unit: Unit, rows: Sequence[tuple[int, dict[str, Any], datetime, str]]) -> tuple[Arrival, ...]:
    if not rows:
        return ()
    keys = ["email", "first_name", "last_name"]
    names = rows_by_ids(unit.session, unit.definitions, PERSON, keys, [row[0] for row in rows])
    return tuple(
        Arrival(person_id, person_name(names.get(person_id, {})), draft["title"], at, state)
        for person_id, draft, at, state in rows
    )


@dataclass(frozen=True, slots=True)
class Found:
    """One thing found; `detail` tells it from others of the same name."""

    kind: Literal["person", "field", "derived", "group", "form", "segment", "order"]
    id: int
    name: str
    detail: str = ""


def _to_pack(unit: Unit) -> int | None:
    if unit.catalogue.shop is None:
        return None
    placed = select(func.count()).select_from(OrderRow).where(col(OrderRow.state) == "placed")
    return unit.session.exec(placed).one()


def find_anything(scope: Scope, words: str, limit: int = 12) -> list[Found]:
    """Things whose name has every word, definitions before people."""
    wanted = fold(words).split()
    if not wanted:
        return []

    def fits(*texts: str) -> bool:
        return all(any(word in fold(text) for text in texts) for word in wanted)

    with scope.reading("reader") as unit:
        found: list[Found] = []
        for field in unit.catalogue.fields:
            if fits(field.label, *field.names):
                found.append(Found("derived" if field.derived else "field", field.id, field.label, field.name))
        found += [Found("group", group.id, group.name) for group in unit.catalogue.groups if fits(group.name)]
        for segment in unit.session.exec(select(Segment)).all():
            if fits(segment.name):
                found.append(Found("segment", segment.id or 0, segment.name))
        for form in unit.session.exec(select(FormRow)).all():
            if fits(form.draft["title"]):
                found.append(Found("form", form.id or 0, form.draft["title"]))
        if len(wanted) == 1 and wanted[0].isascii() and wanted[0].isdigit() and len(wanted[0]) < 10:
            numbered = select(OrderRow).where(col(OrderRow.number) == int(wanted[0]))
            found += [
                Found("order", row.id or 0, f"Order {row.number}", row.email)
                for row in unit.session.exec(numbered).all()
            ]
        keys = ["email", "first_name", "last_name"]
        people = page_of_people(unit.session, unit.definitions, unit.moment, keys, search=words, limit=6)
        found = found[: limit - len(people)]
        found += [
            Found("person", person.id, person_name(person.values), str(person.values["email"])) for person in people
        ]
        return found
