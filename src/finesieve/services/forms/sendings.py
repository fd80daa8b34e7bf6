"""What was sent with a form: the list, one sending with all its answers, and all of them as a file."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any, Final, Literal

from pydantic import Field as Bounds
from sqlalchemy import text
from sqlmodel import col, select

from finesieve.core.errors import NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.forms.definition import Form
from finesieve.services.forms.forms import form_of
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.sheets import csv_lines
from finesieve.services.values.charge_lines import ChargeLine, charge_lines
from finesieve.services.values.value_lines import person_name, record_lines, show_past
from finesieve.store.connection.database import apart
from finesieve.store.reading.rows import rows_by_ids
from finesieve.store.reading.submissions import page_of_submissions
from finesieve.store.tables import Decision, FormVersion, Submission

__all__ = [
    "AnswerLine",
    "Sending",
    "SendingDetail",
    "SendingOfPerson",
    "SendingsPage",
    "SentQuery",
    "list_sendings",
    "read_sending",
    "sendings_as_csv",
    "sendings_of_person",
]

State = Literal["stored", "waiting", "applied", "refused"]
SAID: Final[dict[str, str]] = {
    "stored": "stored",
    "waiting": "waits for a decision",
    "applied": "confirmed, stored",
    "refused": "discarded",
}
_PAGE: Final = 50
_SECONDS: Final = 2
_MOST_SHOWN: Final = 20


class SentQuery(Input):
    """Which sendings: of a version, of a state, from one day to another, with every word in an answer."""

    version: int = Bounds(default=0, ge=0, le=1_000_000)
    state: Literal["", "stored", "held"] = ""
    since: date | None = None
    until: date | None = None
    search: str = Bounds(default="", max_length=100)


@dataclass(frozen=True, slots=True)
class Sending:
    """One sending in a list: `summary` are a few of the answers in words, `total` the sum of the charges."""

    id: int
    at: datetime
    version: int
    person_id: int
    name: str
    state: State
    summary: str
    total: Decimal

    @property
    def said(self) -> str:
        """What came of it, in words."""
        return SAID[self.state]


@dataclass(frozen=True, slots=True)
class SendingOfPerson:
    """One sending where it is clear whose it is."""

    id: int
    form_id: int
    form: str
    at: datetime
    state: State

    @property
    def said(self) -> str:
        """What came of it, in words."""
        return SAID[self.state]


@dataclass(frozen=True, slots=True)
class SendingsPage:
    """A page of sendings, the newest first. `before` continues it; None at the end."""

    lines: tuple[Sending, ...]
    before: int | None
    versions: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class AnswerLine:
    """An answer as it was asked and given."""

    label: str
    answer: str
    field_id: int


@dataclass(frozen=True, slots=True)
class SendingDetail:
    """One sending with all its answers, its records and its charges."""

    line: Sending
    answers: tuple[AnswerLine, ...]
    records: tuple[tuple[str, str], ...]
    charges: tuple[ChargeLine, ...]
    decided_by: str = ""
    decided_at: datetime | None = None


def list_sendings(scope: Scope, form_id: int, query: SentQuery, before: int | None = None) -> SendingsPage:
    """What was sent with a form, the newest first. Raises NotFound, and TookTooLong."""
    with scope.reading("reader") as unit:
        form_of(unit, form_id)
        with apart(unit.session, _SECONDS):
            rows = page_of_submissions(unit.session, form_id, _conditions(unit, query), before, _PAGE + 1)
        versions = unit.session.exec(
            select(FormVersion.number)
            .where(col(FormVersion.form_id) == form_id)
            .order_by(col(FormVersion.number).desc())
        ).all()
        lines = tuple(_lines(unit, rows[:_PAGE]))
        return SendingsPage(lines, rows[_PAGE - 1].id if len(rows) > _PAGE else None, tuple(versions))


def _conditions(unit: Unit, query: SentQuery) -> dict[str, Any]:
    """The query as the store takes it: days begin and end by the clocks of the house."""
    zone = unit.catalogue.zone

    def begin(day: date) -> datetime:
        return datetime.combine(day, time(), zone)

    return {
        "version": query.version,
        "state": query.state,
        "since": begin(query.since) if query.since else None,
        "until": begin(query.until + timedelta(days=1)) if query.until and query.until < date.max else None,
        "words": query.search.split()[:8],
        "hidden": [one.key for one in unit.catalogue.fields_about(PERSON) if not _searched(unit, one)],
        "records_hidden": not all(
            _searched(unit, one)
            for kind in unit.catalogue.record_types
            for one in unit.catalogue.fields_about(kind.about)
        ),
    }


def _searched(unit: Unit, field: Field) -> bool:
    """Whether a search may find a sending by an answer: what one may not see, one does not find either."""
    return unit.sees(field) and field.type.kind != "secret"


def _lines(unit: Unit, rows: Sequence[Submission]) -> Iterator[Sending]:
    keys = ["first_name", "last_name", "email"]
    people = rows_by_ids(unit.session, unit.definitions, PERSON, keys, {row.person_id for row in rows})
    states = _states(unit, rows)
    # Who it is stands beside the answers already.
    named = {unit.catalogue.by_key[key].id for key in ("first_name", "last_name", "email")}
    for row in rows:
        answers = [one for one in _answers(unit, row, {}) if one.answer and one.field_id not in named]
        summary = " · ".join(f"{one.label}: {one.answer}" for one in answers[:4])
        yield Sending(
            row.id or 0,
            row.received_at,
            row.version,
            row.person_id if row.person_id in people else 0,
            person_name(people[row.person_id]) if row.person_id in people else "a person who was removed",
            states.get(row.id or 0, "stored"),
            summary,
            sum((charge.amount for charge in charge_lines(unit, row.charges)), Decimal(0)),
        )


def _states(unit: Unit, rows: Sequence[Submission]) -> dict[int, State]:
    held = [row.id for row in rows if row.state == "held"]
    if not held:
        return {}
    decisions = unit.session.exec(select(Decision).where(col(Decision.submission_id).in_(held))).all()
    return {row.submission_id or 0: row.state for row in decisions}  # type: ignore[misc]  # one of the states


def _answers(unit: Unit, row: Submission, labels: dict[str, str]) -> Iterator[AnswerLine]:
    """The answers, as the questions were worded; what this role may not see is left out."""
    order = dict.fromkeys((*labels, *unit.catalogue.by_key))
    places = {key: place for place, key in enumerate(order)}
    for key, data in sorted(row.answers.items(), key=lambda pair: places.get(pair[0], len(places))):
        field = unit.catalogue.by_key.get(key)
        if field is not None and not unit.sees(field):
            continue
        shown = _shown(field, data)
        yield AnswerLine(labels.get(key) or (field.label if field else key), shown, field.id if field else 0)


def _shown(field: Field | None, data: Any) -> str:
    if data is None:
        return ""
    if field is not None:
        return show_past(field, data)
    return ", ".join(map(str, data)) if isinstance(data, list) else str(data)


def read_sending(scope: Scope, form_id: int, sending_id: int) -> SendingDetail:
    """One sending. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = unit.session.get(Submission, sending_id)
        if row is None or row.form_id != form_id:
            raise NotFound("There is no such sending.")
        (line,) = _lines(unit, [row])
        decision = unit.session.exec(select(Decision).where(col(Decision.submission_id) == sending_id)).first()
        return SendingDetail(
            line,
            tuple(_answers(unit, row, _labels(unit, row))),
            record_lines(unit, row.records, unit.sees),
            tuple(charge_lines(unit, row.charges)),
            decision.decided_by if decision else "",
            decision.decided_at if decision else None,
        )


