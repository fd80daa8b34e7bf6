"""The machine that holds conversations: reading replies, running on, going back, correcting, writing."""

import json
import unittest
from typing import Any

from finesieve.core.chat.journal import fold, read_state, write_state
from finesieve.core.chat.plain import as_texts, in_parts
from finesieve.core.chat.turn import Reply
from finesieve.core.chat.words import edits_within, fold_reply, steering_word
from finesieve.core.errors import InvalidInput
from finesieve.core.fields.encoding import to_json
from finesieve.core.values import StoredFile
from tests.support.talking import Talking, ask, choose, do, say

BED: list[dict[str, Any]] = [
    say(1, 'Hello {first_name else "neighbour"}.'),
    choose(2, "Yes, let’s", ("Not now", "l9")),
    ask(3, "length", checks=[{"kind": "range", "low": "0.5", "high": "60"}], retry="Just the number."),
    ask(4, "width"),
    ask(5, "soil"),
    do(6, {"verb": "becomes", "field": "beds", "value": "floor(area / 1.2)"}),
    say(7, "That is {area}, room for {beds}."),
    {"kind": "sum_up", "id": "l8", "text": "Right?"},
    {"kind": "end", "id": "l9", "text": "Goodbye."},
]


class Running(unittest.TestCase):
    def test_from_the_first_line_to_the_end(self) -> None:
        talk = Talking(BED)
        self.assertEqual(talk.texts, ["Hello neighbour.", "choose 2"])
        self.assertEqual((talk.last["line"], talk.last["expects"]), (2, "choice"))
        talk.say("yes, let's")
        self.assertEqual((talk.texts, talk.last["expects"]), (["length?"], "number"))
        talk.say("6")
        talk.say("4 m")
        talk.say("clay")
        self.assertEqual(talk.texts, ["That is 24 m², room for 20.", "Right?"])
        self.assertEqual(talk.last["messages"][1]["answers"][:1], [{"label": "Length", "value": "6 m"}])
        self.assertNotIn("written", talk.last)
        talk.say("that is right")
        self.assertEqual((talk.texts, talk.last["mode"], talk.last["line"]), (["Goodbye."], "ended", None))
        person = talk.last["written"]["person"]
        self.assertEqual(person["beds"], ["set", "20"])
        self.assertEqual(person["soil"], ["set", "clay"])

    def test_a_reply_leads_elsewhere(self) -> None:
        talk = Talking(BED)
        talk.say("2")
        self.assertEqual((talk.texts, talk.last["mode"]), (["Goodbye."], "ended"))

    def test_lines_under_a_reply(self) -> None:
        steps = [choose(1, "One", "Two"), say(2, "first", under="b10"), say(3, "second", under="b11"), say(4, "both")]
        for reply, said in (("one", "first"), ("two", "second")):
            talk = Talking(steps)
            talk.say(reply)
            self.assertEqual(talk.texts, [said, "both"])

    def test_branches_by_rule_and_unknown_is_not_true(self) -> None:
        steps = [
            ask(1, "length", optional=True),
            {"kind": "branch", "id": "l2", "cases": [
                {"id": "c1", "rule": "length > 10", "to": "l4"}, {"id": "c2", "rule": "length <= 10", "to": "l5"}]},
            say(3, "unknown", to="end"), say(4, "long", to="end"), say(5, "short"),
        ]  # fmt: skip
        for reply, said in (("12", "long"), ("3", "short"), ("skip", "unknown")):
            talk = Talking(steps)
            talk.say(reply)
            self.assertEqual(talk.texts[-1], said)
            self.assertTrue(any("length > 10" in one.words for one in talk.turn.trace))

    def test_a_circle_without_a_question_hands_over(self) -> None:
        talk = Talking([choose(1, "go"), say(2, "round"), {"kind": "go_to", "id": "l3", "to": "l2"}])
        talk.say("go")
        self.assertEqual(talk.last["mode"], "clerk")
        self.assertLessEqual(len(talk.texts), 200)

    def test_another_script_and_back(self) -> None:
        inner = [choose(1, "Right", "Wrong"), do(2, {"verb": "gains", "passing": "points", "value": "1"}, under="b10")]
        steps = [say(1, "quiz"), {"kind": "go_to", "id": "l2", "script": "quiz"}, say(3, "{form.points} points")]
        passing = [{"key": "points", "label": "Points", "start": "0"}]
        for reply, said in (("right", "1 points"), ("wrong", "0 points")):
            talk = Talking(steps, others={"quiz": inner}, passing=passing)
            talk.say(reply)
            self.assertEqual(talk.texts, [said])

    def test_too_deep_is_passed_over(self) -> None:
        steps = [{"kind": "go_to", "id": "l1", "script": "talk"}, say(2, "back")]
        talk = Talking(steps)
        self.assertEqual(talk.last["mode"], "ended")
        self.assertEqual(talk.texts, ["back"] * 8)

    def test_alternatives_by_their_shares_and_the_same_for_one_conversation(self) -> None:
        steps = [{"kind": "say", "id": "l1", "texts": [{"text": "a", "share": 3}, {"text": "b"}]}, choose(2, "x")]
        talk = Talking(steps)
        said = {"a": 0, "b": 0}
        from finesieve.core.chat.machine import begin

        for seed in range(400):
            turn = begin(talk.talk.scripts, "talk", talk.talk._world, seed=seed)
            self.assertEqual(turn.messages, begin(talk.talk.scripts, "talk", talk.talk._world, seed=seed).messages)
            said[turn.messages[0].text] += 1
        self.assertAlmostEqual(said["a"] / 400, 0.75, delta=0.08)

    def test_what_is_gone_is_passed_over_and_said(self) -> None:
        talk = Talking([ask(1, "length"), say(2, "on")])
        script = talk.talk.scripts["talk"]
        step = script.flow.by_id["l1"]
        self.assertIsNotNone(script.subject_of(step))
        self.assertIsNone(script.subject_of(step.model_copy(update={"field_id": 999})))


