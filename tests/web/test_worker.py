"""The worker: its tasks run, and run twice without harm."""

import unittest
from datetime import timedelta

from finesieve.jobs.worker import make_worker
from finesieve.services.accounts import StaffAccounts
from tests.support.database import database_url, store
from tests.support.house import NOW, PASSWORD, make_house


class Worker(unittest.TestCase):
    def test_sessions_that_ran_out_are_swept(self) -> None:
        """The task removes what ran out and leaves what did not, however often it runs."""
        house = make_house(fields=False)
        old = StaffAccounts(store(), lambda: NOW - timedelta(days=30_000), fast_hashes=True)
        new = StaffAccounts(store(), lambda: NOW + timedelta(days=30_000), fast_hashes=True)
        ended, kept = old.sign_in(house.email, PASSWORD), new.sign_in(house.email, PASSWORD)
        self.assertIsNotNone(old.who(ended))
        for number in range(2):
            with make_worker(database_url(), store()).open() as queue:
                queue.configure_task("finesieve.jobs.worker.sweep_sessions").defer(timestamp=number)
            make_worker(database_url(), store()).run_worker(
                wait=False, install_signal_handlers=False, listen_notify=False
            )
        self.assertIsNone(old.who(ended))
        self.assertIsNotNone(new.who(kept))
