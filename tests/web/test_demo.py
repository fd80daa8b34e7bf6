"""The demo: loaded quickly, started by one command, stopped without a trace."""

import os
import re
import signal
import subprocess
import sys
import unittest
import urllib.request
from pathlib import Path
from unittest.mock import patch

from sqlalchemy import text
from sqlmodel import col, func, select

from finesieve.demo.crowd import crowd
from finesieve.demo.load import DEMO_SLUG, load_demo
from finesieve.demo.people import make_people
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.memberships import list_lists
from finesieve.services.filling.decisions import waiting_for
from finesieve.services.kernel.scope import Scope
from finesieve.services.people.bench import read_bench
from finesieve.services.people.listing import list_people
from finesieve.services.people.records import add_record
from finesieve.services.sift.segments import count_segment, keep_as_segment, list_segments, read_segment
from finesieve.services.upkeep.dismissing import open_findings
from finesieve.store.tables import Workspace
from tests.support.database import store
from tests.support.gardens import Garden
from tests.support.house import NOW, make_house


class Crowd(unittest.TestCase):
    def test_filled_again_and_again(self) -> None:
        """More people each time, each with an email of their own; whoever signs up next finds their place."""
        house = make_house()
        for number in range(4):
            house.add(email=f"a{number}@x.example")
        indexes = text("SELECT indexdef FROM pg_indexes WHERE tablename IN ('history', 'submission') ORDER BY 1")
        with store().transaction() as session:
            before = session.execute(indexes).all()
        self.assertEqual([crowd(house.scope, people) for people in (10, 25, 20)], [6, 15, 0])
        with store().transaction() as session:
            self.assertEqual(session.execute(indexes).all(), before)
        self.assertEqual(list_people(house.scope).everyone, 25)
        house.add(email="last@x.example")

    def test_records_come_with_their_people(self) -> None:
        """Batch by batch, each copy with its own; what is added afterwards finds a number that is free."""
        garden = Garden()
        scope, link = garden.house.scope, read_catalogue(garden.house.scope).record_types[0].main_link
        assert link is not None
        people = [garden.house.add(email=f"a{number}@x.example") for number in range(3)]
        for person in people[:2]:
            add_record(scope, garden.type, {"soil": "sand"}, {link.id: [person]})
        with patch("finesieve.demo.crowd._BATCH", 2):
            crowd(scope, 20)
        segment = keep_as_segment(scope, "With plots", "count(plots) = 1")
        self.assertEqual(count_segment(scope, segment), 14)  # six times three people and two more, two of each three
        add_record(scope, garden.type, {"soil": "clay"}, {link.id: [people[2]]})
        self.assertEqual(count_segment(scope, segment), 15)


class Loading(unittest.TestCase):
    def test_the_demo_house(self) -> None:
        """2,000 people, uneven and with gaps, and 40 who came by chat; loaded once."""
        made = load_demo(store(), lambda: NOW, fast_hashes=True)
        self.assertTrue(made)
        self.assertFalse(load_demo(store(), lambda: NOW))
        with store().transaction() as session:
            workspace = session.exec(select(Workspace.id).where(col(Workspace.slug) == DEMO_SLUG)).one()
            self.assertEqual(
                session.exec(select(func.count()).select_from(Workspace).where(col(Workspace.slug) == DEMO_SLUG)).one(),
                1,
            )
        scope = Scope(store(), workspace or 0, "A reader", "reader", lambda: NOW)
        catalogue = read_catalogue(scope)
        self.assertEqual((len(catalogue.groups), len(catalogue.stored), len(catalogue.derived)), (7, 44, 10))
        bench = read_bench(scope)
        self.assertEqual(
            (bench.people, bench.forms, bench.segments, bench.drafts, bench.broken), (2_040, 5, 12, (), ())
        )
        self.assertEqual(open_findings(scope).by_weight.get("wrong", ()), ())
        for segment in list_segments(scope):
            view = read_segment(scope, segment.id)
            assert segment.people is not None
            self.assertTrue(20 < segment.people < 1_600, segment)
            if view.name in ("Swappers, North and Hill", "Thirsty plots", "Young growers"):
                self.assertGreater(view.cant_tell, 20)
        held = waiting_for(scope, bench.waiting[0].person_id)
        self.assertEqual(len(held), 1)
        for known in list_lists(scope):
            self.assertTrue(400 < known.people < 1_600, known.name)

    def test_the_same_seed_gives_the_same_people(self) -> None:
        self.assertEqual(list(make_people(50, NOW)), list(make_people(50, NOW)))
        self.assertNotEqual(list(make_people(50, NOW)), list(make_people(50, NOW, seed=1)))
        emails = [person.values["email"] for person in make_people(2_000, NOW)]
        self.assertEqual(len(set(emails)), 2_000)


class Starting(unittest.TestCase):
    """The command itself, with a place of its own, as somebody would run it."""

    def start(self, *words: str) -> subprocess.Popen[str]:
        environment = os.environ | {"FINESIEVE_VAR": str(self.var), "PYTHONUNBUFFERED": "1"}
        process = subprocess.Popen(
            [sys.executable, "-m", "finesieve.cli", "demo", "--port", str(self.port), *words],
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, env=environment,
        )  # fmt: skip
        self.addCleanup(process.kill)
        return process

    def setUp(self) -> None:
        import socket
        import tempfile

        directory = tempfile.TemporaryDirectory(dir="/var/tmp")
        self.addCleanup(directory.cleanup)
        self.var = Path(directory.name)
        self.var.chmod(0o755)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]

    def until(self, process: subprocess.Popen[str], words: str) -> str:
        said = ""
        assert process.stdout is not None
        for line in process.stdout:
            said += line
            if words in line:
                return said
        self.fail(f"“{words}” was never said:\n{said}")

    def answers(self, path: str) -> str:
        with urllib.request.urlopen(f"http://127.0.0.1:{self.port}{path}", timeout=5) as answer:
            return str(answer.read().decode())

    def stop(self, process: subprocess.Popen[str], how: signal.Signals) -> None:
        process.send_signal(how)
        self.assertEqual(process.wait(20), 0)
        assert process.stdout is not None
        self.assertIn("Stopped.", process.stdout.read())
        process.stdout.close()
        left = subprocess.run(["pgrep", "-f", str(self.var)], capture_output=True, text=True, check=False)
        self.assertEqual(left.stdout, "")

    def test_start_stop_and_start_again(self) -> None:
        """One address is printed; Ctrl-C stops all it started; the second start loads nothing and keeps the data."""
        first = self.start()
        said = self.until(first, "Fine Sieve is at")
        self.assertEqual(len(re.findall(r"http://", said)), 1)
        self.assertIn("2,000 made-up people", said)
        self.assertIn("ready", self.answers("/healthz"))
        self.assertIn("Enter the demo", self.answers("/sign-in"))
        secret = (self.var / "secret").read_text()
        self.stop(first, signal.SIGINT)

        second = self.start()
        said = self.until(second, "Fine Sieve is at")
        self.assertNotIn("is loaded", said)
        self.assertEqual((self.var / "secret").read_text(), secret)
        third = self.start()
        self.until(third, "--port")
        self.assertNotEqual(third.wait(20), 0)
        assert third.stdout is not None
        third.stdout.close()
        self.assertIn("ready", self.answers("/healthz"))
        self.stop(second, signal.SIGTERM)
