"""Kept derived fields: built, read instead of being worked out, following every change, checked, given up."""

import random
import threading
import unittest
from collections.abc import Callable
from decimal import Decimal
from unittest.mock import patch

from sqlalchemy import text
from sqlmodel import select

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound, TookTooLong
from finesieve.core.fields.about import PERSON
from finesieve.services.compute import keeping
from finesieve.services.compute.derived import DerivedInput, change_derived, create_derived
from finesieve.services.compute.keeping import (
    check_kept,
    cost_of,
    halt_keeping,
    keep_field,
    keep_up,
    read_keeping,
    stop_keeping,
)
from finesieve.services.define.deletion import delete_field, restore_field
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.options import paste_options
from finesieve.services.kernel.tasks import Progress, stop_task
from finesieve.services.people.bulk import BulkInput, Chosen, change_in_bulk
from finesieve.services.people.listing import Listing
from finesieve.services.people.profiles import set_values
from finesieve.services.people.records import add_record, archive_record, change_record, link_record, unlink_record
from finesieve.services.sift.segments import count_segment, keep_as_segment
from finesieve.services.values.house import set_house_value
from finesieve.services.values.writing import add_person, row_of
from finesieve.store.language.kept_fields import kept_table
from finesieve.store.reading.people import page_of_people
from finesieve.store.reading.rows import rows_by_ids
from finesieve.store.tables import KeptField
from finesieve.store.values import kept_fields
from tests.support.gardens import Garden
from tests.support.work import done


class Beds(unittest.TestCase):
    """People with plots; what is kept is worked out of both and of a price of the house."""

    def setUp(self) -> None:
        self.garden = Garden()
        self.scope, self.house = self.garden.scope, self.garden.house
        prices = create_group(self.scope, GroupInput(name="Prices", about="house"))
        self.price = create_field(self.scope, prices, FieldInput(label="Price", type_key="number"))
        set_house_value(self.scope, self.price, "3")
        self.link = read_catalogue(self.scope).record_types[0].main_link.id  # type: ignore[union-attr]
        self.people = [self.house.add(plot_length=Decimal(number), zone="north") for number in range(1, 6)]
        for number, person in enumerate(self.people[:3]):
            self.plot(str(number + 10), person)
        create_derived(self.scope, DerivedInput(label="Twice", formula="plot_length * 2"))
        self.beds = self.derive("Beds", "twice * house.price + sum(plots.size)")

    def derive(self, label: str, formula: str) -> int:
        return create_derived(self.scope, DerivedInput(label=label, formula=formula))

    def plot(self, size: str, *people: int) -> int:
        return add_record(self.scope, self.garden.type, {"size": size}, {self.link: list(people)})

    def keep(self, field_id: int) -> str:
        return done(self.house, keep_field(self.scope, field_id)).message

    def row(self, field_id: int = 0) -> KeptField:
        with self.scope.separate("owner") as unit:
            found = unit.session.get(KeptField, field_id or self.beds)
            assert found is not None
            unit.session.expunge(found)
            return found

    def kept(self, field_id: int = 0) -> dict[int, object]:
        """What stands in the table of the kept values."""
        with self.scope.separate("owner") as unit:
            row = unit.session.get_one(KeptField, field_id or self.beds)
            table = kept_table(unit.definitions, row.field_id, row.generation)
            return {one: value for one, value in unit.session.execute(select(table.c.id, table.c.value))}

    def worked_out(self, key: str = "beds") -> dict[int, object]:
        """What Python works out for everybody from stored values."""
        with self.scope.separate("owner") as unit:
            keys = [field.key for field in unit.catalogue.stored] + ["tags", "lists", "level"]
            ids = list(unit.session.execute(select(unit.definitions.person.c.id)).scalars())
            rows = rows_by_ids(unit.session, unit.definitions, PERSON, keys, ids)
            return {one: row_of(unit, PERSON, one, row)[key] for one, row in rows.items()}

    def read(self, key: str = "beds") -> dict[int, object]:
        """What a page of the list reads."""
        with self.scope.separate("reader") as unit:
            people = page_of_people(unit.session, unit.definitions, unit.moment, [key], limit=500)
            return {person.id: person.values[key] for person in people}

    def spoil(self, person: int) -> None:
        """A kept value that is not as it would be worked out: whoever reads it can be told apart."""
        with self.scope.separate("owner") as unit:
            row = unit.session.get_one(KeptField, self.beds)
            table = kept_table(unit.definitions, row.field_id, row.generation)
            unit.session.execute(table.update().where(table.c.id == person).values(value=Decimal(-1)))


