"""Conversations against the database: kept, written, held, handed over; and scripts written line by line."""

import csv
import io
import time
import unittest
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import timedelta
from decimal import Decimal
from typing import Any
from unittest.mock import patch

from finesieve.core.chat.turn import Reply
from finesieve.core.errors import Conflict, InvalidInput, LinkEnded, NotAllowed, NotFound, Overtaken
from finesieve.core.fields.about import HOUSE
from finesieve.services.chat import writing
from finesieve.services.chat.desk import (
    answer_as_clerk,
    close_conversation,
    list_conversations,
    read_conversation,
    return_to_script,
    take_conversation,
    waiting_at_desk,
)
from finesieve.services.chat.from_form import script_from_form
from finesieve.services.chat.holding import OpenChat, PublicChats, Visitor
from finesieve.services.chat.scripts import (
    create_script,
    delete_script,
    list_scripts,
    publish_script,
    read_script,
    return_to_version,
    script_versions,
    withdraw_script,
)
from finesieve.services.chat.sent import TalkQuery, talks_as_csv
from finesieve.services.chat.timing import let_time_pass
from finesieve.services.chat.trying import TrialInput, keep_script_case, run_script_cases, try_script
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, change_group, create_group, read_catalogue
from finesieve.services.define.options import OptionInput, change_options
from finesieve.services.filling.decisions import all_waiting, decide, waiting_for
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.follow_up.personal_links import (
    PersonalLinkInput,
    create_personal_link,
    list_personal_links,
    revoke_all,
)
from finesieve.services.forms.composing import QuestionInput, add_question, change_question
from finesieve.services.forms.forms import create_form, read_draft
from finesieve.services.forms.sendings import sendings_of_person
from finesieve.services.kernel.changes import undo_change, undoable_change
from finesieve.services.people.personal_links import give_link
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment
from finesieve.services.transfer.setups import export_setup, load_setup
from finesieve.services.usage.uses import uses_of
from finesieve.services.values.house import set_house_value
from tests.support.chats import TOKEN, Chats
from tests.support.house import NOW, make_house
from tests.support.talking import ask, choose, do, say

STEPS: list[dict[str, Any]] = [
    say(1, 'Hello {first_name else "neighbour"}.'),
    ask(2, "plot_length", checks=[{"kind": "range", "high": "60"}]),
    ask(3, "plot_width"),
    ask(4, "email"),
    {"kind": "sum_up", "id": "l5"},
    do(6, {"verb": "tag_on", "value": "bed"}, {"verb": "send", "value": "Thank you for {plot_length}."}),
    choose(7, "Done", ("A clerk", "l9")),
    {"kind": "end", "id": "l8", "text": "Goodbye."},
    {"kind": "hand_over", "id": "l9", "note": "wants to talk"},
]


