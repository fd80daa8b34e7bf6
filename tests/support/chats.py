"""Conversations held against the database, for tests."""

import unittest
from typing import Any

from finesieve.core.chat.portable import localised_script
from finesieve.core.chat.script import Script
from finesieve.core.chat.turn import Reply
from finesieve.services.chat import writing
from finesieve.services.chat.holding import OpenChat, PublicChats, Visitor
from finesieve.services.chat.scripts import create_script, publish_script
from finesieve.services.define.groups import read_catalogue
from finesieve.services.people.listing import list_people
from finesieve.services.people.profiles import read_profile
from tests.support.database import store
from tests.support.house import NOW, House, make_house

TOKEN = "a-token-of-a-browser-that-nobody-guesses"


class Chats(unittest.TestCase):
    def setUp(self) -> None:
        self.house: House = make_house()
        self.scope = self.house.scope
        self.now = NOW
        self.chats = PublicChats(store(), lambda: self.now)
        self.number = 0

    def make(self, steps: list[dict[str, Any]], title: str = "Plan a bed", **parts: Any) -> int:
        script_id = create_script(self.scope, title)
        document = localised_script({"title": title, "steps": steps, **parts}, read_catalogue(self.scope))
        made = Script.model_validate(document)
        writing.change_script_settings(self.scope, script_id, 0, made.model_dump(mode="json"))
        publish_script(self.scope, script_id)
        return script_id

    def say(
        self,
        text: str = "",
        *,
        press: str = "",
        token: str = TOKEN,
        person: int = 0,
        key: str = "",
        slug: str = "plan-a-bed",
    ) -> OpenChat:
        self.number += 1
        visitor = Visitor(token, person, ("en",), begins=True)
        return self.chats.reply(self.house.slug, slug, visitor, Reply(key or f"r{self.number}", text, press))

    def value(self, person: int, key: str) -> str:
        lines = [line for _, found in read_profile(self.scope, person).groups for line in found]
        return next(line.shown for line in lines if line.field.key == key)

    def said(self, opened: OpenChat) -> list[str]:
        return [one.text for one in opened.lines if one.speaker == "house"]

    def scope_person(self, email: str) -> int:
        return next(one.id for one in list_people(self.scope, search=email).lines)