class Kept(Beds):
    def test_built_and_read(self) -> None:
        self.assertEqual(read_keeping(self.scope, self.beds).state, "")
        self.assertIn("Kept for 5 people", self.keep(self.beds))
        seen = read_keeping(self.scope, self.beds)
        self.assertEqual((seen.state, seen.people, seen.percent), ("ready", 5, 100))
        self.assertEqual(self.kept(), self.worked_out())
        self.assertEqual(self.kept()[self.people[1]], Decimal(2 * 2 * 3 + 11))
        self.spoil(self.people[0])
        self.assertEqual(self.read()[self.people[0]], Decimal(-1), "the kept value is read")
        self.assertEqual(count_segment(self.scope, keep_as_segment(self.scope, "Spoilt", "beds < 0")), 1)
        # One that builds on it, and one that asks it within a collection.
        over = self.derive("Over", "beds + 1")
        self.assertEqual(self.read("over")[self.people[0]], Decimal(0))
        self.spoil(self.people[1])
        self.derive("Larger", "count(plots where size > beds)")
        self.assertEqual(self.read("larger")[self.people[0]], Decimal(1))
        self.assertTrue(over)

    def test_what_this_transaction_changed_is_not_read_from_what_is_kept(self) -> None:
        self.keep(self.beds)
        self.spoil(self.people[0])
        with self.scope.transaction("clerk") as unit:
            set_values(self.scope, self.people[1], {"plot_length": "7"})
            people = page_of_people(unit.session, unit.definitions, unit.moment, ["beds"], limit=9)
            self.assertNotIn(Decimal(-1), [person.values["beds"] for person in people])

    def test_follows_every_change(self) -> None:
        """Each in its own transaction, and only of those whom it concerns."""
        self.keep(self.beds)
        first, second, third, fourth, fifth = self.people
        plot = self.plot("5", fourth)
        steps: tuple[tuple[str, Callable[[], object]], ...] = (
            ("a value", lambda: set_values(self.scope, first, {"plot_length": "20"})),
            ("a value made blank", lambda: set_values(self.scope, second, {"plot_length": ""})),
            ("a person", lambda: self.people.append(self.house.add(plot_length=Decimal(3)))),
            ("a record", lambda: self.plot("9", fifth)),
            ("a record's value", lambda: change_record(self.scope, self.garden.type, plot, {"size": "6"})),
            ("a link", lambda: link_record(self.scope, self.garden.type, plot, self.link, third)),
            ("no link", lambda: unlink_record(self.scope, self.garden.type, plot, self.link, third)),
            ("a link again", lambda: link_record(self.scope, self.garden.type, plot, self.link, fourth)),
            ("put away", lambda: archive_record(self.scope, self.garden.type, plot, archived=True)),
            ("taken out", lambda: archive_record(self.scope, self.garden.type, plot, archived=False)),
            ("in bulk", lambda: change_in_bulk(
                self.scope, Chosen(ids=(third, fourth)), BulkInput(what="set", field=self.house.field_id("plot_length"), value="8"))),
            ("by a form", lambda: (self.garden.publish(), self.garden.send(q1="new@x.example", q2="north", q4_1="clay", q5_1="7"))),
        )  # fmt: skip
        for what, change in steps:
            before = self.kept()
            change()
            self.assertNotEqual(self.kept(), before, what)
            self.assertEqual(self.kept(), self.worked_out(), what)
        self.assertEqual(read_keeping(self.scope, self.beds).state, "ready")
        self.spoil(first)
        set_values(self.scope, second, {"plot_length": "4"})
        self.assertEqual(self.kept()[first], Decimal(-1), "nobody else was worked out")

    def test_random_writes(self) -> None:
        """Kept is as worked out, whatever was written, in whatever order."""
        chance = random.Random(7)
        deep = self.derive("Deep", "if(beds > 30 and any(plots where size > 8), round(beds / 7, 2), plot_length)")
        for field in (self.beds, deep):
            self.keep(field)
        plots = [self.plot("1", self.people[0])]
        for _ in range(60):
            person, size = chance.choice(self.people), str(chance.randrange(30))
            match chance.randrange(5):
                case 0:
                    set_values(self.scope, person, {"plot_length": chance.choice(("", size))})
                case 1:
                    plots.append(self.plot(size, person))
                case 2:
                    change_record(self.scope, self.garden.type, chance.choice(plots), {"size": size})
                case 3:
                    archive_record(self.scope, self.garden.type, chance.choice(plots), archived=chance.random() < 0.5)
                case 4:
                    self.people.append(self.house.add(plot_length=Decimal(size)))
        self.assertEqual(self.kept(self.beds), self.worked_out("beds"))
        self.assertEqual(self.kept(deep), self.worked_out("deep"))

    def test_two_at_once_with_plots_of_one_person(self) -> None:
        """Neither sees the other's plot when it begins; whoever ends last counts both."""
        self.keep(self.beds)
        person = self.people[4]
        together = threading.Barrier(2, timeout=20)

        def write(size: str) -> None:
            with self.scope.transaction("clerk"):
                self.plot(size, person)
                together.wait()

        threads = [threading.Thread(target=write, args=(size,)) for size in ("100", "1000")]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(30)
        self.assertEqual(self.kept()[person], Decimal(5 * 2 * 3 + 1100))
        self.assertEqual(self.kept(), self.worked_out())