class Reading(unittest.TestCase):
    def asked(self, field: str, reply: str, **more: Any) -> Talking:
        talk = Talking([ask(1, field, **more), say(2, "on")])
        talk.say(reply)
        return talk

    def test_said_back_where_it_was_not_typed_exactly(self) -> None:
        for field, reply, noted in (
            ("length", "about 6", "I have noted 6 m."), ("born", "tomorrow", "I have noted 28 Nov 2026."),
            ("soil", "sandy lom", "I take that as Sandy loam."), ("length", "6 metres", "I have noted 6 m."),
        ):  # fmt: skip
            self.assertEqual(self.asked(field, reply).texts, [noted, "on"], reply)
        for field, reply in (
            ("length", "6"),
            ("length", "6 m"),
            ("soil", "CLAY."),
            ("soil", "2"),
            ("swaps", "yes please"),
        ):
            self.assertEqual(self.asked(field, reply).texts, ["on"], reply)

    def test_near_names_by_their_length(self) -> None:
        self.assertEqual(self.asked("soil", "cley").texts[0], "Choose one of the options offered.")
        self.assertEqual(self.asked("soil", "loam sol").values["soil"], "loam")
        self.assertEqual(self.asked("soil", "sendy lom").values["soil"], "sand")
        self.assertTrue(edits_within("loam", "laom", 1))
        self.assertFalse(edits_within("loam", "sand", 1))

    def test_never_near_for_numbers_and_yes_or_no(self) -> None:
        self.assertIn("swaps", Talking([ask(1, "swaps")]).texts[0])
        self.assertEqual(self.asked("swaps", "yess").last["understood"], "not understood")

    def test_two_readings_are_both_offered_and_no_try(self) -> None:
        talk = self.asked("length", "1,250")
        self.assertEqual((talk.texts, talk.offers), (["Which of these do you mean?"], ["1250 m", "1.25 m"]))
        self.assertEqual(talk.state.tries, 0)
        talk.say("2")
        self.assertEqual(talk.values["length"], "1.25")
        talk = self.asked("born", "12 May")
        self.assertEqual(len(talk.offers), 2)
        talk.say(talk.offers[1])
        self.assertEqual(talk.values["born"][5:], "05-12")

    def test_a_number_that_is_a_reply_as_well(self) -> None:
        steps = [choose(1, "5", "1", field="beds"), say(2, "on")]
        talk = Talking(steps)
        talk.say("1")
        self.assertEqual(talk.values["beds"], "1")  # the exact name comes before the number
        talk = Talking(steps)
        talk.say("2")
        self.assertEqual(talk.texts, ["Which of these do you mean?"])
        talk.say("1")
        self.assertEqual(talk.values["beds"], "1")

    def test_several_choices(self) -> None:
        self.assertEqual(self.asked("soils", "1, 3").values["soils"], ["clay", "sand"])
        self.assertEqual(self.asked("soils", "clay and loam soil").values["soils"], ["clay", "loam"])
        talk = Talking([ask(1, "soils"), say(2, "on")])
        for press in ("o:clay", "o:loam", "o:clay"):
            talk.say(press=press)
        self.assertEqual([one.chosen for one in talk.turn.offers[:3]], [False, True, False])
        talk.say("done")
        self.assertEqual(talk.values["soils"], ["loam"])
        self.assertEqual(self.asked("soils", "moss").last["understood"], "not understood")

    def test_tries_and_what_comes_after(self) -> None:
        for then, ends in (("hand", "clerk"), ("skip", "ended"), ("l3", "ended")):
            talk = Talking(
                [ask(1, "length", tries=2, then=then, retry="Only a number."), say(2, "on", to="end"), say(3, "else")]
            )
            talk.say("long")
            self.assertEqual((talk.texts, talk.state.tries), (["Only a number.", "length?"], 1))
            talk.say("very")
            self.assertEqual(talk.last["mode"], ends)
            self.assertEqual(
                talk.texts[-1], {"hand": "One of us will take it from here.", "skip": "on", "l3": "else"}[then]
            )
            self.assertNotIn("length", talk.values)

    def test_whose_words_a_problem_has(self) -> None:
        own = {"kind": "range", "high": "60", "message": "No longer than the lane."}
        self.assertEqual(self.asked("length", "70", checks=[own], retry="r").texts[0], "No longer than the lane.")
        self.assertEqual(self.asked("length", "70", checks=[{"kind": "range", "high": "60"}], retry="r").texts[0], "r")
        self.assertIn("at most 60", self.asked("length", "70", checks=[{"kind": "range", "high": "60"}]).texts[0])

    def test_words_that_steer(self) -> None:
        self.assertEqual(steering_word("  GO  back! ", "en"), "back")
        self.assertEqual(steering_word("zurück", "de"), "back")
        self.assertIsNone(steering_word("zurück", "en"))
        self.assertIsNone(steering_word("back door", "en"))
        self.assertEqual(fold_reply(" Crème  brûlée?! "), "creme brulee")

    def test_a_steering_word_at_a_question_for_text(self) -> None:
        talk = Talking([choose(1, "go"), ask(2, "plot_name"), say(3, "called {plot_name}")])
        talk.say("go")
        talk.say("back")
        self.assertEqual(talk.offers, ["Use as my answer", "Back"])
        talk.say("use as my answer")
        self.assertEqual(talk.texts, ["called back"])
        talk = Talking([choose(1, "go"), ask(2, "plot_name")])
        talk.say("go")
        talk.say("back")
        talk.say("2")
        self.assertEqual(talk.texts, ["choose 1"])

    def test_a_button_of_an_earlier_question(self) -> None:
        talk = Talking([choose(1, "a", "b"), choose(2, "c")])
        first = f"{talk.turn.state.stack[-1].visit}@b10"
        talk.say(press=first)
        state = talk.state
        talk.say(press=first)
        self.assertEqual((talk.texts, talk.state.journal), (["choose 2"], state.journal))

    def test_the_same_reply_counts_once(self) -> None:
        talk = Talking([ask(1, "length"), ask(2, "width")])
        talk.say("6", key="k")
        said, state = talk.texts, talk.state
        talk.say("7", key="k")
        self.assertEqual((talk.texts, talk.state), (said, state))
        self.assertTrue(talk.turn.repeated)

    def test_empty_and_overlong(self) -> None:
        for reply in ("", " ", "x" * 20_000, "١٢٣", "\u200b"):
            talk = Talking([ask(1, "length")])
            talk.say(reply)
            self.assertEqual((talk.last["mode"], talk.values), ("script", {}), reply[:5])

    def test_private_fields_are_not_asked_nor_told(self) -> None:
        talk = Talking([ask(1, "secret_note"), say(2, "on {secret_note}")], person={"secret_note": "late payer"})
        self.assertEqual(talk.texts, ["on "])


