"""Queries over forms, what was sent with them, and what of it waits."""

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any, Final

from sqlalchemy import ARRAY, Text, and_, bindparam, cast, literal
from sqlalchemy.dialects.postgresql import JSONPATH
from sqlalchemy.orm import defer
from sqlmodel import Session, col, func, select

from finesieve.core.fields.definition import Field
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.reading.kept import kept
from finesieve.store.reading.searching import contains_word
from finesieve.store.tables import Decision, FormRow, FormVersion, HouseMapping, Submission

__all__ = [
    "blanks_by_version",
    "form_by_slug",
    "forms_open_to_strangers",
    "page_of_submissions",
    "sent_by_version",
    "sent_by_week",
    "waiting_decisions",
]

# The draft, which may be long, is read only where it is wanted.
_FORM: Final = select(FormRow).options(defer(FormRow.draft)).where(col(FormRow.slug) == bindparam("slug"))  # type: ignore[arg-type]
_WAITING: Final = (
    select(Decision, FormRow)
    .outerjoin(FormRow, col(FormRow.id) == col(Decision.form_id))
    .where(col(Decision.person_id) == bindparam("person"), col(Decision.state) == "waiting")
    .order_by(col(Decision.id))
)


def form_by_slug(session: Session, slug: str) -> FormRow | None:
    """The form with this address in the workspace that was entered, without its draft."""
    return session.scalars(_FORM, {"slug": slug}).first()


def waiting_decisions(session: Session, person_id: int) -> Sequence[tuple[Decision, FormRow | None]]:
    """What waits for a decision about a person, the oldest first, with the form that brought it, if one did."""
    return [(row[0], row[1]) for row in session.execute(_WAITING, {"person": person_id})]


def page_of_submissions(
    session: Session, form_id: int, conditions: Mapping[str, Any], before: int | None, limit: int
) -> list[Submission]:
    """Submissions of a form, the newest first, from below an id.

    `conditions` are a `version`, a `state`, the moments `since` and `until`, and `words` that each stand somewhere in
    the answers or the records, whatever the case; but for answers of the `hidden` keys, and for records where any
    of theirs are.
    """
    query = select(Submission).where(col(Submission.form_id) == form_id)
    if before is not None:
        query = query.where(col(Submission.id) < before)
    if conditions.get("version"):
        query = query.where(col(Submission.version) == conditions["version"])
    if conditions.get("state"):
        query = query.where(col(Submission.state) == conditions["state"])
    if conditions.get("since"):
        query = query.where(col(Submission.received_at) >= conditions["since"])
    if conditions.get("until"):
        query = query.where(col(Submission.received_at) < conditions["until"])
    hidden = conditions.get("hidden", ())
    said: Any = cast(col(Submission.answers).op("-")(literal(list(hidden), ARRAY(Text))), Text)
    if not conditions.get("records_hidden"):
        said = said + cast(col(Submission.records), Text)
    for word in conditions.get("words", ()):
        query = query.where(contains_word(said, word))
    return list(session.exec(query.order_by(col(Submission.id).desc()).limit(limit)).all())


def sent_by_version(session: Session, definitions: Definitions, form_id: int) -> dict[int, int]:
    """How often each version of a form was sent. Whoever adds a sending marks the values as changed."""
    query = (
        select(Submission.version, func.count())
        .where(col(Submission.form_id) == form_id)
        .group_by(col(Submission.version))
    )
    return kept(
        session,
        definitions,
        ("sent", form_id),
        lambda _: {int(version): int(number) for version, number in session.exec(query).all()},
    )


def blanks_by_version(
    session: Session, definitions: Definitions, field: Field
) -> tuple[tuple[int, int, int, int], ...]:
    """By form and version that asks a field: (form's id, version, how often sent, how often without an answer).

    The newest version of each form first. In a hurry, where it was never counted, nothing.
    """
    form, version = col(Submission.form_id), col(Submission.version)
    path: Any = cast("$.sections[*].items[*] ? (@.field_id == $id)", JSONPATH)
    asks = func.jsonb_path_exists(col(FormVersion.document), path, func.jsonb_build_object("id", field.id))
    blank = col(Submission.answers).op("->>")(field.key).is_(None)
    query = (
        select(form, version, func.count(), func.count().filter(blank))
        .join(FormVersion, and_(col(FormVersion.form_id) == form, col(FormVersion.number) == version))
        .where(asks)
        .group_by(form, version)
        .order_by(form, version.desc())
    )
    return kept(
        session,
        definitions,
        ("blanks", field.id, field.key),
        lambda _: tuple((int(a), int(b), int(c), int(d)) for a, b, c, d in session.exec(query).all()),
        unknown=(),
    )


def sent_by_week(session: Session, definitions: Definitions, until: datetime, weeks: int) -> tuple[int, ...]:
    """How much was sent in each of the weeks before a moment, the last one last. See `sent_by_version`."""
    start = until - timedelta(weeks=weeks)
    seconds = func.extract("epoch", col(Submission.received_at) - start)
    week = func.least(func.floor(seconds / (7 * 24 * 3600)), weeks - 1)
    query = select(week, func.count()).where(col(Submission.received_at) > start).group_by(week)

    def count(_known: Definitions) -> tuple[int, ...]:
        counted = {int(number): int(sent) for number, sent in session.exec(query).all()}
        return tuple(counted.get(number, 0) for number in range(weeks))

    return kept(session, definitions, ("weeks", until, weeks), count)


def forms_open_to_strangers(session: Session) -> list[tuple[int, str]]:
    """Forms in force by which anyone sets house values, here or elsewhere: (id, title)."""
    query = (
        select(FormRow)
        .join(HouseMapping, col(HouseMapping.form_id) == col(FormRow.id))
        .where(col(HouseMapping.allowed), col(HouseMapping.who) == "anyone", col(FormRow.published) > 0)
        .order_by(col(FormRow.id))
        .distinct()
    )
    return [(row.id or 0, str(row.draft["title"])) for row in session.exec(query).all()]
