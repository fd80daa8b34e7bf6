"""Sending files, keeping them with a value, and opening them."""

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Final

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.core.fields.definition import Field, Shelf
from finesieve.core.fields.families.data import MEDIA
from finesieve.core.values import StoredFile
from finesieve.services.fields import field_of
from finesieve.services.scope import Scope, Unit
from finesieve.store.files import FileStore, Refused
from finesieve.store.rows import stored_row
from finesieve.store.tables import Upload

__all__ = [
    "MOST_BYTES",
    "OpenedFile",
    "open_file",
    "open_thumbnail",
    "send_file",
    "shelf",
    "shelf_of",
    "sweep_uploads",
    "take_files",
]

MOST_BYTES: Final = 20 * 1024 * 1024
_USUAL_KILOBYTES: Final = 5_120
_KEPT_HOURS: Final = 48


@dataclass(frozen=True, slots=True)
class OpenedFile:
    """A file with its bytes."""

    file: StoredFile
    data: bytes


def send_file(unit: Unit, files: FileStore, field: Field, name: str, data: bytes) -> str:
    """Take a file for a field; gives the token by which an answer names it. Raises ValueError with a sentence."""
    most = field.settings.most_kilobytes or _USUAL_KILOBYTES
    if len(data) > most * 1024:
        raise ValueError(f"This file is too large; at most {most:,} kB.")
    if not data:
        raise ValueError("This file is empty.")
    try:
        kept = files.keep(unit.workspace_id, name, data)
    except Refused as why:
        raise ValueError(str(why)) from None
    if field.type_key == "picture" and not kept.picture:
        raise ValueError("Choose a picture: JPEG, PNG, GIF or WebP.")
    kinds = [kind for kind in field.settings.media if kind in MEDIA] or list(MEDIA)
    if kept.media_type not in {media for kind in kinds for media in MEDIA[kind]}:
        raise ValueError(f"A file of this kind is not taken here; {', '.join(kinds)} are.")
    token = secrets.token_urlsafe(24)
    row = Upload(
        token=token,
        workspace_id=unit.workspace_id,
        digest=kept.digest,
        name=kept.name,
        media_type=kept.media_type,
        size=kept.size,
        width=kept.width,
        height=kept.height,
        at=unit.moment.now,
    )
    unit.session.add(row)
    unit.session.flush()
    return token


def take_files(
    scope: Scope, files: FileStore, sent: Mapping[str, tuple[str, bytes]], fields: Mapping[str, Field]
) -> dict[str, str]:
    """Take several files, by field key; gives their tokens. Raises InvalidInput by key."""
    tokens: dict[str, str] = {}
    messages: dict[str, str] = {}
    with scope.transaction("clerk") as unit:
        for key, (name, data) in sent.items():
            if key not in fields or fields[key].type.kind != "file":
                raise InvalidInput({key: "No file is asked for here."})
            try:
                tokens[key] = send_file(unit, files, fields[key], name, data)
            except ValueError as problem:
                messages[key] = str(problem)
    if messages:
        raise InvalidInput(messages)
    return tokens


def shelf_of(unit: Unit, tokens: list[str]) -> Shelf:
    """The files that were sent under these tokens."""
    rows = unit.session.exec(select(Upload).where(col(Upload.token).in_(tokens))).all() if tokens else []
    return Shelf(
        {row.token: StoredFile(row.digest, row.name, row.media_type, row.size, row.width, row.height) for row in rows}
    )


def shelf(scope: Scope, tokens: list[str]) -> Shelf:
    """See `shelf_of`."""
    with scope.transaction("public") as unit:
        return shelf_of(unit, [token for token in tokens if token])


def _file(scope: Scope, field_id: int, row_id: int) -> StoredFile:
    with scope.transaction("reader") as unit:
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


def sweep_uploads(scope: Scope) -> int:
    """Forget uploads that were never kept with a value, after two days; gives how many."""
    with scope.transaction("owner") as unit:
        end = unit.moment.now - timedelta(hours=_KEPT_HOURS)
        rows = unit.session.exec(select(Upload).where(col(Upload.at) < end)).all()
        for row in rows:
            unit.session.delete(row)
        return len(rows)
