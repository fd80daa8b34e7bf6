"""Large exports: written by a task with progress, which can be stopped, and taken from its page for a day."""

import os
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Final, TypeVar

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.services.kernel.scope import Scope
from finesieve.services.kernel.slugs import slug_from_name
from finesieve.services.kernel.tasks import Progress, begin_task, read_task, work_of
from finesieve.services.sift.export import ExportInput, cells_of, lines_of, people_of, wanted_of, write_workbook
from finesieve.store.files.keeping import FileStore
from finesieve.store.tables import Task

__all__ = ["KIND", "PreparedFile", "open_prepared", "prepare_export", "sweep_prepared"]

T = TypeVar("T")
KIND: Final = "export"
_MOST_ROWS: Final = 1_048_575
"""So many people fit into one sheet of a workbook, under its heading."""
_SECONDS: Final = 3_600
_STEP: Final = 2_000
"""Rows between two looks at whether it was stopped."""
_KEPT: Final = 24 * 3_600


@dataclass(frozen=True, slots=True)
class PreparedFile:
    """A file to take: where it lies, what it is called, and what it is (csv, jsonl, xlsx)."""

    path: Path
    name: str
    kind: str


def prepare_export(scope: Scope, segment_id: int, asked: ExportInput) -> int:
    """Have a worker write the people of a segment into a file; gives the id of the task, or of the same under way.

    Raises NotFound, InvalidExpression, and InvalidInput for more people than a workbook holds.
    """
    with scope.transaction("editor") as unit:
        name, wanted = wanted_of(unit, segment_id, asked)
        people = people_of(unit, wanted)
        if asked.kind == "xlsx" and people > _MOST_ROWS:
            raise InvalidInput({"kind": f"A workbook holds {_MOST_ROWS:,} people at the most. Take a sample, or CSV."})
        payload = {"segment": segment_id, "asked": asked.model_dump(mode="json")}
        under_way = select(Task.id).where(
            col(Task.kind) == KIND, col(Task.state).in_(("waiting", "running")), col(Task.payload) == payload
        )
        found = unit.session.exec(under_way).first()
        return found or begin_task(unit, KIND, f"Take along {name}", payload, people)


@work_of(KIND)
def _write(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Into a file beside, which takes its place once it is whole. Begun again it is written anew; stopped, gone."""
    asked = ExportInput.model_validate(payload["asked"])
    with scope.reading("editor") as unit:
        name, wanted = wanted_of(unit, int(payload["segment"]), asked)
        total = people_of(unit, wanted)
    wanted = replace(wanted, seconds=_SECONDS)
    path = _files(scope).prepared(scope.workspace_id, f"{payload['task_id']}.{asked.kind}")
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    partly = path.with_suffix(".part")
    written = 0

    def said(rows: int) -> None:
        nonlocal written
        written += rows
        progress.say(min(written, total), max(total, 1))

    try:
        # Closed here, so that whoever stops it leaves no query open.
        pieces: Any = cells_of(scope, wanted) if asked.kind == "xlsx" else lines_of(scope, wanted)
        with partly.open("wb") as file, closing(pieces):
            if asked.kind == "xlsx":
                write_workbook(file, _told(pieces, said, lambda _row: 1))
            else:
                told = _told(pieces, said, lambda piece: piece.count("\n"))
                file.writelines(piece.encode() for piece in told)
            file.flush()
            os.fsync(file.fileno())
            size = file.tell()
        os.replace(partly, path)
    finally:
        partly.unlink(missing_ok=True)
    file_name = f"{slug_from_name(name)}.{asked.kind}"
    message = f"{file_name} has {_size(size)}, and can be taken for a day."
    return {"message": message, "file": file_name, "kind": asked.kind}


def _told(pieces: Iterator[T], said: Callable[[int], None], rows: Callable[[T], int]) -> Iterator[T]:
    """The same pieces; every so many rows it is said how many there were."""
    waiting = 0
    for piece in pieces:
        yield piece
        waiting += rows(piece)
        if waiting >= _STEP:
            said(waiting)
            waiting = 0
    said(waiting)


def _size(number: int) -> str:
    return f"{number / 1_000_000:.1f} MB" if number >= 100_000 else f"{max(number / 1_000, 0.1):.1f} kB"


def _files(scope: Scope) -> FileStore:
    if scope.store.files is None:
        raise NotFound("There is no place for files.")
    return scope.store.files


def open_prepared(scope: Scope, files: FileStore, task_id: int) -> PreparedFile:
    """The file that a task has written. Raises NotFound where there is none, or not any more."""
    scope.need("editor")
    task = read_task(scope, task_id)
    if task.kind != KIND or task.state != "done":
        raise NotFound("There is no such file.")
    path = files.prepared(scope.workspace_id, f"{task_id}.{task.result['kind']}")
    if not path.exists():
        raise NotFound("The file was kept for a day, and is gone. Have it prepared again.")
    return PreparedFile(path, str(task.result["file"]), str(task.result["kind"]))


def sweep_prepared(scope: Scope, files: FileStore | None) -> int:
    """Remove the files that were prepared more than a day ago; gives how many."""
    return files.forget_prepared(scope.workspace_id, scope.clock().timestamp() - _KEPT) if files is not None else 0