class Holding(Chats):
    def test_somebody_new(self) -> None:
        self.make(STEPS)
        opened = self.chats.open(self.house.slug, "plan-a-bed", Visitor())
        self.assertEqual(self.said(opened), ["Hello neighbour.", "plot_length?"])
        self.assertEqual(list_conversations(self.scope)[0], [])  # nothing is kept before somebody replies
        for reply in ("6", "4", "wren@hedgerow.example"):
            opened = self.say(reply)
        self.assertEqual(opened.lines[-1].more["answers"][0], ["Plot length", "6 m"])
        opened = self.say("that is right")
        profile_id = self.scope_person("wren@hedgerow.example")
        profile = read_profile(self.scope, profile_id)
        self.assertEqual(profile.memberships.tags, ())  # the tag is written at the next commit point
        self.say("done")
        profile = read_profile(self.scope, profile_id)
        self.assertEqual(profile.memberships.tags, ("bed",))
        self.assertEqual({line.source for line in profile.history}, {"chat: Plan a bed"})
        self.assertEqual(read_outbox(self.scope).letters[0].body, "Thank you for 6 m.")
        self.assertEqual(
            [(one.form, one.form_id) for one in sendings_of_person(self.scope, profile_id)], [("Plan a bed", 0)]
        )

    def test_sent_twice_it_counts_once(self) -> None:
        self.make(STEPS)
        first = self.say("6", key="k")
        second = self.say("6", key="k")
        self.assertEqual((len(first.lines), len(second.lines)), (2, 0))
        self.assertEqual(
            self.said(self.chats.open(self.house.slug, "plan-a-bed", Visitor(TOKEN))),
            ["Hello neighbour.", "plot_length?", *self.said(first)],
        )

    def test_a_reload_is_the_same_conversation_and_another_browser_is_not(self) -> None:
        self.make(STEPS)
        self.say("6")
        self.assertEqual(self.said(self.chats.open(self.house.slug, "plan-a-bed", Visitor(TOKEN)))[-1], "plot_width?")
        self.assertEqual(
            self.said(self.chats.open(self.house.slug, "plan-a-bed", Visitor("x" * 40)))[-1], "plot_length?"
        )
        with self.assertRaises(NotFound):
            self.say("6", token="short")
        other = make_house()
        with self.assertRaises(NotFound):
            self.chats.open(other.slug, "plan-a-bed", Visitor(TOKEN))

    def test_a_known_email_of_a_stranger_waits(self) -> None:
        known = self.house.add(email="wren@hedgerow.example", first_name="Wren")
        self.make(STEPS)
        for reply in ("6", "4", "wren@hedgerow.example", "1"):
            opened = self.say(reply)
            self.assertNotIn("Wren", " ".join(self.said(opened)))
        self.say("done")
        profile = read_profile(self.scope, known)
        self.assertEqual((profile.history[0].source, profile.memberships.tags), ("import", ()))
        (waiting,) = waiting_for(self.scope, known)
        self.assertEqual(
            waiting.asks,
            "gave this email in the chat “Plan a bed”. It may be this person, or not; nothing stored has changed.",
        )
        self.assertEqual({line.field.key for line in waiting.wanted.lines}, {"email", "plot_length", "plot_width"})
        decide(self.scope, waiting.id, apply=True)
        self.assertEqual(read_profile(self.scope, known).memberships.tags, ("bed",))

    def test_whoever_is_signed_in_is_known(self) -> None:
        person = self.house.add(email="fern@hedgerow.example", first_name="Fern", plot_length=6)
        self.make(
            [
                {**STEPS[0]},
                ask(2, "plot_length", known="confirm"),
                do(3, {"verb": "gains", "field": "plot_width", "value": "2"}, now=True),
                ask(4, "zone"),
            ]
        )
        opened = self.chats.open(self.house.slug, "plan-a-bed", Visitor("", person))
        self.assertEqual(self.said(opened), ["Hello Fern.", "plot_length? Still 6 m?"])
        self.say("yes", person=person)
        again = self.chats.open(self.house.slug, "plan-a-bed", Visitor("", person))  # from another device
        self.assertEqual(self.said(again)[-1], "zone?")
        self.assertEqual(self.value(person, "plot_width"), "2 m")
        stranger = self.chats.open(self.house.slug, "plan-a-bed", Visitor(TOKEN))
        self.assertEqual(self.said(stranger), ["Hello neighbour.", "plot_length?"])

    def test_by_a_personal_link(self) -> None:
        """Whoever follows it is the person it was sent to; once used, or taken back, it opens nothing."""
        person = self.house.add(email="fern@hedgerow.example", first_name="Fern")
        script = self.make(STEPS)
        kind = create_personal_link(self.scope, PersonalLinkInput(name="My bed", script=script, once=True))
        address = give_link(self.scope, person, "my_bed")
        self.assertIn("/plan-a-bed?me=p.", address)
        me = address.partition("me=")[2]
        opened = self.chats.open(self.house.slug, "plan-a-bed", Visitor("", me=me))
        self.assertEqual(self.said(opened)[0], "Hello Fern.")

        def reply(text: str, token: str) -> OpenChat:
            self.number += 1
            return self.chats.reply(
                self.house.slug, "plan-a-bed", Visitor(token, me=me, begins=True), Reply(f"m{self.number}", text)
            )

        reply("6", TOKEN)
        self.assertEqual(self.said(reply("4", TOKEN))[-1], "email?")
        for broken in (me, me[:-1] + "x", "p.none"):
            with self.assertRaises(LinkEnded):
                self.chats.open(self.house.slug, "plan-a-bed", Visitor("z" * 40, me=broken))
        revoke_all(self.scope, kind)
        with self.assertRaises(LinkEnded):
            reply("fern@hedgerow.example", TOKEN)
        self.assertEqual(
            [(one.asked.script, one.form, one.used) for one in list_personal_links(self.scope)],
            [(script, "Plan a bed", 1)],
        )

    def test_differences_are_added_by_the_store(self) -> None:
        """Somebody else changes the value meanwhile: both count."""
        person = self.house.add(plot_width=10)
        self.make(
            [
                choose(1, "go"),
                do(2, {"verb": "gains", "field": "plot_width", "value": "2"}),
                ask(3, "zone"),
                {"kind": "end", "id": "l4"},
            ]
        )
        self.say("go", person=person)
        set_values(self.scope, person, {"plot_width": "20"})
        self.say("north", person=person)
        self.assertEqual(self.value(person, "plot_width"), "22 m")

    def test_house_values_wait_for_leave(self) -> None:
        group = create_group(self.scope, GroupInput(name="Figures", about=HOUSE))
        field = create_field(self.scope, group, FieldInput(label="Packets left", type_key="number"))
        set_house_value(self.scope, field, "40")
        self.make(
            [
                choose(1, "take"),
                do(2, {"verb": "loses", "house": "packets_left", "value": "3"}),
                say(3, "{house.packets_left} left"),
                {"kind": "end", "id": "l4"},
            ]
        )
        self.assertIn("37 left", self.said(self.say("take")))
        (waiting,) = [one for _, _, one in all_waiting(self.scope)]
        set_house_value(self.scope, field, "50")
        decide(self.scope, waiting.id, apply=True)
        self.assertEqual(read_catalogue_value(self.scope, "packets_left"), "47")

    def test_a_new_version_does_not_disturb(self) -> None:
        script = self.make(STEPS)
        self.say("6")
        view = read_script(self.scope, script)
        writing.remove_line(self.scope, script, view.revision, "l3")
        publish_script(self.scope, script)
        self.assertEqual(self.said(self.say("4"))[-1], "email?")
        self.assertEqual(self.said(self.say("6", token="y" * 40))[-1], "email?")
        opened = self.say("start over")
        self.assertEqual(self.said(opened)[-1], "plot_length?")
        self.assertEqual(self.said(self.say("5"))[-1], "email?")
        withdraw_script(self.scope, script)
        with self.assertRaises(NotFound):
            self.chats.open(self.house.slug, "plan-a-bed", Visitor("z" * 40))
        self.assertEqual(self.said(self.say("x@x.example"))[-1], "Is this right?")

    def test_a_silence_closes_and_writes(self) -> None:
        self.make(STEPS, silence=5)
        for reply in ("6", "4", "wren@hedgerow.example"):
            self.say(reply)
        later = replace(self.scope, clock=lambda: self.now)
        self.assertEqual(let_time_pass(later), 0)
        self.now = NOW + timedelta(hours=6)
        self.assertEqual((let_time_pass(later), let_time_pass(later)), (1, 0))
        person = self.scope_person("wren@hedgerow.example")
        self.assertEqual(self.value(person, "plot_length"), "6 m")
        self.assertEqual(list_conversations(self.scope)[0][0].mode, "ended")

    def test_a_wait_runs_out(self) -> None:
        self.make(
            [
                choose(1, "go"),
                {"kind": "wait", "id": "l2", "text": "One moment.", "minutes": 10, "late_to": "l4"},
                say(3, "there", to="end"),
                say(4, "late"),
                ask(5, "zone"),
            ]
        )
        self.assertEqual(self.said(self.say("go"))[-1], "One moment.")
        later = replace(self.scope, clock=lambda: self.now)
        self.now = NOW + timedelta(minutes=11)
        self.assertEqual(let_time_pass(later), 1)
        opened = self.chats.open(self.house.slug, "plan-a-bed", Visitor(TOKEN))
        self.assertEqual(self.said(opened)[-2:], ["late", "zone?"])

    def test_a_wait_for_what_staff_fill_is_over_once_it_is_there(self) -> None:
        """Looked at by the worker, by the page that asks for news, and when the person writes; never twice."""
        steps = [
            choose(1, "go"),
            {"kind": "wait", "id": "l2", "text": "One moment.", "field": "plot_length"},
            ask(3, "plot_width"),
        ]
        self.make(steps)
        by: dict[str, Callable[[int], Any]] = {
            "worker": lambda _: let_time_pass(replace(self.scope, clock=lambda: self.now)),
            "page": lambda person: self.chats.news(self.house.slug, "plan-a-bed", Visitor(TOKEN + "page", person), 0),
            "reply": lambda person: self.say("hello?", person=person, token=TOKEN + "reply"),
        }
        for name, look in by.items():
            with self.subTest(by=name):
                self.now = NOW
                person, visitor = self.house.add(email=f"{name}@hedgerow.example"), TOKEN + name
                self.assertEqual(self.said(self.say("go", person=person, token=visitor))[-1], "One moment.")
                self.now = NOW + timedelta(minutes=5)
                if name != "reply":
                    look(person)
                opened = self.chats.open(self.house.slug, "plan-a-bed", Visitor(visitor, person))
                self.assertEqual(self.said(opened)[-1], "One moment.")
                set_values(self.scope, person, {"plot_length": "6"})
                self.now = NOW + timedelta(minutes=10)
                look(person)
                look(person)
                opened = self.chats.open(self.house.slug, "plan-a-bed", Visitor(visitor, person))
                self.assertEqual([one for one in self.said(opened) if one == "plot_width?"][:1], ["plot_width?"])
                if name != "reply":
                    self.assertEqual(self.said(opened), ["choose 1", "One moment.", "plot_width?"])

    def test_by_text_messages(self) -> None:
        use_part(self.scope, "consent_phone")
        self.make(STEPS)
        lines = self.chats.text(self.house.slug, "+447700900123", "hello", "t1")
        self.assertEqual([one.text for one in lines], ["hello", "Hello neighbour.", "plot_length?"])
        self.assertEqual(self.chats.text(self.house.slug, "+447700900123", "hello", "t1"), ())
        self.assertEqual(len(self.chats.texts(self.house.slug, "+447700900123")[0]), 3)
        for number, reply in enumerate(("6", "4", "wren@hedgerow.example", "1", "1")):
            lines = self.chats.text(self.house.slug, "+447700900123", reply, f"u{number}")
        self.assertEqual(lines[-1].text, "Goodbye.")
        person = self.scope_person("wren@hedgerow.example")
        self.assertEqual(self.value(person, "plot_length"), "6 m")
        self.chats.text(self.house.slug, "+447700900123", "STOP", "stop")

    def test_two_first_texts_at_once_begin_one_exchange(self) -> None:
        self.make(STEPS)
        look = PublicChats._with_address

        def slowly(*asked: Any, **more: Any) -> Any:
            found = look(*asked, **more)
            time.sleep(0.3)  # long enough for the other to look as well, were it let
            return found

        with patch.object(PublicChats, "_with_address", slowly), ThreadPoolExecutor(2) as threads:
            both = [
                threads.submit(self.chats.text, self.house.slug, "+447700900124", "hello", "same") for _ in range(2)
            ]
        self.assertEqual(sorted(len(one.result()) for one in both), [0, 3])

    def test_a_first_text_that_wants_none_is_not_greeted(self) -> None:
        self.make(STEPS)
        lines = self.chats.text(self.house.slug, "+447700900125", "Stop!", "s1")
        self.assertEqual([one.speaker for one in lines], ["person", "house"])
        self.assertIn("no more messages", lines[1].text)
        self.assertEqual(len(self.chats.text(self.house.slug, "+447700900125", "hello", "s2")), 1)
        lines = self.chats.text(self.house.slug, "+447700900125", "START", "s3")
        self.assertEqual(lines[-1].text, "plot_length?")

    def test_other_words_of_a_script_than_its_channel(self) -> None:
        self.make(STEPS, channels=["text"])
        with self.assertRaises(NotFound):
            self.chats.open(self.house.slug, "plan-a-bed", Visitor())


