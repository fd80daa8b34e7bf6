"""Long work: begun by somebody, done by a worker, followed on a page, stopped on request."""

import logging
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Final

from sqlmodel import col, select

from finesieve.core.errors import FineSieveError, NotFound, TookTooLong, Unavailable
from finesieve.services.kernel.scope import Clock, Scope, Unit, utc_now
from finesieve.store.connection.database import Store
from finesieve.store.connection.queue import enqueue
from finesieve.store.tables import Task

__all__ = [
    "RUN_TASK",
    "Progress",
    "Stopped",
    "TaskLine",
    "begin_task",
    "known_kinds",
    "list_tasks",
    "read_task",
    "run_task",
    "stop_task",
    "work_of",
]

_log: Final = logging.getLogger("finesieve.tasks")
RUN_TASK: Final = "run_task"


STOPPED: Final = "It was stopped; nothing has changed."
_BROKEN_OFF: Final = "Something went wrong here; nothing has changed."


class Stopped(FineSieveError):
    """Somebody stopped the task; what it had done is to be taken back by whoever catches this.

    Where that cannot be, they raise it again with a sentence that says what has been done.
    """


@dataclass(frozen=True, slots=True)
class TaskLine:
    """A task as a page follows it. `percent` is 0–100."""

    id: int
    kind: str
    title: str
    state: str
    done: int
    total: int
    message: str
    result: dict[str, Any]

    @property
    def percent(self) -> int:
        return 100 if self.state == "done" else 100 * self.done // self.total if self.total else 0

    @property
    def over(self) -> bool:
        return self.state in ("done", "failed", "stopped")


class Progress:
    """How a running task says how far it has come, and learns that it was stopped."""

    def __init__(self, scope: Scope, task_id: int) -> None:
        self._scope = scope
        self._task_id = task_id
        self.said = (0, 1)
        """What was said last: done, and of how much."""

    def say(self, done: int, total: int) -> None:
        """Note progress, apart from the task's own transactions. Raises Stopped."""
        self.said = (done, total)
        with self._scope.separate("clerk") as unit:
            row = unit.session.get(Task, self._task_id, with_for_update=True)
            if row is None or row.state == "stopped":
                raise Stopped(STOPPED)
            row.done, row.total = done, total
            unit.session.add(row)

    def keep(self, unit: Unit, **parts: Any) -> None:
        """Keep something with the task in this transaction, for the worker that takes it up should this one die."""
        row = unit.session.get(Task, self._task_id, with_for_update=True)
        if row is None or row.state == "stopped":
            raise Stopped(STOPPED)
        row.payload = {**row.payload, **parts}
        unit.session.add(row)


Work = Callable[[Scope, dict[str, Any], Progress], dict[str, Any]]
"""A kind of work: does it, says its progress, gives its result."""
_KINDS: Final[dict[str, Work]] = {}


def work_of(kind: str) -> Callable[[Work], Work]:
    """Declare a function as the work of a kind of task. Run twice, it must not do harm."""

    def keep(work: Work) -> Work:
        _KINDS[kind] = work
        return work

    return keep


def known_kinds() -> frozenset[str]:
    """The kinds of work that this process can do."""
    return frozenset(_KINDS)


def begin_task(unit: Unit, kind: str, title: str, payload: dict[str, Any], total: int = 0) -> int:
    """Have a worker do something once this transaction is committed; gives the task's id."""
    row = Task(
        workspace_id=unit.workspace_id,
        kind=kind,
        title=title,
        payload=payload,
        total=total,
        actor=unit.actor,
        started_at=unit.moment.now,
    )
    unit.session.add(row)
    unit.session.flush()
    enqueue(unit.session, RUN_TASK, workspace_id=unit.workspace_id, task_id=row.id or 0)
    return row.id or 0


def _line(row: Task) -> TaskLine:
    return TaskLine(row.id or 0, row.kind, row.title, row.state, row.done, row.total, row.message, row.result)


def read_task(scope: Scope, task_id: int) -> TaskLine:
    """How far a task has come. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = unit.session.get(Task, task_id)
        if row is None:
            raise NotFound("There is no such task.")
        return _line(row)


def list_tasks(scope: Scope, limit: int = 20) -> tuple[TaskLine, ...]:
    """The latest tasks, newest first."""
    with scope.reading("reader") as unit:
        rows = unit.session.exec(select(Task).order_by(col(Task.id).desc()).limit(limit)).all()
        return tuple(_line(row) for row in rows)


def stop_task(scope: Scope, task_id: int) -> None:
    """Stop a task that is not over. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = unit.session.get(Task, task_id, with_for_update=True)
        if row is None:
            raise NotFound("There is no such task.")
        if row.state in ("waiting", "running"):
            row.state, row.message = "stopped", STOPPED
            unit.session.add(row)


def run_task(store: Store, workspace_id: int, task_id: int, clock: Clock = utc_now) -> str:
    """Do a task that waits, or one whose worker died; gives its state afterwards. Run twice, it is done once."""
    keeper = Scope(store, workspace_id, "the product", "owner", clock)
    with keeper.transaction("owner") as unit:
        row = unit.session.get(Task, task_id, with_for_update=True)
        if row is None or row.state not in ("waiting", "running"):
            return row.state if row else "gone"
        row.state = "running"
        unit.session.add(row)
        kind, payload, actor = row.kind, dict(row.payload), row.actor
    scope = Scope(store, workspace_id, actor, "owner", clock)
    result: dict[str, Any] = {}
    try:
        result = _KINDS[kind](scope, payload | {"task_id": task_id}, Progress(scope, task_id))
        state, message = "done", str(result.get("message", ""))
    except Stopped as stopped:
        state, message = "stopped", str(stopped)
    except TookTooLong as problem:
        state, message = "failed", str(problem)
    except Unavailable:
        raise  # the database is away: the task stays as it is, and is taken up again
    except FineSieveError as problem:
        state, message = "failed", str(problem)
    except Exception:
        _log.exception("task %d failed", task_id)
        state, message = "failed", _BROKEN_OFF
    with keeper.transaction("owner") as unit:
        row = unit.session.get(Task, task_id, with_for_update=True)
        assert row is not None
        if message == _BROKEN_OFF and row.done:
            message = f"Something went wrong after {row.done} of {row.total}; what was done by then stays."
        row.state, row.message, row.result = state, message, result
        row.done = row.total if state == "done" else row.done
        unit.session.add(row)
    return state
