"""House values: one current value for all, changed once, at once everywhere."""

import tempfile
import unittest
from datetime import timedelta
from decimal import Decimal
from pathlib import Path

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.services.compute.derived import DerivedInput, create_derived, preview_formula, read_derived
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.retyping import begin_type_change
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.filling.mapping import (
    allow_mapping,
    change_grant,
    change_mapping,
    list_grants,
    read_mapping,
)
from finesieve.services.filling.open_form import Visit
from finesieve.services.filling.signup import PublicForms
from finesieve.services.forms.composing import (
    FormTexts,
    QuestionInput,
    add_question,
    change_form_texts,
    change_question,
)
from finesieve.services.forms.for_the_house import GROUP, form_for_house_values
from finesieve.services.forms.forms import publish_form, read_draft, read_form
from finesieve.services.kernel.changes import undo_change
from finesieve.services.kernel.links import Links
from finesieve.services.kernel.tasks import run_task
from finesieve.services.people.bench import read_bench
from finesieve.services.people.profiles import read_profile
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment, read_segment
from finesieve.services.upkeep.readings import find_all
from finesieve.services.values.files import examine, open_file, send_file
from finesieve.services.values.house import apply_due, cancel_scheduled, list_house, read_house_value, set_house_value
from finesieve.store.connection.database import Store
from finesieve.store.files.keeping import FileStore
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import Submission, Task
from tests.services.test_collect import make_form, public
from tests.services.test_files import png
from tests.support.database import store
from tests.support.house import NOW, House, make_house
from tests.support.work import done, later, undone

from sqlmodel import col, select  # isort: skip


def furnish(house: House, *fields: FieldInput) -> list[int]:
    """House values in a group of their own."""
    group_id = create_group(house.scope, GroupInput(name="Links and figures", about="house"))
    return [create_field(house.scope, group_id, field) for field in fields]


