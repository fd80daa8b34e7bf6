"""Exports that a worker prepares: the same as those taken at once, with progress, stopped, killed, gone after a day."""

import io
import tempfile
import unittest
from datetime import timedelta
from decimal import Decimal
from pathlib import Path
from unittest.mock import patch
from zipfile import ZipFile

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.services.kernel.tasks import Progress, TaskLine, read_task, run_task, stop_task
from finesieve.services.sift import prepared
from finesieve.services.sift.export import ExportInput, export_segment, workbook_of_segment
from finesieve.services.sift.prepared import open_prepared, prepare_export, sweep_prepared
from finesieve.services.sift.segments import keep_as_segment
from finesieve.store.connection.database import Store
from finesieve.store.files.keeping import FileStore
from tests.support.database import store
from tests.support.house import NOW, make_house
from tests.support.work import later


def sheet(data: bytes) -> str:
    """What stands in a workbook, without the moment at which it was made."""
    with ZipFile(io.BytesIO(data)) as book:
        return book.read("xl/worksheets/sheet1.xml").decode()


class Prepared(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        for number in range(12):
            self.house.add(
                first_name=f"=Ann {number}", plot_length=Decimal(number), zone="north" if number % 2 else None
            )
        self.segment = keep_as_segment(self.scope, "Long plots", "plot_length >= 2")
        self.root = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.files = FileStore(self.root)
        self.enterContext(patch.object(prepared, "_STEP", 3))

    def written(self, task: int) -> TaskLine:
        run_task(Store(store().engine, self.files), self.scope.workspace_id, task, lambda: NOW)
        return read_task(self.scope, task)

    def bytes_of(self, task: int) -> bytes:
        return open_prepared(self.scope, self.files, task).path.read_bytes()

    def there(self) -> list[str]:
        return sorted(one.name for one in self.root.rglob("*") if one.is_file())

    def test_the_same_as_taken_at_once(self) -> None:
        for kind in ("csv", "jsonl", "xlsx"):
            asked = ExportInput(kind=kind, columns=("first_name", "plot_length"), sample=0)
            line = self.written(prepare_export(self.scope, self.segment, asked))
            self.assertEqual((line.state, line.percent, line.done), ("done", 100, 10), line.message)
            self.assertIn(f"long-plots.{kind} has", line.message)
            self.assertEqual(open_prepared(self.scope, self.files, line.id).name, f"long-plots.{kind}")
            found = self.bytes_of(line.id)
            if kind == "xlsx":
                self.assertEqual(sheet(found), sheet(workbook_of_segment(self.scope, self.segment, asked)[1]))
                self.assertIn("Ann 11", sheet(found))
            else:
                self.assertEqual(found.decode(), "".join(export_segment(self.scope, self.segment, asked)[1]))
                self.assertIn("Ann 11", found.decode())
        self.assertEqual(len(self.there()), 3)

    def test_says_how_far_it_is_and_is_stopped(self) -> None:
        """What was written until then is gone, and there is nothing to take."""
        said: list[tuple[int, int]] = []
        real = Progress.say

        def say(progress: Progress, done: int, total: int) -> None:
            said.append((done, total))
            if done >= 6:
                stop_task(self.scope, task)
            real(progress, done, total)

        for kind in ("jsonl", "xlsx"):
            said.clear()
            task = prepare_export(self.scope, self.segment, ExportInput(kind=kind))
            with patch.object(Progress, "say", say):
                self.assertEqual(self.written(task).state, "stopped")
            self.assertEqual(said, [(3, 10), (6, 10)])
            self.assertEqual(self.there(), [])
            with self.assertRaises(NotFound):
                open_prepared(self.scope, self.files, task)

    def test_killed_and_written_anew(self) -> None:
        class Killed(BaseException):
            pass

        task = prepare_export(self.scope, self.segment, ExportInput(kind="jsonl"))
        with patch.object(Progress, "say", side_effect=Killed), self.assertRaises(Killed):
            self.written(task)
        self.assertEqual(self.written(task).state, "done")
        self.assertEqual(self.bytes_of(task).count(b"\n"), 10)

    def test_gone_after_a_day(self) -> None:
        line = self.written(prepare_export(self.scope, self.segment, ExportInput()))
        tomorrow = later(self.house, NOW + timedelta(days=400)).scope
        self.assertEqual(sweep_prepared(self.house.scope, self.files), 0)
        self.assertEqual(sweep_prepared(tomorrow, self.files), 1)
        with self.assertRaisesRegex(NotFound, "prepared again"):
            open_prepared(self.scope, self.files, line.id)

    def test_who_may(self) -> None:
        line = self.written(prepare_export(self.scope, self.segment, ExportInput()))
        for role in ("reader", "clerk"):
            with self.assertRaises(NotAllowed):
                prepare_export(self.house.as_role(role), self.segment, ExportInput())
            with self.assertRaises(NotAllowed):
                open_prepared(self.house.as_role(role), self.files, line.id)
        with self.assertRaises(NotFound):
            open_prepared(make_house().scope, self.files, line.id)
        with self.assertRaises(NotFound):
            prepare_export(make_house().scope, self.segment, ExportInput())

    def test_asked_for_twice(self) -> None:
        first, second = (prepare_export(self.scope, self.segment, ExportInput()) for _ in range(2))
        self.assertEqual(first, second, "a double click begins one")
        self.assertNotEqual(prepare_export(self.scope, self.segment, ExportInput(kind="xlsx")), first)
        self.written(first)
        self.assertNotEqual(prepare_export(self.scope, self.segment, ExportInput()), first)

    def test_more_than_a_workbook_holds(self) -> None:
        with patch.object(prepared, "_MOST_ROWS", 9):
            with self.assertRaisesRegex(InvalidInput, "9 people at the most"):
                prepare_export(self.scope, self.segment, ExportInput(kind="xlsx"))
            self.assertTrue(prepare_export(self.scope, self.segment, ExportInput(kind="xlsx", sample=9)))

    def test_names_of_files(self) -> None:
        for name in ("../secret", ".hidden", "A B", "x/y", ""):
            with self.assertRaises(ValueError):
                self.files.prepared(1, name)


if __name__ == "__main__":
    unittest.main()
