"""What was lost or wrong once: each of these failed before it was mended."""

import unittest
from unittest.mock import patch

from sqlmodel import select

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define import tagging
from finesieve.services.define.deletion import plan_deletion
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_field_in, read_catalogue
from finesieve.services.define.memberships import MembershipInput, create_membership, list_tags, set_lists
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.define.tagging import plan_tag_off, take_tag_off
from finesieve.services.filling.mapping import change_grant
from finesieve.services.forms.asking import set_forms_asking
from finesieve.services.forms.composing import add_question, remove_part
from finesieve.services.forms.forms import create_form, publish_form, read_draft, read_form
from finesieve.services.forms.rehearsing import Circumstances, rehearse
from finesieve.services.kernel.changes import undo_change
from finesieve.services.kernel.ledger import list_changes
from finesieve.services.kernel.tasks import Progress, Stopped
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.people.records import add_record, unlink_record
from finesieve.services.upkeep.readings import find_all
from finesieve.services.usage.uses import uses_of
from finesieve.store.tables import Submission, TagRow
from tests.support.gardens import Garden
from tests.support.house import House, make_house
from tests.support.work import done


def history(house: House, person: int) -> list[tuple[str, str, str]]:
    return [(line.label, line.old, line.new) for line in read_profile(house.scope, person).history]


class LiveForms(unittest.TestCase):
    """A form in force counts as much as its draft, and the two are told apart."""

    def setUp(self) -> None:
        self.garden = Garden()
        self.garden.question("q2", show_when='swaps_seed and favourite = "Kale"')
        self.garden.publish()
        self.garden.do(remove_part, "q2")

    def uses(self, key: str) -> list[tuple[str, str]]:
        with self.garden.scope.transaction("reader") as unit:
            found = uses_of(unit).of_field(self.garden.house.field_id(key))
            return [(use.kind, use.standing) for use in found]

    def test_where_used_and_deletion(self) -> None:
        self.assertEqual(self.uses("zone"), [("question", "in force")])
        self.assertEqual(self.uses("favourite"), [("rule", "in force")])
        self.assertEqual(self.uses("swaps_seed"), [("question", ""), ("rule", "in force")])
        plan = plan_deletion(self.garden.scope, self.garden.house.field_id("zone"))
        self.assertEqual([use.standing for use in plan.uses], ["in force"])
        self.garden.do(add_question, self.garden.house.field_id("plot_width"))
        self.assertEqual(self.uses("plot_width"), [("question", "draft")])
        self.garden.publish()
        self.assertEqual((self.uses("zone"), self.uses("plot_width")), ([], [("question", "")]))

    def test_findings(self) -> None:
        """What is wrong in force is found there though the draft is mended already."""
        self.garden.do(add_question, self.garden.house.field_id("zone"))
        self.garden.question("q6", show_when="swaps_seed and not swaps_seed")
        self.garden.publish()
        self.garden.question("q6", show_when="")
        found = [one.message for one in find_all(self.garden.scope) if "never" in one.message and "Zone" in one.message]
        self.assertEqual(len(found), 1)
        self.assertIn("(in force)", found[0])

    def test_a_new_form_is_known_at_once(self) -> None:
        email = read_catalogue(self.garden.scope).by_key["email"].id
        self.uses("zone")
        create_form(self.garden.scope, "Another")
        with self.garden.scope.transaction("reader") as unit:
            self.assertIn("Another", [use.name for use in uses_of(unit).of_field(email)])


class Lists(unittest.TestCase):
    def test_limited_to_a_list(self) -> None:
        """Neither asked of others nor stored for them, by a form, by staff or by anybody."""
        house = make_house()
        board = create_membership(house.scope, "list", MembershipInput(name="Swap board"))
        field = create_field(house.scope, house.group_id(), FieldInput(label="Offers", settings={"lists": [board]}))
        form = create_form(house.scope, "Join us")
        add_question(house.scope, form, read_draft(house.scope, form).revision, field)
        on, off = house.add(), house.add()
        set_lists(house.scope, on, ["swap_board"])

        def shows(person: int) -> tuple[bool, dict[str, object]]:
            outcome = rehearse(house.scope, form, Circumstances(person=person), {"q2": "Kale seed"}).outcome
            return outcome.of("q2").shows, {
                key: value for key, value in outcome.results().of(PERSON).items() if key == "offers"
            }  # type: ignore[union-attr]

        self.assertEqual(shows(on), (True, {"offers": "Kale seed"}))
        self.assertEqual((shows(off), shows(0)), ((False, {}), (False, {})))
        self.assertEqual(set_values(house.scope, on, {"offers": "Kale seed"}), 1)
        with self.assertRaises(InvalidInput) as caught:
            set_values(house.scope, off, {"offers": "Kale seed"})
        self.assertIn("Swap board", caught.exception.messages["offers"])


