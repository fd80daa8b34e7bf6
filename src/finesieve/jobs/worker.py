"""The worker: what has to happen without anybody asking."""

import logging
from typing import Final

from procrastinate import App, PsycopgConnector
from sqlmodel import select

from finesieve.services import families, mapping, moving, reshape
from finesieve.services.accounts import StaffAccounts
from finesieve.services.deletion import purge_deleted
from finesieve.services.files import sweep_uploads
from finesieve.services.house import apply_due
from finesieve.services.labels import sweep_tags
from finesieve.services.scope import Scope, utc_now
from finesieve.services.tasks import RUN_TASK, run_task
from finesieve.store.database import Store
from finesieve.store.tables import Workspace

__all__ = ["make_worker"]

_log: Final = logging.getLogger("finesieve.jobs")


# What can be begun as long work declares itself when it is imported.
_WORKS: Final = (families, mapping, moving, reshape)


def every_workspace(store: Store) -> list[Scope]:
    """A scope of the product itself in each workspace."""
    with store.transaction() as session:
        ids = session.exec(select(Workspace.id)).all()
    return [Scope(store, workspace_id or 0, "the product", "owner") for workspace_id in ids]


def make_worker(database_url: str, store: Store) -> App:
    """The queue, on its own connections, with tasks that work on `store`. Each may run twice without harm."""
    app = App(connector=PsycopgConnector(conninfo=database_url))
    accounts = StaffAccounts(store, utc_now)

    @app.periodic(cron="17 * * * *")
    @app.task(queueing_lock="sweep_sessions", pass_context=False)
    def sweep_sessions(timestamp: int) -> int:
        """Remove the staff sessions that have run out."""
        removed = accounts.sweep_sessions()
        _log.info("swept %d sessions", removed)
        return removed

    @app.task(name=RUN_TASK, pass_context=False)
    def run(workspace_id: int, task_id: int) -> str:
        """Long work that somebody has begun."""
        state = run_task(store, workspace_id, task_id)
        _log.info("task %d of workspace %d: %s", task_id, workspace_id, state)
        return state

    @app.periodic(cron="* * * * *")
    @app.task(queueing_lock="house_values", pass_context=False)
    def write_house_values(timestamp: int) -> int:
        """Write house values that have taken effect into their place; reading does not wait for it."""
        return apply_due(store, utc_now)

    @app.periodic(cron="5 3 * * *")
    @app.task(queueing_lock="daily", pass_context=False)
    def tidy_up(timestamp: int) -> int:
        """What ends by the day: tags, fields deleted long ago, uploads never kept."""
        return sweep_tags(store, utc_now) + sum(
            purge_deleted(scope) + sweep_uploads(scope, store.files) for scope in every_workspace(store)
        )

    @app.periodic(cron="*/10 * * * *")
    @app.task(queueing_lock="rescue_stalled", pass_context=True)
    async def rescue_stalled(context: object, timestamp: int) -> int:
        """Take up again what a killed worker had begun."""
        stalled = list(await app.job_manager.get_stalled_jobs())
        for job in stalled:
            await app.job_manager.retry_job(job)
        return len(stalled)

    return app