def _labels(unit: Unit, row: Submission) -> dict[str, str]:
    """How the questions of that version were worded, by the key of the field, in their order."""
    version = unit.session.get(FormVersion, (row.form_id, row.version))
    if version is None:
        return {}
    found = {}
    for question in Form.model_validate(version.document).questions:
        field = unit.catalogue.by_id.get(question.field_id)
        if field is not None:
            found[field.key] = question.label or field.label
    return found


def sendings_of_person(scope: Scope, person_id: int) -> tuple[SendingOfPerson, ...]:
    """The last sendings of a person, of every form, and their conversations, which are of form 0."""
    with scope.reading("reader") as unit:
        rows = unit.session.execute(_OF_PERSON, {"person": person_id, "most": _MOST_SHOWN}).all()
        return tuple(SendingOfPerson(*row) for row in rows)


_OF_PERSON: Final = text(
    "(SELECT sent.id, sent.form_id, form.draft->>'title', sent.received_at AS at, coalesce(decision.state, 'stored') "
    "FROM submission sent JOIN form ON form.id = sent.form_id LEFT JOIN decision ON sent.state = 'held' AND "
    "decision.submission_id = sent.id WHERE sent.person_id = :person ORDER BY sent.id DESC LIMIT :most) "
    "UNION ALL (SELECT talk.id, 0, script.draft->>'title', talk.last_at, talk.mode "
    "FROM conversation talk JOIN chat_script script ON script.id = talk.script_id "
    "WHERE talk.person_id = :person ORDER BY talk.id DESC LIMIT :most) ORDER BY at DESC LIMIT :most"
)


def sendings_as_csv(scope: Scope, form_id: int, query: SentQuery) -> tuple[str, Iterator[str]]:
    """The address of a form, and all its sendings as CSV, line by line. Raises NotFound."""
    with scope.reading("reader") as unit:
        slug = form_of(unit, form_id).slug
    return slug, csv_lines(_csv_rows(scope, form_id, query))


def _csv_rows(scope: Scope, form_id: int, query: SentQuery) -> Iterator[list[str]]:
    with scope.separate("reader") as unit:
        keys = _asked_ever(unit, form_id)
        yield ["id", "received_at", "version", "person_id", "state", "charged", *keys]
        before = None
        while True:
            rows = page_of_submissions(unit.session, form_id, _conditions(unit, query), before, 1_000)
            states = _states(unit, rows)
            for row in rows:
                total = sum((charge.amount for charge in charge_lines(unit, row.charges)), Decimal(0))
                given = [_plain(unit.catalogue.by_key.get(key), row.answers.get(key)) for key in keys]
                state = states.get(row.id or 0, "stored")
                at = row.received_at.isoformat(timespec="seconds")
                yield [str(row.id), at, str(row.version), str(row.person_id), state, str(total), *given]
                unit.session.expunge(row)
            if len(rows) < 1_000:
                return
            before = rows[-1].id


def _asked_ever(unit: Unit, form_id: int) -> list[str]:
    """The keys of the fields that any version of the form asked of a person, as far as this role sees them."""
    versions = unit.session.exec(
        select(FormVersion.document).where(col(FormVersion.form_id) == form_id).order_by(col(FormVersion.number))
    ).all()
    fields = [unit.catalogue.by_id.get(q.field_id) for one in versions for q in Form.model_validate(one).questions]
    seen = (
        field for field in fields if field is not None and field.about == PERSON and field.stores and unit.sees(field)
    )
    return list(dict.fromkeys(field.key for field in seen))


def _plain(field: Field | None, data: Any) -> str:
    if field is None or data is None:
        return ""
    if field.type.kind == "secret":
        return "set"
    try:
        return field.plain(field.from_kept(data))
    except (ValueError, TypeError):
        return _shown(field, data)
