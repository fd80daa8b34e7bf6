"""The history of values: every change set is written down, in one statement however many it changed."""

from collections.abc import Sequence
from datetime import datetime
from typing import Final

from sqlalchemy import bindparam, delete, func, select, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Session, col

from finesieve.core.fields.definition import Field
from finesieve.core.model.changes import ChangeSet
from finesieve.store.tables import History

__all__ = ["changed_since", "count_lines", "forget_history", "forget_lines", "gained_at", "last_line", "write_history"]

_WRITE: Final = text(
    "INSERT INTO history (workspace_id, about, entity_id, field_id, old, new, source, actor, at) "
    "SELECT :workspace, :about, line.row, line.field, line.old, line.new, line.source, :actor, :at FROM "
    'jsonb_to_recordset(:lines) AS line("row" bigint, field integer, old jsonb, new jsonb, source text)'
).bindparams(bindparam("lines", type_=JSONB()))


def write_history(session: Session, workspace_id: int, changes: ChangeSet) -> None:
    """Write down what was changed."""
    lines = list(changes.lines())
    if lines:
        whole = {"workspace": workspace_id, "about": changes.about, "actor": changes.actor, "at": changes.at}
        session.execute(_WRITE, {**whole, "lines": lines})


def last_line(session: Session) -> int:
    """The id of the last line of the history, 0 where there is none; call it while nobody can write."""
    return int(session.execute(select(func.coalesce(func.max(History.id), 0))).scalar_one())


def changed_since(session: Session, field: Field, line_id: int, but: str) -> list[int]:
    """The ids of those whose value changed after a line of the history, otherwise than by way of `but`."""
    query = (
        select(History.entity_id)  # type: ignore[call-overload]  # a column, to SQLAlchemy
        .where(History.field_id == field.id, col(History.id) > line_id, History.source != but)
        .distinct()
    )
    return [int(row[0]) for row in session.execute(query)]


_GAINED: Final = text(
    "SELECT DISTINCT ON (entity_id) entity_id, at FROM history WHERE about = :about AND field_id = :field "
    "AND entity_id = ANY(:ids) AND new @> :one AND NOT coalesce(old, '[]') @> :one ORDER BY entity_id, id DESC"
).bindparams(bindparam("one", type_=JSONB()))


def gained_at(session: Session, about: str, field_id: int, member: str, ids: Sequence[int]) -> dict[int, datetime]:
    """When those of the ids last got a value, or gained a member of several, as far as is written down."""
    values = {"about": about, "field": field_id, "ids": list(ids), "one": member}
    return {int(row_id): at for row_id, at in session.execute(_GAINED, values)} if ids else {}


def forget_lines(session: Session, field: Field, ids: Sequence[int], source: str, at: datetime) -> int:
    """Take back lines that this transaction itself has written too early; gives how many."""
    written = delete(History).where(
        col(History.field_id) == field.id,
        col(History.entity_id).in_(list(ids)),
        col(History.source) == source,
        col(History.at) == at,
    )
    return len(session.execute(written.returning(col(History.id))).all())


def count_lines(session: Session, field_id: int) -> int:
    """How many lines a field has in the history."""
    return int(session.execute(select(func.count()).where(col(History.field_id) == field_id)).scalar_one())


def forget_history(session: Session, field_id: int, limit: int) -> tuple[int, set[str]]:
    """Remove lines of a field for good; gives how many, and the digests of the files that they named."""
    some = select(col(History.id)).where(col(History.field_id) == field_id).limit(limit)
    gone = session.execute(delete(History).where(col(History.id).in_(some)).returning(col(History.new))).all()
    return len(gone), {str(row[0]["digest"]) for row in gone if isinstance(row[0], dict) and "digest" in row[0]}
