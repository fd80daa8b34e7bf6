"""The worker: what has to happen without anybody asking."""

import asyncio
import logging
from contextlib import suppress
from typing import Final

import psycopg
from procrastinate import App, PsycopgConnector, RetryStrategy
from procrastinate.exceptions import ProcrastinateException
from sqlmodel import select

from finesieve.core.errors import Unavailable
from finesieve.services.accounts.staff import StaffAccounts
from finesieve.services.chat.timing import let_time_pass
from finesieve.services.commerce.carts import sweep_carts
from finesieve.services.commerce.paying import settle_all
from finesieve.services.compute import keeping
from finesieve.services.compute.keeping import check_kept, keep_up
from finesieve.services.define import deletion, gathering, joining_days, moving, retyping, tag_families, tagging
from finesieve.services.define.deletion import begin_purge
from finesieve.services.define.level_ends import let_levels_end
from finesieve.services.define.tagging import sweep_tags
from finesieve.services.filling import mapping
from finesieve.services.kernel import changes, ledger
from finesieve.services.kernel.scope import Scope, utc_now
from finesieve.services.kernel.searching import tend
from finesieve.services.kernel.tasks import RUN_TASK, run_task
from finesieve.services.people import bulk, letters
from finesieve.services.people.personal_links import sweep_links
from finesieve.services.sift import prepared
from finesieve.services.sift.over_time import note_sizes
from finesieve.services.sift.prepared import sweep_prepared
from finesieve.services.values.files import sweep_uploads
from finesieve.services.values.house import apply_due
from finesieve.settings import Settings
from finesieve.store.connection.database import Store
from finesieve.store.tables import Workspace

__all__ = ["keep_working", "make_worker"]

_log: Final = logging.getLogger("finesieve.jobs")
_WAIT: Final = 4
"""Seconds: how long the queue waits for its database before it says that it is away."""


# What can be begun as long work declares itself when it is imported.
_WORKS: Final = (
    bulk, changes, deletion, gathering, joining_days, keeping, ledger, letters, mapping, moving, prepared, retyping,
    tag_families, tagging,
)  # fmt: skip


def every_workspace(store: Store) -> list[Scope]:
    """A scope of the product itself in each workspace."""
    with store.transaction() as session:
        ids = session.exec(select(Workspace.id)).all()
    return [Scope(store, workspace_id or 0, "the product", "owner") for workspace_id in ids]


def make_worker(database_url: str, store: Store) -> App:
    """The queue, on its own connections, with tasks that work on `store`. Each may run twice without harm."""
    app = App(connector=PsycopgConnector(conninfo=database_url, timeout=_WAIT, reconnect_timeout=_WAIT))
    accounts = StaffAccounts(store, utc_now)

    @app.periodic(cron="17 * * * *")
    @app.task(queueing_lock="sweep_sessions", pass_context=False)
    def sweep_sessions(timestamp: int) -> int:
        """Remove the staff sessions that have run out."""
        removed = accounts.sweep_sessions()
        _log.info("swept %d sessions", removed)
        return removed

    again = RetryStrategy(max_attempts=20, wait=3, retry_exceptions=[Unavailable])

    @app.task(name=RUN_TASK, pass_context=False, retry=again)
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

    @app.periodic(cron="* * * * *")
    @app.task(queueing_lock="searches", pass_context=False)
    def keep_reading_quick(timestamp: int) -> int:
        """Indexes for what has become searchable, and none for what is so no more; kept fields that are out of date."""
        return sum(tend(scope) + keep_up(scope) for scope in every_workspace(store))

    @app.periodic(cron="* * * * *")
    @app.task(queueing_lock="payments", pass_context=False)
    def look_after_payments(timestamp: int) -> int:
        """Orders whose payment was approved, and whose payer never came back."""
        return sum(settle_all(scope, Settings().secret) for scope in every_workspace(store))

    @app.periodic(cron="* * * * *")
    @app.task(queueing_lock="conversations", pass_context=False)
    def let_conversations_go_on(timestamp: int) -> int:
        """Conversations whose wait has run out, or that have been silent for too long."""
        return sum(let_time_pass(scope) for scope in every_workspace(store))

    @app.periodic(cron="50 * * * *")
    @app.task(queueing_lock="sizes", pass_context=False)
    def note_sizes_of_segments(timestamp: int) -> int:
        """How many people each segment has at the end of the day."""
        return sum(note_sizes(scope, late=True) for scope in every_workspace(store))

    @app.periodic(cron="5 3 * * *")
    @app.task(queueing_lock="daily", pass_context=False)
    def tidy_up(timestamp: int) -> int:
        """What ends by the day: tags, levels, fields deleted long ago, uploads never kept, carts left behind.

        And whether what is kept of derived fields is right.
        """
        ended = sweep_tags(store, utc_now)
        for scope in every_workspace(store):
            begin_purge(scope)
            ended += let_levels_end(scope)
            ended += sweep_uploads(scope, store.files) + sweep_carts(scope) + sweep_links(scope)
            ended += sweep_prepared(scope, store.files)
            check_kept(scope)
        return ended

    return app


