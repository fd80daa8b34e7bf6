"""The command `finesieve`: trying formulas, adding staff."""

import json
import os
import tempfile
import unittest
from pathlib import Path
from typing import Any

from click.testing import Result
from typer.testing import CliRunner

from finesieve.cli import cli
from finesieve.services.accounts.staff import StaffAccounts
from finesieve.services.kernel.scope import utc_now
from tests.support.database import database_url, store

FIELDS = {
    "plot_length": {"type": "number"},
    "zone": {"type": "choice", "options": ["north", "south"]},
    "born": {"type": "date"},
    "seen": {"type": "datetime"},
    "crops": {"type": "choices", "options": ["beans", "kale"]},
}
VALUES = {
    "plot_length": "6.50",
    "zone": "north",
    "born": "2000-02-29",
    "seen": "2026-11-24T23:30:00Z",
    "crops": ["kale"],
}


def run(*words: str, given: str = "") -> Result:
    """The command, in this process."""
    return CliRunner().invoke(cli, words, input=given, env={"FINESIEVE_DATABASE_URL": database_url()})


class Evaluating(unittest.TestCase):
    def setUp(self) -> None:
        directory = tempfile.TemporaryDirectory()
        self.addCleanup(directory.cleanup)
        self.fields, self.values = Path(directory.name) / "fields.json", Path(directory.name) / "values.json"
        self.fields.write_text(json.dumps(FIELDS))
        self.values.write_text(json.dumps(VALUES))

    def evaluate(self, expression: str, *options: str) -> tuple[int, Any]:
        done = run("eval", "--fields", str(self.fields), "--values", str(self.values), *options, "--", expression)
        return done.exit_code, json.loads(done.stdout) if done.stdout else done.stderr

    def test_explained(self) -> None:
        """Every part with its text, value and whether it decided; what SQL works out is not explained."""
        code, found = self.evaluate("plot_length > 100 or zone = 'north'", "--explain")
        self.assertEqual((code, found["value"]), (0, True))
        parts = [(part["text"], part["value"], part["decided"]) for part in found["explain"]["parts"]]
        self.assertEqual(parts, [("plot_length > 100", False, False), ("zone = 'north'", True, True)])
        self.assertEqual(self.evaluate("1 + 1", "--explain", "--backend", "sql")[0], 2)

    def test_values_and_their_types(self) -> None:
        """One JSON object: numbers as strings, blank as null, dates in ISO; the same from both back ends."""
        for expression, kind, value in (
            ("plot_length / 3", "number", "2.1666666667"),
            ("zone", "choice", "north"),
            ("age(born)", "number", "26"),
            ("born + 1", "date", "2000-03-01"),
            ("plot_length > 6 and zone = 'north'", "yes_no", True),
            ("plot_length / 0", "number", None),
            ("crops", "choices", ["kale"]),
        ):
            for backend in ("python", "sql"):
                with self.subTest(expression=expression, backend=backend):
                    result = self.evaluate(expression, "--now", "2026-11-25T10:00:00Z", "--backend", backend)
                    self.assertEqual(result, (0, {"type": kind, "value": value}))

    def test_the_zone_decides_the_day(self) -> None:
        """Just before midnight in one zone is the next day in another, in both back ends."""
        for backend in ("python", "sql"):
            for zone, days in (("UTC", "0"), ("Asia/Tokyo", "1")):
                options = ("--now", "2026-11-24T23:45:00Z", "--zone", zone, "--backend", backend)
                self.assertEqual(
                    self.evaluate('today() - "2026-11-24"', *options), (0, {"type": "number", "value": days})
                )
                code, result = self.evaluate("seen", *options)
                self.assertEqual((code, result["type"]), (0, "datetime"))
                self.assertTrue(result["value"].startswith("2026-11-24T23:30" if zone == "UTC" else "2026-11-25T08:30"))

    def test_cases(self) -> None:
        """One result a line, in order, in both back ends; records and house values in reach; entry is composed and single."""
        plots = {"plots": {"fields": {"area": {"type": "number"}}, "of": [{"area": "30"}, {"area": "2.5"}, {}]}}
        house = {"fields": {"rate": {"type": "money"}}, "values": {"rate": "4"}}
        crops = {"fields": {"crops": {"type": "choices", "options": ["beans", "kale"]}, "name": {"type": "text"}}}
        given = {**crops, "values": {"crops": ["kale", "kale"], "name": "e\u0301"}, "records": plots, "house": house}
        lines = [
            {"expression": "sum(plots.area where area > 3) * house.rate", **given},
            {"expression": "count(crops)", **given},
            {"expression": "length(name)", **given},
            {"expression": 'any(plots where name = "é")', **given},
            {"expression": "nobody + 1"},
            {"expression": 'today() - "2026-11-24"', "now": "2026-11-24T23:45:00Z", "zone": "Asia/Tokyo"},
            {"expression": "today()", "now": "9999-12-31T23:45:00Z", "zone": "Asia/Tokyo"},
            {"expression": "date(at)", "fields": {"at": {"type": "datetime"}}, "values": {"at": "9999-12-31T23:45:00Z"}, "zone": "Asia/Tokyo"},
            {"expression": 'at > "0001-01-01T00:00"', "fields": {"at": {"type": "datetime"}}, "zone": "Asia/Tokyo"},
            {"expression": '"a\x00b" = "c"'},
            {"expression": 'length("\ud800")'},
            {"expression": "1", "zone": "Nowhere/Else"},
            {"expression": "1", "fields": {"a": {"type": "text"}}, "values": {"a": "\x00"}},
        ]  # fmt: skip
        cases = self.fields.with_name("cases.jsonl")
        cases.write_text("\n".join(json.dumps(line) for line in lines) + "\nnot JSON\n")
        shown = []
        for backend in ("python", "sql"):
            done = run("eval", "--cases", str(cases), "--backend", backend)
            self.assertEqual(done.exit_code, 2, done.output)
            shown.append([json.loads(line) for line in done.stdout.splitlines()])
        self.assertEqual(shown[0], shown[1])
        found = [
            one.get("value", [problem["code"] for problem in one.get("problems", [])] or "error") for one in shown[0]
        ]
        wanted = [
            "120",
            "1",
            "1",
            True,
            ["unknown-field"],
            "1",
            "9999-12-31",
            None,
            ["bad-literal"],
            ["syntax"],
            ["syntax"],
        ]
        self.assertEqual(found, [*wanted, "error", "error", "error"])

    def test_problems(self) -> None:
        code, result = self.evaluate("plot_lenght > 1 and zone = 'nort'")
        self.assertEqual(code, 1)
        self.assertEqual([problem["code"] for problem in result["problems"]], ["unknown-field", "unknown-option"])
        self.assertEqual(set(result["problems"][0]), {"code", "start", "end", "message", "hint"})

    def test_misuse(self) -> None:
        """What is not a matter of the expression exits 2 and says why."""
        for change in (
            lambda: self.values.write_text("{"), lambda: self.values.write_text('{"unheard_of": 1}'),
            lambda: self.values.write_text('{"plot_length": 0.5}'), lambda: self.fields.write_text('{"a": {"type": "nonsense"}}'),
            lambda: self.fields.write_text("[]"), lambda: self.fields.write_text('{"and": {"type": "text"}}'), lambda: self.fields.unlink(),
        ):  # fmt: skip
            self.setUp()
            change()
            code, words = self.evaluate("1")
            self.assertEqual(code, 2)
            self.assertTrue(words)
        self.setUp()
        for options in (("--now", "soon"), ("--zone", "Nowhere/Else"), ("--backend", "abacus")):
            self.assertEqual(self.evaluate("1", *options)[0], 2)
        self.assertEqual(run("eval").exit_code, 2)


class Staff(unittest.TestCase):
    def test_adding_staff(self) -> None:
        email = f"clerk{os.getpid()}@brackenfold.example"
        self.assertEqual(run("add-staff", email, "Corin Yeo", given="short\n").exit_code, 2)
        self.assertEqual(run("add-staff", email, "Corin Yeo", given="long enough\n").exit_code, 0)
        self.assertEqual(run("add-staff", email, "Corin Yeo", given="long enough\n").exit_code, 2)
        self.assertTrue(StaffAccounts(store(), utc_now).sign_in(email, "long enough"))

    def test_migrating_twice_does_no_harm(self) -> None:
        self.assertEqual(run("migrate").exit_code, 0)