class Tags(unittest.TestCase):
    def test_taken_off_everyone_and_put_on_again(self) -> None:
        """Undone, it is on those whom it was taken off, and on nobody who had lost it before; again, it is off."""
        house = make_house()
        people = [house.add(tags=("open day", "dug")), house.add(tags=("open day",)), house.add(tags=("dug",))]
        with house.scope.transaction("editor") as unit:
            unit.session.add(TagRow(workspace_id=unit.workspace_id, name="open day"))

        def tags() -> list[tuple[str, ...]]:
            return [tuple(sorted(read_profile(house.scope, person).memberships.tags)) for person in people]

        before = tags()
        create_derived(house.scope, DerivedInput(label="Came", formula='tags holds "open day"'))
        plan = plan_tag_off(house.scope, "open day")
        self.assertEqual(
            (plan.people, [one for one, _ in plan.some], [use.name for use in plan.uses]), (2, people[:2], ["Came"])
        )
        with self.assertRaises(NotFound):
            plan_tag_off(house.scope, "nobody has it")
        self.assertEqual(tags(), before)
        taken = take_tag_off(house.scope, "open day")
        self.assertEqual((taken.people, tags()), (2, [("dug",), (), ("dug",)]))
        for _ in range(2):
            undo_change(house.scope, taken.change)
        self.assertEqual(tags(), before)
        self.assertIn("open day", [tag.name for tag in list_tags(house.scope)])
        undo_change(house.scope, taken.change, again=True)
        self.assertEqual(tags(), [("dug",), (), ("dug",)])

    def test_a_tag_of_many_goes_and_comes_by_tasks(self) -> None:
        """In batches, with history and what follows; stopped half-way, it is as before; undone, it comes by a task too."""
        house = make_house()
        create_derived(house.scope, DerivedInput(label="Digs", formula='tags holds "dug"'))
        people = [house.add(tags=("dug", "helper") if number % 2 else ("dug",)) for number in range(7)]
        with house.scope.transaction("editor") as unit:
            unit.session.add(TagRow(workspace_id=unit.workspace_id, name="dug"))

        def carrying() -> int:
            return {tag.name: tag.people for tag in list_tags(house.scope)}.get("dug", -1)

        with patch.object(tagging, "AT_ONCE", 3):
            taken = take_tag_off(house.scope, "dug")
            self.assertEqual((taken.people, taken.change, carrying()), (0, 0, 7))
            with patch.object(Progress, "say", side_effect=[None, Stopped("It was stopped.")]):
                self.assertEqual(done(house, taken.task).state, "stopped")
            self.assertEqual(carrying(), 7)
            taken = take_tag_off(house.scope, "dug")
            self.assertEqual(done(house, taken.task).state, "done")
            self.assertEqual(done(house, taken.task).message, "Nobody has it any more.")
            self.assertEqual(carrying(), -1)
            history = read_profile(house.scope, people[1]).history
            self.assertEqual({(line.old, line.new) for line in history[:2]}, {("helper, dug", "helper"), ("yes", "no")})
            undo_change(house.scope, list_changes(house.scope)[0][0].id)
            self.assertEqual(carrying(), 0)
            self.assertEqual(done(house, taken.task + 1).message, "7 people changed.")
            self.assertEqual(carrying(), 7)