class OnAPage(unittest.TestCase):
    """What cannot be typed is given on a page of its own."""

    PHOTO = StoredFile("0" * 64, "bed.jpg", "image/jpeg", 1_000, 10, 10)

    def give(self, talk: Talking, **given: Any) -> Any:
        return talk.say(given={key: to_json(value) for key, value in given.items()})

    def test_in_a_file_of_replies(self) -> None:
        """As JSON, where it would be given on the page; what begins like JSON and is none is a text."""
        talk = Talking([ask(1, "photo"), choose(2, "Yes", "No"), ask(3, "plot_name"), {"kind": "sum_up", "id": "l4"}])
        photo = {"digest": "0" * 64, "name": "bed.png", "media_type": "image/png", "size": 9}
        lines = [json.dumps({"given": {"photo": photo}}), '{"button": "b20"}', "{Wren}"]
        results = list(talk.talk.results(lines))
        self.assertEqual(results[1]["values"]["photo"]["name"], "bed.png")
        self.assertEqual(results[2]["understood"], "Yes")
        self.assertEqual(results[3]["values"]["plot_name"], "{Wren}")
        for line, why in (
            ('{"given": {"photo": {"digest": 7}}}', "reply 1: photo: no stored file"),
            ('{"given": {"length": "3"}}', "reply 1: length is not asked there"),
            ('{"given": 3}', "reply 1: what is given are values"),
        ):
            with self.assertRaisesRegex(InvalidInput, why):
                list(Talking([ask(1, "photo")]).talk.results([line]))

    def test_a_picture(self) -> None:
        talk = Talking([ask(1, "photo"), {"kind": "sum_up", "id": "l2"}])
        self.assertEqual((talk.last["expects"], talk.last["offers"][0]["kind"]), ("picture", "apart"))
        talk.say("here it is")
        self.assertEqual(talk.texts, ["Please use the link for that.", "photo?"])
        self.give(talk, photo=self.PHOTO)
        self.assertEqual(talk.texts[0], "I have noted bed.jpg.")
        self.assertEqual(talk.last["messages"][-1]["answers"], [{"label": "Photo", "value": "bed.jpg"}])
        talk.say("that is right")
        self.assertEqual(talk.last["written"]["person"]["photo"][1]["digest"], "0" * 64)

    def test_back_and_corrected(self) -> None:
        talk = Talking([ask(1, "photo"), ask(2, "length"), {"kind": "sum_up", "id": "l3"}])
        self.give(talk, photo=self.PHOTO)
        talk.say("back")
        self.assertEqual((talk.texts, talk.values), (["photo?"], {}))
        self.give(talk, photo=self.PHOTO)
        for reply in ("3", "Change Length", "4"):
            talk.say(reply)
        self.assertEqual([one["value"] for one in talk.last["messages"][-1]["answers"]], ["bed.jpg", "4 m"])
        talk.say("Change Photo")
        self.give(talk, photo=StoredFile("1" * 64, "new.jpg", "image/jpeg", 1_000, 10, 10))
        self.assertEqual([one["value"] for one in talk.last["messages"][-1]["answers"]], ["new.jpg", "4 m"])

    def test_a_secret_never_enters_the_state(self) -> None:
        self.assertEqual(Talking([ask(1, "word"), say(2, "on")]).texts, ["on"])  # of a stranger it is not asked
        talk = Talking([ask(1, "word"), {"kind": "sum_up", "id": "l2"}], person={})
        talk.say("open sesame")
        self.assertTrue(talk.turn.hush)
        self.give(talk, word="open sesame")
        self.assertNotIn("sesame", str(write_state(talk.state)))
        self.assertEqual(talk.last["messages"][-1]["answers"], [{"label": "Word", "value": "••••"}])

    def test_skipped_and_given_too_late(self) -> None:
        talk = Talking([ask(1, "sketch", optional=True), ask(2, "length")])
        talk.say("skip")
        self.assertEqual(talk.texts, ["length?"])
        self.give(talk, sketch={"beds": 2})
        self.assertEqual((talk.texts, talk.values), (["length?"], {}))
        self.assertEqual(talk.turn.understood, "a reply of an earlier question")