class Outdated(Beds):
    """What is kept is never read where it may not be true, and is kept anew."""

    def outdated(self) -> None:
        """It is not read, and the worker puts it right."""
        self.assertEqual(read_keeping(self.scope, self.beds).state, "outdated")
        self.assertEqual(self.read(), self.worked_out())
        self.assertEqual(keep_up(self.scope), 1)
        self.assertEqual(keep_up(self.scope), 0, "it is under way")
        self.assertEqual(done(self.house, self.row().task_id).state, "done")
        self.assertEqual(read_keeping(self.scope, self.beds).state, "ready")
        self.assertEqual(self.kept(), self.worked_out())
        self.assertEqual(keep_up(self.scope), 0)

    def test_another_house_value(self) -> None:
        self.keep(self.beds)
        set_house_value(self.scope, self.price, "4")
        self.outdated()
        # There and back: what was written meanwhile is not missed.
        set_house_value(self.scope, self.price, "5")
        set_values(self.scope, self.people[0], {"plot_length": "50"})
        set_house_value(self.scope, self.price, "4")
        self.outdated()

    def test_another_formula(self) -> None:
        self.keep(self.beds)
        twice = read_catalogue(self.scope).by_key["twice"].id
        change = change_derived(self.scope, twice, DerivedInput(label="Twice", formula="plot_length * 20"))
        self.outdated()
        self.assertTrue(change)
        change_derived(self.scope, self.beds, DerivedInput(label="Beds", formula="label(zone) & text(twice)"))
        self.outdated()

    def test_too_many_at_once(self) -> None:
        """Whoever changes more people than that does not wait for their values."""
        self.keep(self.beds)
        with patch.object(kept_fields, "MOST_FOLLOWED", 3):
            zone = BulkInput(what="set", field=self.house.field_id("plot_length"), value="2")
            found = change_in_bulk(self.scope, Chosen(listing=Listing()), zone)
            if found.task:
                done(self.house, found.task)
        self.outdated()

    def test_brought_back(self) -> None:
        """A field that is deleted and comes back has not missed what was written meanwhile."""
        self.keep(self.beds)
        delete_field(self.scope, self.beds, "Beds")
        set_values(self.scope, self.people[0], {"plot_length": "50"})
        restore_field(self.scope, self.beds)
        self.outdated()

    def test_found_by_the_check(self) -> None:
        self.keep(self.beds)
        self.assertEqual(check_kept(self.scope), 0)
        seen = read_keeping(self.scope, self.beds)
        self.assertEqual((seen.checked, seen.differed, seen.state), (5, 0, "ready"))
        self.spoil(self.people[0])
        with self.scope.separate("owner") as unit:
            table = kept_table(unit.definitions, self.beds, self.row().generation)
            unit.session.execute(table.delete().where(table.c.id == self.people[1]))
        with self.assertLogs("finesieve.keeping", "ERROR"):
            self.assertEqual(check_kept(self.scope), 2)
        self.assertEqual(read_keeping(self.scope, self.beds).differed, 2)
        self.outdated()

    def test_options_with_other_scores_and_other_values(self) -> None:
        """What an option counts, and what it is stored as, is a part of what a value rests on."""
        self.beds = self.derive("Points", "score(zone) + plot_length")
        paste_options(self.scope, self.house.field_id("zone"), "North\tnorth\t1\nHill\thill\t2")
        self.keep(self.beds)
        self.assertEqual(self.kept(), self.worked_out("points"))
        paste_options(self.scope, self.house.field_id("zone"), "North\tnorth\t10\nHill\thill\t2")
        self.assertEqual(read_keeping(self.scope, self.beds).state, "outdated")
        self.assertEqual(self.read("points"), self.worked_out("points"))


