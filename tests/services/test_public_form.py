"""The public form whole: records, known people, letters, challenge, limits, languages, hidden values."""

import unittest
from datetime import timedelta
from decimal import Decimal

from sqlmodel import col, select

from finesieve.core.errors import NotFound, TooOften
from finesieve.services.collect import read_form
from finesieve.services.compose import FormSettings, add_question, change_form_settings, set_phrases
from finesieve.services.held import decide_held
from finesieve.services.outbox import read_outbox
from finesieve.services.people import list_people, read_profile
from finesieve.services.records import person_records
from finesieve.services.signup import PublicForms, Visit
from finesieve.store.tables import Submission
from tests.support.database import store
from tests.support.gardens import Garden
from tests.support.house import NOW


class Filling(unittest.TestCase):
    def setUp(self) -> None:
        self.garden = Garden()
        self.garden.publish()
        self.scope = self.garden.scope

    def plots(self, person: int) -> list[list[str]]:
        return [list(line.cells) for _, page in person_records(self.scope, person) for line in page.lines]

    def test_records_are_added_with_their_history(self) -> None:
        self.assertTrue(self.garden.send(q1="wren@x.example", s2="1 2", q4_1="clay", q5_1="3", q5_2="4").sent)
        (person,) = list_people(self.scope).lines
        self.assertEqual(self.plots(person.id), [["Clay", "3 m"], ["", "4 m"]])

    def test_of_several_fillings_the_summary_says_which(self) -> None:
        opened = self.garden.send(q1="wren@x.example", s2="1 2", q5_1="3", q5_2="wide")
        (wrong,) = opened.outcome.troubles
        self.assertEqual(opened.name_of(wrong), "Plot 2: Size")
        self.assertEqual(opened.name_of(opened.outcome.questions[0]), "Email")

    def test_a_known_email_waits_for_the_letter(self) -> None:
        """Nothing changes and nothing known is shown until its reader says that the answers are theirs; once only."""
        person = self.garden.house.add(email="wren@x.example", zone="hill")
        opened = self.garden.send(q1="Wren@x.example", q2="north", s2="1", q4_1="clay", q5_1="3")
        self.assertTrue(opened.sent)
        self.assertIn("Hill", [line.stored for line in read_profile(self.scope, person).held[0].lines])
        (letter,) = read_outbox(self.scope).letters
        self.assertEqual((letter.recipient, letter.person_id), ("Wren@x.example", person))
        self.assertNotIn("hill", letter.body.lower())
        token = letter.link.partition("letter=")[2]
        seen = self.garden.forms.read_letter(self.garden.house.slug, "join-us", token)
        self.assertIn(("Zone", "North"), seen.lines)
        self.assertIn(("Plot", "Soil: Clay, Size: 3 m"), seen.lines)
        self.assertEqual(read_profile(self.scope, person).held[0].records, (("Plot", "Soil: Clay, Size: 3 m"),))
        self.assertFalse(seen.decided)
        done = self.garden.forms.confirm(self.garden.house.slug, "join-us", token, mine=True)
        self.garden.forms.confirm(self.garden.house.slug, "join-us", token, mine=True)
        history = [
            (line.key, line.old, line.new, line.source)
            for line in read_profile(self.scope, person).history
            if line.key == "zone"
        ]
        self.assertEqual(history[0], ("zone", "Hill", "North", "form, confirmed by mail"))
        self.assertEqual(self.plots(person), [["Clay", "3 m"]])
        known = self.garden.open(visit=Visit(me=done.me))
        self.assertEqual((known.known, known.outcome.questions[1].raw), (True, "north"))
        late = PublicForms(store(), lambda: NOW + timedelta(days=31), "a secret of the tests")
        self.assertFalse(late.open(self.garden.house.slug, "join-us", Visit(me=done.me)).known)
        self.assertEqual(read_outbox(self.garden.house.as_role("reader")).letters[0].link, "")

    def test_staff_decide_once(self) -> None:
        """Taken over twice it counts once; what was taken over cannot be set aside after."""
        person = self.garden.house.add(email="wren@x.example")
        self.garden.send(q1="wren@x.example", s2="1", q5_1="3")
        (held,) = read_profile(self.scope, person).held
        for apply in (True, True, False):
            self.assertEqual(decide_held(self.scope, held.id, apply=apply), person)
        self.assertEqual(self.plots(person), [["", "3 m"]])
        self.assertEqual(read_profile(self.scope, person).held, ())

    def test_it_was_not_me(self) -> None:
        person = self.garden.house.add(email="wren@x.example", zone="hill")
        self.garden.send(q1="wren@x.example", q2="north")
        token = read_outbox(self.scope).letters[0].link.partition("letter=")[2]
        self.assertEqual(self.garden.forms.confirm(self.garden.house.slug, "join-us", token, mine=False).me, "")
        self.garden.forms.confirm(self.garden.house.slug, "join-us", token, mine=True)
        self.assertEqual([line.key for line in read_profile(self.scope, person).history if line.new == "North"], [])

    def test_links_that_are_not_ours_lead_nowhere(self) -> None:
        other = Garden()
        other.publish()
        other.house.add(email="wren@x.example")
        other.send(q1="wren@x.example")
        foreign = read_outbox(other.scope).letters[0].link.partition("letter=")[2]
        for token in ("", "nonsense", foreign):
            with self.assertRaises(NotFound):
                self.garden.forms.read_letter(self.garden.house.slug, "join-us", token)
            self.assertFalse(self.garden.open(visit=Visit(me=token)).known)

    def test_a_known_person_changes_what_is_kept(self) -> None:
        """Their answers are stored at once; their records are changed, not doubled; an emptied answer is blank."""
        person = self.garden.house.add(email="wren@x.example", zone="hill")
        self.garden.send(q1="wren@x.example", q2="north", s2="1", q5_1="3")
        token = read_outbox(self.scope).letters[0].link.partition("letter=")[2]
        me = self.garden.forms.confirm(self.garden.house.slug, "join-us", token, mine=True).me
        opened = self.garden.open(visit=Visit(me=me))
        (filling,) = opened.outcome.sections[1].fillings
        answers = {"q1": "wren@x.example", "q2": "", "s2": filling.id, f"q5_{filling.id}": "8"}
        self.assertTrue(self.garden.send(token=opened.token, **answers).sent)
        self.assertEqual(self.plots(person), [["", "8 m"]])
        values = {one.field.key: one.shown for _, lines in read_profile(self.scope, person).groups for one in lines}
        self.assertEqual(values["zone"], "")

    def test_a_hidden_question_carries_an_address_parameter(self) -> None:
        """It comes from where the page was opened, whatever is posted afterwards."""
        self.garden.do(add_question, self.garden.house.field_id("favourite"), "s1")
        self.garden.question("q6", hidden=True, parameter="ref", default="shop")
        self.garden.publish()
        opened = self.garden.open(visit=Visit({"ref": "fair"}))
        self.assertTrue(self.garden.send(token=opened.token, q1="wren@x.example", q6="forged").sent)
        with store().transaction(self.scope.workspace_id) as session:
            submission = session.exec(select(Submission).order_by(col(Submission.id).desc())).first()
            assert submission is not None
            self.assertEqual(submission.answers["favourite"], "fair")


