"""Sending files, keeping them with a value, and opening them."""

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Final

from sqlalchemy import Text, cast, or_, text
from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.core.fields.definition import Field, Shelf
from finesieve.core.fields.families.data import MEDIA
from finesieve.core.model.catalogue import field_of
from finesieve.core.values import StoredFile
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.store.files.keeping import FileStore, described
from finesieve.store.files.sniffing import sniff
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import Conversation, Decision, HouseSchedule, Submission, Upload

__all__ = [
    "MOST_BYTES",
    "Examined",
    "OpenedFile",
    "examine",
    "forget_unnamed",
    "keep_file",
    "open_file",
    "open_thumbnail",
    "read_shelf",
    "send_file",
    "shelf_of",
    "sweep_uploads",
    "take_files",
]

MOST_BYTES: Final = 20 * 1024 * 1024
_USUAL_KILOBYTES: Final = 5_120
_KEPT_HOURS: Final = 48


@dataclass(frozen=True, slots=True)
class Examined:
    """Bytes that will do for a field."""

    field_id: int
    file: StoredFile
    data: bytes
    thumbnail: bytes


@dataclass(frozen=True, slots=True)
class OpenedFile:
    """A file with its bytes."""

    file: StoredFile
    data: bytes


def examine(field: Field, name: str, data: bytes) -> Examined:
    """Whether bytes will do for a field; to be asked outside of any transaction, since it takes a while.

    Raises ValueError with a sentence where they will not, Unavailable where many wait.
    """
    most = field.settings.most_kilobytes or _USUAL_KILOBYTES
    if len(data) > most * 1024:
        raise ValueError(f"This file is too large; at most {most:,} kB.")
    if not data:
        raise ValueError("This file is empty.")
    found = sniff(data)
    if field.type_key == "picture" and not found.width:
        raise ValueError("Choose a picture: JPEG, PNG, GIF or WebP.")
    kinds = [kind for kind in field.settings.media if kind in MEDIA] or list(MEDIA)
    if found.media_type not in {media for kind in kinds for media in MEDIA[kind]}:
        raise ValueError(f"A file of this kind is not taken here; {', '.join(kinds)} are.")
    return Examined(field.id, described(name, data, found), data, found.thumbnail)


def send_file(scope: Scope, files: FileStore, examined: Examined, form_id: int = 0) -> str:
    """Keep examined bytes until an answer names them; gives the token by which it does.

    The upload is noted before the bytes are written, so that none lie on the disk that nothing knows of.
    """
    token, file = secrets.token_urlsafe(24), examined.file
    with scope.transaction("public") as unit:
        row = Upload(
            token=token,
            workspace_id=unit.workspace_id,
            digest=file.digest,
            name=file.name,
            media_type=file.media_type,
            size=file.size,
            width=file.width,
            height=file.height,
            field_id=examined.field_id,
            form_id=form_id,
            at=unit.moment.now,
        )
        unit.session.add(row)
    with scope.transaction("public") as unit:
        keep_file(unit, files, examined.data, examined.thumbnail)
    return token


def keep_file(unit: Unit, files: FileStore, data: bytes, thumbnail: bytes) -> None:
    """Keep bytes for a value that this transaction writes."""
    _alone_with_files(unit, shared=True)
    files.keep(unit.workspace_id, data, thumbnail)


def _alone_with_files(unit: Unit, *, shared: bool = False) -> None:
    """Until the transaction ends, no bytes are removed while others are kept: they may be the same."""
    take = "pg_advisory_xact_lock_shared" if shared else "pg_advisory_xact_lock"
    unit.session.execute(text(f"SELECT {take}(hashtext('files'), :id)"), {"id": unit.workspace_id})


def take_files(
    scope: Scope, files: FileStore, sent: Mapping[str, tuple[str, bytes]], fields: Mapping[str, Field]
) -> dict[str, str]:
    """Take several files, by field key; gives their tokens. Raises InvalidInput by key."""
    scope.need("clerk")
    examined: dict[str, Examined] = {}
    messages: dict[str, str] = {}
    for key, (name, data) in sent.items():
        if key not in fields or fields[key].type.kind != "file":
            raise InvalidInput({key: "No file is asked for here."})
        try:
            examined[key] = examine(fields[key], name, data)
        except ValueError as problem:
            messages[key] = str(problem)
    if messages:
        raise InvalidInput(messages)
    return {key: send_file(scope, files, one) for key, one in examined.items()}