class Building(Beds):
    def test_stopped_and_gone_on_with(self) -> None:
        with patch.multiple(keeping, _FIRST=2, _LARGEST=2):
            task = keep_field(self.scope, self.beds)
            self.assertEqual(keep_field(self.scope, self.beds), task, "a double click begins one")
            self.stop_after(2, task)
            self.assertEqual(done(self.house, task).state, "stopped")
            self.assertEqual(read_keeping(self.scope, self.beds).state, "stopped")
            there = self.kept()
            self.assertTrue(0 < len(there) < 5, there)
            self.assertEqual(self.read(), self.worked_out())
            set_values(self.scope, self.people[0], {"plot_length": "70"})
            generation = self.row().generation
            self.assertEqual(keep_up(self.scope), 0, "what somebody stopped stays so")
            self.assertIn("Kept for 5 people", self.keep(self.beds))
        self.assertTrue(generation)
        self.assertEqual(self.kept(), self.worked_out())

    def stop_after(self, ranges: int, task: int) -> None:
        """Have somebody stop the task when so many ranges are built."""
        real, said = Progress.say, []

        def say(progress: Progress, so_far: int, total: int) -> None:
            said.append(so_far)
            if len(said) == ranges:
                stop_task(self.scope, task)
            real(progress, so_far, total)

        self.enterContext(patch.object(Progress, "say", say))

    def test_stopped_before_a_worker_had_begun(self) -> None:
        """It stays stopped, whatever is changed meanwhile, until somebody goes on with it."""
        task = keep_field(self.scope, self.beds)
        halt_keeping(self.scope, self.beds)
        self.assertEqual(done(self.house, task).state, "stopped")
        self.assertEqual(read_keeping(self.scope, self.beds).state, "stopped")
        self.assertEqual(keep_up(self.scope), 0)
        set_house_value(self.scope, self.price, "9")
        self.assertEqual(keep_up(self.scope), 0)
        self.assertIn("Kept for 5 people", self.keep(self.beds))

    def test_outdated_while_it_is_stopped(self) -> None:
        with patch.multiple(keeping, _FIRST=2, _LARGEST=2):
            task = keep_field(self.scope, self.beds)
            self.stop_after(2, task)
            done(self.house, task)
        set_house_value(self.scope, self.price, "9")
        self.assertEqual(read_keeping(self.scope, self.beds).state, "stopped")
        self.assertEqual(keep_up(self.scope), 0)

    def test_two_begin_at_once(self) -> None:
        together, tasks = threading.Barrier(2, timeout=20), []

        def begin() -> None:
            together.wait()
            tasks.append(keep_field(self.scope, self.beds))

        threads = [threading.Thread(target=begin) for _ in range(2)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(20)
        self.assertEqual(len(tasks), 2)
        self.assertEqual(len(set(tasks)), 1, "one task")

    def test_killed_and_taken_up(self) -> None:
        """What a killed worker had built is gone on with, and what changed in between is right."""

        class Killed(BaseException):
            pass

        def killed_on_the_way(_progress: Progress, done_so_far: int, _total: int) -> None:
            if done_so_far:  # not while it waits for whoever was writing
                raise Killed

        task = keep_field(self.scope, self.beds)
        with (
            patch.object(keeping, "_FIRST", 2),
            patch.object(Progress, "say", killed_on_the_way),
            self.assertRaises(Killed),
        ):
            done(self.house, task)
        built = self.kept()
        self.assertTrue(0 < len(built) < 5)
        set_values(self.scope, self.people[0], {"plot_length": "70"})
        set_values(self.scope, self.people[4], {"plot_length": "71"})
        generation = self.row().generation
        self.assertEqual(done(self.house, task).state, "done")
        self.assertEqual(self.row().generation, generation)
        self.assertEqual(self.kept(), self.worked_out())

    def test_whoever_wrote_before_it_began_is_waited_for(self) -> None:
        """A transaction that does not know that anything is kept is over before the first value is read."""
        begun, wrote = threading.Event(), threading.Event()

        def write() -> None:
            with self.scope.transaction("clerk") as unit:
                set_values(self.scope, self.people[0], {"plot_length": "90"})
                from finesieve.store.definitions.state import _move_on

                _move_on(unit.session)  # what its end does; then it dawdles
                begun.set()
                wrote.wait(20)

        thread = threading.Thread(target=write)
        thread.start()
        begun.wait(20)
        task = keep_field(self.scope, self.beds)
        building = threading.Thread(target=done, args=(self.house, task))
        building.start()
        building.join(1.5)
        self.assertTrue(building.is_alive(), "it waits")
        wrote.set()
        thread.join(20)
        building.join(20)
        self.assertEqual(self.kept(), self.worked_out())

    def test_what_changes_while_it_is_built(self) -> None:
        """By somebody else, before a range is built and after; by somebody new as well."""
        real, chance, other = keeping.build_range, random.Random(3), self.house.as_role("editor")
        left = [True] * 4  # else it would never come to the end of those who are new

        def change() -> None:
            if not left:
                return
            left.pop()
            for person in (self.people[0], self.people[-1]):
                set_values(other, person, {"plot_length": str(chance.randrange(99))})
            with other.transaction("clerk") as unit:
                add_person(unit, {"email": f"n{chance.random()}@x.example", "plot_length": Decimal(5)}, "import")

        def build(*given: object) -> int:
            change()
            found = real(*given)  # type: ignore[arg-type]
            change()
            return found

        with patch.multiple(keeping, _FIRST=2, _LARGEST=2, build_range=build):
            self.keep(self.beds)
        self.assertEqual(len(self.kept()), 9, "with those who are new")
        self.assertEqual(self.kept(), self.worked_out())

    def test_what_cannot_be_built_is_not_tried_for_ever(self) -> None:
        task = keep_field(self.scope, self.beds)
        with patch.object(keeping, "build_range", side_effect=InvalidInput({"": "The database cannot work this out."})):
            self.assertEqual(done(self.house, task).state, "failed")
        seen = read_keeping(self.scope, self.beds)
        self.assertEqual((seen.state, seen.failure), ("stopped", "The database cannot work this out."))
        self.assertEqual(keep_up(self.scope), 0)
        self.assertIn("Kept for 5 people", self.keep(self.beds))

    def test_what_cannot_follow_keeps_nobody_from_writing(self) -> None:
        self.keep(self.beds)
        too_long = patch.object(kept_fields, "_put", side_effect=TookTooLong("too long"))
        with too_long, self.assertLogs("finesieve.keeping", "ERROR"):
            set_values(self.scope, self.people[0], {"plot_length": "33"})
        self.assertEqual(read_keeping(self.scope, self.beds).state, "outdated")
        self.assertEqual(self.read()[self.people[0]], Decimal(33 * 2 * 3 + 10))

    def test_left_behind(self) -> None:
        """What was stopped and not gone on with is forgotten over night, as is what is kept of a field that is no more."""
        with patch.multiple(keeping, _FIRST=2, _LARGEST=2):
            task = keep_field(self.scope, self.beds)
            self.stop_after(2, task)
            done(self.house, task)
        check_kept(self.scope)
        self.assertEqual((self.row().meaning, self.tables()), ("", 0))
        self.assertIn("Kept for 5 people", self.keep(self.beds))
        self.assertEqual(self.kept(), self.worked_out())

    def tables(self) -> int:
        with self.scope.separate("owner") as unit:
            query = "SELECT count(*) FROM pg_tables WHERE schemaname = :s AND tablename LIKE 'kept_%'"
            return int(unit.session.execute(text(query), {"s": f"w_{unit.workspace_id}"}).scalar_one())

    def test_given_up(self) -> None:
        self.keep(self.beds)
        self.spoil(self.people[0])
        stop_keeping(self.scope, self.beds)
        self.assertEqual(read_keeping(self.scope, self.beds).state, "")
        self.assertEqual(self.read(), self.worked_out())
        self.assertEqual(keep_up(self.scope), 0)
        self.keep(self.beds)
        self.assertEqual(self.kept(), self.worked_out())
        self.keep(self.beds)
        self.assertLessEqual(self.tables(), 2, "tables that nobody reads any more are gone")


class Refused(Beds):
    def test_what_cannot_be_kept(self) -> None:
        create_derived(
            self.scope,
            DerivedInput(label="All of them", formula="count(people)", group_id=read_catalogue(self.scope).groups_about("house")[-1].id),
        )  # fmt: skip
        for formula, why in (
            ("age(born)", "from day to day"),
            ("days_until(born)", "from day to day"),
            ("last_change(zone) is filled", "how values have changed"),
            ("plot_length + house.all_of_them", "All of them of the house"),
        ):
            field = self.derive(f"F {formula}", formula)
            self.assertIn(why, read_keeping(self.scope, field).why_not)
            with self.assertRaises(InvalidInput) as caught:
                keep_field(self.scope, field)
            self.assertIn(why, str(caught.exception))
        # One that was kept, and cannot be any more.
        self.keep(self.beds)
        change_derived(self.scope, self.beds, DerivedInput(label="Beds", formula="age(born)"))
        seen = read_keeping(self.scope, self.beds)
        self.assertEqual((seen.state, "from day to day" in seen.why_not, keep_up(self.scope)), ("", True, 0))
        # Over however many steps.
        field = self.derive("On top", f"{read_catalogue(self.scope).by_id[field].key} + 1")
        self.assertIn("All of them", read_keeping(self.scope, field).why_not)

    def test_who_may(self) -> None:
        for role in ("reader", "clerk"):
            with self.assertRaises(NotAllowed):
                keep_field(self.house.as_role(role), self.beds)
            with self.assertRaises(NotAllowed):
                stop_keeping(self.house.as_role(role), self.beds)
        with self.assertRaises(NotFound):
            keep_field(self.scope, self.house.field_id("zone"))
        other = Garden()
        with self.assertRaises(NotFound):
            read_keeping(other.scope, self.beds)

    def test_cost(self) -> None:
        found = cost_of(self.scope, self.beds)
        self.assertEqual(found.people, 5)
        self.assertGreater(found.worked_out, 0)
        self.assertGreater(found.kept, 0)


if __name__ == "__main__":
    unittest.main()
