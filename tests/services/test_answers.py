"""Answers of every kind on a public form, and what of them a person may change; fields made in passing."""

import unittest
from decimal import Decimal

from finesieve.core.errors import Conflict, InvalidInput, NotAllowed, NotFound
from finesieve.core.fields.manner import Titles
from finesieve.office.define.going_on import go_on
from finesieve.services.compute.derived import DerivedInput, create_derived, preview_formula
from finesieve.services.compute.language import words_here
from finesieve.services.define.fields import FieldInput, change_field, create_field
from finesieve.services.define.groups import GroupInput, change_group, create_group, read_catalogue
from finesieve.services.define.memberships import MembershipInput, create_membership, set_person_level
from finesieve.services.define.options import OptionInput, change_options
from finesieve.services.define.record_types import RecordTypeInput, create_record_type, read_record_type
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.forms.asking import forms_asking, set_forms_asking
from finesieve.services.forms.composing import QuestionInput, add_question, change_question
from finesieve.services.forms.forms import publish_form, read_draft, read_form
from finesieve.services.forms.rehearsing import Circumstances, rehearse
from finesieve.services.kernel.changes import undo_change
from finesieve.services.kernel.ledger import change_manner
from finesieve.services.kernel.manner import MannerInput
from finesieve.services.kernel.scope import Scope
from finesieve.services.people.listing import list_people
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.people.putting_back import put_back
from finesieve.services.people.records import add_record, change_record, find_titles, read_record
from finesieve.services.sift.export import export_segment
from finesieve.services.sift.segments import (
    SegmentInput,
    change_segment,
    count_segment,
    create_segment,
    list_segments,
    read_segment,
)
from finesieve.services.sift.trays import tray_people
from finesieve.services.transfer.exports import values_as_csv
from finesieve.services.upkeep.readings import read_values_of
from finesieve.services.values.house import list_house, read_house_value, set_house_value
from tests.services.test_collect import make_form, public
from tests.support.house import House, make_house


def shown(house: House, person: int, key: str) -> str:
    profile = read_profile(house.scope, person)
    return next(line.shown for _, lines in profile.groups for line in lines if line.field.key == key)


