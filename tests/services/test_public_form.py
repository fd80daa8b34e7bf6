"""The public form whole: records, known people, letters, challenge, limits, languages, hidden values."""

import unittest
from datetime import timedelta
from decimal import Decimal
from functools import partial

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, LinkEnded, NotFound, TooOften
from finesieve.services.define.memberships import MembershipInput, create_membership, remove_membership
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.filling.open_form import Visit
from finesieve.services.filling.signup import PublicForms
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.forms.composing import (
    FormSettings,
    FormTexts,
    add_question,
    change_form_settings,
    change_form_texts,
    set_phrases,
)
from finesieve.services.forms.forms import publish_form, read_draft, read_form
from finesieve.services.kernel.links import Links
from finesieve.services.people.listing import list_people
from finesieve.services.people.profiles import read_profile
from finesieve.services.people.records import person_records
from finesieve.services.transfer.setups import export_setup
from finesieve.store.definitions.catalogue import touch
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import AudienceList, Submission
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

    def test_a_page_left_open_for_weeks_counts_once(self) -> None:
        """Its token has run out, and what is sent twice with it is still one sending."""
        token = self.garden.open().token
        self.garden.forms = PublicForms(store(), lambda: NOW + timedelta(days=20), "a secret of the tests")
        for _ in range(2):
            self.assertTrue(self.garden.send(token, q1="late@x.example", q2="north").sent)
        with self.scope.transaction("reader") as unit:
            sent = unit.session.exec(select(Submission).where(col(Submission.form_id) == self.garden.form)).all()
            self.assertEqual([one.state for one in sent], ["stored"])

    def test_sending_puts_people_on_lists(self) -> None:
        """Somebody new at once, who is known by a link too, a known email once it is decided; of others nothing goes."""
        ids = {
            name: create_membership(self.scope, "list", MembershipInput(name=name))
            for name in ("Almanac", "Board", "Gone")
        }
        form = self.garden.form
        settings = FormSettings(joins=(ids["Board"], ids["Gone"], 999_999))
        change_form_settings(self.scope, form, read_draft(self.scope, form).revision, settings)
        self.assertEqual(read_form(self.scope, form).document.joins, (ids["Board"], ids["Gone"]))
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        with self.assertRaises(InvalidInput):
            remove_membership(self.scope, "list", ids["Board"])
        with self.scope.transaction("owner") as unit:  # as an older version may name a list that went meanwhile
            unit.session.delete(unit.session.get(AudienceList, ids["Gone"]))
            touch(unit.session, unit.workspace_id)

        def lists(person: int) -> tuple[str, ...]:
            return read_profile(self.scope, person).memberships.lists

        known = self.garden.house.add(email="wren@x.example", lists=("almanac",))
        self.assertTrue(self.garden.send(q1="new@x.example", q2="north").sent)
        self.assertTrue(self.garden.send(q1="wren@x.example", q2="north").sent)
        new = next(line.id for line in list_people(self.scope).lines if line.id != known)
        self.assertEqual((lists(new), lists(known)), (("board",), ("almanac",)))
        decide(self.scope, waiting_for(self.scope, known)[0].id, apply=True)
        self.assertEqual(lists(known), ("almanac", "board"))
        self.assertIn('"joins": [', export_setup(self.scope)[1])

    def test_an_answer_puts_people_on_lists_or_takes_them_off(self) -> None:
        """Somebody new at once; a known email once it is decided, by what was answered then."""
        board = create_membership(self.scope, "list", MembershipInput(name="Board"))
        form = self.garden.form
        with self.assertRaises(InvalidInput):
            self.garden.question("q2", lists=({"list_id": 999_999},))
        effects = ({"list_id": board, "option": "north"}, {"list_id": board, "option": "hill", "leave": True})
        self.garden.question("q2", lists=effects)
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        with self.assertRaises(InvalidInput):
            remove_membership(self.scope, "list", board)
        known = self.garden.house.add(email="wren@x.example", lists=("board",))
        self.assertTrue(self.garden.send(q1="new@x.example", q2="north").sent)
        self.assertTrue(self.garden.send(q1="wren@x.example", q2="hill").sent)
        new = next(line.id for line in list_people(self.scope).lines if line.id != known)
        self.assertEqual(read_profile(self.scope, new).memberships.lists, ("board",))
        self.assertEqual(read_profile(self.scope, known).memberships.lists, ("board",))
        decide(self.scope, waiting_for(self.scope, known)[0].id, apply=True)
        self.assertEqual(read_profile(self.scope, known).memberships.lists, ())

    def test_who_is_known_reads_a_title_and_a_button_of_their_own(self) -> None:
        form, person = self.garden.form, self.garden.house.add(email="wren@x.example", first_name="Wren")
        texts = FormTexts(title="Join us", title_known="Your details, {first_name}", send_known="Save")
        self.garden.do(change_form_texts, texts)
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        stranger = self.garden.open().form
        self.assertEqual((stranger.title, stranger.send_label), ("Join us", "Send"))
        me = Links("a secret of the tests").give("me", NOW, form, person)
        known = self.garden.open(visit=Visit(me=me)).form
        self.assertEqual((known.title, known.send_label), ("Your details, Wren", "Save"))

    def test_staff_may_decide_on_a_new_address_too(self) -> None:
        person = self.garden.house.add(email="wren@x.example")
        me = Links("a secret of the tests").give("me", NOW, self.garden.form, person)
        for new in ("one@x.example", "two@x.example"):
            self.assertTrue(self.garden.send(self.garden.open(visit=Visit(me=me)).token, q1=new, q2="north").sent)
        (waiting,) = waiting_for(self.scope, person)
        self.assertEqual(
            [(line.stored, line.answer) for line in waiting.wanted.lines], [("wren@x.example", "two@x.example")]
        )
        for _ in range(2):
            decide(self.scope, waiting.id, apply=True)
        with self.scope.transaction("reader") as unit:
            self.assertEqual(
                (stored_row(unit.session, unit.definitions, "person", person) or {})["email"], "two@x.example"
            )
        self.assertEqual(waiting_for(self.scope, person), ())

    def test_a_known_email_waits_for_the_letter(self) -> None:
        """Nothing changes and nothing known is shown until its reader says that the answers are theirs; once only."""
        person = self.garden.house.add(email="wren@x.example", zone="hill")
        opened = self.garden.send(q1="Wren@x.example", q2="north", s2="1", q4_1="clay", q5_1="3")
        self.assertTrue(opened.sent)
        self.assertIn("Hill", [line.stored for line in waiting_for(self.scope, person)[0].wanted.lines])
        (letter,) = read_outbox(self.scope).letters
        self.assertEqual((letter.recipient, letter.person_id), ("Wren@x.example", person))
        self.assertNotIn("hill", letter.body.lower())
        token = letter.link.partition("letter=")[2]
        seen = self.garden.forms.read_letter(self.garden.house.slug, "join-us", token)
        self.assertIn(("Zone", "North"), seen.lines)
        self.assertIn(("Plot", "Soil: Clay, Size: 3 m"), seen.lines)
        self.assertEqual(waiting_for(self.scope, person)[0].wanted.records, (("Plot", "Soil: Clay, Size: 3 m"),))
        self.assertEqual(seen.state, "waiting")
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
        with self.assertRaises(LinkEnded):
            late.open(self.garden.house.slug, "join-us", Visit(me=done.me))
        self.assertEqual(read_outbox(self.garden.house.as_role("reader")).letters[0].link, "")

    def test_staff_decide_once(self) -> None:
        """Taken over twice it counts once; what was taken over cannot be set aside after."""
        person = self.garden.house.add(email="wren@x.example")
        self.garden.send(q1="wren@x.example", s2="1", q5_1="3")
        (held,) = waiting_for(self.scope, person)
        for apply in (True, True, False):
            self.assertEqual(decide(self.scope, held.id, apply=apply), person)
        self.assertEqual(self.plots(person), [["", "3 m"]])
        self.assertEqual(waiting_for(self.scope, person), ())

    def test_messages_speak_the_language_of_the_form(self) -> None:
        form = self.garden.form
        settings = FormSettings(languages=("de",))
        change_form_settings(self.scope, form, read_draft(self.scope, form).revision, settings)
        self.garden.do(set_phrases, "de", {"Zone": "Lage", "North": "Nord"})
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        self.garden.house.add(email="wren@x.example")
        forms, house = self.garden.forms, self.garden.house.slug
        opened = forms.open(house, "join-us", Visit(languages=("fr", "de", "en")))
        self.assertEqual(opened.say.language, "de")
        asked = frozenset(one.id for one in opened.outcome.showing)
        answers = {"q1": "wren@x.example", "q2": "north"}
        self.assertTrue(forms.send(house, "join-us", opened.token, answers, asked, language="de").sent)
        (letter,) = read_outbox(self.scope).letters
        self.assertTrue(letter.subject.startswith("Ihre Antworten an"), letter.subject)
        self.assertIn("mit Ihrer Adresse ausgefüllt", letter.body)
        self.assertIn("?lang=de&letter=", letter.link)
        token = letter.link.partition("letter=")[2]
        self.assertIn(("Lage", "Nord"), forms.read_letter(house, "join-us", token, "de").lines)
        self.assertIn(("Zone", "North"), forms.read_letter(house, "join-us", token).lines)

    def test_it_was_not_me(self) -> None:
        person = self.garden.house.add(email="wren@x.example", zone="hill")
        self.garden.send(q1="wren@x.example", q2="north")
        token = read_outbox(self.scope).letters[0].link.partition("letter=")[2]
        self.assertEqual(self.garden.forms.confirm(self.garden.house.slug, "join-us", token, mine=False).me, "")
        # Whoever has said that it was not them is given no link to what is kept.
        self.assertEqual(self.garden.forms.confirm(self.garden.house.slug, "join-us", token, mine=True).me, "")
        self.assertEqual([line.key for line in read_profile(self.scope, person).history if line.new == "North"], [])

    def test_everything_that_opens_something_runs_out(self) -> None:
        """A letter after 30 days; a personal link with its form, however late that was opened; a form after 7."""
        self.garden.house.add(email="wren@x.example", zone="hill")
        self.garden.send(q1="wren@x.example", q2="north")
        letter = read_outbox(self.scope).letters[0].link.partition("letter=")[2]
        me = self.garden.forms.confirm(self.garden.house.slug, "join-us", letter, mine=True).me
        at = [NOW + timedelta(days=29, hours=23)]
        later = PublicForms(store(), lambda: at[0], "a secret of the tests")
        opened = later.open(self.garden.house.slug, "join-us", Visit(me=me))
        self.assertTrue(opened.known)
        at[0] = NOW + timedelta(days=30, hours=1)
        again = later.answer(self.garden.house.slug, "join-us", opened.token, {"q2": "south"})
        self.assertEqual((again.known, again.outcome.of("q2").raw), (False, "south"))  # type: ignore[union-attr]
        with self.assertRaises(NotFound):
            later.read_letter(self.garden.house.slug, "join-us", letter)
        with self.assertRaises(NotFound):
            later.confirm(self.garden.house.slug, "join-us", letter, mine=True)
        for kind in ("form", "answers", "sent", "address"):
            forged = Links("a secret of the tests").give(kind, NOW, self.garden.form, 1)  # type: ignore[arg-type]
            with self.assertRaises(LinkEnded):
                self.garden.open(visit=Visit(me=forged))

    def test_a_new_address_is_confirmed_at_both(self) -> None:
        """Neither who holds the link nor who reads the new mailbox moves an account alone; a no at either ends it."""
        person = self.garden.house.add(email="wren@x.example", zone="hill")
        slug, me = self.garden.house.slug, Links("a secret of the tests").give("me", NOW, self.garden.form, 0)

        def ask(new: str) -> dict[str, str]:
            token = self.garden.open(visit=Visit(me=me)).token
            sent = self.garden.send(token, q1=new, q2="north")
            self.assertTrue(sent.sent)
            self.assertTrue(self.garden.forms.thank(slug, "join-us", sent.receipt).asks_about_address)
            letters = read_outbox(self.scope).letters[:2]
            return {one.recipient: one.link.partition("letter=")[2] for one in letters}

        def email() -> str:
            lines = [line for _, found in read_profile(self.scope, person).groups for line in found]
            return next(line.shown for line in lines if line.field.key == "email")

        me = Links("a secret of the tests").give("me", NOW, self.garden.form, person)
        first, letters = ask("thief@x.example"), ask("new@x.example")
        self.assertEqual((set(letters), email()), ({"wren@x.example", "new@x.example"}, "wren@x.example"))
        say = partial(self.garden.forms.confirm_address, slug, "join-us")
        self.assertEqual(say(first["thief@x.example"], wanted=True).state, "refused")  # the later one counts
        self.assertEqual((say(letters["new@x.example"], wanted=True).state, email()), ("waiting", "wren@x.example"))
        self.assertEqual((say(letters["wren@x.example"], wanted=True).state, email()), ("applied", "new@x.example"))
        letters = ask("third@x.example")
        self.assertEqual(say(letters["new@x.example"], wanted=False).state, "refused")
        self.assertEqual((say(letters["third@x.example"], wanted=True).state, email()), ("refused", "new@x.example"))
        self.garden.house.add(email="held@x.example")
        letters = ask("held@x.example")
        say(letters["held@x.example"], wanted=True)
        self.assertEqual((say(letters["new@x.example"], wanted=True).state, email()), ("taken", "new@x.example"))
        with self.assertRaises(NotFound):
            self.garden.forms.read_address(slug, "join-us", me)

    def test_the_thanks_know_what_was_sent(self) -> None:
        self.garden.do(change_form_texts, FormTexts(title="Join us", thanks="Thank you, {zone}: {email}."))
        self.garden.publish()
        sent = self.garden.send(q1="wren@x.example", q2="north")
        thank = partial(self.garden.forms.thank, self.garden.house.slug, "join-us")
        self.assertEqual(thank(sent.receipt).text, "Thank you, North: wren@x.example.")
        self.assertEqual(thank("made up").text, "Thank you, : .")
        late = PublicForms(store(), lambda: NOW + timedelta(hours=2), "a secret of the tests")
        self.assertEqual(late.thank(self.garden.house.slug, "join-us", sent.receipt).text, "Thank you, : .")

    def test_links_that_are_not_ours_lead_nowhere(self) -> None:
        other = Garden()
        other.publish()
        other.house.add(email="wren@x.example")
        other.send(q1="wren@x.example")
        foreign = read_outbox(other.scope).letters[0].link.partition("letter=")[2]
        for token in ("", "nonsense", foreign):
            with self.assertRaises(NotFound):
                self.garden.forms.read_letter(self.garden.house.slug, "join-us", token)
            if token:
                with self.assertRaises(LinkEnded):
                    self.garden.open(visit=Visit(me=token))

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
            opened = self.garden.open(visit=Visit(languages=(wished,)))
            self.assertEqual((opened.form.title, opened.say.language), (title, language))
        self.assertEqual(read_form(self.garden.scope, self.garden.form).document.title, "Join us")
