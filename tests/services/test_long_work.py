"""Work over many: as if done one by one, in batches; stopped, all is as it was; its worker killed, it goes on."""

import re
import unittest
from datetime import timedelta
from decimal import Decimal
from typing import Any
from unittest.mock import patch

from sqlmodel import col, func, select

from finesieve.core.errors import Conflict, InvalidInput
from finesieve.core.values import Value
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define import deletion, moving, retyping, tag_families
from finesieve.services.define.deletion import begin_purge, delete_field
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.memberships import list_tags, set_tags
from finesieve.services.define.moving import begin_move
from finesieve.services.define.record_types import RecordTypeInput, create_record_type, read_record_type, remove_link
from finesieve.services.define.retyping import begin_type_change
from finesieve.services.define.tag_families import begin_family
from finesieve.services.kernel.changes import undo_change
from finesieve.services.kernel.scope import Scope
from finesieve.services.kernel.tasks import Progress, Stopped, begin_task, read_task
from finesieve.services.people.records import add_record, person_records
from finesieve.services.values.house import set_house_value
from finesieve.services.values.value_lines import history_of
from finesieve.services.values.writing import change_many, change_person
from finesieve.store.reading.rows import rows_by_ids
from finesieve.store.tables import History, Task
from tests.support.house import NOW, House, make_house
from tests.support.work import done, later, undone


class Killed(BaseException):
    """The worker died."""


def stored(house: House, people: list[int], key: str) -> list[Value]:
    with house.scope.transaction("reader") as unit:
        rows = rows_by_ids(unit.session, unit.definitions, "person", [key], people)
        return [rows[person][key] for person in people]


def told(house: House, person: int) -> list[tuple[str, str, str, str]]:
    with house.scope.transaction("reader") as unit:
        lines = history_of(unit, "person", person)
        return [(line.label, line.old, line.new, line.source) for line in lines if line.label != "Email"]


def saying(*answers: BaseException | None) -> object:
    """Progress that goes well until an answer is an error."""
    return patch.object(Progress, "say", side_effect=[*answers])


class Many(unittest.TestCase):
    def test_many_at_once_are_as_many_one_by_one(self) -> None:
        """The same values, and the same lines of history, derived values that followed among them."""
        house = make_house()
        create_derived(house.scope, DerivedInput(label="Area", formula="plot_length * plot_width"))
        create_derived(house.scope, DerivedInput(label="Large", formula="area > 20"))
        create_derived(house.scope, DerivedInput(label="Digs", formula='tags holds "dug"'))
        start: dict[str, Value] = {"plot_length": Decimal(4), "plot_width": Decimal(5), "tags": ("dug",)}
        ones, many = ([house.add(**start) for _ in range(3)] for _ in range(2))
        wanted: list[dict[str, Value]] = [
            {"plot_length": Decimal(6), "tags": ()},
            {"plot_length": None, "tags": ("dug", "helper")},
            {"plot_length": Decimal(4), "tags": ("dug",)},
        ]
        with house.scope.transaction("clerk") as unit:
            single = [len(change_person(unit, one, new, "staff")) for one, new in zip(ones, wanted, strict=True)]
            together = change_many(
                unit, "person", {**dict(zip(many, wanted, strict=True)), 999_999: wanted[0]}, "staff"
            )
        self.assertEqual((single, len(together), together.rows), ([2, 2, 0], 4, frozenset(many[:2])))
        for key in ("plot_length", "tags"):
            self.assertEqual(stored(house, ones, key), stored(house, many, key))
        for one, other in zip(ones, many, strict=True):
            self.assertEqual(sorted(told(house, one)), sorted(told(house, other)))