class Answering(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope

    def send(self, answers: dict[str, str]) -> dict[str, str]:
        """Send the form; gives what is wrong, by question."""
        forms = public()
        sent = forms.send(
            self.house.slug, "join-us", forms.open(self.house.slug, "join-us").token, answers, frozenset(answers)
        )
        return {one.question.id: one.message for one in sent.outcome.troubles}

    def published(self, *keys: str) -> int:
        form = make_form(self.house, *keys)
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        return form

    def test_a_retired_option_is_neither_offered_nor_taken(self) -> None:
        options = [OptionInput(was=z, label=z, value=z, retired=z == "north") for z in ("north", "hill", "south")]
        change_options(self.scope, self.house.field_id("zone"), options)
        self.published("zone")
        self.assertIn("not offered any more", self.send({"q1": "a@hedgerow.example", "q2": "north"})["q2"])
        self.assertEqual(self.send({"q1": "a@hedgerow.example", "q2": "hill"}), {})

    def test_a_record_is_chosen_by_its_title(self) -> None:
        """The titles are offered as they are at that moment; another number is no answer."""
        plots = create_record_type(self.scope, RecordTypeInput(singular="Plot", plural="Plots"))
        create_field(
            self.scope, self.house.group_id(),
            FieldInput(label="Wish", type_key="record", settings={"record_type": plots}),
        )  # fmt: skip
        self.published("wish")
        plot = add_record(self.scope, plots, {"name": "A1"}, {})
        field = public().open(self.house.slug, "join-us").outcome.showing[1].field
        self.assertEqual(dict(field.manner.titles.by_id), {str(plot): "A1"})
        self.assertIn("q2", self.send({"q1": "a@hedgerow.example", "q2": "999999"}))
        self.assertEqual(self.send({"q1": "a@hedgerow.example", "q2": str(plot)}), {})

    def test_one_of_many_records_is_searched_for(self) -> None:
        """Beyond fifty the newest are offered; a search finds the others, and what is chosen stays offered."""
        plots = create_record_type(self.scope, RecordTypeInput(singular="Plot", plural="Plots"))
        wish = FieldInput(label="Wish", type_key="record", settings={"record_type": plots})
        create_field(self.scope, self.house.group_id(), wish)
        self.published("wish")
        ids = [str(add_record(self.scope, plots, {"name": f"Bed {number:03}"}, {})) for number in range(60)]
        forms = public()
        token = forms.open(self.house.slug, "join-us").token

        def offered(**answers: str) -> Titles:
            given = {name.replace("find_", "find:"): text for name, text in answers.items()}
            return forms.answer(self.house.slug, "join-us", token, given).outcome.showing[1].field.manner.titles

        self.assertEqual((len(offered().by_id), offered().more, ids[0] in offered().by_id), (50, True, False))
        self.assertEqual(list(offered(find_q2="bed 007").by_id), [ids[7]])
        self.assertEqual(set(offered(find_q2="007", q2=ids[1]).by_id), {ids[1], ids[7]})
        self.assertEqual(offered(find_q2="nowhere").by_id, {})
        self.assertEqual(self.send({"q1": "a@hedgerow.example", "q2": ids[0]}), {})
        self.assertEqual(list(find_titles(self.scope, plots, "059").by_id), [ids[59]])
        profile = read_profile(self.scope, list_people(self.scope, limit=1).lines[0].id)
        line = next(line for _, lines in profile.groups for line in lines if line.field.key == "wish")
        self.assertEqual((line.shown, line.field.manner.titles.more), ("Bed 000", True))

    def test_questions_say_house_values(self) -> None:
        group = create_group(self.scope, GroupInput(name="House", about="house"))
        hours = create_field(self.scope, group, FieldInput(label="Hours", type_key="short_text"))
        set_house_value(self.scope, hours, "9 to 5")
        change_field(
            self.scope,
            self.house.field_id("favourite"),
            FieldInput(label="Favourite", help="We are here {house.hours}."),
        )
        self.published("favourite")
        self.assertEqual(public().open(self.house.slug, "join-us").outcome.showing[1].help, "We are here 9 to 5.")

    def test_private_fields_are_not_asked(self) -> None:
        """Of a field made private, or a group shown to staff only, nothing is asked and nothing is taken."""
        self.published("zone", "favourite")
        change_field(
            self.scope, self.house.field_id("favourite"), FieldInput(label="Favourite", settings={"private": True})
        )
        self.assertEqual(self.send({"q1": "a@hedgerow.example", "q2": "hill", "q3": "Kale"}), {})
        person = 1
        self.assertEqual(shown(self.house, person, "favourite"), "")
        group = read_catalogue(self.scope).groups[0]
        change_group(self.scope, group.id, GroupInput(name=group.name, seen_by="staff"))
        self.assertEqual(public().open(self.house.slug, "join-us").outcome.showing, ())

    def test_who_may_change_what_is_filled(self) -> None:
        """Anyone, staff, nobody, members of a level: what the person may not change is not taken over."""
        level = create_membership(self.scope, "level", MembershipInput(name="Steward"))
        for key, label, type_key, settings in (
            ("favourite", "Favourite", "short_text", {"change_by": "once"}),
            ("born", "Born", "date", {"change_by": "staff"}),
            ("plot_length", "Plot length", "number", {"change_by": "levels", "change_levels": [level]}),
        ):
            change_field(
                self.scope, self.house.field_id(key), FieldInput(label=label, type_key=type_key, settings=settings)
            )
        person = self.house.add(email="wren@hedgerow.example", favourite="Kale", zone="north", plot_length=Decimal(3))
        set_values(self.scope, person, {"born": "2000-02-29"})
        self.published("favourite", "born", "plot_length", "zone")
        answers = {"q1": "wren@hedgerow.example", "q2": "Leek", "q3": "1999-01-01", "q4": "7", "q5": "hill"}
        self.assertEqual(self.send(answers), {})
        held = waiting_for(self.scope, person)[0]
        self.assertEqual(
            {line.field.key for line in held.wanted.lines if line.refused}, {"favourite", "born", "plot_length"}
        )
        set_person_level(self.scope, person, "steward")
        decide(self.scope, held.id, apply=True)
        self.assertEqual(
            [shown(self.house, person, key) for key in ("favourite", "born", "plot_length", "zone")],
            ["Kale", "29 Feb 2000", "7", "Hill"],
        )
        with self.assertRaises(InvalidInput):
            set_values(self.scope, person, {"favourite": "Leek"})
        set_values(self.scope, person, {"born": "2001-01-01"})

    def test_each_value_only_once(self) -> None:
        """A second person cannot have it, whatever the case; by staff and by a form alike."""
        change_field(
            self.scope, self.house.field_id("favourite"), FieldInput(label="Favourite", settings={"unique": True})
        )
        self.published("favourite")
        self.assertEqual(self.send({"q1": "a@hedgerow.example", "q2": "Kale"}), {})
        self.assertIn("q2", self.send({"q1": "b@hedgerow.example", "q2": "kale"}))
        with self.assertRaises(InvalidInput):
            set_values(self.scope, self.house.add(), {"favourite": "KALE"})

    def test_the_house_writes_in_its_way(self) -> None:
        """Language, currency and country decide how values are read and shown; what is stored stays."""
        create_field(self.scope, self.house.group_id(), FieldInput(label="Fee", type_key="money"))
        person = self.house.add(fee=Decimal("1250.5"), born=None)
        before = shown(self.house, person, "fee")
        change = change_manner(
            self.scope, MannerInput(language="de_DE", zone="Europe/Berlin", currency="EUR", country="DE")
        )
        self.assertEqual(shown(self.house, person, "fee"), "1.250,50\xa0€")
        self.assertNotEqual(before, shown(self.house, person, "fee"))
        set_values(self.scope, person, {"fee": "2.000,75"})
        self.assertEqual(shown(self.house, person, "fee"), "2.000,75\xa0€")
        with self.assertRaises(NotAllowed):
            undo_change(self.house.as_role("editor"), change)
        undo_change(self.scope, change)
        self.assertEqual(shown(self.house, person, "fee"), "£2,000.75")


class EditorsOnly(unittest.TestCase):
    """The values of a group that only editors see are seen by nobody else, wherever they could come to light."""

    def setUp(self) -> None:
        self.house = make_house(fields=False)
        scope = self.house.scope
        group = create_group(scope, GroupInput(name="Kept close", seen_by="editors"))
        self.field = create_field(
            scope, group, FieldInput(label="Debt", type_key="number", settings={"searchable": True})
        )
        create_derived(scope, DerivedInput(label="Twice", formula="debt * 2", group_id=self.house.group_id()))
        self.person = self.house.add(email="wren@hedgerow.example", debt=Decimal(777))
        self.segment = create_segment(scope, "Owing")
        change_segment(scope, self.segment, 1, SegmentInput(name="Owing", expression="debt > 1"))
        house_group = create_group(scope, GroupInput(name="Also close", about="house", seen_by="editors"))
        self.value = create_field(scope, house_group, FieldInput(label="Margin", type_key="number"))
        set_house_value(scope, self.value, "777")

    def seen(self, scope: Scope) -> dict[str, str]:
        """All that somebody sees of it, by where."""
        profile = read_profile(scope, self.person)
        lines = [line for _, found in profile.groups for line in found]
        return {
            "profile": repr([line.shown for line in lines]),
            "worked": repr([line.worked for line in lines]),
            "history": repr([(line.old, line.new) for line in profile.history]),
            "sieve": repr(read_segment(scope, self.segment).people),
            "export": "".join(export_segment(scope, create_segment(self.house.scope, "All"))[1]),
            "list": repr(list_people(scope).lines),
            "house": repr([line.shown for _, found in list_house(scope) for line in found]),
            "reading": repr(read_values_of(scope, self.field)),
        }

    def test_an_editor_sees_it_and_a_clerk_does_not(self) -> None:
        for where, found in self.seen(self.house.scope).items():
            with self.subTest(where):
                self.assertIn("777", found)
        clerk = self.house.as_role("clerk")
        for where, found in self.seen(clerk).items():
            with self.subTest(where, role="clerk"):
                self.assertNotIn("777", found)
        for refused in (
            lambda: values_as_csv(clerk, self.field),
            lambda: export_segment(clerk, self.segment),
            lambda: tray_people(clerk, self.segment, 0, "passes"),
            lambda: read_house_value(clerk, self.value),
        ):
            with self.assertRaises(NotAllowed):
                refused()
        with self.assertRaises(InvalidInput):
            set_values(clerk, self.person, {"debt": "1"})
        line = read_profile(self.house.scope, self.person, "debt").history[0]
        with self.assertRaises(NotFound):
            put_back(clerk, line.id)
        self.assertEqual(list_people(clerk, search="777").lines, ())

    def test_titles_of_records(self) -> None:
        """Where the field that names a record is for editors only, others read its number, in the history too."""
        scope = self.house.scope
        plots = create_record_type(scope, RecordTypeInput(singular="Plot", plural="Plots"))
        group = read_catalogue(scope).groups_about(f"record:{plots}")[0].id
        change_group(scope, group, GroupInput(name="Plots", about=f"record:{plots}", seen_by="editors"))
        link = read_record_type(scope, plots).record_type.links[0].id
        add_record(scope, plots, {"name": "Quillmarrow"}, {link: [self.person]})
        choice = FieldInput(label="Best plot", type_key="record", settings={"record_type": plots})
        create_field(scope, self.house.group_id(), choice)
        for role, shows in (("clerk", False), ("editor", True)):
            profile = read_profile(self.house.as_role(role), self.person)  # type: ignore[arg-type]
            offered = [line.field.manner.titles for _, found in profile.groups for line in found]
            self.assertEqual("Quillmarrow" in repr(offered), shows, role)
            self.assertEqual("Quillmarrow" in repr(profile.history), shows, role)

    def test_unknown_to_the_expressions_of_others(self) -> None:
        """One rule, in the checker's world: what a reader may not see is no name of theirs, through derived fields too."""
        create_derived(
            self.house.scope, DerivedInput(label="Thrice", formula="twice + 1", group_id=self.house.group_id())
        )
        for role in ("reader", "clerk"):
            scope = self.house.as_role(role)  # type: ignore[arg-type]
            for formula in (
                "debt",
                "twice * 2",
                "thrice",
                "house.margin",
                "debt is blank",
                "if(debt > 5, 1, 2)",
                "last_change(debt)",
                "value_on(twice, today())",
            ):
                with self.subTest(role=role, formula=formula):
                    preview = preview_formula(scope, formula)
                    self.assertEqual([problem.code for problem in preview.problems], ["unknown-field"])
                    self.assertEqual((preview.samples, preview.people, preview.blank), ((), 0, 0))
            self.assertTrue(preview_formula(scope, "debt * 2", "twice").withheld)
            words = {word.text for word in words_here(scope)}
            self.assertFalse(words & {"debt", "twice", "thrice", "house.margin"})
            view = read_segment(scope, self.segment)
            self.assertEqual((view.withheld, view.everyone, view.meshes, view.people), (True, 0, (), None))
            self.assertEqual([entry.people for entry in list_segments(scope)], [None])
            self.assertIsNone(count_segment(scope, self.segment))
        self.assertEqual(preview_formula(self.house.scope, "thrice").samples[0].shown, "1555")
        self.assertEqual(count_segment(self.house.scope, self.segment), 1)

    def test_a_rehearsal_leaves_it_blank(self) -> None:
        """Rehearsed as that person by a reader, no rule tells what is kept of them."""
        form = make_form(self.house)
        asked = create_field(self.house.scope, self.house.group_id(), FieldInput(label="Why"))
        add_question(self.house.scope, form, read_draft(self.house.scope, form).revision, asked)
        for rule in ("debt > 700", "twice > 700", "house.margin > 700"):
            revision = read_draft(self.house.scope, form).revision
            change_question(self.house.scope, form, revision, "q2", QuestionInput(show_when=rule))
            shows = {
                role: rehearse(self.house.as_role(role), form, Circumstances(person=self.person), {})
                .outcome.of("q2")
                .verdict  # type: ignore[arg-type,union-attr]
                for role in ("editor", "clerk", "reader")
            }
            self.assertEqual(shows, {"editor": True, "clerk": None, "reader": None}, rule)


class PuttingBack(unittest.TestCase):
    """The value before any line of the history comes back, for people, the house and records alike."""

    def test_a_value_of_each(self) -> None:
        house = make_house()
        scope = house.scope
        group = create_group(scope, GroupInput(name="House", about="house"))
        hours = create_field(scope, group, FieldInput(label="Hours"))
        plots = create_record_type(scope, RecordTypeInput(singular="Plot", plural="Plots"))
        plot, person = add_record(scope, plots, {"name": "A1"}, {}), house.add(zone="north")
        change_record(scope, plots, plot, {"name": "B1"})
        set_values(scope, person, {"zone": "hill"})
        for value in ("9 to 5", "10 to 4"):
            set_house_value(scope, hours, value)
        histories = (
            (lambda: read_profile(scope, person, "zone").history, "North"),
            (lambda: read_record(scope, plots, plot).history, "A1"),
            (lambda: read_house_value(scope, hours).history, "9 to 5"),
        )
        for history, before in histories:
            line = history()[0]
            self.assertEqual((line.old, put_back(scope, line.id), history()[0].new), (before, 1, before))
            self.assertEqual(put_back(scope, line.id), 0)
        with self.assertRaises(NotAllowed):
            put_back(house.as_role("clerk"), histories[2][0]()[0].id)
        with self.assertRaises(NotAllowed):
            put_back(house.as_role("reader"), histories[0][0]()[0].id)
        with self.assertRaises(NotFound):
            put_back(make_house().scope, histories[0][0]()[0].id)

    def test_what_cannot_be_kept_any_more(self) -> None:
        house = make_house()
        person = house.add(zone="north")
        set_values(house.scope, person, {"zone": "hill"})
        options = [OptionInput(was=z, label=z, value=z) for z in ("hill", "south")]
        change_options(house.scope, house.field_id("zone"), options)
        with self.assertRaises(Conflict):
            put_back(house.scope, read_profile(house.scope, person, "zone").history[0].id)


class Asking(unittest.TestCase):
    def test_the_forms_that_ask_in_one_place(self) -> None:
        """Ticked they ask, in their drafts; unticked they do not; what a question overrides is said."""
        house = make_house()
        first, second = make_form(house, "zone"), make_form(house)
        zone = house.field_id("zone")
        rule = QuestionInput(show_when="swaps_seed", label="Where?")
        change_question(house.scope, first, read_draft(house.scope, first).revision, "q2", rule)
        self.assertEqual(
            [(one.asks, one.overrides) for one in forms_asking(house.scope, zone)],
            [(True, ("its label", "a rule")), (False, ())],
        )
        self.assertEqual(set_forms_asking(house.scope, zone, [second]), 2)
        self.assertEqual([one.asks for one in forms_asking(house.scope, zone)], [False, True])
        self.assertEqual(set_forms_asking(house.scope, zone, [second]), 0)


class Passing(unittest.TestCase):
    def test_made_where_it_was_wanted(self) -> None:
        """Asked in the form, added to the segment, or back to the page; never to another site."""
        house = make_house()
        form, segment = make_form(house), create_segment(house.scope, "Some")
        field = house.field_id("zone")
        self.assertEqual(go_on(house.scope, f"question:{form}", field), f"collect/{form}")
        self.assertEqual(read_form(house.scope, form).document.questions[-1].field_id, field)
        for expression, after in (
            ("", "zone is filled"),
            ("swaps_seed", "swaps_seed\nand zone is filled"),
            ("swaps_seed or born is blank", None),
        ):
            view = read_segment(house.scope, segment)
            change_segment(house.scope, segment, view.revision, SegmentInput(name="Some", expression=expression))
            self.assertEqual(go_on(house.scope, f"mesh:{segment}", field), f"sift/{segment}")
            self.assertEqual(read_segment(house.scope, segment).expression, after or expression)
        self.assertEqual(go_on(house.scope, "compute/new", field), "compute/new")
        for then in ("//elsewhere.example", "https://elsewhere.example", "define/1\r\nX: y", "../..", ""):
            self.assertEqual(go_on(house.scope, then, field), "")


if __name__ == "__main__":
    unittest.main()