def shelf_of(unit: Unit, tokens: list[str], form_id: int = 0) -> Shelf:
    """The files that were sent under these tokens, on a form or (0) in the office."""
    query = select(Upload).where(col(Upload.token).in_(tokens), col(Upload.form_id) == form_id)
    rows = unit.session.exec(query).all() if tokens else []
    files = {
        row.token: StoredFile(row.digest, row.name, row.media_type, row.size, row.width, row.height) for row in rows
    }
    return Shelf(files, sent_for={row.token: row.field_id for row in rows})


def read_shelf(scope: Scope, tokens: list[str]) -> Shelf:
    """See `shelf_of`."""
    with scope.transaction("public") as unit:
        return shelf_of(unit, [token for token in tokens if token])


def _file(scope: Scope, field_id: int, row_id: int) -> StoredFile:
    with scope.reading("reader") as unit:
        field = field_of(unit.catalogue, field_id)
        if not unit.sees(field) or (field.settings.files_for == "editors" and not scope.may("editor")):
            raise NotAllowed("Only editors and owners may open these files.")
        values = stored_row(unit.session, unit.definitions, field.about, row_id) or {}
        value = values.get(field.key)
        if not isinstance(value, StoredFile):
            raise NotFound("There is no such file.")
        return value


def open_file(scope: Scope, files: FileStore, field_id: int, row_id: int) -> OpenedFile:
    """The file that one thing has in a field. Raises NotFound, NotAllowed."""
    found = _file(scope, field_id, row_id)
    data = files.read(scope.workspace_id, found.digest)
    if data is None:
        raise NotFound("The file is gone from the disk.")
    return OpenedFile(found, data)


def open_thumbnail(scope: Scope, files: FileStore, field_id: int, row_id: int) -> bytes:
    """A small picture of it, as WebP. Raises NotFound, NotAllowed."""
    data = files.thumbnail(scope.workspace_id, _file(scope, field_id, row_id).digest)
    if data is None:
        raise NotFound("There is no picture.")
    return data


def sweep_uploads(scope: Scope, files: FileStore | None = None) -> int:
    """Forget uploads of more than two days ago, and the bytes that no value, past or present, names; gives how many."""
    with scope.transaction("owner") as unit:
        _alone_with_files(unit)
        end = unit.moment.now - timedelta(hours=_KEPT_HOURS)
        rows = unit.session.exec(select(Upload).where(col(Upload.at) < end)).all()
        digests = {row.digest for row in rows}
        for row in rows:
            unit.session.delete(row)
        forget_unnamed(unit, files, digests)
        return len(rows)


def forget_unnamed(unit: Unit, files: FileStore | None, digests: set[str]) -> None:
    """Remove the bytes of those files that nothing names any more."""
    unit.session.flush()
    if files is not None and digests:
        _alone_with_files(unit)
        for digest in digests - _named(unit, digests):
            files.forget(unit.workspace_id, digest)


def _named(unit: Unit, digests: set[str]) -> set[str]:
    """Those of the digests that something kept names: a value, its history, a held answer, a value to come, a
    conversation that is not over."""
    # As the index has it, which makes this a matter of moments however long the history is.
    past = text("SELECT new ->> 'digest' FROM history WHERE new ? 'digest' AND new ->> 'digest' = ANY(:digests)")
    found = {str(one) for one in unit.session.execute(past, {"digests": list(digests)}).scalars()}
    found |= set(unit.session.exec(select(Upload.digest).where(col(Upload.digest).in_(digests))).all())
    coming = select(HouseSchedule.value).where(col(HouseSchedule.applied).is_(False))
    held = select(Submission.answers, Submission.records).join(
        Decision, (col(Decision.submission_id) == col(Submission.id)) & (col(Decision.state) == "waiting")
    )
    said = select(Conversation.state).where(col(Conversation.mode) != "ended")
    named = or_(*(cast(col(Conversation.state), Text).contains(digest) for digest in sorted(digests)))
    kept = (unit.session.exec(query).all() for query in (coming, held, said.where(named)))
    waiting = [str(one) for found_there in kept for one in found_there]
    return found | {digest for digest in digests if any(digest in one for one in waiting)}
