"""Composing, publishing, and the public sign-up."""

import threading
import unittest
from concurrent.futures import ThreadPoolExecutor
from decimal import Decimal

from sqlmodel import col, select

from finesieve.core.errors import Conflict, InvalidExpression, InvalidInput, NotAllowed, NotFound
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.filling.signup import PublicForms
from finesieve.services.forms.composing import (
    FormTexts,
    QuestionInput,
    add_question,
    arrange,
    change_form_texts,
    change_question,
    remove_part,
)
from finesieve.services.forms.forms import create_form, list_forms, publish_form, read_draft, read_form
from finesieve.services.kernel.changes import undo_change
from finesieve.services.people.listing import list_people
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.store.tables import Submission
from tests.support.database import store
from tests.support.house import NOW, House, make_house


def public() -> PublicForms:
    return PublicForms(store(), lambda: NOW, "a secret of the tests")


def make_form(house: House, *keys: str) -> int:
    """A form that asks the email and these fields."""
    form_id = create_form(house.scope, "Join us")
    for key in keys:
        add_question(house.scope, form_id, read_draft(house.scope, form_id).revision, house.field_id(key))
    return form_id


class Composing(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.form = make_form(self.house, "zone", "plot_length")

    def revision(self) -> int:
        return read_draft(self.scope, self.form).revision

    def test_a_form_begins_with_the_email(self) -> None:
        view = read_form(self.scope, create_form(self.scope, "Join us"))
        self.assertEqual([view.field_of(question).key for question in view.document.questions], ["email"])  # type: ignore[union-attr]
        self.assertEqual((view.slug, view.published, view.problems), ("join-us-2", 0, ()))
        self.assertNotIn("signed_up_on", [field.key for field in view.unasked])
        for title in ("", "  ", "x" * 201):
            with self.assertRaises(InvalidInput):
                create_form(self.scope, title)

    def test_each_change_can_be_undone(self) -> None:
        """Texts, questions and their order come back as they were."""
        before = read_form(self.scope, self.form).document
        for change in (
            lambda: change_form_texts(self.scope, self.form, self.revision(), FormTexts(title="Other")),
            lambda: remove_part(self.scope, self.form, self.revision(), "q2"),
            lambda: arrange(self.scope, self.form, self.revision(), ["s1", "q3", "q1", "q2"]),
            lambda: change_question(
                self.scope, self.form, self.revision(), "q3", QuestionInput(show_when='zone = "north"')
            ),
            lambda: add_question(self.scope, self.form, self.revision(), self.house.field_id("born")),
        ):
            change_id = change()
            self.assertNotEqual(read_form(self.scope, self.form).document, before)
            undo_change(self.scope, change_id)
            self.assertEqual(read_form(self.scope, self.form).document, before)

    def test_refusals_stand_at_their_place(self) -> None:
        for asked, place in (
            (QuestionInput(show_when="zon = 'north'"), "show_when"),
            (QuestionInput(show_when="plot_length"), "show_when"),
            (QuestionInput(checks=({"kind": "range"},)), "checks.0.low"),
            (QuestionInput(checks=({"kind": "range", "low": "3", "high": "1"},)), "checks.0.low"),
            (QuestionInput(checks=({"kind": "unique"}, {"kind": "pattern", "pattern": "("})), "checks.1.pattern"),
            (QuestionInput(checks=({"kind": "range", "low": "many"},)), "checks.0.low"),
            (QuestionInput(checks=({"kind": "condition", "expression": "zon is blank"},)), "checks.0.expression"),
            (QuestionInput(surcharges=({"label": "Extra", "amount": "zone"},)), "surcharges.0.amount"),
            (QuestionInput(required="when", required_when="1 +"), "required_when"),
        ):
            with self.subTest(place), self.assertRaises(InvalidInput) as caught:
                change_question(self.scope, self.form, self.revision(), "q3", asked)
            self.assertIn(place, caught.exception.messages)
        with self.assertRaises(InvalidExpression):
            change_question(self.scope, self.form, self.revision(), "q3", QuestionInput(show_when="1 +"))

    def test_somebody_else_is_not_overwritten(self) -> None:
        """A change on a page that a colleague has overtaken is refused; on one's own older page it is taken."""
        old = self.revision()
        change_form_texts(self.scope, self.form, old, FormTexts(title="Mine"))
        change_form_texts(self.scope, self.form, old, FormTexts(title="Mine again"))
        colleague = self.house.as_role("editor", "Corin Yeo")
        with self.assertRaises(Conflict):
            change_form_texts(colleague, self.form, old, FormTexts(title="Theirs"))
        self.assertEqual(read_form(self.scope, self.form).document.title, "Mine again")
        with self.assertRaises(Conflict):
            publish_form(colleague, self.form, old)

    def test_publishing(self) -> None:
        """Problems are said before; the same draft twice is one version; drafts differ visibly."""
        self.assertEqual(publish_form(self.scope, self.form, self.revision()), 1)
        self.assertEqual(publish_form(self.scope, self.form, self.revision()), 1)
        self.assertFalse(list_forms(self.scope)[0].unpublished)
        remove_part(self.scope, self.form, self.revision(), "q1")
        self.assertTrue(list_forms(self.scope)[0].unpublished)
        with self.assertRaisesRegex(InvalidInput, "email"):
            publish_form(self.scope, self.form, self.revision())
        with self.assertRaises(NotAllowed):
            publish_form(self.house.as_role("clerk"), self.form, self.revision())

    def test_wrong_ids_lead_nowhere(self) -> None:
        other = make_house()
        foreign = make_form(other)
        for attempt in (
            lambda: read_form(self.scope, foreign),
            lambda: publish_form(self.scope, foreign, 1),
            lambda: change_question(self.scope, self.form, self.revision(), "q99", QuestionInput()),
            lambda: remove_part(self.scope, self.form, self.revision(), "q99"),
            lambda: add_question(self.scope, self.form, self.revision(), other.field_id("zone")),
        ):
            with self.assertRaises(NotFound):
                attempt()
        with self.assertRaises(Conflict):
            arrange(self.scope, self.form, self.revision(), ["s1", "q1", "q2"])


class SigningUp(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.form = make_form(self.house, "zone", "plot_length", "first_name")
        rule = QuestionInput(show_when='zone = "north"', checks=({"kind": "range", "low": "1", "high": "60"},))
        change_question(self.scope, self.form, self.revision(), "q3", rule)
        publish_form(self.scope, self.form, self.revision())
        self.forms = public()
        self.asked = frozenset(("q1", "q2", "q3", "q4", "q5"))

    def revision(self) -> int:
        return read_draft(self.scope, self.form).revision

    def send(self, token: str, **answers: str) -> bool:
        return self.forms.send(self.house.slug, "join-us", token, answers, self.asked).sent

    def token(self) -> str:
        return self.forms.open(self.house.slug, "join-us").token

    def submissions(self) -> list[Submission]:
        with store().transaction(self.scope.workspace_id) as session:
            return list(session.exec(select(Submission).order_by(col(Submission.id))).all())

    def test_a_sign_up_becomes_a_person_with_history(self) -> None:
        """What was shown and answered is stored, the rest is not, and each value has its history."""
        self.assertTrue(self.send(self.token(), q1="wren@x.example", q2="hill", q3="7", q4="Wren"))
        (line,) = list_people(self.scope).lines
        profile = read_profile(self.scope, line.id)
        values = {value.field.key: value.shown for _, values in profile.groups for value in values}
        self.assertEqual((values["zone"], values["plot_length"], values["signed_up_on"]), ("Hill", "", "25 Nov 2026"))
        self.assertEqual({(entry.key, entry.new, entry.source) for entry in profile.history},
                         {("email", "wren@x.example", "form: Join us"), ("zone", "Hill", "form: Join us"),
                          ("first_name", "Wren", "form: Join us"), ("signed_up_on", "25 Nov 2026", "form: Join us")})  # fmt: skip

    def test_a_form_with_troubles_stores_nothing(self) -> None:
        token = self.token()
        for answers in (
            {},
            {"q1": "wren"},
            {"q1": "w@x.example", "q2": "north", "q3": "61"},
            {"q1": "w@x.example", "q2": "nort"},
        ):
            self.assertFalse(self.send(token, **answers))
        self.assertEqual((list_people(self.scope).everyone, self.submissions()), (0, []))
        self.assertTrue(self.send(token, q1="w@x.example", q2="north", q3="60"))

    def test_sent_twice_counts_once(self) -> None:
        """A second sending of the same form, even at the same moment, changes nothing."""
        token = self.token()
        threads = [threading.Thread(target=self.send, args=(token,), kwargs={"q1": "w@x.example"}) for _ in range(6)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertTrue(self.send(token, q1="other@x.example"))
        self.assertEqual(list_people(self.scope).everyone, 1)
        self.assertEqual([submission.state for submission in self.submissions()], ["stored"])

    def test_two_people_with_one_email_at_once(self) -> None:
        """Of two sign-ups with one email, one makes the person, the other is held."""
        for number in range(5):
            tokens = [self.token() for _ in range(4)]
            with ThreadPoolExecutor(4) as pool:
                sent = list(pool.map(lambda token: self.send(token, q1=f"W{number}@x.example"), tokens))  # noqa: B023
            # Nobody is told that the address is taken, which would be to learn that it is known.
            self.assertEqual(sent, [True] * 4)
            states = sorted(found.state for found in self.submissions()[-4:])
            self.assertEqual(states, ["held"] * 3 + ["stored"])
        self.assertEqual(list_people(self.scope).everyone, 5)

    def test_a_known_email_changes_nothing_until_the_staff_decide(self) -> None:
        """Somebody who types another's email changes nothing; a clerk takes the answers over, or not."""
        person = self.house.add(email="wren@x.example", zone="hill", first_name="Wren")
        self.assertTrue(self.send(self.token(), q1="WREN@x.example", q2="north", q3="5"))
        profile = read_profile(self.scope, person)
        held = waiting_for(self.scope, person)[0]
        self.assertIn(
            ("Zone", "Hill", "North"), [(line.field.label, line.stored, line.answer) for line in held.wanted.lines]
        )
        with self.assertRaises(NotAllowed):
            decide(self.house.as_role("reader"), held.id, apply=True)
        decide(self.scope, held.id, apply=True)
        decide(self.scope, held.id, apply=True)
        profile = read_profile(self.scope, person)
        self.assertEqual(waiting_for(self.scope, person), ())
        changed = [(line.key, line.old, line.new, line.actor) for line in profile.history if line.old]
        self.assertEqual(changed, [("zone", "Hill", "North", "Maud Ellery")])
        self.assertTrue(self.send(self.token(), q1="wren@x.example", q2="south"))
        self.assertEqual(decide(self.scope, waiting_for(self.scope, person)[0].id, apply=False), person)
        self.assertEqual(len(read_profile(self.scope, person).history), len(profile.history))
        with self.assertRaises(NotFound):
            decide(make_house().scope, held.id, apply=True)

    def test_a_held_answer_whose_option_has_gone(self) -> None:
        """It is said, nothing is changed, and the sign-up still waits."""
        from finesieve.services.define.fields import FieldInput, change_field

        person = self.house.add(email="wren@x.example", zone="hill")
        self.assertTrue(self.send(self.token(), q1="wren@x.example", q2="south"))
        change_field(self.scope, self.house.field_id("zone"), FieldInput(label="Zone", options="North\nHill"))
        (held,) = waiting_for(self.scope, person)
        with self.assertRaisesRegex(Conflict, "Zone"):
            decide(self.scope, held.id, apply=True)
        self.assertEqual(len(waiting_for(self.scope, person)), 1)

    def test_an_earlier_version_is_finished(self) -> None:
        """Somebody who opened version 1 is asked and checked by version 1, though 2 is in force."""
        token = self.token()
        add_question(self.scope, self.form, self.revision(), self.house.field_id("born"))
        change_question(self.scope, self.form, self.revision(), "q5", QuestionInput(required="yes"))
        publish_form(self.scope, self.form, self.revision())
        self.assertEqual(len(self.forms.answer(self.house.slug, "join-us", token, {}).form.questions), 4)
        self.assertTrue(self.send(token, q1="w@x.example"))
        self.assertFalse(self.send(self.token(), q1="v@x.example"))
        self.assertEqual(self.submissions()[0].version, 1)

    def test_a_token_that_is_not_ours_begins_anew(self) -> None:
        """A forged or foreign token loses no answer and gives nothing away."""
        for token in ("", "nonsense", self.token() + "x", "é" * 300):
            opened = self.forms.answer(self.house.slug, "join-us", token, {"q1": "w@x.example"})
            self.assertEqual(opened.outcome.questions[0].raw, "w@x.example")
            self.assertNotEqual(opened.token, token)

    def test_what_was_not_asked_is_asked_first(self) -> None:
        """A question that the last answer brings up is shown before the form is taken, with scripts or without."""
        answers = {"q1": "w@x.example", "q2": "north"}
        opened = self.forms.send(self.house.slug, "join-us", self.token(), answers, frozenset(("q1", "q2", "q4")))
        self.assertEqual((opened.sent, opened.unasked), (False, {"q3"}))
        self.assertEqual(list_people(self.scope).everyone, 0)
        opened = self.forms.send(self.house.slug, "join-us", opened.token, answers, self.asked)
        self.assertTrue(opened.sent)

    def test_unpublished_and_unknown_forms_are_not_there(self) -> None:
        create_form(self.scope, "Secret")
        for workspace, form in ((self.house.slug, "secret"), (self.house.slug, "none"), ("none", "join-us")):
            with self.assertRaises(NotFound):
                self.forms.open(workspace, form)

    def test_a_kept_form_follows_changed_fields(self) -> None:
        """A new option of a field is offered at once, with no publishing."""
        from finesieve.services.define.fields import FieldInput, change_field

        self.assertFalse(self.send(self.token(), q1="w@x.example", q2="west"))
        change_field(
            self.scope, self.house.field_id("zone"), FieldInput(label="Zone", options="North\nHill\nSouth\nWest")
        )
        self.assertTrue(self.send(self.token(), q1="w@x.example", q2="west"))


class Correcting(unittest.TestCase):
    def test_a_correction_is_in_the_history_with_what_it_changes(self) -> None:
        """The value, and the derived values that follow from it, before and after."""
        from finesieve.services.compute.derived import DerivedInput, create_derived

        house = make_house()
        create_derived(house.scope, DerivedInput(label="Area", formula="plot_length * plot_width"))
        person = house.add(plot_length=Decimal(6), plot_width=Decimal(2))
        self.assertEqual(set_values(house.scope, person, {"plot_length": "5", "plot_width": "2"}), 1)
        lines = [(line.key, line.old, line.new, line.source) for line in read_profile(house.scope, person).history[:2]]
        self.assertEqual(lines, [("area", "12", "10", "computed"), ("plot_length", "6 m", "5 m", "staff")])
        self.assertEqual(set_values(house.scope, person, {"plot_length": "5"}), 0)
        with self.assertRaises(InvalidInput) as caught:
            set_values(house.scope, person, {"plot_length": "x", "zone": "nort", "email": ""})
        self.assertEqual(set(caught.exception.messages), {"plot_length", "zone", "email"})
        house.add(email="taken@x.example")
        with self.assertRaises(InvalidInput):
            set_values(house.scope, person, {"email": "Taken@x.example"})
        with self.assertRaises(NotFound):
            set_values(house.scope, 999_999, {"zone": "north"})
        with self.assertRaises(NotAllowed):
            set_values(house.as_role("reader"), person, {"zone": "north"})