def read_catalogue_value(scope: Any, key: str) -> str:
    with scope.reading("reader") as unit:
        field = unit.catalogue.keys_of(HOUSE)[key]
        return str(field.show(unit.moment.house.get(key)))


class Desk(Chats):
    def handed(self) -> int:
        self.make(STEPS)
        self.say("6")
        self.say("A person, please")
        return waiting_at_desk(self.scope)[0].id

    def test_taken_answered_returned(self) -> None:
        talk = self.handed()
        (entry,) = waiting_at_desk(self.scope)
        self.assertEqual((entry.note, entry.clerk, entry.script), ("They asked for a person.", "", "Plan a bed"))
        self.assertEqual(self.said(self.say("hello?")), [])
        clerk, other = self.house.as_role("clerk", "Ada"), self.house.as_role("clerk", "Ben")
        take_conversation(clerk, talk)
        with self.assertRaisesRegex(Conflict, "Ada has it"):
            answer_as_clerk(other, talk, "Hello from Ben")
        answer_as_clerk(clerk, talk, "Hello from Ada", "once")
        answer_as_clerk(clerk, talk, "Hello from Ada", "once")
        news = self.chats.news(self.house.slug, "plan-a-bed", Visitor(TOKEN), 0)
        self.assertEqual([one.text for one in news.lines if one.speaker == "clerk"], ["Hello from Ada"])
        held = read_conversation(clerk, talk)
        self.assertEqual(held.answered, (("Plot length", "6 m"),))
        return_to_script(clerk, talk, "l3")
        self.assertEqual(waiting_at_desk(self.scope), [])
        self.assertEqual(self.said(self.chats.open(self.house.slug, "plan-a-bed", Visitor(TOKEN)))[-1], "plot_width?")
        with self.assertRaises(InvalidInput):
            return_to_script(clerk, talk, "l99")

    def test_what_was_answered_is_found_and_exported(self) -> None:
        script = self.make(STEPS)
        self.say("6")
        self.say("4")
        self.say("wren@hedgerow.example", key="w")
        self.say("12.5", token=TOKEN + "2")
        (other, first), more = list_conversations(self.scope, script)
        self.assertEqual(
            (first.answers, other.answers, more), ("Plot length: 6 m · Plot width: 4 m", "Plot length: 12.5 m", None)
        )
        for query, wanted in (
            (TalkQuery(search="HEDGEROW wren"), [first.id]),
            (TalkQuery(search="nothing like it"), []),
            (TalkQuery(state="ended"), []),
            (TalkQuery(since=NOW.date(), until=NOW.date()), [other.id, first.id]),
            (TalkQuery(since=NOW.date() + timedelta(days=1)), []),
        ):
            with self.subTest(query=query):
                self.assertEqual([one.id for one in list_conversations(self.scope, script, None, query)[0]], wanted)
        slug, lines = talks_as_csv(self.scope, script, TalkQuery(search="wren"))
        rows = list(csv.DictReader(io.StringIO("".join(lines))))
        self.assertEqual(slug, "plan-a-bed")
        self.assertEqual([(one["plot_length"], one["email"]) for one in rows], [("6 m", "wren@hedgerow.example")])

    def test_what_only_editors_see_is_in_no_words_that_others_read(self) -> None:
        talk = self.handed()
        script = list_scripts(self.scope)[0].id
        group = read_catalogue(self.scope).by_key["plot_length"].group_id
        change_group(self.scope, group, GroupInput(name="Plots", seen_by="editors"))
        reader = self.house.as_role("reader")
        held = read_conversation(reader, talk)
        self.assertEqual((held.lines, held.answered, held.entry.withheld), ((), (), True))
        for line in (waiting_at_desk(reader)[0], list_conversations(reader)[0][0], held.entry):
            self.assertEqual((line.last, line.answers, line.note), ("", "", ""))
        self.assertEqual(list_conversations(reader, script, None, TalkQuery(search="6"))[0], [])
        self.assertNotIn("6 m", "".join(talks_as_csv(reader, script, TalkQuery())[1]))
        self.assertIn("6", [one.text for one in read_conversation(self.scope, talk).lines])

    def test_who_may(self) -> None:
        talk = self.handed()
        reader = self.house.as_role("reader")
        for act in (
            lambda: take_conversation(reader, talk),
            lambda: answer_as_clerk(reader, talk, "x"),
            lambda: close_conversation(reader, talk),
        ):
            with self.assertRaises(NotAllowed):
                act()
        for text in ("", " ", "x" * 2_001):
            with self.assertRaises(InvalidInput):
                answer_as_clerk(self.scope, talk, text)
        with self.assertRaises(NotFound):
            read_conversation(make_house().scope, talk)
        close_conversation(self.scope, talk)
        self.assertEqual(self.say("hello").mode, "ended")
        with self.assertRaises(InvalidInput):
            answer_as_clerk(self.scope, talk, "late")


