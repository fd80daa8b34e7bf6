"""Who somebody is in a conversation: codes, personal links followed midway, consents and the numbers that stop."""

import re
import unittest
from dataclasses import replace
from datetime import timedelta
from typing import Any

from sqlmodel import select

from finesieve.services.chat.holding import PublicChats
from finesieve.services.chat.timing import let_time_pass
from finesieve.services.define.built_ins import use_part
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.people.listing import list_people
from finesieve.services.people.profiles import read_profile
from finesieve.store.tables import Conversation
from tests.support.chats import TOKEN, Chats
from tests.support.database import store
from tests.support.talking import ask, say

NUMBER = "+447700900123"
STEPS: list[dict[str, Any]] = [
    ask(1, "plot_length"),
    {"kind": "confirm", "id": "l2"},
    say(3, 'Hello {first_name else "stranger"}.'),
    ask(4, "plot_width", known="skip"),
    {"kind": "sum_up", "id": "l5"},
]
ASKED = "If we know that address, a code is on its way there. Write it here."


class Confirming(Chats):
    def setUp(self) -> None:
        super().setUp()
        self.chats = PublicChats(store(), lambda: self.now, None, "a secret of the tests")
        self.make(STEPS)

    def code(self) -> str:
        found = re.match(r"([0-9]{6}) is your code", self.letters()[0])
        return found[1] if found else ""

    def letters(self) -> list[str]:
        return [one.body for one in read_outbox(self.scope).letters if one.subject.startswith("Your code")]

    def wren(self, **more: Any) -> int:
        return self.house.add(email="wren@hedgerow.example", first_name="Wren", **more)

    def test_by_a_code(self) -> None:
        person = self.wren(plot_width="4")
        self.say("6")
        self.assertEqual(self.said(self.say("wren@hedgerow.example")), [ASKED])
        self.assertEqual(self.said(self.say(self.code())), ["Thank you, that is you.", "Hello Wren.", "Is this right?"])
        self.say("that is right")
        self.assertEqual(self.value(person, "plot_length"), "6 m")
        self.assertEqual(waiting_for(self.scope, person), ())

    def test_what_was_said_otherwise_is_asked_first(self) -> None:
        for answer, held in (("1", "6 m"), ("2", "9 m")):
            with self.subTest(answer):
                self.setUp()
                person = self.wren(plot_length="9", plot_width="4")
                self.say("6")
                self.say("wren@hedgerow.example")
                opened = self.say(self.code())
                self.assertEqual(self.said(opened)[-1], "Plot length: which holds, what you said now, or what we have?")
                self.assertEqual([one.label for one in opened.offers], ["6 m", "9 m"])
                self.assertEqual(self.said(self.say(answer))[0], "Hello Wren.")
                self.say("that is right")
                self.assertEqual(self.value(person, "plot_length"), held)

    def test_nobody_learns_whether_an_address_is_known(self) -> None:
        self.wren()
        for place, email in enumerate(("wren@hedgerow.example", "nobody@hedgerow.example")):
            self.say("6", token=f"{TOKEN}-{place}")
            self.assertEqual(self.said(self.say(email, token=f"{TOKEN}-{place}")), [ASKED])
            self.assertEqual(self.said(self.say("000000", token=f"{TOKEN}-{place}"))[0], "That is not the code.")
        self.assertEqual(len(self.letters()), 1)
        reader = replace(self.scope, role="reader")
        self.assertTrue(read_outbox(reader).letters[0].body.startswith("•••••• is your code"))

    def test_wrong_late_and_used_codes(self) -> None:
        self.wren()
        self.say("6")
        self.say("wren@hedgerow.example")
        self.assertEqual(self.said(self.say("123"))[0], "That is not the code.")
        self.now += timedelta(minutes=16)
        self.assertEqual(self.said(self.say(self.code()))[0], "That is not the code.")
        opened = self.say("999999")
        self.assertEqual(self.said(opened)[0], "Hello stranger.", "after three it goes on, unconfirmed")

    def test_guessing_ends(self) -> None:
        """Going back for more tries does not give more of them."""
        self.wren()
        self.say("6")
        self.say("wren@hedgerow.example")
        right = self.code()
        with self.scope.transaction("owner") as unit:
            row = unit.session.exec(select(Conversation)).one()
            row.state = {**row.state, "code": {**row.state["code"], "tries": 5}}
            unit.session.add(row)
        self.assertEqual(self.said(self.say(right))[0], "That is not the code.")

    def test_a_mailbox_is_not_filled(self) -> None:
        self.wren()
        for place in range(6):
            self.say("6", token=f"{TOKEN}-{place}")
            self.say("wren@hedgerow.example", token=f"{TOKEN}-{place}")
        self.assertEqual(len(self.letters()), 3)

    def test_a_code_is_of_its_conversation(self) -> None:
        self.wren()
        for token in (TOKEN, TOKEN + "-2"):
            self.say("6", token=token)
            self.say("wren@hedgerow.example", token=token)
        latest, other = (one[:6] for one in self.letters())
        if other != latest:
            self.assertEqual(self.said(self.say(other, token=TOKEN + "-2"))[0], "That is not the code.")

    def test_without(self) -> None:
        self.wren()
        self.say("6")
        self.say("wren@hedgerow.example")
        self.assertEqual(self.said(self.say("go on without"))[0], "Hello stranger.")

    def test_signed_in_midway(self) -> None:
        """Who signs in, or follows a personal link, while a stranger's conversation is open."""
        person = self.wren(plot_length="9", plot_width="4")
        self.say("6")
        opened = self.say("back", person=person)
        self.assertEqual(self.said(opened)[-1], "plot_length?")
        self.say("6", person=person)
        self.assertEqual(self.said(self.say("that is right", person=person)), [])
        self.assertEqual(self.value(person, "plot_length"), "6 m")

    def test_signed_in_with_something_else_said(self) -> None:
        person = self.wren(plot_length="9", plot_width="4")
        self.say("6")
        opened = self.say("not an address", person=person)
        self.assertIn("Plot length: which holds, what you said now, or what we have?", self.said(opened))
        self.say("2", person=person)
        self.say("that is right", person=person)
        self.assertEqual(self.value(person, "plot_length"), "9 m")


