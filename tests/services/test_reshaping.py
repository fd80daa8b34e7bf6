"""Changing one's mind: another type, another about, deleting and bringing back, options renamed; nothing is lost."""

import unittest
from datetime import timedelta
from decimal import Decimal
from unittest.mock import patch

from sqlmodel import col, select

from finesieve.core.errors import InvalidExpression, InvalidInput, NotAllowed, NotFound
from finesieve.services.compute.derived import DerivedInput, create_derived, preview_formula
from finesieve.services.define import retyping as reshape
from finesieve.services.define.deletion import begin_purge, delete_field, plan_deletion, restore_field
from finesieve.services.define.fields import FieldInput, create_field, duplicate_field, move_field, rest_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue, read_field
from finesieve.services.define.moving import begin_move, plan_move
from finesieve.services.define.options import (
    OptionInput,
    OptionListInput,
    change_option_list,
    change_options,
    list_option_lists,
    paste_options,
    read_options,
    share_options,
)
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.define.retyping import begin_type_change, plan_type_change
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.forms.composing import QuestionInput, change_question
from finesieve.services.forms.forms import publish_form, read_draft, read_form
from finesieve.services.kernel.changes import undo_change
from finesieve.services.kernel.ledger import list_changes, return_to
from finesieve.services.kernel.tasks import stop_task
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.people.records import person_records
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment, read_segment
from finesieve.services.values.house import read_house_value, set_house_value
from finesieve.services.values.value_lines import history_of
from finesieve.store.reading.rows import rows_by_ids
from finesieve.store.tables import History
from finesieve.store.values.reshape import hold_still
from tests.services.test_collect import make_form, public
from tests.support.house import NOW, House, make_house
from tests.support.work import done, later, undone


def values(house: House, key: str) -> dict[int, object]:
    """What everybody has stored for a field."""
    with house.scope.transaction("reader") as unit:
        ids = [row[0] for row in unit.session.execute(select(unit.definitions.person.c.id))]
        rows = rows_by_ids(unit.session, unit.definitions, "person", [key], ids)
        return {row_id: row.get(key) for row_id, row in sorted(rows.items())}


def history(house: House, person: int, key: str) -> list[tuple[str, str, str]]:
    with house.scope.transaction("reader") as unit:
        return [(line.old, line.new, line.source) for line in history_of(unit, "person", person, key)]