class GoingBack(unittest.TestCase):
    def test_back_gives_the_earlier_state(self) -> None:
        talk = Talking([ask(1, "length"), ask(2, "width"), say(3, "x"), ask(4, "soil")])
        talk.say("6")
        before = talk.state
        talk.say("4")
        talk.say("back")
        self.assertEqual(talk.texts, ["width?"])
        self.assertEqual((talk.state.stack, talk.state.journal), (before.stack, before.journal))
        talk.say("back")
        self.assertEqual((talk.texts, talk.values), (["length?"], {}))
        talk.say("back")
        self.assertEqual(talk.texts[0], "There is nothing to go back to.")

    def test_what_was_done_since_is_undone(self) -> None:
        gain = do(2, {"verb": "gains", "field": "beds", "value": "2"}, {"verb": "tag_on", "value": "keen"},
            {"verb": "send", "value": "Hello"})  # fmt: skip
        talk = Talking([ask(1, "length"), gain, ask(3, "width"), {"kind": "end", "id": "l4"}])
        talk.say("6")
        self.assertEqual((talk.values["beds"], talk.values["tags"]), ("2", ["keen"]))
        talk.say("back")
        self.assertEqual(talk.values, {})
        talk.say("5")
        talk.say("1")
        self.assertEqual(talk.turn.effects.sends, ("Hello",))  # type: ignore[union-attr]
        self.assertEqual(talk.turn.effects.person["beds"], ("add", "2"))  # type: ignore[union-attr]

    def test_not_behind_a_commit_point(self) -> None:
        talk = Talking([ask(1, "length"), do(2, now=True), ask(3, "width")])
        talk.say("6")
        self.assertEqual(talk.turn.effects.person, {"length": ("set", "6")})  # type: ignore[union-attr]
        talk.say("back")
        self.assertEqual(talk.texts, ["What was written stays written.", "width?"])

    def test_start_over_and_a_person(self) -> None:
        talk = Talking([ask(1, "length"), ask(2, "width")])
        talk.say("6")
        talk.say("start over")
        self.assertEqual((talk.texts, talk.values), (["length?"], {}))
        talk.say("A person, please")
        self.assertEqual((talk.last["mode"], talk.turn.handed_over), ("clerk", "They asked for a person."))
        talk.say("hello?")
        self.assertEqual((talk.texts, talk.last["quiet"]), ([], "A clerk has the conversation."))
        talk.say(step="l2")
        self.assertEqual((talk.texts, talk.last["mode"]), (["width?"], "script"))