class Values(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope

    def test_restore_is_offered_where_it_can_be_done(self) -> None:
        once = create_field(self.scope, self.house.group_id(), FieldInput(label="Once", settings={"change_by": "once"}))
        self.assertTrue(once)
        person = self.house.add()
        set_values(self.scope, person, {"once": "a", "favourite": "Kale", "zone": "north"})
        set_values(self.scope, person, {"favourite": "Leek"})
        offered = {(line.key, line.old): line.returnable for line in read_profile(self.scope, person).history}
        self.assertTrue(offered[("favourite", "Kale")])
        self.assertFalse(offered[("once", "")])
        self.assertFalse(offered[("email", "")])
        set_values(self.scope, person, {"favourite": "Kale"})
        offered = {(line.key, line.old): line.returnable for line in read_profile(self.scope, person).history}
        self.assertFalse(offered[("favourite", "Kale")])  # it is that already

    def test_charges_of_a_sending_are_kept(self) -> None:
        garden = Garden()
        garden.question("q3", surcharges=({"label": "Swap table", "amount": "3.50"},))
        garden.publish()
        garden.send(q1="wren@x.example", q3="yes")
        with garden.scope.transaction("reader") as unit:
            self.assertEqual(
                unit.session.exec(select(Submission)).one().charges,
                [["Swap table", "3.5", "Swaps seed: yes", garden.house.field_id("swaps_seed")]],
            )

    def test_leave_is_given_to_workspaces_that_there_are(self) -> None:
        other = make_house(fields=False)
        for slug in ("no-such-house", self.house.slug):
            with self.assertRaises(InvalidInput):
                change_grant(self.scope, slug, ["anything"])
        self.assertEqual(change_grant(self.scope, other.slug, []), 0)

    def test_a_choice_among_records_needs_its_type(self) -> None:
        for record_type in (None, 10_000):
            with self.assertRaises(InvalidInput) as caught:
                create_field(
                    self.scope,
                    self.house.group_id(),
                    FieldInput(label="Plot", type_key="record", settings={"record_type": record_type}),
                )
            self.assertIn("record_type", caught.exception.messages)

    def test_a_refused_field_leaves_no_group_behind(self) -> None:
        asked = FieldInput(label="Bad", type_key="choice", options="")
        before = [group.name for group in read_catalogue(self.scope).all_groups]
        with self.assertRaises(InvalidInput):
            create_field_in(self.scope, GroupInput(name="House values", about="house"), asked)
        self.assertEqual([group.name for group in read_catalogue(self.scope).all_groups], before)


class Records(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.plots = create_record_type(self.house.scope, RecordTypeInput(singular="Plot", plural="Plots"))
        self.link = read_catalogue(self.house.scope).record_types_by_id[self.plots].links[0]

    def test_in_the_history_of_the_person(self) -> None:
        person = self.house.add()
        record = add_record(self.house.scope, self.plots, {"name": "A1"}, {self.link.id: [person]})
        self.assertIn(("Plots", "", "A1"), history(self.house, person))
        unlink_record(self.house.scope, self.plots, record, self.link.id, person)
        self.assertEqual(history(self.house, person)[0], ("Plots", "A1", ""))

    def test_a_choice_among_more_than_five_hundred(self) -> None:
        """The oldest can still be chosen, by staff and on a form, and shows its title."""
        field = create_field(
            self.house.scope,
            self.house.group_id(),
            FieldInput(label="Bed", type_key="record", settings={"record_type": self.plots}),
        )
        first = add_record(self.house.scope, self.plots, {"name": "The first"}, {})
        with self.house.scope.transaction("clerk") as unit:
            from finesieve.store.values.rows import insert_row

            for number in range(505):
                insert_row(unit.session, unit.definitions, f"record:{self.plots}", {"name": f"No. {number}"})
        person = self.house.add()
        self.assertEqual(set_values(self.house.scope, person, {"bed": str(first)}), 1)
        shown = [
            line.shown
            for _, found in read_profile(self.house.scope, person).groups
            for line in found
            if line.field.id == field
        ]
        self.assertEqual(shown, ["The first"])
        form = create_form(self.house.scope, "Join us")
        add_question(self.house.scope, form, read_draft(self.house.scope, form).revision, field)
        outcome = rehearse(self.house.scope, form, Circumstances(), {"q2": str(first)}).outcome
        self.assertEqual(outcome.results().of(PERSON)["bed"], str(first))

    def test_asked_in_stays_out_of_repeated_sections(self) -> None:
        garden = Garden()
        set_forms_asking(garden.scope, garden.house.field_id("favourite"), [garden.form])
        document = read_form(garden.scope, garden.form).document
        place = next(one.id for one in document.questions if one.field_id == garden.house.field_id("favourite"))
        self.assertEqual(document.section_of(place).id, "s1")  # type: ignore[union-attr]
        self.assertTrue(publish_form(garden.scope, garden.form, read_draft(garden.scope, garden.form).revision))


if __name__ == "__main__":
    unittest.main()
