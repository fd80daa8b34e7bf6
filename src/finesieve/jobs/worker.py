"""The worker: what has to happen without anybody asking."""

import logging
from typing import Final

from procrastinate import App, PsycopgConnector

from finesieve.services.accounts import StaffAccounts
from finesieve.services.scope import utc_now
from finesieve.store.database import Store

__all__ = ["make_worker"]

_log: Final = logging.getLogger("finesieve.jobs")


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

    @app.periodic(cron="*/10 * * * *")
    @app.task(queueing_lock="rescue_stalled", pass_context=True)
    async def rescue_stalled(context: object, timestamp: int) -> int:
        """Take up again what a killed worker had begun."""
        stalled = list(await app.job_manager.get_stalled_jobs())
        for job in stalled:
            await app.job_manager.retry_job(job)
        return len(stalled)

    return app
