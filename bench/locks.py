"""How long others wait for their own write while long work goes over everybody: at most a second."""

import threading
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import timedelta

from finesieve.services.define.deletion import begin_purge, delete_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.moving import begin_move
from finesieve.services.define.retyping import begin_type_change
from finesieve.services.define.tagging import take_tag_off
from finesieve.services.kernel.changes import undo_change
from finesieve.services.kernel.scope import Scope
from finesieve.services.kernel.tasks import TaskLine, list_tasks, read_task, run_task
from finesieve.services.people.listing import list_people
from finesieve.services.people.profiles import set_values

__all__ = ["long_work"]

MOST_SECONDS = 1.0


def long_work(scope: Scope) -> bool:
    """All that goes over everybody, while somebody corrects one person's name again and again."""
    catalogue = read_catalogue(scope)
    number, group = catalogue.by_key["plot_length"].id, catalogue.by_key["plot_length"].group_id
    house = next(field for field in catalogue.stored_about("house") if field.type_key == "number")
    kept = [_beside(scope, "a change of type", lambda: begin_type_change(scope, number, "short_text", "", "", {}))]
    change = _last_task(scope).result["change"]
    kept.append(_beside(scope, "its undo", lambda: undo_change(scope, change).task))
    kept.append(_beside(scope, "a tag removed from everyone", lambda: take_tag_off(scope, "open day 2026").task))
    kept.append(_beside(scope, "a house value moved to everybody", lambda: begin_move(scope, house.id, group)))
    moved = _last_task(scope).result["field_id"]
    delete_field(scope, moved, house.label)
    later = replace(scope, clock=lambda: scope.clock() + timedelta(days=91))
    kept.append(_beside(later, "the purge of that field", lambda: begin_purge(later)))
    return all(kept)


def _last_task(scope: Scope) -> TaskLine:
    return list_tasks(scope, 1)[0]


def _beside(scope: Scope, what: str, begin: Callable[[], int]) -> bool:
    person = list_people(scope, limit=1).lines[0].id
    over, waits = threading.Event(), [0.0]

    def write() -> None:
        turn = 0
        while not over.is_set():
            turn += 1
            started = time.perf_counter()
            set_values(scope, person, {"first_name": f"Wren {turn}"})
            waits.append(time.perf_counter() - started)

    writer = threading.Thread(target=write)
    task = begin()
    started = time.perf_counter()
    writer.start()
    state = run_task(scope.store, scope.workspace_id, task, scope.clock)
    took = time.perf_counter() - started
    over.set()
    writer.join()
    kept = state == "done" and max(waits) <= MOST_SECONDS
    people = f"{read_task(scope, task).total:,}"
    verdict = "kept" if kept else "BROKEN"
    print(f"{what} over {people} people: {took:.0f} s, others wait {max(waits):.2f} s at most (1 s) {verdict}")
    return kept