class AnotherType(unittest.TestCase):
    def test_everybody_may_write_while_it_is_written_down(self) -> None:
        """The table is held only at the very end; who changed their value until then has the line that is true."""
        house = make_house()
        field = house.field_id("favourite")
        people = [house.add(favourite=text) for text in ("1", "02", "three")]
        task = begin_type_change(house.scope, field, "number", "", "", {})
        held = []

        def hold(*arguments: object) -> None:
            held.append(arguments)
            if len(held) == 2:
                # All has been written down by now; nobody is kept out yet.
                set_values(house.scope, people[0], {"favourite": "07"})
                set_values(house.scope, people[2], {"favourite": "3"})
            hold_still(*arguments)  # type: ignore[arg-type]

        with patch.object(reshape, "hold_still", hold):
            line = done(house, task)
        self.assertEqual((line.state, line.message), ("done", "2 values look different now."))
        self.assertEqual(values(house, "favourite"), dict(zip(people, map(Decimal, (7, 2, 3)), strict=True)))
        with house.scope.transaction("reader") as unit:
            query = select(History).where(col(History.field_id) == field, col(History.source) == reshape.WAY)
            lines = {one.entity_id: (one.old, one.new) for one in unit.session.exec(query).all()}
        self.assertEqual(lines, {people[0]: ("07", "7"), people[1]: ("02", "2")})
        undone(house, line.result["change"])
        self.assertEqual(values(house, "favourite"), dict(zip(people, ("07", "02", "3"), strict=True)))

    def test_two_thousand_mixed_texts_become_numbers_and_texts_again(self) -> None:
        """The dry run says what converts; each text that does not gets what was chosen; back again nothing is lost."""
        house = make_house()
        field_id = house.field_id("favourite")
        texts = [("12", "3.5", "1,250", "twelve", "0012", "", "-4", "7 ft")[n % 8] for n in range(2_000)]
        for text in texts:
            house.add(favourite=text or None)
        before = values(house, "favourite")
        plan = plan_type_change(house.scope, field_id, "number", "", "m")
        self.assertEqual((plan.converts, plan.fails), (1_250, 500))
        self.assertEqual({(one.shown, one.count) for one in plan.offenders}, {("twelve", 250), ("7 ft", 250)})
        with self.assertRaises(InvalidInput):
            begin_type_change(house.scope, field_id, "number", "", "", {"twelve": "a dozen"})
        task = done(house, begin_type_change(house.scope, field_id, "number", "", "m", {"twelve": "12"}))
        self.assertEqual((task.state, task.done, task.total), ("done", 1_750, 1_750), task.message)
        expected = {
            "12": Decimal(12), "3.5": Decimal("3.5"), "1,250": Decimal(1_250), "twelve": Decimal(12), "0012": Decimal(12),
            "": None, "-4": Decimal(-4), "7 ft": None,
        }  # fmt: skip
        now = values(house, "favourite")
        self.assertEqual(now, {row_id: expected[str(text or "")] for row_id, text in before.items()})
        seven = next(row_id for row_id, text in before.items() if text == "7 ft")
        self.assertEqual(history(house, seven, "favourite")[0], ("7 ft", "", "type change"))
        new = house.add(favourite=Decimal(99))
        undone(house, task.result["change"])
        after = values(house, "favourite")
        self.assertEqual(after.pop(new), "99 m")
        self.assertEqual(after, before)
        self.assertEqual(read_catalogue(house.scope).by_id[field_id].type_key, "short_text")
        late = house.add(favourite="77")
        undone(house, task.result["change"], again=True)
        self.assertEqual(values(house, "favourite"), now | {new: Decimal(99), late: Decimal(77)})

    def test_back_by_a_change_of_type_of_its_own(self) -> None:
        """Number to text by the same way, not by undoing: what did convert is there, as a number is written."""
        house = make_house()
        field_id = house.field_id("favourite")
        person = house.add(favourite="3.50")
        done(house, begin_type_change(house.scope, field_id, "number", "", "", {}))
        done(house, begin_type_change(house.scope, field_id, "short_text", "", "", {}))
        self.assertEqual(values(house, "favourite")[person], "3.5")

    def test_texts_become_a_choice(self) -> None:
        """Each different answer becomes an option; spellings that differ in case only are one."""
        house = make_house()
        people = [house.add(favourite=text) for text in ("Kale", "kale", "Leek")]
        task = done(house, begin_type_change(house.scope, house.field_id("favourite"), "choice", "", "", {}))
        self.assertEqual(task.state, "done", task.message)
        field = read_catalogue(house.scope).by_key["favourite"]
        self.assertEqual([option.label for option in field.options], ["Kale", "Leek"])
        self.assertEqual([values(house, "favourite")[person] for person in people], ["kale", "kale", "leek"])

    def test_what_would_break_is_said_before(self) -> None:
        house = make_house()
        create_derived(
            house.scope,
            DerivedInput(label="Area", formula="plot_length * plot_width", group_id=house.group_id()),
        )
        plan = plan_type_change(house.scope, house.field_id("plot_length"), "short_text")
        self.assertEqual([use.name for use in plan.broken], ["Area"])

    def test_stopped_nothing_has_changed(self) -> None:
        house = make_house()
        person = house.add(favourite="12")
        task_id = begin_type_change(house.scope, house.field_id("favourite"), "number", "", "", {})
        stop_task(house.scope, task_id)
        self.assertEqual(done(house, task_id).state, "stopped")
        self.assertEqual(values(house, "favourite")[person], "12")

    def test_run_twice_it_is_done_once(self) -> None:
        house = make_house()
        house.add(favourite="many")
        task_id = begin_type_change(house.scope, house.field_id("favourite"), "number", "", "", {})
        first = done(house, task_id)
        self.assertEqual(done(house, task_id), first)
        with house.scope.transaction("reader") as unit:
            lines = unit.session.exec(select(History).where(col(History.source) == "type change")).all()
        self.assertEqual(len([line for line in lines if line.workspace_id == house.scope.workspace_id]), 1)

    def test_built_in_fields_and_secrets_stay(self) -> None:
        house = make_house()
        for key, type_key in (("email", "number"), ("favourite", "secret"), ("favourite", "heading")):
            with self.subTest(key=key, type_key=type_key), self.assertRaises(InvalidInput):
                plan_type_change(house.scope, house.field_id(key), type_key)
        with self.assertRaises(NotAllowed):
            plan_type_change(house.as_role("reader"), house.field_id("favourite"), "number")


