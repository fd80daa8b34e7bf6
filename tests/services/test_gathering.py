"""Numbered twins become records with their values."""

import unittest
from decimal import Decimal
from unittest.mock import patch

from finesieve.core.errors import InvalidInput
from finesieve.services.define import gathering
from finesieve.services.define.deletion import restore_field
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.gathering import begin_gathering, plan_gathering
from finesieve.services.define.groups import read_catalogue
from finesieve.services.kernel.tasks import Progress, Stopped, read_task
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.people.records import person_records
from finesieve.services.upkeep.readings import find_all
from tests.support.house import House, make_house
from tests.support.work import done


def records(house: House, person: int) -> list[tuple[str, tuple[str, ...]]]:
    return [(line.title, line.cells) for _, page in person_records(house.scope, person) for line in page.lines]


class Gathering(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.ids = [self.field(f"Child {n}") for n in (2, 1, 10)]
        self.one = self.house.add(child_1="Ann", child_2="Bea", child_10="Cyd")
        self.two = self.house.add(child_10="Dot")
        self.none = self.house.add()

    def field(self, label: str, type_key: str = "short_text", **more: object) -> int:
        return create_field(self.scope, self.house.group_id(), FieldInput(label=label, type_key=type_key, **more))  # type: ignore[arg-type]

    def test_the_plan(self) -> None:
        """In the order of their numbers; one alone is no twin, nor are two of different types."""
        plan = plan_gathering(self.scope, self.ids[0])
        self.assertEqual(
            [(field.label, count) for field, count in plan.fields], [("Child 1", 1), ("Child 2", 1), ("Child 10", 2)]
        )
        self.assertEqual((plan.singular, plan.records), ("Child", 4))
        for alone in (self.field("Pet 1"), self.house.field_id("zone")):
            with self.assertRaises(InvalidInput):
                plan_gathering(self.scope, alone)
        self.field("Pet 2", "number")
        with self.assertRaisesRegex(InvalidInput, "different types"):
            plan_gathering(self.scope, self.house.field_id("pet_1"))

    def test_each_value_becomes_a_record(self) -> None:
        with patch.object(gathering, "_BATCH", 1):
            done(self.house, begin_gathering(self.scope, self.ids[0], "Child", "Children"))
        self.assertEqual([title for title, _ in records(self.house, self.one)], ["Ann", "Bea", "Cyd"])
        self.assertEqual([title for title, _ in records(self.house, self.two)], ["Dot"])
        self.assertEqual(records(self.house, self.none), [])
        self.assertNotIn("child_1", read_catalogue(self.scope).by_key)
        self.assertNotIn("numbered-twins", {one.code for one in find_all(self.scope)})
        restore_field(self.scope, self.ids[1])
        values = {
            line.field.key: line.shown for _, lines in read_profile(self.scope, self.one).groups for line in lines
        }
        self.assertEqual(values["child_1"], "Ann")

    def test_of_another_type_with_its_unit(self) -> None:
        bed = [self.field(f"Bed {n}", "number", unit="m") for n in (1, 2)]
        person = self.house.add(bed_1=Decimal(3), bed_2=Decimal("2.5"))
        done(self.house, begin_gathering(self.scope, bed[0], "Bed", "Beds"))
        self.assertEqual(records(self.house, person), [("Bed 1", ("3 m",)), ("Bed 2", ("2.5 m",))])

    def test_what_changes_meanwhile_is_not_lost(self) -> None:
        """Corrected, added and emptied while others are being moved."""
        task = begin_gathering(self.scope, self.ids[0], "Child", "Children")
        give = gathering._give

        def and_then(*rest: object) -> int:
            made = give(*rest)  # type: ignore[arg-type]
            with patch.object(gathering, "_give", give):
                set_values(self.scope, self.one, {"child_1": "Anne", "child_10": ""})
                set_values(self.scope, self.none, {"child_2": "Eve"})
            return made

        with patch.object(gathering, "_BATCH", 2), patch.object(gathering, "_give", and_then):
            done(self.house, task)
        self.assertEqual([title for title, _ in records(self.house, self.one)][:2], ["Anne", "Bea"])
        self.assertNotIn("Cyd", str(records(self.house, self.one)))
        self.assertEqual([title for title, _ in records(self.house, self.none)], ["Eve"])

    def test_stopped_all_is_as_it_was(self) -> None:
        task = begin_gathering(self.scope, self.ids[0], "Child", "Children")
        with patch.object(Progress, "say", side_effect=Stopped("It was stopped.")):
            done(self.house, task)
        self.assertEqual(read_task(self.scope, task).state, "stopped")
        catalogue = read_catalogue(self.scope)
        self.assertLessEqual({"child_1", "child_2", "child_10"}, set(catalogue.by_key))
        self.assertEqual([known.plural for known in catalogue.record_types], [])
        self.assertEqual(records(self.house, self.one), [])

    def test_refusals(self) -> None:
        for names, place in ((("", "Children"), "singular"), (("Child", "x" * 61), "plural")):
            with self.assertRaises(InvalidInput) as caught:
                begin_gathering(self.scope, self.ids[0], *names)
            self.assertIn(place, caught.exception.messages)