class Writing(Chats):
    def lines(self, script: int) -> list[tuple[str, str]]:
        return [(one.id, one.under) for one in read_script(self.scope, script).prepared.flow.lines]

    def do(self, change: Any, script: int, *rest: Any) -> Any:
        return change(self.scope, script, read_script(self.scope, script).revision, *rest)

    def test_lines_in_order_and_under_replies(self) -> None:
        script = create_script(self.scope, "Bed")
        self.do(writing.add_line, script, "say")
        self.do(writing.add_line, script, "choose")
        self.do(writing.add_line, script, "end")
        _, inside = self.do(writing.add_line, script, "say", "", "b2")
        _, first = self.do(writing.add_line, script, "say", "", "b1")
        _, after = self.do(writing.add_line, script, "ask", first)
        self.assertEqual(
            self.lines(script), [("l1", ""), ("l2", ""), (first, "b1"), (after, "b1"), (inside, "b2"), ("l3", "")]
        )
        self.do(writing.move_line, script, "l3", -1)
        self.assertEqual([one for one, _ in self.lines(script)], ["l1", "l3", "l2", first, after, inside])
        self.do(writing.move_line, script, "l2", -1)
        self.assertEqual([one for one, _ in self.lines(script)], ["l1", "l2", first, after, inside, "l3"])
        self.do(writing.indent_line, script, "l3", "b2")
        self.assertEqual(self.lines(script)[-1], ("l3", "b2"))
        done = self.do(writing.indent_line, script, after, "")
        self.assertEqual(self.lines(script)[-1], (after, ""))
        undo_change(self.scope, done)
        self.assertEqual(self.lines(script)[3], (after, "b1"))
        self.do(writing.remove_line, script, "l2")
        self.assertEqual({under for _, under in self.lines(script)}, {""})

    def test_another_kind_keeps_the_words(self) -> None:
        script = create_script(self.scope, "Bed", (say(1, "How long?"),))
        self.do(writing.change_line, script, "l1", {"kind": "ask"})
        self.assertEqual(read_script(self.scope, script).document.step("l1").text, "How long?")

    def test_two_at_once_and_bad_input(self) -> None:
        script = create_script(self.scope, "Bed", (say(1, "x"),))
        self.do(writing.change_line, script, "l1", {"texts": [{"text": "y"}]})
        with self.assertRaises(Overtaken):
            writing.change_line(self.scope, script, 0, "l1", {"texts": [{"text": "z"}]})
        for parts in ({"texts": [{"text": "x" * 2_001}]}, {"to": "nowhere"}, {"texts": []}):
            with self.assertRaises(InvalidInput):
                self.do(writing.change_line, script, "l1", parts)
        with self.assertRaises(NotFound):
            self.do(writing.change_line, script, "l9", {})
        with self.assertRaises(NotAllowed):
            writing.add_line(self.house.as_role("clerk"), script, 1, "say")
        for title in ("", " ", "x" * 201):
            with self.assertRaises(InvalidInput):
                create_script(self.scope, title)

    def test_publishing_and_versions(self) -> None:
        script = create_script(self.scope, "Bed")
        with self.assertRaisesRegex(InvalidInput, "Write a line first"):
            publish_script(self.scope, script)
        self.do(writing.add_line, script, "say")
        with self.assertRaisesRegex(InvalidInput, "Line 1: It says nothing yet"):
            publish_script(self.scope, script)
        self.do(writing.change_line, script, "l1", {"texts": [{"text": "a"}]})
        publish_script(self.scope, script)
        self.assertFalse(list_scripts(self.scope)[0].unpublished)
        self.do(writing.change_line, script, "l1", {"texts": [{"text": "b"}]})
        publish_script(self.scope, script)
        return_to_version(self.scope, script, 1)
        self.assertEqual(read_script(self.scope, script).document.steps[0].texts[0].text, "a")
        self.assertEqual([one.number for one in script_versions(self.scope, script)], [2, 1])
        with self.assertRaises(InvalidInput):
            delete_script(self.scope, script)
        withdraw_script(self.scope, script)
        delete_script(self.scope, script)
        self.assertEqual(list_scripts(self.scope), [])

    def test_undoing_that_it_was_made_removes_no_conversation(self) -> None:
        """A script in force, or with conversations, stays, whichever way it is to be removed."""
        script = create_script(self.scope, "Plan a bed", (say(1, "Hello."), choose(2, "Yes")))
        made = undoable_change(self.scope, "script", script)
        assert made is not None
        publish_script(self.scope, script)
        with self.assertRaisesRegex(Conflict, "out of force"):
            undo_change(self.scope, made.id)
        self.say("yes")
        withdraw_script(self.scope, script)
        with self.assertRaisesRegex(Conflict, "Conversations were held by it"):
            undo_change(self.scope, made.id)
        conversation = list_conversations(self.scope)[0][0]
        self.assertEqual(read_conversation(self.scope, conversation.id).entry.script, "Plan a bed")

    def test_by_file_and_back(self) -> None:
        self.make(STEPS)
        text = export_setup(self.scope)[1]
        other = make_house(fields=False)
        load_setup(other.scope, text)
        self.assertEqual([(one.title, one.published) for one in list_scripts(other.scope)], [("Plan a bed", 1)])
        self.assertIn('"field": "plot_length"', text)
        self.assertEqual(
            export_setup(other.scope)[1].partition('"x-sieve-scripts"')[2], text.partition('"x-sieve-scripts"')[2]
        )