class Correcting(unittest.TestCase):
    def summed(self) -> Talking:
        talk = Talking(BED)
        for reply in ("1", "6", "4", "clay"):
            talk.say(reply)
        return talk

    def test_one_answer_and_what_is_worked_out_from_it(self) -> None:
        talk = self.summed()
        self.assertEqual(talk.offers, ["That is right", "Change Length", "Change Width", "Change Soil"])
        talk.say("change width")
        self.assertEqual(talk.texts, ["width?"])
        talk.say("2")
        self.assertEqual(talk.texts, ["Right?"])
        self.assertEqual((talk.values["beds"], talk.values["soil"]), ("10", "clay"))
        self.assertEqual(fold(talk.state.journal).person["beds"], ("set", "10"))

    def test_back_leaves_all_as_it_was(self) -> None:
        talk = self.summed()
        journal = talk.state.journal
        talk.say("2")
        talk.say("back")
        self.assertEqual((talk.texts, talk.state.journal), (["Right?"], journal))

    def test_another_way_asks_what_is_new_and_drops_what_is_not_reached(self) -> None:
        steps = [
            choose(1, "Bed", ("Pot", "l4"), field="plot_name"), ask(2, "length"), {"kind": "go_to", "id": "l3", "to": "l5"},
            ask(4, "beds"), ask(5, "soil"), {"kind": "sum_up", "id": "l6"},
        ]  # fmt: skip
        talk = Talking(steps)
        for reply in ("bed", "6", "clay"):
            talk.say(reply)
        talk.say("change plot name")
        talk.say("pot")
        self.assertEqual(talk.texts, ["beds?"])
        talk.say("3")
        self.assertEqual(talk.texts, ["Is this right?"])
        self.assertEqual(
            {one.label for one in talk.turn.offers[1:]}, {"Change Plot name", "Change Beds", "Change Soil"}
        )
        self.assertNotIn("length", talk.values)

    def test_after_a_commit_differences_are_written(self) -> None:
        steps = [
            ask(1, "length"), do(2, {"verb": "gains", "field": "packets", "value": "length"}, now=True), ask(3, "width"),
            {"kind": "sum_up", "id": "l4"}, {"kind": "end", "id": "l5"},
        ]  # fmt: skip
        talk = Talking(steps, person={"packets": "10"})
        talk.say("6")
        self.assertEqual(talk.last["written"]["person"], {"length": ["set", "6"], "packets": ["add", "6"]})
        self.assertEqual(talk.values["packets"], "16")
        talk.say("2")
        talk.say("change length")
        talk.say("4")
        self.assertEqual(talk.turn.effects.person, {"length": ("set", "4"), "packets": ("add", "-2")})  # type: ignore[union-attr]
        talk.say("right")
        talk.say("1")
        self.assertEqual(talk.talk._stored["packets"], 14)

    def test_what_does_not_fit_any_more_is_asked(self) -> None:
        wider = [{"kind": "condition", "expression": "width <= length", "message": "Not wider than long."}]
        talk = Talking([ask(1, "length"), ask(2, "width", checks=wider), {"kind": "sum_up", "id": "l3"}])
        talk.say("6")
        talk.say("4")
        talk.say("change length")
        talk.say("3")
        self.assertEqual(talk.texts, ["width?"])