# Working on, whatever happens

_SIGN_OF_LIFE: Final = (
    "SELECT coalesce(max(last_heartbeat) > now() - make_interval(secs => %s), false) FROM procrastinate_workers"
)
_TIMES_SILENT: Final = 4
"""So many looks without a sign of life, and the worker counts as stuck."""

_HEARTBEAT: Final = 2
_SILENT: Final = 7
_LOOK: Final = 2
_PAUSE: Final = 2
"""Seconds: between two signs of life, until a worker counts as dead, between two looks for what the dead left, and
before the next try to reach a database that is away."""


def keep_working(database_url: str, store: Store) -> None:
    """Work until somebody asks to stop; a database that restarts, or is away for a while, is waited for."""
    asyncio.run(_keep_working(database_url, store))


async def _keep_working(database_url: str, store: Store) -> None:
    while True:
        try:
            # The queue tries again ever more seldom; so it is opened only where the database is there.
            await (await psycopg.AsyncConnection.connect(database_url, connect_timeout=_WAIT)).close()
            await _work(make_worker(database_url, store), database_url)
            return
        except (psycopg.Error, ProcrastinateException, OSError) as problem:
            _log.warning("the database is away (%s); trying again", type(problem).__name__)
            await asyncio.sleep(_PAUSE)


async def _work(app: App, database_url: str) -> None:
    """Work until asked to stop. Raises psycopg.OperationalError where the database went away meanwhile."""
    await app.open_async()
    working = asyncio.create_task(
        app.run_worker_async(
            fetch_job_polling_interval=0.5,
            update_heartbeat_interval=_HEARTBEAT,
            stalled_worker_timeout=4 * _SILENT,
        )
    )
    beside = {asyncio.create_task(_rescue(app)), asyncio.create_task(_watch(database_url))}
    await asyncio.wait({working, *beside}, return_when=asyncio.FIRST_COMPLETED)
    ended = working.done()
    for task in (working, *beside):
        task.cancel()
    # A worker that has lost its database may wait for it in ways that no cancelling ends; it is left behind.
    await asyncio.wait({working, *beside}, timeout=_WAIT)
    with suppress(TimeoutError, psycopg.Error, ProcrastinateException):
        await asyncio.wait_for(app.close_async(), _WAIT)
    if not ended:
        raise psycopg.OperationalError("the database went away")
    working.result()


async def _watch(database_url: str) -> None:
    """End where the database cannot be reached, or no worker has given a sign of life for a while."""
    silent = 0
    while silent < _TIMES_SILENT:
        await asyncio.sleep(_LOOK)
        try:
            async with await psycopg.AsyncConnection.connect(database_url, connect_timeout=_WAIT) as connection:
                found = await (await connection.execute(_SIGN_OF_LIFE, (_SILENT,))).fetchone()
        except psycopg.Error:
            return
        silent = 0 if found and found[0] else silent + 1


async def _rescue(app: App) -> None:
    """Take up again what a killed worker had begun, within some ten seconds."""
    while True:
        try:
            for job in list(await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=_SILENT)):
                await app.job_manager.retry_job(job)
        except (psycopg.Error, ProcrastinateException):
            # Another worker was first, or the database is away, which the work itself will meet.
            _log.info("a look for stalled jobs came to nothing")
        await asyncio.sleep(_LOOK)
