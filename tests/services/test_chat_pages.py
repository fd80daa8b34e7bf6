"""What is given to a conversation on a page of its own: files, secrets, addresses; links that do not work."""

import tempfile
import unittest
from datetime import timedelta
from pathlib import Path
from typing import Any

from sqlmodel import select

from finesieve.core.errors import LinkEnded
from finesieve.services.chat.holding import PublicChats, Visitor
from finesieve.services.chat.on_a_page import AnswerPages
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.values.files import sweep_uploads
from finesieve.store.files.keeping import FileStore
from finesieve.store.tables import Conversation, ConversationLine
from tests.support.chats import TOKEN, Chats
from tests.support.database import store
from tests.support.pictures import png
from tests.support.talking import ask, say

SUM: dict[str, Any] = {"kind": "sum_up", "id": "l8"}


class Pages(Chats):
    def setUp(self) -> None:
        super().setUp()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.files = FileStore(self.folder)
        self.chats = PublicChats(store(), lambda: self.now, self.files, "a secret of the tests")
        self.pages = AnswerPages(store(), lambda: self.now, "a secret of the tests", self.files)
        group = self.house.group_id()
        for label, kind in (("Photo", "picture"), ("Word", "secret"), ("Sketch", "structured")):
            create_field(self.scope, group, FieldInput(label=label, type_key=kind))

    def link(self, opened: Any) -> str:
        return str(next(one.target for one in opened.offers if one.kind == "apart")).rpartition("/")[2]

    def give(self, token: str, typed: dict[str, str] | None = None, **sent: tuple[str, bytes]) -> Any:
        return self.pages.give(self.house.slug, token, typed or {}, sent, "127.0.0.1")

    def test_a_picture_of_somebody_new(self) -> None:
        self.make([ask(1, "email"), ask(2, "photo"), SUM])
        token = self.link(self.say("wren@hedgerow.example"))
        self.assertEqual(self.pages.open(self.house.slug, token).text, "photo?")
        self.assertEqual(list(self.give(token).messages), ["photo"])
        self.assertIn("picture", self.give(token, photo=("notes.txt", b"no picture at all")).messages["photo"])
        given = self.give(token, photo=("bed.png", png()))
        self.assertEqual((given.messages, given.back), ({}, f"/chat/{self.house.slug}/plan-a-bed"))
        self.now += timedelta(days=3)
        sweep_uploads(self.scope, self.files)
        self.say("that is right")
        person = self.scope_person("wren@hedgerow.example")
        self.assertEqual(self.value(person, "photo"), "bed.png")
        self.assertTrue(any(one.is_file() for one in self.folder.rglob("*")), "the bytes outlast the sweeping")

    def test_given_twice_it_counts_once(self) -> None:
        self.make([ask(1, "email"), ask(2, "sketch"), SUM])
        token = self.link(self.say("wren@hedgerow.example"))
        self.give(token, {"sketch": '{"beds": 2}'})
        for again in (lambda: self.pages.open(self.house.slug, token), lambda: self.give(token, {"sketch": "{}"})):
            with self.assertRaises(LinkEnded):
                again()
        opened = self.chats.open(self.house.slug, "plan-a-bed", Visitor(TOKEN))
        self.assertEqual(opened.lines[-1].more["answers"][1][0], "Sketch")

    def test_links_that_do_not_work(self) -> None:
        self.make([ask(1, "email"), ask(2, "sketch"), SUM])
        token = self.link(self.say("wren@hedgerow.example"))
        for wrong in (token[:-2] + "xx", "", "1.2.3", token + "a"):
            with self.assertRaises(LinkEnded):
                self.pages.open(self.house.slug, wrong)
        self.now += timedelta(days=8)
        with self.assertRaises(LinkEnded):
            self.pages.open(self.house.slug, token)

    def test_a_link_of_another_house(self) -> None:
        self.make([ask(1, "email"), ask(2, "sketch"), SUM])
        token = self.link(self.say("wren@hedgerow.example"))
        other = type(self)("test_a_picture_of_somebody_new")
        other.setUp()
        self.addCleanup(other.doCleanups)
        with self.assertRaises(LinkEnded):
            self.pages.open(other.house.slug, token)

    def test_a_secret_is_stored_and_never_kept_in_words(self) -> None:
        person = self.house.add(email="wren@hedgerow.example")
        self.make([ask(1, "plot_length"), ask(2, "word"), SUM])
        opened = self.say("6", person=person)
        self.say("open sesame", person=person)
        self.give(self.link(opened), {"word": "open sesame"})
        self.assertNotEqual(self.value(person, "word"), "")
        with self.scope.reading("reader") as unit:
            states = unit.session.exec(select(Conversation.state)).all()
            kept = str([*states, *unit.session.exec(select(ConversationLine.text)).all()])
        self.assertNotIn("sesame", kept)

    def test_an_address_with_all_its_lines(self) -> None:
        use_part(self.scope, "delivery")
        person = self.house.add(email="wren@hedgerow.example")
        self.make([ask(1, "plot_length"), {"kind": "ask", "id": "l2", "address": "delivery", "text": "Where to?"}, SUM])
        token = self.link(self.say("6", person=person))
        wrong = {"delivery_street": "12 Mill Lane", "delivery_postcode": "no code", "delivery_country": "GB"}
        told = self.give(token, wrong).messages
        self.assertEqual(set(told), {"delivery_town", "delivery_postcode"})
        self.give(token, {
            "delivery_street": "12 Mill Lane", "delivery_town": "Brackenfold", "delivery_postcode": "sw1a1aa",
            "delivery_country": "GB",
        })  # fmt: skip
        opened = self.say("that is right", person=person)
        self.assertEqual(opened.mode, "ended")
        self.assertEqual(self.value(person, "delivery_postcode"), "SW1A 1AA")

    def test_by_text_message_the_link_stands_in_the_words(self) -> None:
        self.make([say(1, "Hello."), ask(2, "sketch"), SUM])
        self.chats.text(self.house.slug, "+447700900123", "hello", "k1", "plan-a-bed")
        _, offers = self.chats.texts(self.house.slug, "+447700900123")
        token = offers[0].target.rpartition("/")[2]
        given = self.give(token, {"sketch": '{"beds": 2}'})
        self.assertEqual(given.back, "")
        lines, _ = self.chats.texts(self.house.slug, "+447700900123")
        self.assertIn("Sketch", str(lines[-1].more))


if __name__ == "__main__":
    unittest.main()