class Knowing(unittest.TestCase):
    def test_known_is_passed_over_or_confirmed(self) -> None:
        person = {"length": "6", "width": "4"}
        talk = Talking(
            [ask(1, "length", known="skip"), ask(2, "width", known="confirm"), {"kind": "sum_up", "id": "l3"}], person
        )
        self.assertEqual((talk.texts, talk.offers), (["width? Still 4 m?"], ["Yes", "No"]))
        talk.say("yes")
        self.assertEqual(talk.offers[1:], ["Change Length", "Change Width"])
        talk.say("right")
        self.assertNotIn("written", talk.last | talk.say("1"))

    def test_no_asks_and_a_fitting_value_replaces(self) -> None:
        steps = [ask(1, "width", known="confirm"), say(2, "{width}")]
        talk = Talking(steps, {"width": "4"})
        talk.say("no")
        self.assertEqual(talk.texts, ["width?"])
        talk.say("5")
        self.assertEqual(talk.texts, ["5 m"])
        talk = Talking(steps, {"width": "4"})
        talk.say("7")
        self.assertEqual(talk.texts, ["7 m"])

    def test_of_a_stranger_nothing_is_known(self) -> None:
        talk = Talking([say(1, 'Hello {plot_name else "you"}'), ask(2, "width", known="skip")])
        self.assertEqual(talk.texts, ["Hello you", "width?"])

    def test_gains_count_from_the_default(self) -> None:
        for person, becomes in ((None, "7"), ({"packets": "10"}, "12"), ({}, "7")):
            talk = Talking([do(1, {"verb": "gains", "field": "packets", "value": "2"}), choose(2, "x")], person)
            self.assertEqual(talk.values["packets"], becomes)

    def test_a_blank_formula_does_nothing_and_says_so(self) -> None:
        talk = Talking([do(1, {"verb": "becomes", "field": "beds", "value": "length * 2"}), choose(2, "x")])
        self.assertEqual(talk.values, {})
        self.assertIn("length * 2 is blank", talk.turn.trace[0].words)

    def test_emptied_tags_lists_and_the_house(self) -> None:
        actions = (
            {"verb": "is_emptied", "field": "length"}, {"verb": "tag_off", "value": "new"},
            {"verb": "list_on", "list": "almanac"}, {"verb": "loses", "house": "left", "value": "3"},
        )  # fmt: skip
        talk = Talking(
            [do(1, *actions), say(2, "{house.left} left"), {"kind": "end", "id": "l3"}],
            {"length": "6", "tags": ["new"]},
        )
        self.assertEqual(talk.texts[0], "37 left")
        effects = talk.turn.effects
        assert effects is not None
        self.assertEqual(effects.person, {"length": ("set", None)})
        self.assertEqual((dict(effects.tags), dict(effects.lists)), ({"new": False}, {"almanac": True}))
        self.assertEqual(effects.house, {"left": ("add", "-3")})

    def test_a_link_without_a_target_is_not_offered(self) -> None:
        reply = {"id": "b1", "label": "Read on", "kind": "link", "target": "{plot_name}"}
        for person, offers in ((None, ["Yes"]), ({"plot_name": "https://a.example"}, ["Read on", "Yes"])):
            step = {"kind": "choose", "id": "l1", "text": "?", "replies": [reply, {"id": "b2", "label": "Yes"}]}
            talk = Talking([step, say(2, "on")], person)
            self.assertEqual(talk.offers, offers)
            talk.say("read on")
            self.assertEqual(talk.last["understood"], "not understood")

    def test_a_reply_that_names_a_value_is_worded_anew(self) -> None:
        talk = Talking([ask(1, "plot_name"), choose(2, "{plot_name} it is", "No"), say(3, "on")])
        for name in ("Brook", "Orchard"):
            talk.say(name)
            self.assertEqual(talk.offers, [f"{name} it is", "No"])
            talk.say("back")


