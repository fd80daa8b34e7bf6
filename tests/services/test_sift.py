"""Segments, trays, export; the bench; finding; staff accounts."""

import csv
import io
import json
import threading
import time
import unittest
import zipfile
from concurrent.futures import ThreadPoolExecutor
from datetime import date, timedelta
from decimal import Decimal
from unittest.mock import patch

from pwdlib.hashers.argon2 import Argon2Hasher

from finesieve.core.errors import Conflict, InvalidExpression, InvalidInput, NotAllowed, NotFound, TooOften
from finesieve.core.language.sentence import Clause, Sentence
from finesieve.core.sieve.meshes import VERDICTS
from finesieve.services.accounts.staff import NewWorkspace, StaffAccounts
from finesieve.services.accounts.tries import Devices
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.filling.signup import PublicForms
from finesieve.services.forms.forms import create_form, publish_form
from finesieve.services.kernel.changes import undo_change
from finesieve.services.kernel.hashing import Hasher
from finesieve.services.kernel.inputs import read_input
from finesieve.services.kernel.slugs import slug_from_name
from finesieve.services.people.bench import find_anything, read_bench
from finesieve.services.people.listing import list_people
from finesieve.services.sift.export import ExportInput, export_segment, workbook_of_segment
from finesieve.services.sift.segments import (
    SegmentInput,
    change_segment,
    count_segment,
    create_segment,
    list_segments,
    read_segment,
    remove_segment,
)
from finesieve.services.sift.trays import save_tray, tray_people
from tests.support.database import store
from tests.support.house import NOW, PASSWORD, make_house