class Taking(Chats):
    def test_a_form_as_a_script(self) -> None:
        """Questions, checks and rules are copied; the rest is told."""
        form = create_form(self.scope, "Join us")
        for key in ("zone", "plot_length", "swaps_seed"):
            add_question(self.scope, form, read_draft(self.scope, form).revision, self.house.field_id(key))
        asked = QuestionInput(
            show_when='zone = "north"',
            checks=({"kind": "range", "low": "1", "high": "60"},),
            surcharges=({"label": "x", "amount": "3"},),
        )
        change_question(self.scope, form, read_draft(self.scope, form).revision, "q3", asked)
        script, left = script_from_form(self.scope, form, "Join by chat")
        self.assertEqual(left, ("Plot length: its surcharges.",))
        view = read_script(self.scope, script)
        self.assertEqual(
            [one.kind for one in view.prepared.flow.lines], ["ask", "ask", "branch", "ask", "ask", "sum_up", "end"]
        )
        self.assertEqual(view.problems, ())
        for zone, follows in (("north", "Plot length"), ("hill", "Swaps seed")):
            trial = try_script(self.scope, script, TrialInput(("a@x.example", zone)))
            self.assertEqual(trial.said[-1].texts, (follows,))

    def test_translated(self) -> None:
        script = self.make(STEPS)
        view = read_script(self.scope, script)
        self.assertIn("Plot length", view.prepared.texts_to_say())
        writing.change_script_settings(self.scope, script, view.revision, {"languages": ["en", "de"]})
        writing.set_script_phrases(
            self.scope, script, view.revision + 1, "de", {"plot_length?": "Wie lang?", "email?": " "}
        )
        trial = try_script(self.scope, script, TrialInput(language="de"))
        self.assertEqual(trial.said[-1].texts, ("Wie lang?",))
        with self.assertRaises(NotFound):
            writing.set_script_phrases(self.scope, script, view.revision + 2, "fr", {})