class Moves(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.plots = create_record_type(self.scope, RecordTypeInput(singular="Plot", plural="Plots"))
        self.group = create_group(self.scope, GroupInput(name="Soil", about=f"record:{self.plots}"))
        self.people = [self.house.add(favourite=f"soil {number}") for number in range(5)]
        link = read_record_type(self.scope, self.plots).record_type.links[0].id
        self.first = add_record(self.scope, self.plots, {"name": "Old"}, {link: [self.people[1]]})
        patcher = patch.object(moving, "_BATCH", 2)
        patcher.start()
        self.addCleanup(patcher.stop)

    def begin(self) -> int:
        return begin_move(self.scope, self.house.field_id("favourite"), self.group)

    def soils(self) -> list[list[str]]:
        records = [person_records(self.scope, person) for person in self.people]
        return [re.findall(r"soil \w+", repr(found)) for found in records]

    def test_to_records(self) -> None:
        """Each value to the person's first record, or to a new one; killed and taken up again, none comes twice."""
        task = self.begin()
        with saying(None, Killed()), self.assertRaises(Killed):
            done(self.house, task)
        line = done(self.house, task)
        self.assertEqual(line.state, "done", line.message)
        self.assertEqual(self.soils(), [[f"soil {number}"] for number in range(5)])
        with self.scope.transaction("reader") as unit:
            made = unit.catalogue.by_id[line.result["field_id"]]
            self.assertEqual(made.about, f"record:{self.plots}")
            self.assertNotIn("favourite", unit.catalogue.by_key)
            rows = rows_by_ids(unit.session, unit.definitions, made.about, [made.key], [self.first])
        self.assertEqual(rows[self.first][made.key], "soil 1")

    def test_what_is_changed_meanwhile_is_moved_as_it_is_then(self) -> None:
        def change(*_progress: object) -> None:
            with self.scope.transaction("clerk") as unit:
                change_person(unit, self.people[0], {"favourite": "soil new"}, "staff")

        with patch.object(Progress, "say", side_effect=change):
            self.assertEqual(done(self.house, self.begin()).state, "done")
        self.assertEqual(self.soils()[0], ["soil new"])

    def test_stopped(self) -> None:
        before = read_catalogue(self.scope).by_key.keys()
        with saying(None, Stopped("It was stopped.")):
            self.assertEqual(done(self.house, self.begin()).state, "stopped")
        catalogue = read_catalogue(self.scope)
        self.assertEqual(catalogue.by_key.keys(), before)
        self.assertEqual([field.key for field in catalogue.fields_about(f"record:{self.plots}")], ["name"])
        self.assertEqual(stored(self.house, self.people, "favourite"), [f"soil {number}" for number in range(5)])

    def test_a_worker_that_died_at_the_very_end(self) -> None:
        """All was done, and only that was not said; done again, it says so."""
        task = self.begin()
        self.assertEqual(done(self.house, task).state, "done")
        with self.scope.transaction("owner") as unit:
            unit.session.get(Task, task).state = "running"  # type: ignore[union-attr]
        self.assertEqual(done(self.house, task).state, "done")
        self.assertEqual(self.soils(), [[f"soil {number}"] for number in range(5)])

    def test_what_fails_leaves_nothing_behind(self) -> None:
        """The new field goes where the move cannot be done; and what can be known before is said before."""
        with patch.object(moving, "change_many", side_effect=Conflict("no")):
            self.assertEqual(done(self.house, self.begin()).state, "failed")
        catalogue = read_catalogue(self.scope)
        self.assertEqual([field.key for field in catalogue.fields_about(f"record:{self.plots}")], ["name"])
        self.assertIn("favourite", catalogue.by_key)
        alone = create_record_type(self.scope, RecordTypeInput(singular="Shed", plural="Sheds"))
        group = create_group(self.scope, GroupInput(name="Of sheds", about=f"record:{alone}"))
        remove_link(self.scope, read_record_type(self.scope, alone).record_type.links[0].id)
        with self.assertRaises(InvalidInput):
            begin_move(self.scope, self.house.field_id("favourite"), group)

    def test_from_the_house_to_everybody(self) -> None:
        group = create_group(self.scope, GroupInput(name="Of the house", about="house"))
        value = create_field(self.scope, group, FieldInput(label="Rent", type_key="number"))
        set_house_value(self.scope, value, "12")
        task = begin_move(self.scope, value, self.house.group_id())
        with saying(None, Killed()), self.assertRaises(Killed):
            done(self.house, task)
        with self.scope.transaction("clerk") as unit:
            change_person(unit, self.people[0], {"rent": Decimal(7)}, "staff")
        self.assertEqual(done(self.house, task).state, "done")
        self.assertEqual(stored(self.house, self.people, "rent"), [Decimal(7), *[Decimal(12)] * 4])
        self.assertEqual([line[3] for line in told(self.house, self.people[4]) if line[0] == "Rent"], ["moved"])


class Families(unittest.TestCase):
    def test_stopped_and_killed(self) -> None:
        house = make_house()
        people = [house.add() for _ in range(5)]
        for number, person in enumerate(people):
            set_tags(house.scope, person, "bed-dug, helper" if number % 2 else "bed-marked")
        tags = {person: sorted(found) for person, found in zip(people, stored(house, people, "tags"), strict=True)}  # type: ignore[arg-type]

        def begin() -> int:
            return begin_family(house.scope, "bed", ["bed-marked", "bed-dug"], "Bed", house.group_id(), take_off=True)

        with patch.object(tag_families, "_BATCH", 2):

            def stop(*_progress: object) -> None:
                if house.field_id("bed") and stored(house, people[3:], "bed")[0]:
                    set_tags(house.scope, people[0], "came since")
                    raise Stopped("It was stopped.")

            tags[people[0]] = ["bed-marked", "came since"]
            with patch.object(Progress, "say", side_effect=stop):
                self.assertEqual(done(house, begin()).state, "stopped")
            now = {person: sorted(found) for person, found in zip(people, stored(house, people, "tags"), strict=True)}  # type: ignore[arg-type]
            self.assertEqual(now, tags)
            self.assertNotIn("bed", read_catalogue(house.scope).by_key)
            task = begin()
            with saying(None, Killed()), self.assertRaises(Killed):
                done(house, task)
            line = done(house, task)
        self.assertEqual(line.state, "done", line.message)
        key = read_catalogue(house.scope).by_id[line.result["field_id"]].key
        self.assertEqual(stored(house, people, key), ["bed-marked", "bed-dug"] * 2 + ["bed-marked"])
        self.assertEqual({tag.name for tag in list_tags(house.scope) if tag.people}, {"helper", "came since"})


class TakingBack(unittest.TestCase):
    def test_a_change_of_type_is_taken_back_by_a_task(self) -> None:
        """Nothing changes in the request; stopped, it is as it was; asked for twice and done twice, it counts once."""
        house = make_house()
        people = [house.add(favourite=text) for text in ("1", "02", "three")]
        field = house.field_id("favourite")
        change = done(house, begin_type_change(house.scope, field, "number", "", "", {})).result["change"]

        def type_key() -> str:
            return read_catalogue(house.scope).by_id[field].type_key

        first, second = (undo_change(house.scope, change).task for _ in range(2))
        self.assertEqual(type_key(), "number")
        with patch.object(retyping, "_BATCH", 1), saying(None, Stopped("It was stopped.")):
            self.assertEqual(done(house, first).state, "stopped")
        self.assertEqual(type_key(), "number")
        self.assertEqual(
            [done(house, task).state for task in (second, undo_change(house.scope, change).task or second)],
            ["done"] * 2,
        )
        self.assertEqual((type_key(), stored(house, people, "favourite")), ("short_text", ["1", "02", "three"]))
        self.assertEqual(undone(house, change, again=True).state, "done")
        self.assertEqual(type_key(), "number")


class Purging(unittest.TestCase):
    def test_batch_by_batch(self) -> None:
        """Stopped, it says what is gone; taken up again, nothing of the field is left; one brought back stays."""
        house = make_house()
        for number in range(5):
            house.add(favourite=f"kale {number}", plot_length=Decimal(number))
        ids = [house.field_id(key) for key in ("favourite", "plot_length")]
        delete_field(house.scope, ids[0], "Favourite")
        moment = NOW + timedelta(days=91)

        def lines(of: int) -> int:
            with house.scope.transaction("reader") as unit:
                return unit.session.exec(select(func.count()).where(col(History.field_id) == of)).one()

        task = begin_purge(later(house, moment).scope)
        self.assertEqual(read_task(house.scope, task).total, 5)
        with patch.object(deletion, "_BATCH", 2):
            with saying(None, Stopped("It was stopped.")):
                self.assertEqual(
                    done(house, task, moment).message, "It was stopped; what had been removed by then stays removed."
                )
            self.assertEqual(lines(ids[0]), 1)
            task = begin_purge(later(house, moment).scope)
            with saying(Killed()), self.assertRaises(Killed):
                done(house, task, moment)
            self.assertEqual(done(house, task, moment).state, "done")
        self.assertEqual((lines(ids[0]), lines(ids[1])), (0, 5))
        self.assertNotIn(ids[0], read_catalogue(house.scope).by_id)


class BrokenOff(unittest.TestCase):
    def test_what_was_done_by_then_is_told(self) -> None:
        """A task that meets something unexpected does not say that nothing has changed where something may have."""
        house = make_house()

        def begun(done_so_far: int) -> int:
            def work(_scope: Scope, _payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
                if done_so_far:
                    progress.say(done_so_far, 9)
                raise RuntimeError("unexpected")

            with house.scope.transaction("editor") as unit:
                task = begin_task(unit, "keeping", "Something", {})
            with (
                patch.dict("finesieve.services.kernel.tasks._KINDS", {"keeping": work}),
                self.assertLogs(level="ERROR"),
            ):
                done(house, task)
            return task

        self.assertIn("nothing has changed", read_task(house.scope, begun(0)).message)
        told = read_task(house.scope, begun(4))
        self.assertEqual(
            (told.state, told.message), ("failed", "Something went wrong after 4 of 9; what was done by then stays.")
        )


if __name__ == "__main__":
    unittest.main()