class Guarding(unittest.TestCase):
    def setUp(self) -> None:
        self.garden = Garden()

    def test_a_sign_of_a_person(self) -> None:
        """Without the right answer, asked of this very filling-in, nothing is taken."""
        self.garden.do(change_form_settings, FormSettings(challenge=True))
        self.garden.publish()
        opened = self.garden.open()
        assert opened.challenge is not None
        other = self.garden.open().challenge
        assert other is not None
        self.assertFalse(self.garden.send(token=opened.token, q1="a@x.example").sent)
        wrong = self.garden.send(token=opened.token, challenge=(opened.challenge.token, "doorstep"), q1="a@x.example")
        self.assertEqual((wrong.sent, wrong.challenge_failed), (False, True))
        words = opened.challenge.choices
        asked = opened.challenge.token
        self.assertTrue(
            any(self.garden.send(token=opened.token, challenge=(asked, word), q1="a@x.example").sent for word in words)
        )
        fresh = self.garden.open()
        self.assertFalse(
            any(
                self.garden.send(token=fresh.token, challenge=(other.token, word), q1="b@x.example").sent
                for word in other.choices
            )
        )

    def test_too_much_from_one_place(self) -> None:
        """Sixty in ten minutes are taken, more are not; from elsewhere it goes on; nobody's address is kept."""
        self.garden.publish()
        token = self.garden.open().token
        for _ in range(60):
            self.garden.send(token=token, came_from="198.51.100.7", q1="a@x.example")
        with self.assertRaises(TooOften):
            self.garden.send(token=token, came_from="198.51.100.7", q1="a@x.example")
        self.assertTrue(self.garden.send(token=token, came_from="198.51.100.8", q1="a@x.example").sent)

    def test_what_is_unique_is_said_at_its_place(self) -> None:
        """A check of the form alone, in its own words."""
        self.garden.do(add_question, self.garden.house.field_id("favourite"), "s1")
        self.garden.question("q6", checks=({"kind": "unique", "message": "That plate is taken."},))
        self.garden.publish()
        self.garden.house.add(favourite="Kale", plot_length=Decimal(2))
        found = self.garden.send(q1="a@x.example", q6="Kale")
        self.assertEqual([one.message for one in found.outcome.troubles], ["That plate is taken."])
        self.assertTrue(self.garden.send(q1="a@x.example", q6="Leek").sent)

    def test_the_language_of_the_person(self) -> None:
        self.garden.do(change_form_settings, FormSettings(languages=("de",)))
        self.garden.do(set_phrases, "de", {"Join us": "Kommen Sie", "Zone": "Lage"})
        self.garden.publish()
        for wished, title, language in (("de", "Kommen Sie", "de"), ("sv", "Join us", "en"), ("", "Join us", "en")):
            opened = self.garden.open(visit=Visit(language=wished))
            self.assertEqual((opened.form.title, opened.say.language), (title, language))
        self.assertEqual(read_form(self.garden.scope, self.garden.form).document.title, "Join us")