class Waiting(unittest.TestCase):
    STEPS = (
        choose(1, "go"), {"kind": "wait", "id": "l2", "text": "One moment.", "minutes": 30, "late_to": "l4"},
        say(3, "there", to="end"), say(4, "late"),
    )  # fmt: skip

    def test_a_clock_runs_down_once(self) -> None:
        talk = Talking(self.STEPS)
        talk.say("go")
        self.assertEqual((talk.texts, talk.last["expects"]), (["One moment."], None))
        visit = talk.state.stack[-1].visit
        talk.say(timer=visit - 1)
        self.assertEqual(talk.last["quiet"], "That wait is over.")
        talk.say(timer=visit)
        self.assertEqual((talk.texts, talk.last["mode"]), (["late"], "ended"))
        talk.say(timer=visit)
        self.assertEqual(talk.texts, [])

    def test_filled_by_others(self) -> None:
        steps = [{"kind": "wait", "id": "l1", "field": "length", "minutes": 5}, say(2, "there")]
        self.assertEqual(Talking(steps, {"length": "6"}).texts, ["there"])

    def test_stop_and_start_on_the_text_channel(self) -> None:
        talk = Talking([ask(1, "length"), say(2, "on")], channel="text")
        talk.say("STOP")
        self.assertEqual((talk.last["mode"], talk.turn.effects.consent), ("stopped", False))  # type: ignore[union-attr]
        talk.say("6")
        self.assertEqual((talk.texts, talk.values), ([], {}))
        talk.say("start")
        self.assertEqual((talk.texts[-1], talk.turn.effects.consent), ("length?", True))  # type: ignore[union-attr]


class Kept(unittest.TestCase):
    def test_a_state_is_read_as_it_was_written(self) -> None:
        talk = Talking(BED)
        for reply in ("1", "6", "1,250", "1", "clay"):
            talk.say(reply)
            self.assertEqual(read_state(write_state(talk.state)), talk.state)

    def test_another_language(self) -> None:
        german = {"length?": "Wie lang?", "Clay": "Lehm", "Right?": "Stimmt das?"}
        talk = Talking([ask(1, "length"), ask(2, "soil"), {"kind": "sum_up", "id": "l3", "text": "Right?"}], language="de",
            languages=["en", "de"], phrases={"de": german})  # fmt: skip
        self.assertEqual(talk.texts, ["Wie lang?"])
        talk.say("viel")
        self.assertIn("Schreiben Sie", talk.texts[0])
        talk.say("6")
        self.assertIn("Lehm", talk.offers)
        talk.say("zurück")
        talk.say("7")
        talk.say("lehm")
        self.assertEqual((talk.texts, talk.values["soil"]), (["Stimmt das?"], "clay"))

    def test_plain_texts(self) -> None:
        talk = Talking([choose(1, "Yes", "No")], channel="text")
        self.assertEqual(as_texts("Well?", {}, talk.turn.offers), ("Well?\n1 Yes\n2 No",))
        parts = in_parts("A sentence of some length. " * 40)
        self.assertTrue(all(len(one) <= 320 and one.endswith(".") for one in parts))
        self.assertEqual(" ".join(parts), ("A sentence of some length. " * 40).strip())
        self.assertEqual(in_parts(""), ())

    def test_a_file_that_does_not_hold_together(self) -> None:
        with self.assertRaises(InvalidInput):
            Talking([ask(1, "no_such_field")])
        with self.assertRaises(InvalidInput):
            Talking([{"kind": "say", "id": "l1", "under": "b9", "texts": [{"text": "x"}]}])
        self.assertEqual(Talking([]).last["mode"], "ended")

    def test_after_the_end_a_new_start_is_offered(self) -> None:
        talk = Talking([say(1, "x")])
        talk.say("hello")
        self.assertEqual(
            (talk.texts, talk.offers), (["This conversation has ended. You can start a new one."], ["Start again"])
        )
        self.assertTrue(talk.again(talk.state, Reply("z", button="start_over")).restarts)


if __name__ == "__main__":
    unittest.main()