class AnotherAbout(unittest.TestCase):
    def test_from_people_to_the_house(self) -> None:
        house = make_house()
        group = create_group(house.scope, GroupInput(name="The house", about="house"))
        people = [house.add(favourite=text) for text in ("Kale", "Kale", "Leek")]
        plan = plan_move(house.scope, house.field_id("favourite"), group)
        self.assertEqual([(shown, count) for _, shown, count in plan.choices], [("Kale", 2), ("Leek", 1)])
        old = house.field_id("favourite")
        task = done(house, begin_move(house.scope, old, group, "Kale"))
        self.assertEqual(task.state, "done", task.message)
        self.assertEqual(read_house_value(house.scope, task.result["field_id"]).line.shown, "Kale")
        self.assertNotIn("favourite", read_catalogue(house.scope).by_key)
        restore_field(house.scope, old)
        self.assertEqual(list(values(house, "favourite").values()), ["Kale", "Kale", "Leek"])
        self.assertEqual(len(people), 3)

    def test_from_the_house_to_people(self) -> None:
        house = make_house()
        group = create_group(house.scope, GroupInput(name="The house", about="house"))
        field_id = create_field(house.scope, group, FieldInput(label="Rate", type_key="number"))
        set_house_value(house.scope, field_id, "4")
        people = [house.add(), house.add()]
        done(house, begin_move(house.scope, field_id, house.group_id()))
        self.assertEqual([values(house, "rate")[person] for person in people], [Decimal(4)] * 2)

    def test_from_people_to_their_records(self) -> None:
        house = make_house()
        plots = create_record_type(house.scope, RecordTypeInput(singular="Plot", plural="Plots"))
        group = next(g for g in read_catalogue(house.scope).all_groups if g.about == f"record:{plots}")
        person = house.add(plot_length=Decimal(6))
        without = house.add()
        done(house, begin_move(house.scope, house.field_id("plot_length"), group.id))
        ((_, page),) = person_records(house.scope, person)
        self.assertIn("6 m", page.lines[0].cells)
        self.assertEqual(person_records(house.scope, without)[0][1].lines, ())
        with self.assertRaises(InvalidInput):
            plan_move(house.scope, house.field_id("plot_width"), house.group_id())