class Using(Chats):
    def test_where_a_field_is_used_and_an_option_renamed(self) -> None:
        """A script says so where its field is looked at; an option renamed is renamed in it, in force too."""
        zone = choose(1, "North", "Hill", field="zone")
        zone["replies"][0]["value"] = "north"
        branch = {"kind": "branch", "id": "l2", "cases": [{"id": "c1", "rule": 'zone = "north"', "to": "l4"}]}
        script = self.make([zone, branch, say(3, "no", to="end"), say(4, "yes {zone}")])
        field = self.house.field_id("zone")
        with self.scope.reading("reader") as unit:
            self.assertIn(("script", "Plan a bed"), {(use.kind, use.name) for use in uses_of(unit).of_field(field)})
        rows = [OptionInput(was=was, label=label, value=value) for was, label, value in (
            ("north", "North end", "north_end"), ("hill", "Hill", "hill"), ("south", "South", "south"))]  # fmt: skip
        change_options(self.scope, field, rows)
        document = read_script(self.scope, script).document
        self.assertEqual(document.steps[0].replies[0].value, "north_end")
        self.assertEqual(document.steps[1].cases[0].rule, 'zone = "north_end"')
        self.assertEqual(self.said(self.say("north")), ["yes North end"])


class Trying(Chats):
    def test_as_somebody_with_values_and_from_a_line(self) -> None:
        person = self.house.add(first_name="Wren", plot_length=6)
        segment = create_segment(self.scope, "Wide")
        change_segment(self.scope, segment, 1, SegmentInput(name="Wide", expression="plot_width > 3"))
        script = self.make(STEPS)
        trial = try_script(self.scope, script, TrialInput(("7", "4"), who="wren"))
        self.assertEqual((trial.person, trial.said[0].texts, trial.line), ("Wren", ("Hello Wren.",), 4))
        self.assertEqual(
            [(one.label, one.before, one.after) for one in trial.changes][:2],
            [("Plot length", "6 m", "7 m"), ("Plot width", "", "4 m")],
        )
        self.assertEqual(trial.enters, ("Wide",))
        at = try_script(self.scope, script, TrialInput((), at="l3", values="plot_length = 9", channel="text"))
        self.assertEqual((at.said[0].texts, at.line), (("plot_width?",), 3))
        wrong = try_script(self.scope, script, TrialInput(values="no_such = 1"))
        self.assertIn("names no field", wrong.problem)
        self.assertEqual(self.value(person, "plot_length"), "6 m")
        self.assertEqual(list_conversations(self.scope)[0], [])

    def test_a_trial_tells_a_reader_nothing_that_only_editors_see(self) -> None:
        group = create_group(self.scope, GroupInput(name="Kept close", seen_by="editors"))
        create_field(self.scope, group, FieldInput(label="Debt", type_key="number"))
        person = self.house.add(email="wren@hedgerow.example", debt=Decimal(777))
        case = {"id": "c1", "rule": "debt > 700", "to": "l3"}
        script = self.make(
            [{"kind": "branch", "id": "l1", "cases": [case], "to": "l2"}, say(2, "none"), say(3, "owes")]
        )
        asked = TrialInput(person_id=person)
        self.assertIn("owes", try_script(self.scope, script, asked).said[0].texts)
        for role in ("reader", "clerk"):
            trial = try_script(self.house.as_role(role), script, asked)
            self.assertEqual(trial.said[0].texts, ("none",))
            self.assertIn("can’t tell", trial.trace[0][1])

    def test_cases_say_what_comes_otherwise(self) -> None:
        script = self.make(STEPS)
        keep_script_case(self.scope, script, "newcomer", TrialInput(("6", "4")))
        self.assertEqual(run_script_cases(self.scope, script)[0].differences, ())
        revision = read_script(self.scope, script).revision
        writing.change_line(self.scope, script, revision, "l4", {"text": "Your address?"})
        self.assertEqual(
            run_script_cases(self.scope, script)[0].differences, (("Said last", "email?", "Your address?"),)
        )
        with self.assertRaises(InvalidInput):
            keep_script_case(self.scope, script, " ", TrialInput())

    def test_nothing_to_try(self) -> None:
        self.assertIn("write a line", try_script(self.scope, create_script(self.scope, "Empty"), TrialInput()).problem)


if __name__ == "__main__":
    unittest.main()