class Segments(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        for name, zone, length, swaps in (
            ("A", "north", 10, True), ("B", "north", 2, True), ("C", "north", None, True), ("D", "hill", 10, None),
            ("E", "hill", 12, False), ("F", None, 50, True), ("G", "south", 50, True), ("H", "north", 3, True),
            ("I", "south", 2, False),
        ):  # fmt: skip
            self.house.add(
                first_name=name, zone=zone, plot_length=None if length is None else Decimal(length), swaps_seed=swaps
            )
        self.segment = create_segment(self.scope, "Swappers")

    def save(self, expression: str, revision: int | None = None) -> int:
        asked = SegmentInput(name="Swappers", expression=expression)
        return change_segment(
            self.scope, self.segment, revision or read_segment(self.scope, self.segment).revision, asked
        )

    def names(self, place: int, verdict: str) -> list[str]:
        return [line.name for line in tray_people(self.scope, self.segment, place, verdict).lines]

    def test_an_empty_segment_is_everyone(self) -> None:
        view = read_segment(self.scope, self.segment)
        self.assertEqual((view.passing, view.everyone, view.meshes), (9, 9, ()))
        self.assertEqual(count_segment(self.scope, self.segment), 9)
        self.assertEqual(len(tray_people(self.scope, self.segment, 0, "passes").lines), 9)

    def test_the_sieve_is_counted_by_hand(self) -> None:
        """Every person lies on exactly one tray, blanks apart, and can be listed there."""
        self.save('zone in ("north", "hill") and plot_length > 5 and swaps_seed')
        view = read_segment(self.scope, self.segment)
        figures = [
            (m.tray.reached, m.tray.passes, m.tray.caught, m.tray.cant_tell, m.tray.without) for m in view.meshes
        ]
        self.assertEqual(figures, [(9, 6, 2, 1, 3), (6, 3, 2, 1, 4), (3, 1, 1, 1, 3)])
        self.assertEqual((view.passing, view.cant_tell, view.costliest), (1, 3, 1))
        self.assertEqual(count_segment(self.scope, self.segment), 1)
        lists = {
            (place, verdict): self.names(place, verdict)
            for place in range(3)
            for verdict in ("passes", "caught", "cant_tell")
        }
        self.assertEqual(lists, {
            (0, "passes"): ["H", "E", "D", "C", "B", "A"], (0, "caught"): ["I", "G"], (0, "cant_tell"): ["F"],
            (1, "passes"): ["E", "D", "A"], (1, "caught"): ["H", "B"], (1, "cant_tell"): ["C"],
            (2, "passes"): ["A"], (2, "caught"): ["E"], (2, "cant_tell"): ["D"],
        })  # fmt: skip
        self.assertEqual([mesh.clause for mesh in view.meshes][2], Clause("swaps_seed", "yes"))

    def test_a_mesh_off_for_a_look(self) -> None:
        """Everybody falls through it; the trays below follow, and the segment stays as it is."""
        self.save('zone in ("north", "hill") and plot_length > 5 and swaps_seed')
        view = read_segment(self.scope, self.segment, off=(1, 7))
        figures = [
            (m.tray.reached, m.tray.passes, m.tray.caught, m.tray.cant_tell, m.tray.without) for m in view.meshes
        ]
        self.assertEqual(figures, [(9, 6, 2, 1, 6), (6, 6, 0, 0, 4), (6, 4, 1, 1, 6)])
        self.assertEqual((view.passing, view.off, count_segment(self.scope, self.segment)), (4, (1,), 1))
        assert view.people is not None
        self.assertEqual([line.name for line in view.people.lines], ["H", "C", "B", "A"])
        caught = tray_people(self.scope, self.segment, 2, "caught", off=(1,))
        self.assertEqual([line.name for line in caught.lines], ["E"])
        with self.assertRaises(NotFound):
            tray_people(self.scope, self.segment, 1, "caught", off=(1,))
        self.assertEqual(read_segment(self.scope, self.segment, off=(0, 1, 2)).passing, 9)

    def test_a_tray_becomes_a_segment(self) -> None:
        """Whoever lies on a tray is in the segment made of it, and nobody else; with a mesh off as well."""
        self.save('(zone in ("north", "hill") or favourite is filled) and plot_length > 5 and swaps_seed')
        for off in ((), (0,), (0, 1)):
            for place, verdict in ((place, verdict) for place in range(3) for verdict in VERDICTS):
                if place in off:
                    continue
                with self.subTest(place=place, verdict=verdict, off=off):
                    lying = tray_people(self.scope, self.segment, place, verdict, off=off).lines
                    made = save_tray(self.scope, self.segment, place, verdict, "Made", off)
                    view = read_segment(self.scope, made)
                    assert view.people is not None
                    self.assertEqual({line.id for line in view.people.lines}, {line.id for line in lying})
        once = save_tray(self.scope, self.segment, 0, "caught", "Sent twice")
        self.assertEqual(save_tray(self.scope, self.segment, 0, "caught", " Sent twice"), once)
        with ThreadPoolExecutor(4) as at_once:
            made = set(at_once.map(lambda _: save_tray(self.scope, self.segment, 1, "caught", "At once"), range(4)))
        self.assertEqual(len(made), 1)
        self.assertNotEqual(save_tray(self.scope, self.segment, 0, "passes", "Sent twice"), once)
        with self.assertRaises(InvalidInput):
            save_tray(self.scope, self.segment, 0, "caught", " ")
        with self.assertRaises(NotAllowed):
            save_tray(self.house.as_role("clerk"), self.segment, 0, "caught", "Made")

    def test_any_of_is_one_mesh(self) -> None:
        self.save('zone = "south" or plot_length < 5')
        (mesh,) = read_segment(self.scope, self.segment).meshes
        assert isinstance(mesh.clause, Sentence)
        self.assertEqual((mesh.clause.joiner, len(mesh.clause.clauses)), ("or", 2))
        self.assertEqual((mesh.tray.passes, mesh.tray.cant_tell), (4, 2))

    def test_paging_goes_through_everyone_once(self) -> None:
        seen: list[str] = []
        before = None
        while True:
            page = tray_people(self.scope, self.segment, 0, "passes", before, limit=3)
            seen += [line.name for line in page.lines]
            before = page.next_before
            if before is None:
                break
        self.assertEqual(seen, list("IHGFEDCBA"))

    def test_age_moves_with_the_clock(self) -> None:
        """The same segment counts differently a day later, with no job run."""
        from dataclasses import replace

        self.house.add(first_name="Young", born=date(2010, 11, 26))
        self.save("age(born) >= 16")
        self.assertEqual(count_segment(self.scope, self.segment), 0)
        tomorrow = replace(self.scope, clock=lambda: NOW + timedelta(days=1))
        self.assertEqual(count_segment(tomorrow, self.segment), 1)

    def test_export(self) -> None:
        """Keys at the top, one line a person, derived values included, formulas of spreadsheets disarmed."""
        create_derived(self.scope, DerivedInput(label="Double", formula="plot_length * -2"))
        self.house.add(first_name="=SUM(A1)", favourite='say "x", \n', zone="north", plot_length=Decimal("1.50"))
        self.save('zone = "north" and plot_length < 5')
        name, lines = export_segment(self.scope, self.segment)
        rows = list(csv.DictReader("".join(lines).splitlines(keepends=True)))
        self.assertEqual((name, len(rows)), ("Swappers", 3))
        self.assertEqual(
            [(row["first_name"], row["plot_length"], row["double"]) for row in rows],
            [("'=SUM(A1)", "1.5", "-3"), ("H", "3", "-6"), ("B", "2", "-4")],
        )
        self.assertEqual(rows[0]["favourite"], 'say "x", \n')

    def test_taken_along_as_lines_and_as_a_workbook(self) -> None:
        self.save('zone = "north"')
        asked = ExportInput(kind="jsonl", columns=("first_name", "plot_length"))
        lines = [json.loads(one) for one in "".join(export_segment(self.scope, self.segment, asked)[1]).splitlines()]
        self.assertEqual(
            {one["first_name"]: one["plot_length"] for one in lines}, {"A": "10", "B": "2", "C": None, "H": "3"}
        )
        self.assertEqual(set(lines[0]), {"id", "first_name", "plot_length"})
        name, book = workbook_of_segment(
            self.scope, self.segment, ExportInput(kind="xlsx", columns=("first_name", "plot_length"))
        )
        self.assertEqual((name, book[:2]), ("Swappers", b"PK"))
        with zipfile.ZipFile(io.BytesIO(book)) as files:
            sheet = files.read("xl/worksheets/sheet1.xml").decode()
        self.assertEqual(sheet.count("<row "), 5)
        self.assertIn("<v>10</v>", sheet)

    def test_nothing_in_a_workbook_runs(self) -> None:
        self.house.add(first_name='=HYPERLINK("x")', zone="hill")
        self.save('first_name starts with "="')
        _, book = workbook_of_segment(self.scope, self.segment, ExportInput(kind="xlsx", columns=("first_name",)))
        with zipfile.ZipFile(io.BytesIO(book)) as files:
            sheet = files.read("xl/worksheets/sheet1.xml").decode()
        self.assertNotIn("<f>", sheet)
        self.assertIn("'=HYPERLINK", sheet)

    def test_a_sample_is_the_same_for_the_same_word(self) -> None:
        def drawn(seed: str, people: int = 4) -> list[int]:
            asked = ExportInput(kind="jsonl", columns=("first_name",), sample=people, seed=seed)
            return [
                json.loads(one)["id"]
                for one in "".join(export_segment(self.scope, self.segment, asked)[1]).splitlines()
            ]

        self.assertEqual(drawn("beans"), drawn("beans"))
        self.assertEqual((len(set(drawn("beans"))), len(drawn("beans", 99))), (4, 9))
        self.assertGreater(len({tuple(drawn(word)) for word in ("beans", "peas", "leeks", "kale")}), 1)

    def test_too_much_for_a_workbook(self) -> None:
        with patch("finesieve.services.sift.export.MOST_CELLS", 20), self.assertRaises(InvalidInput) as refused:
            workbook_of_segment(self.scope, self.segment, ExportInput(kind="xlsx"))
        self.assertIn("Take fewer columns", refused.exception.messages["kind"])

    def test_changes_and_undo(self) -> None:
        first = self.save("swaps_seed")
        with self.assertRaises(InvalidExpression):
            self.save("swaps_sed")
        with self.assertRaises(InvalidExpression):
            self.save("plot_length")
        self.assertEqual(read_segment(self.scope, self.segment).expression, "swaps_seed")
        undo_change(self.scope, first)
        self.assertEqual(read_segment(self.scope, self.segment).expression, "")
        removal = remove_segment(self.scope, self.segment)
        self.assertEqual(list_segments(self.scope), [])
        undo_change(self.scope, removal)
        self.assertEqual([(entry.name, entry.people) for entry in list_segments(self.scope)], [("Swappers", 9)])

    def test_somebody_else_is_not_overwritten(self) -> None:
        self.save("swaps_seed", 1)
        colleague = self.house.as_role("editor", "Corin Yeo")
        with self.assertRaises(Conflict):
            change_segment(colleague, self.segment, 1, SegmentInput(name="Theirs"))
        with self.assertRaises(NotAllowed):
            change_segment(self.house.as_role("clerk"), self.segment, 2, SegmentInput(name="X"))

    def test_wrong_places_lead_nowhere(self) -> None:
        self.save("swaps_seed")
        other = make_house().scope
        for attempt in (
            lambda: tray_people(self.scope, self.segment, 1, "passes"),
            lambda: tray_people(self.scope, self.segment, 0, "maybe"),
            lambda: tray_people(self.scope, create_segment(self.scope, "Everybody"), 0, "caught"),
            lambda: save_tray(self.scope, self.segment, 3, "caught", "Made"),
            lambda: read_segment(other, self.segment),
            lambda: remove_segment(other, self.segment),
            lambda: export_segment(other, self.segment),
        ):
            with self.assertRaises(NotFound):
                attempt()


class BenchAndFinding(unittest.TestCase):
    def test_an_empty_workspace(self) -> None:
        house = make_house(fields=False)
        bench = read_bench(house.scope)
        self.assertEqual((bench.people, bench.fields, bench.forms, bench.segments, sum(bench.weeks)), (0, 5, 0, 0, 0))

    def test_sign_ups_are_counted_by_week(self) -> None:
        """Twelve weeks back from now, the last bar being the last seven days."""
        house = make_house()
        form = create_form(house.scope, "Join us")
        publish_form(house.scope, form, 1)
        for number, days in enumerate((0, 6.9, 7.1, 80, 85)):
            past = PublicForms(store(), lambda days=days: NOW - timedelta(days=days), "s")  # type: ignore[misc]
            token = past.open(house.slug, "join-us").token
            self.assertTrue(
                past.send(house.slug, "join-us", token, {"q1": f"w{number}@x.example"}, frozenset(("q1",))).sent
            )
        self.assertEqual(read_bench(house.scope).weeks, (1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 2))

    def test_what_waits(self) -> None:
        house = make_house()
        form = create_form(house.scope, "Join us")
        self.assertEqual(read_bench(house.scope).drafts, ((form, "Join us"),))

    def test_anything_is_found_by_any_part_of_its_name(self) -> None:
        house = make_house()
        create_segment(house.scope, "Long plots")
        create_form(house.scope, "Plot survey")
        house.add(first_name="Plotina", last_name="Marram")
        kinds = [(found.kind, found.name) for found in find_anything(house.scope, "PLOT")]
        self.assertEqual(
            kinds,
            [
                ("field", "Plot length"),
                ("field", "Plot width"),
                ("segment", "Long plots"),
                ("form", "Plot survey"),
                ("person", "Plotina Marram"),
            ],
        )
        self.assertEqual(find_anything(house.scope, "plot marram")[0].name, "Plotina Marram")
        self.assertEqual(find_anything(house.scope, "  "), [])
        self.assertEqual(find_anything(make_house(fields=False).scope, "plotina"), [])

    def test_people_are_searched(self) -> None:
        house = make_house()
        house.add(first_name="Wren", last_name="Marram")
        house.add(first_name="Lis")
        page = list_people(house.scope, search="marr")
        self.assertEqual(([line.name for line in page.lines], page.everyone), (["Wren Marram"], 2))


class Accounts(unittest.TestCase):
    def setUp(self) -> None:
        self.now = NOW
        self.accounts = StaffAccounts(store(), lambda: self.now, fast_hashes=True)
        self.house = make_house()

    def test_signing_in_and_out(self) -> None:
        token = self.accounts.sign_in(self.house.email.upper(), PASSWORD).token
        signed_in = self.accounts.who(token)
        assert signed_in is not None
        self.assertEqual(signed_in.name, "Maud Ellery")
        self.assertIsNone(self.accounts.who(token + "x"))
        self.accounts.sign_out(token)
        self.assertIsNone(self.accounts.who(token))

    def test_wrong_passwords(self) -> None:
        for email, password in ((self.house.email, "wrong"), ("nobody@x.example", PASSWORD), (self.house.email, "")):
            with self.assertRaises(InvalidInput):
                self.accounts.sign_in(email, password)

    def test_wrong_passwords_slow_down(self) -> None:
        """By account and by address; waiting is enough; a browser its owner has used before waits for no stranger."""
        device = self.accounts.sign_in(self.house.email, PASSWORD).device

        def wrong(address: str) -> None:
            with self.assertRaises(InvalidInput):
                self.accounts.sign_in(self.house.email, "wrong", address)

        for number in range(8):
            wrong(f"203.0.113.{number}")
        wrong("203.0.113.90")
        with self.assertRaises(TooOften) as caught:
            self.accounts.sign_in(self.house.email, PASSWORD, "203.0.113.91")
        self.assertIn("Wait", str(caught.exception))
        self.assertTrue(self.accounts.sign_in(self.house.email, PASSWORD, "203.0.113.92", device).token)
        self.now += timedelta(seconds=3)
        self.assertTrue(self.accounts.sign_in(self.house.email, PASSWORD, "203.0.113.93").token)
        other = make_house(fields=False)
        for number in range(21):
            with self.assertRaises(InvalidInput):
                self.accounts.sign_in(f"nobody{number}@x.example", "wrong", "198.51.100.1")
        with self.assertRaises(TooOften):
            self.accounts.sign_in(other.email, PASSWORD, "198.51.100.1")
        self.assertTrue(self.accounts.sign_in(other.email, PASSWORD, "198.51.100.2").token)
        self.assertFalse(Devices("another").fits(self.house.email, device))

    def test_few_passwords_are_looked_at_at_once(self) -> None:
        """Forty at the same moment take two shares of memory, not forty, and no connection while they wait."""
        running, most, lock = [0], [0], threading.Lock()

        class Slow:
            def verify(self, _text: str, _hash: str) -> bool:
                with lock:
                    running[0] += 1
                    most[0] = max(most[0], running[0])
                time.sleep(0.02)
                with lock:
                    running[0] -= 1
                return True

        hasher = Hasher(Argon2Hasher(), cheap=True)
        hasher._hasher = Slow()  # type: ignore[assignment]
        with ThreadPoolExecutor(40) as pool:
            self.assertTrue(all(pool.map(lambda _: hasher.verify("a", "b"), range(40))))
        self.assertLessEqual(most[0], 2)

    def test_sessions_run_out_and_are_swept(self) -> None:
        token = self.accounts.sign_in(self.house.email, PASSWORD).token
        self.now = NOW + timedelta(days=14)
        self.assertIsNone(self.accounts.who(token))
        self.assertGreaterEqual(self.accounts.sweep_sessions(), 1)
        self.assertEqual(self.accounts.sweep_sessions(), 0)

    def test_entering_needs_membership(self) -> None:
        token = self.accounts.sign_in(self.house.email, PASSWORD).token
        signed_in = self.accounts.who(token)
        assert signed_in is not None
        self.assertEqual([entry.slug for entry in self.accounts.workspaces(signed_in.staff_id)], [self.house.slug])
        for slug in (make_house(fields=False).slug, "none"):
            with self.assertRaises(NotFound):
                self.accounts.enter(slug, signed_in)
        with self.assertRaises(Conflict):
            self.accounts.add_staff(self.house.email, "Twin", PASSWORD)

    def test_a_workspace_is_made_whole_or_not_at_all(self) -> None:
        """A failure on the way leaves no workspace without its built-in fields."""
        from unittest.mock import patch

        token = self.accounts.sign_in(self.house.email, PASSWORD).token
        signed_in = self.accounts.who(token)
        assert signed_in is not None
        with (
            patch("finesieve.services.accounts.staff.unique_column", side_effect=RuntimeError),
            self.assertRaises(RuntimeError),
        ):
            self.accounts.create_workspace(NewWorkspace(name=f"Half {self.house.slug}"), signed_in.staff_id)
        self.assertEqual(len(self.accounts.workspaces(signed_in.staff_id)), 1)

    def test_workspaces_of_one_name(self) -> None:
        token = self.accounts.sign_in(self.house.email, PASSWORD).token
        signed_in = self.accounts.who(token)
        assert signed_in is not None
        asked = NewWorkspace(name=f"Twins {self.house.slug}")
        first, second = (self.accounts.create_workspace(asked, signed_in.staff_id) for _ in range(2))
        self.assertEqual(second, f"{first}-2")
        with self.assertRaises(InvalidInput):
            read_input(NewWorkspace, {"name": "X", "zone": "Nowhere/Else"})
        self.assertEqual(slug_from_name("Ñandú & Söhne!"), "and-s-hne")
        self.assertEqual(slug_from_name("種"), "workspace")
