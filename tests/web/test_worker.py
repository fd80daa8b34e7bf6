"""The worker: its tasks run, and run twice without harm."""

import re
import subprocess
import sys
import unittest
from datetime import timedelta
from pathlib import Path

import finesieve
from finesieve.core.errors import NotFound
from finesieve.jobs.worker import make_worker
from finesieve.services.accounts.staff import StaffAccounts
from finesieve.services.define.deletion import delete_field, restore_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.retyping import begin_type_change
from finesieve.services.kernel.tasks import read_task
from tests.support.database import database_url, store
from tests.support.house import NOW, PASSWORD, make_house
from tests.support.work import later


class Works(unittest.TestCase):
    def test_every_kind_is_known_to_the_worker(self) -> None:
        """Whatever is begun as long work, a worker that has loaded nothing but itself can do it."""
        root = Path(finesieve.__file__).parent
        declared = {
            kind for path in root.rglob("*.py") for kind in re.findall(r'@work_of\("(\w+)"\)', path.read_text())
        }
        self.assertGreater(len(declared), 7)
        ask = "import finesieve.jobs.worker, finesieve.services.kernel.tasks as tasks; print(*tasks.known_kinds())"
        known = subprocess.run([sys.executable, "-c", ask], capture_output=True, text=True, check=True).stdout.split()
        self.assertEqual(declared - set(known), set())


class Worker(unittest.TestCase):
    def test_sessions_that_ran_out_are_swept(self) -> None:
        """The task removes what ran out and leaves what did not, however often it runs."""
        house = make_house(fields=False)
        old = StaffAccounts(store(), lambda: NOW - timedelta(days=30_000), fast_hashes=True)
        new = StaffAccounts(store(), lambda: NOW + timedelta(days=30_000), fast_hashes=True)
        ended, kept = old.sign_in(house.email, PASSWORD).token, new.sign_in(house.email, PASSWORD).token
        self.assertIsNotNone(old.who(ended))
        for number in range(2):
            with make_worker(database_url(), store()).open() as queue:
                queue.configure_task("finesieve.jobs.worker.sweep_sessions").defer(timestamp=number)
            make_worker(database_url(), store()).run_worker(
                wait=False, install_signal_handlers=False, listen_notify=False
            )
        self.assertIsNone(old.who(ended))
        self.assertIsNotNone(new.who(kept))

    def test_long_work_is_taken_up(self) -> None:
        """What somebody has begun is in the queue once its transaction is committed, and is done by the worker."""
        house = make_house()
        house.add(favourite="12")
        field_id = house.field_id("favourite")
        task_id = begin_type_change(house.scope, field_id, "number", "", "", {})
        self.assertEqual(read_task(house.scope, task_id).state, "waiting")
        make_worker(database_url(), store()).run_worker(wait=False, install_signal_handlers=False, listen_notify=False)
        self.assertEqual(read_task(house.scope, task_id).state, "done")
        self.assertEqual(read_catalogue(house.scope).by_id[field_id].type_key, "number")

    def test_the_daily_and_the_minutely(self) -> None:
        """House values that are due are written, and what was deleted long ago goes, run twice without harm."""
        house = make_house()
        lost = house.field_id("favourite")
        delete_field(later(house, NOW - timedelta(days=400)).scope, lost, "Favourite")
        for number in range(2):
            with make_worker(database_url(), store()).open() as queue:
                for name in ("tidy_up", "write_house_values"):
                    queue.configure_task(f"finesieve.jobs.worker.{name}").defer(timestamp=number)
            make_worker(database_url(), store()).run_worker(
                wait=False, install_signal_handlers=False, listen_notify=False
            )
        with self.assertRaises(NotFound):
            restore_field(house.scope, lost)