class HouseValues(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.link, self.rate = furnish(
            self.house,
            FieldInput(label="Swap link", type_key="url"),
            FieldInput(label="Rate", type_key="number"),
        )

    def shown(self, key: str, person: int, house: House | None = None) -> str:
        profile = read_profile((house or self.house).scope, person)
        return next(line.shown for _, lines in profile.groups for line in lines if line.field.key == key)

    def test_changed_once_changed_everywhere_at_once(self) -> None:
        """A public page's text and a formula show the new value with the very next look."""
        form_id = make_form(self.house, "zone")
        view = read_form(self.scope, form_id)
        change_form_texts(
            self.scope, form_id, view.revision, FormTexts(title="Join", intro="Swap at {house.swap_link}.")
        )
        publish_form(self.scope, form_id, read_draft(self.scope, form_id).revision)
        create_derived(
            self.scope,
            DerivedInput(label="Due", formula="plot_length * house.rate", group_id=self.house.group_id()),
        )
        person = self.house.add(plot_length=Decimal(3))
        forms: PublicForms = public()
        for link, rate, due in (("https://one.example", "2", "6"), ("https://two.example", "5", "15")):
            set_house_value(self.scope, self.link, link)
            set_house_value(self.scope, self.rate, rate)
            self.assertEqual(forms.open(self.house.slug, "join-us").form.intro, f"Swap at {link}.")
            self.assertEqual(self.shown("due", person), due)

    def test_a_value_is_awaited_until_it_has_one(self) -> None:
        """It says so with itself, and wherever a text, a formula or a segment names it."""
        form = make_form(self.house, "zone")
        texts = FormTexts(title="Join", thanks="See {house.swap_link}")
        change_form_texts(self.scope, form, read_draft(self.scope, form).revision, texts)
        segment = create_segment(self.scope, "Long")
        change_segment(self.scope, segment, 1, SegmentInput(name="Long", expression="plot_length > house.rate"))

        def awaited() -> list[list[str]]:
            found = (
                read_form(self.scope, form).awaited,
                preview_formula(self.scope, "plot_length * house.rate").awaited,
                read_segment(self.scope, segment).awaited,
                [line.field for _, lines in list_house(self.scope) for line in lines if line.awaited],
            )
            return [[field.key for field in fields] for fields in found]

        self.assertEqual(awaited(), [["swap_link"], ["rate"], ["rate"], ["swap_link", "rate"]])
        set_house_value(self.scope, self.link, "https://one.example")
        set_house_value(self.scope, self.rate, "2")
        self.assertEqual(awaited(), [[], [], [], []])

    def test_it_takes_effect_at_its_moment_with_no_job_run(self) -> None:
        """Before: the old value. From the moment on: the new one, read at once, and in the history at that moment."""
        set_house_value(self.scope, self.rate, "2")
        set_house_value(self.scope, self.rate, "3", effective="2026-11-25T12:00")
        create_derived(
            self.scope, DerivedInput(label="Twice", formula="house.rate * 2", group_id=self.house.group_id())
        )
        person = self.house.add()
        zone = read_catalogue(self.scope).zone
        noon = NOW.astimezone(zone).replace(hour=12, minute=0, second=0, microsecond=0)
        for moment, twice in ((noon - timedelta(seconds=1), "4"), (noon, "6")):
            there = later(self.house, moment)
            self.assertEqual(self.shown("twice", person, there), twice)
        self.assertEqual(len(read_house_value(self.scope, self.rate).scheduled), 1)
        self.assertEqual(apply_due(store(), lambda: noon + timedelta(minutes=1)) > 0, True)
        view = read_house_value(later(self.house, noon + timedelta(minutes=2)).scope, self.rate)
        self.assertEqual((view.line.shown, view.scheduled), ("3", ()))
        self.assertEqual([line.new for line in view.history], ["3", "2"])

    def test_a_change_by_hand_is_later_than_what_took_effect_before_it(self) -> None:
        """Though no job has written the scheduled value yet, the hand has the last word."""
        set_house_value(self.scope, self.rate, "3", effective="2026-11-25T12:00")
        there = later(self.house, NOW + timedelta(hours=5))
        set_house_value(there.scope, self.rate, "5")
        view = read_house_value(there.scope, self.rate)
        self.assertEqual((view.line.shown, [line.new for line in view.history]), ("5", ["5", "3"]))

    def test_what_is_to_come_can_be_taken_back(self) -> None:
        set_house_value(self.scope, self.rate, "9", effective="2026-12-24T08:00")
        waiting = read_house_value(self.scope, self.rate).scheduled[0]
        cancel_scheduled(self.scope, waiting.id)
        self.assertEqual(read_house_value(self.scope, self.rate).scheduled, ())
        with self.assertRaises(NotFound):
            cancel_scheduled(self.scope, waiting.id)

    def test_what_is_to_come_outlives_a_change_of_type(self) -> None:
        """Unreadable as the new type it waits, and nothing breaks; the type changed back, it takes effect."""
        set_house_value(self.scope, self.rate, "2")
        set_house_value(self.scope, self.rate, "9", effective="2026-12-24T08:00")
        task = done(self.house, begin_type_change(self.scope, self.rate, "date", "", "", {}))
        christmas = later(self.house, NOW + timedelta(days=40))
        self.assertEqual(read_house_value(christmas.scope, self.rate).line.shown, "")
        apply_due(store(), lambda: NOW + timedelta(days=40))
        undone(self.house, task.result["change"])
        self.assertEqual(read_house_value(christmas.scope, self.rate).line.shown, "9")

    def test_a_secret_is_not_kept_for_later(self) -> None:
        group = create_group(self.scope, GroupInput(name="Words", about="house"))
        word = create_field(self.scope, group, FieldInput(label="Word", type_key="secret"))
        with self.assertRaises(InvalidInput):
            set_house_value(self.scope, word, "open sesame", effective="2030-01-01T00:00")

    def test_a_computed_one_counts_people(self) -> None:
        swappers = create_derived(
            self.scope,
            DerivedInput(
                label="Swappers",
                formula="count(people where swaps_seed)",
                group_id=next(g.id for g in read_catalogue(self.scope).all_groups if g.about == "house"),
            ),
        )
        self.house.add(swaps_seed=True)
        self.house.add(swaps_seed=False)
        self.house.add(swaps_seed=True)
        self.assertEqual(read_house_value(self.scope, swappers).line.shown, "2")
        self.assertEqual([field.key for field in read_derived(self.scope, swappers).reads], ["swaps_seed"])
        with self.assertRaises(InvalidInput):
            set_house_value(self.scope, swappers, "7")

    def test_refusals(self) -> None:
        for raw, effective, place in (("many", "", "value"), ("1", "tomorrow", "effective")):
            with self.assertRaises(InvalidInput) as caught:
                set_house_value(self.scope, self.rate, raw, effective=effective)
            self.assertIn(place, caught.exception.messages)
        with self.assertRaises(NotAllowed):
            set_house_value(self.house.as_role("reader"), self.rate, "1")
        with self.assertRaises(NotFound):
            set_house_value(self.scope, self.house.field_id("zone"), "north")


class Mapping(unittest.TestCase):
    def test_answers_set_house_values(self) -> None:
        """Similar names are suggested; an answer sent on the form becomes the house's value, with its source."""
        house = make_house()
        (favourite,) = furnish(house, FieldInput(label="Favourite seed", type_key="short_text"))
        form_id = make_form(house, "favourite")
        view = read_mapping(house.scope, form_id)
        asked = house.field_id("favourite")
        self.assertEqual(view.suggested, {asked: "favourite_seed"})
        with self.assertRaises(InvalidInput):
            change_mapping(house.scope, form_id, "", {asked: "nothing_such"})
        change_mapping(house.scope, form_id, "", dict(view.suggested))
        self.send(house, form_id, email="first@hedgerow.example")
        # Anybody may fill in a form: nothing is set before one of the staff has said yes, and to these very pairs.
        self.assertEqual(read_house_value(house.scope, favourite).line.shown, "")
        with self.assertRaises(NotAllowed):
            allow_mapping(house.as_role("clerk"), form_id, "", allowed=True)
        allow_mapping(house.scope, form_id, "", allowed=True)
        self.assertTrue(read_mapping(house.scope, form_id).allowed)
        self.send(house, form_id)
        value = read_house_value(house.scope, favourite)
        self.assertEqual((value.line.shown, value.history[0].source), ("Kale", "form: Join us"))
        change_mapping(house.scope, form_id, "", {})
        change_mapping(house.scope, form_id, "", dict(view.suggested))
        self.assertFalse(read_mapping(house.scope, form_id).allowed)

    def test_who_may(self) -> None:
        """Nobody before a yes; people by their own link; those of a segment; a stranger who only says who they are, not."""
        house = make_house()
        (favourite,) = furnish(house, FieldInput(label="Favourite seed", type_key="short_text"))
        form_id = make_form(house, "favourite")
        change_mapping(house.scope, form_id, "", {house.field_id("favourite"): "favourite_seed"})

        def shown() -> str:
            return read_house_value(house.scope, favourite).line.shown

        for wrong in ("everyone", "segment:", "segment:999999", "segment:x"):
            with self.assertRaises(InvalidInput):
                allow_mapping(house.scope, form_id, "", allowed=True, who=wrong)
        grower = house.add(email="grower@hedgerow.example", zone="north")
        other = house.add(email="other@hedgerow.example", zone="hill")
        growers = create_segment(house.scope, "Growers")
        change_segment(house.scope, growers, 1, SegmentInput(name="Growers", expression='zone = "north"'))
        for who, known, sets in (
            ("known", 0, False), ("known", other, True), (f"segment:{growers}", other, False), (f"segment:{growers}", grower, True),
        ):  # fmt: skip
            set_house_value(house.scope, favourite, "")
            allow_mapping(house.scope, form_id, "", allowed=True, who=who)
            self.send(house, form_id, email="grower@hedgerow.example" if not known else "", me=known)
            self.assertEqual(shown(), "Kale" if sets else "", (who, known))
        set_house_value(house.scope, favourite, "")
        allow_mapping(house.scope, form_id, "", allowed=True, who="yes")
        self.send(house, form_id, email="new@hedgerow.example")
        self.assertEqual(shown(), "")
        waiting = next(one for one in read_bench(house.scope).waiting if one.state == "house_values")
        (asked,) = [one for one in waiting_for(house.scope, waiting.person_id) if one.kind.key == "house_values"]
        self.assertEqual(
            [(line.field.label, line.stored, line.answer) for line in asked.wanted.lines],
            [("Favourite seed", "", "Kale")],
        )
        with self.assertRaises(NotAllowed):
            decide(house.as_role("clerk"), asked.id, apply=True)
        for _ in range(2):
            decide(house.scope, asked.id, apply=True)
        self.assertEqual(shown(), "Kale")

    def test_house_values_chosen_first(self) -> None:
        """Fields, group, form and mapping in one step; what is sent waits for a yes; all of it or nothing."""
        house = make_house()
        ids = furnish(
            house,
            FieldInput(label="Meeting point", type_key="short_text"),
            FieldInput(label="Gate", type_key="choice", options="Open\nShut"),
        )
        before = {field.key for field in read_catalogue(house.scope).all_fields}
        for wrong in ((), (house.field_id("zone"),), (*ids, 999_999)):
            with self.assertRaises(InvalidInput):
                form_for_house_values(house.scope, wrong, "The house")
        with self.assertRaises(InvalidInput):
            form_for_house_values(house.scope, ids, "")
        self.assertEqual({field.key for field in read_catalogue(house.scope).all_fields}, before)
        form_id = form_for_house_values(house.scope, ids, "The house")
        view = read_mapping(house.scope, form_id)
        self.assertEqual(sorted(view.pairs.values()), ["gate", "meeting_point"])
        self.assertEqual((view.allowed, view.who), (True, "yes"))
        gate = next(field for field in view.asked if field.label == "Gate")
        self.assertEqual([option.stored_value for option in gate.options], ["open", "shut"])
        self.assertEqual(read_catalogue(house.scope).groups_by_id[gate.group_id].name, GROUP)
        self.assertEqual(view.passing, frozenset(view.pairs))
        again = form_for_house_values(house.scope, ids[:1], "Once more", kept=True)
        self.assertNotEqual(again, form_id)
        self.assertEqual(read_mapping(house.scope, again).passing, frozenset())

    def test_kept_on_nobody(self) -> None:
        """A passing answer sets the house value and stays with what was sent; nobody has it, confirmed by mail or not."""
        house = make_house()
        (favourite,) = furnish(house, FieldInput(label="Favourite seed", type_key="short_text"))
        form_id = make_form(house, "zone", "favourite")
        change_question(
            house.scope, form_id, read_draft(house.scope, form_id).revision, "q3", QuestionInput(passing=True)
        )
        change_mapping(house.scope, form_id, "", {house.field_id("favourite"): "favourite_seed"})
        allow_mapping(house.scope, form_id, "", allowed=True)
        held = {"favourite": "Beet", "zone": "hill"}
        known = house.add(email="known@hedgerow.example", **held)
        publish_form(house.scope, form_id, read_draft(house.scope, form_id).revision)
        for email, answer in (("new@hedgerow.example", "Kale"), ("known@hedgerow.example", "Leek")):
            given = {"q1": email, "q2": "north", "q3": answer}
            opened = public().open(house.slug, "join-us")
            self.assertTrue(public().send(house.slug, "join-us", opened.token, given, frozenset(given)).sent)
            self.assertEqual(read_house_value(house.scope, favourite).line.shown, answer)
        (asked,) = waiting_for(house.scope, known)
        self.assertEqual([line.field.key for line in asked.wanted.lines], ["email", "zone"])
        decide(house.scope, asked.id, apply=True)
        with house.scope.reading("reader") as unit:
            kept = unit.session.exec(select(Submission).order_by(col(Submission.id))).all()
            self.assertEqual([one.answers["favourite"] for one in kept], ["Kale", "Leek"])
            people = [stored_row(unit.session, unit.definitions, "person", one.person_id) or {} for one in kept]
        self.assertEqual([(one["favourite"], one["zone"]) for one in people], [(None, "north"), ("Beet", "north")])

    def test_a_form_open_to_strangers_is_a_finding(self) -> None:
        house = make_house()
        furnish(house, FieldInput(label="Favourite seed", type_key="short_text"))
        form_id = make_form(house, "favourite")
        change_mapping(house.scope, form_id, "", {house.field_id("favourite"): "favourite_seed"})
        publish_form(house.scope, form_id, read_draft(house.scope, form_id).revision)
        for who, found in (("anyone", True), ("yes", False)):
            allow_mapping(house.scope, form_id, "", allowed=True, who=who)
            self.assertEqual("form-sets-house" in {one.code for one in find_all(house.scope)}, found, who)

    def test_another_workspace_only_with_its_leave(self) -> None:
        """Without leave nothing can be mapped; with it the answer arrives; leave withdrawn, nothing arrives any more."""
        house, other = make_house(), make_house()
        (favourite,) = furnish(other, FieldInput(label="Favourite seed", type_key="short_text"))
        form_id = make_form(house, "favourite")
        pair = {house.field_id("favourite"): "favourite_seed"}
        self.assertTrue(read_mapping(house.scope, form_id, other.slug).problem)
        with self.assertRaises(InvalidInput):
            change_mapping(house.scope, form_id, other.slug, pair)
        self.assertEqual(read_mapping(house.scope, form_id).others, ())
        change_grant(other.scope, house.slug, ["favourite_seed"])
        self.assertEqual([slug for slug, _ in read_mapping(house.scope, form_id).others], [other.slug])
        self.assertEqual(read_mapping(other.scope, make_form(other, "favourite")).others, ())
        self.assertEqual((list_grants(house.scope), len(list_grants(other.scope))), ((), 1))
        change_mapping(house.scope, form_id, other.slug, pair)
        allow_mapping(house.scope, form_id, other.slug, allowed=True)
        self.send(house, form_id)
        self.assertEqual(done(house, self.task(house)).state, "done")
        self.assertEqual(read_house_value(other.scope, favourite).line.shown, "Kale")
        undo_change(other.scope, change_grant(other.scope, house.slug, []))
        self.assertEqual(read_mapping(house.scope, form_id, other.slug).problem, "")
        change_grant(other.scope, house.slug, [])
        self.send(house, form_id, "Leek", "other@hedgerow.example")
        done(house, self.task(house))
        self.assertEqual(read_house_value(other.scope, favourite).line.shown, "Kale")

    def test_a_picture_goes_along(self) -> None:
        """A branch fills in the co-op's form, and has the picture in its own workspace, bytes and all."""
        house, branch = make_house(), make_house()
        (sign,) = furnish(branch, FieldInput(label="Sign", type_key="picture"))
        photo = create_field(house.scope, house.group_id(), FieldInput(label="Photo of the sign", type_key="picture"))
        form_id = make_form(house)
        add_question(house.scope, form_id, read_draft(house.scope, form_id).revision, photo)
        change_grant(branch.scope, house.slug, ["sign"])
        self.assertEqual(read_mapping(house.scope, form_id, branch.slug).suggested, {photo: "sign"})
        change_mapping(house.scope, form_id, branch.slug, {photo: "sign"})
        allow_mapping(house.scope, form_id, branch.slug, allowed=True)
        with tempfile.TemporaryDirectory() as directory:
            files = FileStore(Path(directory))
            with house.scope.transaction("clerk") as unit:
                field = unit.catalogue.by_id[photo]
            token = send_file(house.scope, files, examine(field, "sign.png", png()), form_id)
            self.send(house, form_id, token)
            state = run_task(Store(store().engine, files), house.scope.workspace_id, self.task(house), lambda: NOW)
            self.assertEqual(state, "done")
            self.assertEqual(open_file(branch.scope, files, sign, 1).data, png())

    def task(self, house: House) -> int:
        with house.scope.transaction("reader") as unit:
            return unit.session.exec(select(Task.id).order_by(col(Task.id).desc()).limit(1)).one() or 0

    def send(
        self, house: House, form_id: int, answer: str = "Kale", email: str = "wren@hedgerow.example", me: int = 0
    ) -> None:
        """Send the form, as somebody by their own link where `me` names a person."""
        publish_form(house.scope, form_id, read_draft(house.scope, form_id).revision)
        forms = public()
        link = Links("a secret of the tests").give("me", NOW, form_id, me) if me else ""
        opened = forms.open(house.slug, "join-us", Visit(me=link))
        given = {"q1": email, "q2": answer} if email else {"q2": answer}
        sent = forms.send(house.slug, "join-us", opened.token, given, frozenset({"q1", "q2"}))
        self.assertTrue(sent.sent, sent.outcome.troubles)


if __name__ == "__main__":
    unittest.main()
