"""Counts are kept for as long as they are true, and estimated first for whoever is in a hurry."""

import threading
import unittest
from contextlib import ExitStack
from decimal import Decimal
from unittest.mock import patch

from sqlalchemy import text

from finesieve.core.errors import TookTooLong
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.memberships import set_tags
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.kernel.scope import Unit
from finesieve.services.people.listing import list_people
from finesieve.services.people.profiles import set_values
from finesieve.services.people.records import add_linked_record
from finesieve.services.usage.renaming import rename_everywhere
from finesieve.services.values.writing import change_many
from finesieve.store.connection.database import apart
from finesieve.store.definitions.state import has_changed, state_of
from finesieve.store.reading import kept as keeping
from finesieve.store.reading.kept import Hurry, in_a_hurry, in_no_hurry, is_estimated, kept, times
from finesieve.store.reading.people import Filled, count_people, count_verdicts, fill_counts
from finesieve.store.values.bulk import copy_people
from tests.support.house import make_house


class Kept(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.people = [self.house.add(zone=zone, plot_length=Decimal(5)) for zone in ("north", "north", "hill")]
        self.counted = 0

    def slow(self) -> ExitStack:
        """As if there were many people and counting took long."""
        stack = ExitStack()
        stack.enter_context(patch.object(keeping, "SMALL", -2))
        stack.enter_context(patch.object(keeping, "QUICK", 1e-9))
        self.addCleanup(stack.close)
        return stack

    def count(self, unit: Unit, **options: object) -> int:
        def work(_known: object) -> int:
            self.counted += 1
            return 7

        return kept(unit.session, unit.definitions, ("seven", id(self)), work, **options)  # type: ignore[arg-type]

    def look(self, **options: object) -> int:
        with self.house.scope.transaction("reader") as unit:
            return self.count(unit, **options)

    def test_counted_once_for_a_state(self) -> None:
        self.look(), self.look()
        self.assertEqual(self.counted, 1)

    def test_what_took_too_long_is_not_tried_again_at_once(self) -> None:
        """For whoever had the time; until something has changed, or a while has passed."""

        def vain(unit: Unit) -> None:
            def work(_known: object) -> int:
                self.counted += 1
                unit.session.execute(text("SELECT pg_sleep(1)"))
                return 7

            with apart(unit.session, 0.05):
                kept(unit.session, unit.definitions, ("vain", id(self)), work)

        for _ in range(3):
            with self.assertRaises(TookTooLong), in_no_hurry(), self.house.scope.transaction("reader") as unit:
                vain(unit)
        self.assertEqual(self.counted, 1)
        set_values(self.house.scope, self.people[0], {"zone": "hill"})
        with self.assertRaises(TookTooLong), in_no_hurry(), self.house.scope.transaction("reader") as unit:
            vain(unit)
        self.assertEqual(self.counted, 2)

    def test_what_is_large_is_not_kept(self) -> None:
        def many(_known: object) -> list[int]:
            self.counted += 1
            return [0] * 3

        with patch.object(keeping, "_LARGEST", 2), self.house.scope.transaction("reader") as unit:
            for _ in range(2):
                kept(unit.session, unit.definitions, ("many", id(self)), many)
        self.assertEqual(self.counted, 2)

    def test_every_way_of_writing_moves_the_state(self) -> None:
        def bulk() -> None:
            with self.house.scope.transaction("owner") as unit:
                copy_people(unit.session, unit.definitions, ["email"], [["bulk@x.example"]])

        def rename() -> None:
            with self.house.scope.transaction("owner") as unit:
                rename_everywhere(unit, unit.catalogue.by_key["zone"], {"hill": "mound"})

        def untag() -> None:
            with self.house.scope.transaction("owner") as unit:
                change_many(unit, "person", {person: {"tags": ()} for person in self.people}, "staff")

        for change in (
            lambda: self.house.add(),
            lambda: set_values(self.house.scope, self.people[0], {"plot_length": "6"}),
            lambda: set_tags(self.house.scope, self.people[0], "helper"),
            untag,
            bulk,
            rename,
        ):
            self.look()
            before = self.counted
            change()
            self.look()
            self.assertEqual(self.counted, before + 1, change)

    def test_what_is_taken_back_moves_nothing(self) -> None:
        with self.house.scope.transaction("reader") as unit:
            before = state_of(unit.session, unit.workspace_id)
        with self.assertRaises(ZeroDivisionError), self.house.scope.transaction("owner") as unit:
            copy_people(unit.session, unit.definitions, ["email"], [["bulk@x.example"]])
            self.assertTrue(has_changed(unit.session, unit.workspace_id))
            # Within it, nothing that is kept counts, and nothing is kept.
            self.count(unit), self.count(unit)
            self.assertEqual(self.counted, 2)
            raise ZeroDivisionError
        with self.house.scope.transaction("reader") as unit:
            self.assertEqual(state_of(unit.session, unit.workspace_id), before)
            self.assertEqual(count_people(unit.session, unit.definitions), 3)

    def test_a_part_that_ends_moves_nothing_yet(self) -> None:
        """What a savepoint kept is still the transaction's own: nothing is kept by it, and the end moves the state once."""
        with self.house.scope.transaction("owner") as unit:
            before = state_of(unit.session, unit.workspace_id)
            with apart(unit.session):
                copy_people(unit.session, unit.definitions, ["email"], [["part@x.example"]])
            self.assertTrue(has_changed(unit.session, unit.workspace_id))
            self.assertEqual(state_of(unit.session, unit.workspace_id), before)
        with self.house.scope.transaction("reader") as unit:
            self.assertEqual(state_of(unit.session, unit.workspace_id), before + 1)

    def test_many_at_once_each_move_it(self) -> None:
        with self.house.scope.transaction("reader") as unit:
            before = state_of(unit.session, unit.workspace_id)
        threads = [threading.Thread(target=self.house.add) for _ in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        with self.house.scope.transaction("reader") as unit:
            self.assertEqual(state_of(unit.session, unit.workspace_id), before + 8)
        self.assertEqual(list_people(self.house.scope).everyone, 11)

    def test_in_a_hurry(self) -> None:
        """A sample, or what was counted before; and it is said. Without a hurry it is exact."""
        self.slow()
        with in_a_hurry() as hurry:
            self.assertEqual(self.look(scaled=times), 7)
            self.assertTrue(hurry.estimated and is_estimated())
        self.assertFalse(is_estimated())
        self.look()
        self.assertEqual(self.counted, 2)
        with in_a_hurry() as hurry:
            self.look(scaled=times)
            self.assertEqual((hurry, self.counted), (Hurry(estimated=False), 2))
        self.house.add()
        with in_a_hurry() as hurry:
            self.look(scaled=times)
            self.assertEqual((hurry, self.counted), (Hurry(estimated=True), 2))
            # What was counted too long ago does not serve; without a sample it is counted after all.
            self.look(lasts=-1)
            self.assertEqual(self.counted, 3)
        self.house.add()
        with in_a_hurry() as hurry:
            self.assertEqual(self.look(unknown=0, lasts=-1), 0)
            self.assertEqual((hurry.estimated, self.counted), (True, 3))

    def test_a_sample_of_all_is_exact(self) -> None:
        """Where the sample is everybody, the estimates are the figures themselves."""
        self.slow()
        with self.house.scope.transaction("reader") as unit:
            typed = unit.catalogue.check("zone = 'north'").typed
            assert typed is not None
            fields = [unit.catalogue.by_key[key] for key in ("zone", "favourite")]
            for hurried in (True, False):
                with in_a_hurry() if hurried else ExitStack():
                    self.assertEqual(count_people(unit.session, unit.definitions), 3)
                    self.assertEqual(
                        fill_counts(unit.session, unit.definitions, "person", fields).by_key,
                        {"zone": 3, "favourite": 0},
                    )
                    self.assertEqual(
                        count_verdicts(unit.session, unit.definitions, [typed], unit.moment), {(True,): 2, (False,): 1}
                    )

    def test_records_are_sampled_from_their_own_table(self) -> None:
        """How many people there are says nothing of them."""
        scope = self.house.scope
        plots = create_record_type(scope, RecordTypeInput(singular="Plot", plural="Plots"))
        group = read_catalogue(scope).groups_about(f"record:{plots}")[0].id
        create_field(scope, group, FieldInput(label="Soil", type_key="short_text"))
        with scope.transaction("owner") as unit:
            known = unit.catalogue.record_types_by_id[plots]
            for soil in ("clay", "loam"):
                add_linked_record(unit, known, {"soil": soil}, {known.links[0].id: [self.people[0]]}, "staff")
        self.slow()

        def rows(_session: object, _definitions: object, about: str) -> int:
            return 1_000_000 if about == "person" else 2

        with patch.object(keeping, "_rows", rows), scope.transaction("reader") as unit, in_a_hurry() as hurry:
            soil_field = unit.catalogue.keys_of(f"record:{plots}")["soil"]
            self.assertEqual(
                fill_counts(unit.session, unit.definitions, soil_field.about, [soil_field]), Filled(2, {"soil": 2})
            )
            self.assertTrue(hurry.estimated)

    def test_meshes_in_another_order_are_not_counted_again(self) -> None:
        with self.house.scope.transaction("reader") as unit:
            found = [
                unit.catalogue.check(text).typed for text in ("plot_length > 3 and zone = 'north'", "zone = 'north'")
            ]
            both, north = found
            assert both is not None and north is not None
            length = both.parts[0]
            first = count_verdicts(unit.session, unit.definitions, [length, both.parts[1]], unit.moment)
            with patch.object(type(unit.session), "execute", side_effect=AssertionError("asked again")):
                # Where it stood in its text does not matter either.
                again = count_verdicts(unit.session, unit.definitions, [north, length], unit.moment)
        self.assertEqual(first, {(True, True): 2, (True, False): 1})
        self.assertEqual(again, {(True, True): 2, (False, True): 1})


if __name__ == "__main__":
    unittest.main()