class Consents(Chats):
    def setUp(self) -> None:
        super().setUp()
        use_part(self.scope, "consent_phone")

    def test_its_words_are_kept(self) -> None:
        self.make([ask(1, "email"), {"kind": "ask", "id": "l2", "field": "consent_phone", "text": "May we text you?"}])
        self.say("wren@hedgerow.example")
        self.say("yes")
        person = self.scope_person("wren@hedgerow.example")
        self.assertEqual(self.value(person, "consent_phone_text"), "May we text you? (Plan a bed, version 1)")
        known = self.house.add(email="finch@hedgerow.example")
        self.say("finch@hedgerow.example", token=TOKEN + "-2")
        self.say("yes", token=TOKEN + "-2")
        (waiting,) = waiting_for(self.scope, known)
        decide(self.scope, waiting.id, apply=True)
        self.assertEqual(self.value(known, "consent_phone_text"), "May we text you? (Plan a bed, version 1)")

    def test_stop_by_the_number_alone(self) -> None:
        people = [
            self.house.add(email=f"{name}@hedgerow.example", phone=NUMBER, consent_phone=True)
            for name in ("wren", "finch", "jay")
        ]
        other = self.house.add(email="rook@hedgerow.example", phone="+447700900124", consent_phone=True)
        self.make([say(1, "Hello."), ask(2, "plot_length")])
        self.chats.text(self.house.slug, NUMBER, "hello", "k1", "plan-a-bed")
        self.chats.text(self.house.slug, NUMBER, "STOP", "k2")
        self.assertEqual(let_time_pass(self.scope), 1)
        self.assertEqual([self.value(one, "consent_phone") for one in (*people, other)], ["", "", "", "agreed"])
        self.assertEqual(read_profile(self.scope, people[0]).history[0].source, "chat: Plan a bed")
        self.assertEqual(let_time_pass(self.scope), 0)
        self.assertEqual(len(list_people(self.scope).lines), 4, "nobody is made of a number that stops")


if __name__ == "__main__":
    unittest.main()
