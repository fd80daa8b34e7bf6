"""Queries over what was sent."""

from datetime import datetime, timedelta

from sqlmodel import Session, col, func, select

from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.reading.kept import kept
from finesieve.store.tables import Submission

__all__ = ["sent_by_version", "sent_by_week"]


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
