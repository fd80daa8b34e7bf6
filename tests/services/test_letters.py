"""A letter to many: who gets it and who does not, once each, in their own words, stopped and taken up again."""

import unittest
from typing import Any
from unittest.mock import patch

from sqlmodel import select

from finesieve.core.errors import InvalidInput, NotAllowed
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.follow_up.personal_links import PersonalLinkInput, create_personal_link
from finesieve.services.forms.composing import add_question
from finesieve.services.forms.forms import publish_form, read_draft
from finesieve.services.kernel.tasks import Progress, Stopped, read_task
from finesieve.services.people.bulk import Chosen
from finesieve.services.people.letters import LetterInput, asking_for, plan_letter, write_to_many
from finesieve.services.people.listing import Listing
from finesieve.store.tables import OutboxMessage
from tests.services.test_collect import make_form
from tests.support.house import make_house
from tests.support.work import done


class Letters(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.wren = self.house.add(email="wren@hedgerow.example", first_name="Wren", zone="hill")
        self.ash = self.house.add(email="ash@hedgerow.example", first_name="Ash")
        self.all = Chosen(listing=Listing())

    def letters(self) -> list[tuple[str, str]]:
        with self.scope.reading("owner") as unit:
            return sorted((one.recipient, one.body) for one in unit.session.exec(select(OutboxMessage)).all())

    def write(self, chosen: Chosen, text: str = "Hello {first_name}", **more: Any) -> str:
        task = write_to_many(self.scope, chosen, LetterInput(subject="Seed swap", text=text), **more)
        return done(self.house, task).message

    def test_to_each_in_their_own_words(self) -> None:
        """Looked at first; then everybody in the list, or those who are ticked."""
        plan = plan_letter(
            self.scope, self.all, LetterInput(subject="To {first_name}", text="{favourite else 'nothing'}")
        )
        self.assertEqual((plan.readers, plan.no_email, plan.more), (2, 0, False))
        self.assertEqual((plan.name, plan.subject, plan.body), ("Ash", "To Ash", "nothing"))
        self.assertEqual(self.letters(), [], "nothing was sent")
        self.assertEqual(self.write(self.all), "Written to 2 people.")
        self.assertEqual(
            self.letters(), [("ash@hedgerow.example", "Hello Ash"), ("wren@hedgerow.example", "Hello Wren")]
        )
        self.assertEqual(self.write(Chosen((self.wren,))), "Written to 1 person.")
        self.assertEqual(self.write(Chosen(listing=Listing(where="zone is blank"))), "Written to 1 person.")
        self.assertEqual(len(self.letters()), 4)

    def test_a_personal_link_is_their_own(self) -> None:
        """The preview gives none away; each letter has one that only its reader has."""
        form = make_form(self.house, "zone")
        create_personal_link(self.scope, PersonalLinkInput(name="My answers", form=form, only_missing=True))
        text = "Answer here: {link.my_answers}"
        plan = plan_letter(self.scope, self.all, LetterInput(subject="A question", text=text))
        self.assertTrue(plan.body.endswith("/…"), plan.body)
        self.write(self.all, text)
        addresses = {body.split("?me=")[1] for _, body in self.letters()}
        self.assertEqual(len(addresses), 2)

    def test_it_asks_by_the_form_in_force(self) -> None:
        """The link whose form asks most of what is missing, as it is published; none where none asks it."""
        forms = [make_form(self.house, *keys) for keys in (("born",), ("zone", "plot_length"), ("zone",))]
        for number, form in enumerate(forms):
            create_personal_link(self.scope, PersonalLinkInput(name=f"Link {number}", form=form, only_missing=True))
        self.assertNotIn("{link.", asking_for(self.scope, ["zone"]).text, "none is published")
        for form in forms[1:]:
            publish_form(self.scope, form, read_draft(self.scope, form).revision)
        self.assertIn("{link.link_1}", asking_for(self.scope, ["plot_length", "zone"]).text)
        self.assertNotIn("{link.", asking_for(self.scope, ["born"]).text)
        add_question(self.scope, forms[2], read_draft(self.scope, forms[2]).revision, self.house.field_id("born"))
        self.assertNotIn("{link.", asking_for(self.scope, ["born"]).text, "it is in the draft alone")
        self.assertIn("Zone and Plot length", asking_for(self.scope, ["zone", "plot_length"]).text)

    def test_a_subject_is_one_line(self) -> None:
        """Whatever somebody has written into a field, it adds no line to the head of a letter."""
        create_field(self.scope, self.house.group_id(), FieldInput(label="Motto", type_key="long_text"))
        ash = self.house.add(email="oak@hedgerow.example", motto="Dig\nBcc: all@hedgerow.example")
        task = write_to_many(self.scope, Chosen((ash,)), LetterInput(subject="{motto}\r\nX: y", text="B"))
        done(self.house, task)
        with self.scope.reading("owner") as unit:
            subject = unit.session.exec(select(OutboxMessage.subject)).one()
        self.assertEqual(subject, "Dig Bcc: all@hedgerow.example X: y")

    def test_who_has_not_agreed(self) -> None:
        """Left out, unless it is said that they must hear of it."""
        use_part(self.scope, "consent_email")
        self.house.add(email="yes@hedgerow.example", consent_email=True)
        self.house.add(email="no@hedgerow.example", consent_email=False)
        asked = LetterInput(subject="News", text="Come")
        plan = plan_letter(self.scope, self.all, asked)
        self.assertEqual((plan.readers, plan.not_agreed), (1, 3))
        self.assertEqual(plan_letter(self.scope, self.all, asked.model_copy(update={"agreed": False})).readers, 4)
        self.assertEqual(self.write(self.all, "Come"), "Written to 1 person.")

    def test_sent_twice_counts_once(self) -> None:
        first = write_to_many(self.scope, self.all, LetterInput(subject="A", text="B"), once="key")
        self.assertEqual(write_to_many(self.scope, self.all, LetterInput(subject="A", text="B"), once="key"), first)
        done(self.house, first)
        done(self.house, first)
        self.assertEqual(len(self.letters()), 2)

    def test_stopped_and_taken_up_again(self) -> None:
        """A worker that dies writes to nobody twice; one that is stopped says how many were written to."""
        task = write_to_many(self.scope, self.all, LetterInput(subject="A", text="B"))
        with patch("finesieve.services.people.letters._BATCH", 1):
            with patch.object(Progress, "say", side_effect=Stopped("")):
                self.assertEqual(done(self.house, task).message, "It was stopped. Written to 1 person.")
            self.assertEqual(len(self.letters()), 1)
        again = write_to_many(self.scope, self.all, LetterInput(subject="A", text="C"))
        with patch("finesieve.services.people.letters._BATCH", 1):
            with patch.object(Progress, "say", side_effect=KeyboardInterrupt), self.assertRaises(KeyboardInterrupt):
                done(self.house, again)
            self.assertEqual(len([one for one in self.letters() if one[1] == "C"]), 1)
            done(self.house, again)
        self.assertEqual(read_task(self.scope, again).state, "done")
        self.assertEqual(
            [one for one, body in self.letters() if body == "C"], ["ash@hedgerow.example", "wren@hedgerow.example"]
        )

    def test_what_cannot_be_sent(self) -> None:
        """Nothing to say, a placeholder that cannot work, a role that may not."""
        for subject, text, place in (("", "B", "subject"), ("A", " ", "text"), ("A", "{frist_name}", "text")):
            with self.subTest(text), self.assertRaises(InvalidInput) as caught:
                plan_letter(self.scope, self.all, LetterInput(subject=subject, text=text))
            self.assertEqual([*caught.exception.messages], [place])
        with self.assertRaises(InvalidInput):
            write_to_many(self.scope, self.all, LetterInput(subject="A", text="{nobody}"))
        for role in ("reader", "clerk"):
            with self.assertRaises(NotAllowed):
                write_to_many(self.house.as_role(role), self.all, LetterInput(subject="A", text="B"))  # type: ignore[arg-type]
