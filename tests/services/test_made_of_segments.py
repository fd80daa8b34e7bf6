"""Segments made of other segments: one meaning in Python and in SQL, no circles, kept together; and folders."""

import unittest
from concurrent.futures import ThreadPoolExecutor
from decimal import Decimal

from finesieve.core.errors import InvalidExpression, InvalidInput
from finesieve.core.fields.about import PERSON
from finesieve.core.language.evaluator import compile_python
from finesieve.services.compute.derived import preview_formula
from finesieve.services.define.groups import read_catalogue
from finesieve.services.kernel.changes import undo_change
from finesieve.services.sift.segments import (
    SegmentInput,
    change_segment,
    count_segment,
    create_segment,
    list_segments,
    read_segment,
    remove_segment,
)
from finesieve.services.sift.trays import tray_people
from finesieve.services.sift.why import segments_of_person
from finesieve.services.transfer.setups import export_setup, load_setup
from finesieve.services.usage.uses import uses_of
from finesieve.services.values.writing import row_of
from finesieve.store.reading.rows import stored_row
from tests.support.house import make_house


class MadeOfSegments(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.people = [
            self.house.add(first_name=f"P{n}", zone=zone, plot_length=None if length is None else Decimal(length), swaps_seed=swaps)
            for n, (zone, length, swaps) in enumerate(
                (zone, length, swaps) for zone in ("north", "hill", None) for length in (2, 9, None) for swaps in (True, None)
            )
        ]  # fmt: skip
        self.large = self.made("Large plots", "plot_length > 5")
        self.north = self.made("North", 'zone = "north"')

    def made(self, name: str, expression: str, folder: str = "") -> int:
        segment = create_segment(self.scope, name)
        self.change(segment, expression, folder)
        return segment

    def change(self, segment: int, expression: str, folder: str = "") -> int:
        view = read_segment(self.scope, segment)
        asked = SegmentInput(name=view.name, expression=expression, folder=folder)
        return change_segment(self.scope, segment, view.revision, asked)

    def test_several_of_one_name_at_once(self) -> None:
        with ThreadPoolExecutor(4) as threads:
            made = list(threads.map(lambda _: create_segment(self.scope, "Growers"), range(6)))
        self.assertEqual(len({read_segment(self.scope, one).key for one in made}), 6)

    def test_in_both_ways(self) -> None:
        """Unknown is not in: of a segment, never unknown comes."""
        for expression in (
            "segment.large_plots and segment.north", "not segment.large_plots", "segment.north or swaps_seed",
            "not (segment.large_plots or segment.north)", "if(segment.large_plots, 1, 2) = 2", "segment.large_plots is filled",
        ):  # fmt: skip
            with self.subTest(expression):
                segment = self.made("Made", expression)
                typed = read_catalogue(self.scope).check_segment(expression).typed
                assert typed is not None
                program = compile_python(typed)
                with self.scope.reading("reader") as unit:
                    stored = {one: stored_row(unit.session, unit.definitions, PERSON, one) or {} for one in self.people}
                    rows = {one: row_of(unit, PERSON, one, values) for one, values in stored.items()}
                    by_hand = {one for one, row in rows.items() if program(row, unit.moment) is True}
                view = read_segment(self.scope, segment)
                found = tray_people(self.scope, segment, len(view.meshes) - 1, "passes").lines
                self.assertEqual({one.id for one in found}, by_hand)
                self.assertEqual(count_segment(self.scope, segment), len(by_hand))
                self.assertEqual(sum(one.tray.cant_tell for one in view.meshes if "swaps" not in one.text), 0)
                remove_segment(self.scope, segment)

    def test_it_follows_the_other_one(self) -> None:
        both = self.made("Both", "segment.large_plots and segment.north")
        self.assertEqual(count_segment(self.scope, both), 2)
        change = self.change(self.large, "plot_length > 1")
        self.assertEqual(count_segment(self.scope, both), 4)
        undo_change(self.scope, change)
        self.assertEqual(count_segment(self.scope, both), 2)

    def test_circles_are_refused_by_name(self) -> None:
        both = self.made("Both", "segment.large_plots and segment.north")
        for segment, expression in (
            (self.north, "segment.both"),
            (self.north, "segment.north"),
            (both, "not segment.both"),
        ):
            with self.assertRaises(InvalidExpression) as refused:
                self.change(segment, expression)
            self.assertEqual(refused.exception.problems[0].code, "circle")
            self.assertIn("sifted by itself", refused.exception.problems[0].message)
        self.assertEqual(count_segment(self.scope, self.north), 6)

    def test_unknown_names_and_other_places(self) -> None:
        with self.assertRaises(InvalidExpression) as refused:
            self.change(self.north, "segment.large_plot")
        self.assertIn("Nearest: segment.large_plots", refused.exception.problems[0].message)
        problems = preview_formula(self.scope, "if(segment.north, 1, 2)").problems
        self.assertEqual([one.code for one in problems], ["unknown-prefix"])

    def test_one_that_others_are_made_of_stays(self) -> None:
        both = self.made("Both", "segment.large_plots")
        self.assertEqual(read_segment(self.scope, self.large).named_by, ((both, "Both"),))
        with self.assertRaises(InvalidInput) as refused:
            remove_segment(self.scope, self.large)
        self.assertIn("Both", refused.exception.messages[""])
        remove_segment(self.scope, both)
        remove_segment(self.scope, self.large)

    def test_what_it_rests_on_is_known(self) -> None:
        self.made("Both", "segment.large_plots")
        field = next(one.id for one in read_catalogue(self.scope).fields if one.key == "plot_length")
        with self.scope.reading("reader") as unit:
            self.assertEqual({one.name for one in uses_of(unit).of_field(field)}, {"Large plots", "Both"})
        told = {one.name: one for one in segments_of_person(self.scope, self.people[0])}
        self.assertEqual((told["Both"].verdict, told["North"].verdict), ("caught", "passes"))

    def test_it_does_not_grow_without_end(self) -> None:
        before = "large_plots"
        for number in range(12):
            try:
                self.made(f"G{number}", f"segment.{before} and (segment.{before} or segment.{before})")
            except InvalidExpression:
                break
            before = f"g{number}"
        else:
            self.fail("twelve doublings were taken")

    def test_by_file_and_in_folders(self) -> None:
        self.made("Both", "segment.large_plots and segment.north", "Invitations")
        other = make_house()
        load_setup(other.scope, export_setup(self.scope)[1])
        found = {one.name: one for one in list_segments(other.scope)}
        self.assertEqual((found["Both"].folder, found["Both"].people), ("Invitations", 0))
        view = read_segment(other.scope, found["Both"].id)
        self.assertEqual((view.key, view.problems, view.owner), ("both", (), other.scope.actor))


if __name__ == "__main__":
    unittest.main()