class Deleting(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.field_id = self.house.field_id("plot_length")

    def test_in_use_deleted_and_brought_back(self) -> None:
        """What used it says so at its place instead of breaking; back, all values and all uses are as they were."""
        area = create_derived(
            self.scope,
            DerivedInput(label="Area", formula="plot_length * plot_width", group_id=self.house.group_id()),
        )
        segment = create_segment(self.scope, "Long plots")
        change_segment(self.scope, segment, 1, SegmentInput(name="Long plots", expression="plot_length > 4"))
        form = make_form(self.house, "zone", "plot_length", "born")
        change_question(
            self.scope, form, read_draft(self.scope, form).revision, "q4", QuestionInput(show_when="plot_length > 3")
        )
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        people = [self.house.add(plot_length=Decimal(n), plot_width=Decimal(2)) for n in range(1, 8)]
        before = values(self.house, "plot_length")
        plan = plan_deletion(self.scope, self.field_id)
        self.assertEqual(plan.filled, 7)
        self.assertEqual(
            {(use.kind, use.name) for use in plan.uses},
            {("formula", "Area"), ("segment", "Long plots"), ("question", "Join us"), ("rule", "Join us")},
        )
        with self.assertRaises(InvalidInput):
            delete_field(self.scope, self.field_id, "plot length")
        delete_field(self.scope, self.field_id, "Plot length")
        for said in (
            preview_formula(self.scope, "plot_length * 2").problems[0].message,
            read_segment(self.scope, segment).problems[0].message,
            next(problem.message for problem in read_form(self.scope, form).problems),
        ):
            self.assertIn("was deleted", said)
        opened = public().open(self.house.slug, "join-us")
        self.assertNotIn("q3", {shown.question.id for shown in opened.outcome.showing})
        profile = read_profile(self.scope, people[0])
        line = next(line for _, lines in profile.groups for line in lines if line.field.id == area)
        self.assertIn("was deleted", line.wrong)
        restore_field(self.scope, self.field_id)
        self.assertEqual(values(self.house, "plot_length"), before)
        self.assertEqual(preview_formula(self.scope, "plot_length * 2").problems, ())
        self.assertEqual(read_segment(self.scope, segment).problems, ())
        self.assertEqual(read_form(self.scope, form).problems, ())
        self.assertEqual(
            next(
                line.shown
                for _, lines in read_profile(self.scope, people[2]).groups
                for line in lines
                if line.field.id == area
            ),
            "6",
        )

    def test_ninety_days(self) -> None:
        """On the 90th day it still comes back; after that it is gone for good, and its key is free."""
        self.house.add(plot_length=Decimal(5))
        delete_field(self.scope, self.field_id, "Plot length")
        self.assertEqual(begin_purge(later(self.house, NOW + timedelta(days=90)).scope), 0)
        moment = NOW + timedelta(days=90, seconds=1)
        task = begin_purge(later(self.house, moment).scope)
        self.assertEqual(begin_purge(later(self.house, moment).scope), 0, "one at a time")
        self.assertEqual(done(self.house, task, moment).state, "done")
        with self.assertRaises(NotFound):
            restore_field(self.scope, self.field_id)
        create_field(self.scope, self.house.group_id(), FieldInput(label="Plot length", type_key="date"))
        self.assertEqual(set(values(self.house, "plot_length").values()), {None})

    def test_the_key_waits_for_it(self) -> None:
        delete_field(self.scope, self.field_id, "Plot length")
        with self.assertRaises(InvalidInput):
            create_field(self.scope, self.house.group_id(), FieldInput(label="Other", key="plot_length"))

    def test_a_field_rests(self) -> None:
        """Resting it is not asked, its values stay; taken up again in one step."""
        person = self.house.add(plot_length=Decimal(5))
        form = make_form(self.house, "plot_length")
        publish_form(self.scope, form, read_draft(self.scope, form).revision)

        def asked() -> set[str]:
            return {shown.question.id for shown in public().open(self.house.slug, "join-us").outcome.showing}

        change = rest_field(self.scope, self.field_id, resting=True)
        self.assertEqual(asked(), {"q1"})
        self.assertEqual(values(self.house, "plot_length")[person], Decimal(5))
        undo_change(self.scope, change)
        self.assertEqual(asked(), {"q1", "q2"})

    def test_a_duplicate_has_all_but_the_values(self) -> None:
        self.house.add(zone="north")
        copy = read_field(self.scope, duplicate_field(self.scope, self.house.field_id("zone")))
        self.assertEqual((len(copy.field.options), copy.filled), (3, 0))

    def test_moved_to_another_group(self) -> None:
        group = create_group(self.scope, GroupInput(name="The plot"))
        change = move_field(self.scope, self.field_id, group)
        self.assertEqual(read_catalogue(self.scope).by_id[self.field_id].group_id, group)
        undo_change(self.scope, change)
        self.assertEqual(read_catalogue(self.scope).by_id[self.field_id].group_id, self.house.group_id())


class Options(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.zone = self.house.field_id("zone")

    def rows(self, **changed: str) -> list[OptionInput]:
        return [
            OptionInput(was=o.stored_value, label=o.label, value=changed.get(o.stored_value, o.stored_value))
            for o in read_catalogue(self.scope).by_id[self.zone].options
        ]

    def test_a_renamed_value_is_rewritten_everywhere(self) -> None:
        """With everybody who holds it, in every rule, formula and segment, and nowhere else; undone, all is back."""
        other = create_field(
            self.scope, self.house.group_id(), FieldInput(label="Old zone", type_key="choice", options="North\nEast")
        )
        segment = create_segment(self.scope, "Northern")
        text = 'zone = "north" and zone in ("hill", "north") and old_zone = "north"'
        change_segment(self.scope, segment, 1, SegmentInput(name="Northern", expression=text))
        form = make_form(self.house, "zone", "born")
        change_question(
            self.scope, form, read_draft(self.scope, form).revision, "q3", QuestionInput(show_when='zone = "north"')
        )
        person = self.house.add(zone="north", old_zone="north")
        self.assertEqual([use.kind for use in read_options(self.scope, self.zone)[0].uses], ["rule", "segment"])
        change = change_options(self.scope, self.zone, self.rows(north="far_north"))
        self.assertEqual(
            (values(self.house, "zone")[person], values(self.house, "old_zone")[person]), ("far_north", "north")
        )
        self.assertEqual(
            read_segment(self.scope, segment).expression,
            text.replace('zone = "north"', 'zone = "far_north"', 1).replace('"hill", "north"', '"hill", "far_north"'),
        )
        self.assertEqual(read_form(self.scope, form).document.questions[2].show_when, 'zone = "far_north"')
        undo_change(self.scope, change)
        self.assertEqual(values(self.house, "zone")[person], "north")
        self.assertEqual(read_segment(self.scope, segment).expression, text)
        self.assertEqual(read_form(self.scope, form).document.questions[2].show_when, 'zone = "north"')
        self.assertTrue(other)

    def test_people_who_are_filling_in_a_form_notice_nothing(self) -> None:
        """A published rule means the same under the new name, and so does a sign-up that was held before."""
        form = make_form(self.house, "zone", "born")
        change_question(
            self.scope, form, read_draft(self.scope, form).revision, "q3", QuestionInput(show_when='zone = "north"')
        )
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        person = self.house.add(email="wren@hedgerow.example", zone="hill")
        forms = public()
        opened = forms.open(self.house.slug, "join-us")
        forms.send(
            self.house.slug,
            "join-us",
            opened.token,
            {"q1": "wren@hedgerow.example", "q2": "north"},
            frozenset(("q1", "q2", "q3")),
        )
        change = change_options(self.scope, self.zone, self.rows(north="far_north"))

        def shows(zone: str) -> bool:
            outcome = forms.answer(self.house.slug, "join-us", opened.token, {"q2": zone}).outcome
            return "q3" in {one.question.id for one in outcome.showing}

        self.assertEqual((shows("far_north"), shows("hill")), (True, False))
        decide(self.scope, waiting_for(self.scope, person)[0].id, apply=True)
        self.assertEqual(values(self.house, "zone")[person], "far_north")
        undo_change(self.scope, change)
        self.assertTrue(shows("north"))
        self.assertEqual(values(self.house, "zone")[person], "north")

    def test_two_values_change_places(self) -> None:
        people = [self.house.add(zone=zone) for zone in ("north", "hill", "south")]
        change_options(self.scope, self.zone, self.rows(north="hill", hill="north"))
        self.assertEqual([values(self.house, "zone")[person] for person in people], ["hill", "north", "south"])

    def test_pasted(self) -> None:
        """Columns from a sheet; what is held cannot be pasted away; scores and prices stay with their option."""
        self.house.add(zone="north")
        with self.assertRaises(InvalidInput):
            paste_options(self.scope, self.zone, "Hill\nSouth")
        paste_options(self.scope, self.zone, "North\tnorth\t3\t1.50\nHill\nWood\twood\t\t")
        paste_options(self.scope, self.zone, "Wood\nNorth")
        found = read_catalogue(self.scope).by_id[self.zone].options
        self.assertEqual(
            [(o.label, o.score, o.price) for o in found], [("Wood", None, None), ("North", Decimal(3), Decimal("1.50"))]
        )

    def test_a_retired_option_stays_with_its_holders(self) -> None:
        person = self.house.add(zone="north")
        rows = self.rows()
        rows[0] = rows[0].model_copy(update={"retired": True})
        change_options(self.scope, self.zone, rows)
        self.assertEqual(values(self.house, "zone")[person], "north")
        set_values(self.scope, person, {"zone": "north"})
        with self.assertRaises(InvalidInput):
            set_values(self.scope, self.house.add(), {"zone": "north"})

    def test_one_list_shared_by_two_fields(self) -> None:
        """Changed once, both fields offer it; a value renamed in the list is renamed with the holders of both."""
        share_options(self.scope, self.zone, "Zones")
        shared = list_option_lists(self.scope)[0]
        second = create_field(
            self.scope,
            self.house.group_id(),
            FieldInput(label="Second zone", type_key="choice", settings={"option_list": shared.id}),
        )
        person = self.house.add(zone="north", second_zone="north")
        change_option_list(self.scope, shared.id, OptionListInput(name="Zones", options="North\nHill\nSouth\nWood"))
        catalogue = read_catalogue(self.scope)
        self.assertEqual(catalogue.by_id[self.zone].options, catalogue.by_id[second].options)
        self.assertEqual(len(catalogue.by_id[second].options), 4)
        change_options(self.scope, second, self.rows(north="far"))
        self.assertEqual(
            (values(self.house, "zone")[person], values(self.house, "second_zone")[person]), ("far", "far")
        )

    def test_return_to_an_earlier_definition(self) -> None:
        paste_options(self.scope, self.zone, "North\nHill\nSouth\nWood")
        paste_options(self.scope, self.zone, "North\nHill\nSouth\nWood\nMarsh")
        changes, _ = list_changes(self.scope, "field", self.zone)
        self.assertEqual([change.differences[0][0] for change in changes], ["options marsh", "options wood"])
        return_to(self.scope, changes[1].id)
        self.assertEqual(len(read_catalogue(self.scope).by_id[self.zone].options), 3)


class Formulas(unittest.TestCase):
    def test_a_formula_over_a_deleted_field_is_refused_anew(self) -> None:
        house = make_house()
        delete_field(house.scope, house.field_id("plot_length"), "Plot length")
        with self.assertRaises(InvalidExpression):
            create_derived(house.scope, DerivedInput(label="X", formula="plot_length", group_id=house.group_id()))


if __name__ == "__main__":
    unittest.main()
