"""The bench: what there is, what came in, what waits; and finding anything."""

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal

from sqlmodel import col, func, select

from finesieve.core.fields.about import PERSON
from finesieve.core.values import fold
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.usage.documents import rows_of_forms
from finesieve.services.values.value_lines import person_name
from finesieve.store.reading.people import count_people, page_of_people
from finesieve.store.reading.rows import rows_by_ids
from finesieve.store.reading.submissions import sent_by_week
from finesieve.store.tables import FormRow, Segment, Submission

__all__ = ["Arrival", "Bench", "Found", "find_anything", "read_bench"]


@dataclass(frozen=True, slots=True)
class Arrival:
    """One sent form; `state` is that of its submission: stored, held, applied or set_aside."""

    person_id: int
    name: str
    form: str
    received_at: datetime
    state: str


@dataclass(frozen=True, slots=True)
class Bench:
    """The first page. `weeks` counts sign-ups of the last twelve weeks, oldest first."""

    people: int
    fields: int
    derived: int
    forms: int
    segments: int
    weeks: tuple[int, ...]
    arrivals: tuple[Arrival, ...]
    held: tuple[Arrival, ...]
    drafts: tuple[tuple[int, str], ...]
    broken: tuple[tuple[int, str], ...]


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
            arrivals=_arrivals(unit, held_only=False, limit=8),
            held=_arrivals(unit, held_only=True, limit=20),
            drafts=tuple(
                (form.id or 0, form.draft["title"])
                for form, version in forms
                if version is None or version.document != form.draft
            ),
            broken=tuple((field.id, field.label) for field in catalogue.derived if field.key in catalogue.broken),
        )


def _arrivals(unit: Unit, *, held_only: bool, limit: int) -> tuple[Arrival, ...]:
    query = select(Submission, FormRow).join(FormRow, col(FormRow.id) == col(Submission.form_id))
    if held_only:
        query = query.where(col(Submission.state) == "held")
    rows = unit.session.exec(
        query.order_by(col(Submission.received_at).desc(), col(Submission.id).desc()).limit(limit)
    ).all()
    if not rows:
        return ()
    keys = ["email", "first_name", "last_name"]
    names = rows_by_ids(unit.session, unit.definitions, PERSON, keys, [submission.person_id for submission, _ in rows])
    return tuple(
        Arrival(
            submission.person_id,
            person_name(names.get(submission.person_id, {})),
            form.draft["title"],
            submission.received_at,
            submission.state,
        )
        for submission, form in rows
    )


@dataclass(frozen=True, slots=True)
class Found:
    """One thing found; `detail` tells it from others of the same name."""

    kind: Literal["person", "field", "derived", "group", "form", "segment"]
    id: int
    name: str
    detail: str = ""


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
            if fits(field.label, field.key):
                found.append(Found("derived" if field.derived else "field", field.id, field.label, field.key))
        found += [Found("group", group.id, group.name) for group in unit.catalogue.groups if fits(group.name)]
        for segment in unit.session.exec(select(Segment)).all():
            if fits(segment.name):
                found.append(Found("segment", segment.id or 0, segment.name))
        for form in unit.session.exec(select(FormRow)).all():
            if fits(form.draft["title"]):
                found.append(Found("form", form.id or 0, form.draft["title"]))
        keys = ["email", "first_name", "last_name"]
        people = page_of_people(unit.session, unit.definitions, unit.moment, keys, search=words, limit=6)
        found = found[: limit - len(people)]
        found += [
            Found("person", person.id, person_name(person.values), str(person.values["email"])) for person in people
        ]
        return found
