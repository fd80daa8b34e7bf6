"""Long work in a test: done here and now, as the worker would."""

from datetime import datetime

from finesieve.services.kernel.changes import undo_change
from finesieve.services.kernel.tasks import TaskLine, read_task, run_task
from tests.support.database import store
from tests.support.house import NOW, House


def done(house: House, task_id: int, now: datetime = NOW) -> TaskLine:
    """The task after a worker has done it."""
    run_task(store(), house.scope.workspace_id, task_id, lambda: now)
    return read_task(house.scope, task_id)


def later(house: House, now: datetime) -> House:
    """The same house with its clock at another moment."""
    from dataclasses import replace

    return replace(house, scope=replace(house.scope, clock=lambda: now))


def undone(house: House, change_id: int, *, again: bool = False) -> TaskLine:
    """The task that takes a long change back, after a worker has done it."""
    return done(house, undo_change(house.scope, change_id, again=again).task)
