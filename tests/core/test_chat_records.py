"""Conversations about records: one chosen, a new one, each in turn; corrected, taken back, written once."""

import unittest
from typing import Any

from finesieve.core.chat.journal import read_state, write_state
from finesieve.core.chat.problems import script_problems
from tests.support.talking import Talking, about, ask, do, say

HILL, BROOK = {"title": "Hill", "size": 12, "ground": "clay"}, {"title": "Brook", "size": 30}
SUM: dict[str, Any] = {"kind": "sum_up", "id": "l8", "text": "Right?"}


def plots(which: str, **more: Any) -> list[dict[str, Any]]:
    return [
        about(1, which, **more),
        ask(2, "plots.size", under="c1", text="How large is {title else 'it'}?"),
        ask(3, "plots.ground", under="c1", optional=True),
        SUM,
        say(9, "All together {sum(plots.size)}, rent {sum(plots.rent)}."),
    ]


def written(talk: Talking) -> Any:
    return talk.last["written"].get("records")


class ChoosingOne(unittest.TestCase):
    def test_by_title_number_and_nearly(self) -> None:
        for reply in ("Brook", "2", "brok", "brook."):
            talk = Talking(plots("one", text="Which plot?"), {"records": {"plots": [HILL, BROOK]}})
            self.assertEqual((talk.texts, talk.offers), (["Which plot?"], ["Hill", "Brook"]))
            talk.say(reply)
            self.assertEqual(talk.texts[-1], "How large is Brook?", reply)
            talk.say("40")
            talk.say("loam soil")
            self.assertEqual(talk.last["messages"][-1]["answers"][0], {"label": "Plot", "value": "Brook"})
            self.assertIn({"label": "Brook: Size", "value": "40 m²"}, talk.last["messages"][-1]["answers"])
            talk.say("that is right")
            self.assertEqual(written(talk), {"plots:2": {"size": ["set", "40"], "ground": ["set", "loam"]}})
            self.assertEqual(talk.texts, ["All together 52, rent 104."])

    def test_the_only_one_is_taken_and_none_is_passed_over(self) -> None:
        self.assertEqual(Talking(plots("one"), {"records": {"plots": [HILL]}}).texts, ["How large is Hill?"])
        self.assertEqual(Talking(plots("one"), {}).last["messages"][0]["text"], "Right?")

    def test_what_is_none_of_them_is_a_try(self) -> None:
        talk = Talking(plots("one"), {"records": {"plots": [HILL, BROOK]}})
        talk.say("the moon")
        self.assertEqual((talk.texts[-1], talk.offers), ("Which one?", ["Hill", "Brook"]))

    def test_of_a_stranger_no_record_is_known(self) -> None:
        talk = Talking(plots("one", or_new=True))
        talk.talk._records = {"plots": {1: HILL}}
        self.assertEqual(talk.texts, ["How large is it?"])
        self.assertNotIn("Hill", str(talk.last))

    def test_a_correction_takes_another_one(self) -> None:
        talk = Talking(plots("one"), {"records": {"plots": [HILL, BROOK]}})
        for reply in ("Hill", "13", "skip"):
            talk.say(reply)
        talk.say("Change Plot")
        talk.say("Brook")
        self.assertEqual(talk.texts, ["How large is Brook?"])
        for reply in ("31", "skip", "that is right"):
            talk.say(reply)
        self.assertEqual(written(talk), {"plots:2": {"size": ["set", "31"]}})

    def test_a_correction_of_one_value_keeps_the_rest(self) -> None:
        talk = Talking(plots("one"), {"records": {"plots": [HILL, BROOK]}})
        for reply in ("Hill", "13", "clay", "Change Hill: Size", "14"):
            talk.say(reply)
        self.assertEqual(talk.texts[-1], "Right?")
        talk.say("that is right")
        self.assertEqual(written(talk)["plots:1"]["size"], ["set", "14"])


class NewOnes(unittest.TestCase):
    def test_one_after_another(self) -> None:
        talk = Talking(plots("new", another=True, another_text="One more?"), {"records": {"plots": [HILL]}})
        for reply in ("5", "clay", "yes", "6", "skip"):
            talk.say(reply)
        self.assertEqual(talk.texts, ["One more?"])
        talk.say("no")
        self.assertEqual(talk.texts, ["Right?"])
        talk.say("that is right")
        self.assertEqual(written(talk), {
            "plots:new1": {"size": ["set", "5"], "ground": ["set", "clay"]}, "plots:new2": {"size": ["set", "6"]},
        })  # fmt: skip
        self.assertEqual(talk.texts, ["All together 23, rent 46."])

    def test_a_correction_of_the_first_keeps_the_second(self) -> None:
        talk = Talking(plots("new", another=True), {})
        for reply in ("5", "skip", "yes", "6", "skip", "no"):
            talk.say(reply)
        self.assertEqual(talk.last["messages"][-1]["answers"][0], {"label": "Plot 1 (new): Size", "value": "5 m²"})
        talk.say("1" if talk.offers[0] != "That is right" else "2")
        talk.say("7")
        self.assertEqual(talk.texts[-1], "Right?")
        talk.say("that is right")
        self.assertEqual(
            {name: one["size"][1] for name, one in written(talk).items()}, {"plots:new1": "7", "plots:new2": "6"}
        )

    def test_a_stranger_has_new_ones(self) -> None:
        talk = Talking(plots("new"))
        for reply in ("5", "skip", "that is right"):
            talk.say(reply)
        self.assertEqual(
            (written(talk), talk.texts), ({"plots:new1": {"size": ["set", "5"]}}, ["All together 5, rent 10."])
        )

    def test_back_goes_out_of_a_record_again(self) -> None:
        talk = Talking([ask(7, "beds"), *plots("new", another=True)], {})
        for reply in ("3", "5", "skip", "yes"):
            talk.say(reply)
        before = write_state(talk.state)
        talk.say("6")
        talk.say("back")
        self.assertEqual(talk.texts, ["How large is it?"])
        self.assertEqual(talk.state.journal, read_state(before).journal)
        for _ in range(4):
            talk.say("back")
        self.assertEqual((talk.texts, talk.values), (["beds?"], {}))

    def test_written_once_and_changed_afterwards(self) -> None:
        steps = [*plots("new"), ask(4, "plots.rank")]
        steps[3:4] = [do(5, now=True), SUM]
        talk = Talking(steps[:5], {})
        talk.say("5")
        talk.say("skip")
        self.assertEqual(written(talk), {"plots:new1": {"size": ["set", "5"]}})
        talk.say("Change Plot 1 (new): Size")
        talk.say("8")
        talk.say("that is right")
        self.assertEqual(talk.talk._records["plots"], {1: {"size": 8, "ground": None}} | talk.talk._records["plots"])
        self.assertEqual(len(talk.talk._records["plots"]), 1)


class EachInTurn(unittest.TestCase):
    def test_every_one_and_then_on(self) -> None:
        talk = Talking(plots("each", text="Now {title}."), {"records": {"plots": [HILL, BROOK]}})
        self.assertEqual(talk.texts, ["Now Hill.", "How large is Hill?"])
        for reply in ("13", "skip"):
            talk.say(reply)
        self.assertEqual(talk.texts, ["Now Brook.", "How large is Brook?"])
        for reply in ("31", "skip", "that is right"):
            talk.say(reply)
        self.assertEqual(
            {name: one["size"][1] for name, one in written(talk).items()}, {"plots:1": "13", "plots:2": "31"}
        )

    def test_known_is_passed_over_for_each(self) -> None:
        steps = [about(1, "each"), ask(2, "plots.ground", under="c1", known="skip"), SUM]
        talk = Talking(steps, {"records": {"plots": [HILL, BROOK]}})
        self.assertEqual(talk.texts, ["Hill", "Brook", "plots.ground?"])

    def test_the_record_gets(self) -> None:
        steps = [
            about(1, "each"),
            do(2, {"verb": "gains", "field": "plots.size", "value": "size / 2"}, under="c1"),
            SUM,
        ]
        talk = Talking(steps, {"records": {"plots": [HILL, BROOK]}})
        self.assertEqual(talk.last["mode"], "script")
        talk.say("that is right")
        self.assertEqual(
            {name: one["size"] for name, one in written(talk).items()},
            {"plots:1": ["add", "6"], "plots:2": ["add", "15"]},
        )


class WhatCannotBe(unittest.TestCase):
    def problems(self, steps: list[dict[str, Any]]) -> list[str]:
        return [one.message for one in script_problems(Talking(steps, {}).talk.scripts["talk"])]

    def test_lines_that_do_not_hold(self) -> None:
        self.assertEqual(self.problems(plots("each")), [])
        self.assertTrue(any("Write a line under it" in one for one in self.problems([about(1, "new"), say(2, "x")])))
        outside = self.problems([ask(1, "plots.size")])
        self.assertTrue(any("gone, paused" in one for one in outside), outside)
        nested = [about(1, "each"), about(2, "new", under="c1"), ask(3, "plots.size", under="c2")]
        self.assertTrue(any("another record" in one for one in self.problems(nested)))
        into = [say(4, "x", to="l2"), *plots("each")]
        self.assertTrue(any("has not been chosen" in one for one in self.problems(into)))
        private = [about(1, "each"), say(2, "You are {rank}.", under="c1")]
        self.assertTrue(any("private to staff" in one for one in self.problems(private)))
        self.assertTrue(any("private to staff" in one for one in self.problems([say(1, "In all {sum(plots.rank)}.")])))

    def test_led_among_them_from_outside_nothing_is_asked(self) -> None:
        talk = Talking([say(4, "x", to="l2"), *plots("each")], {"records": {"plots": [HILL]}})
        self.assertEqual(talk.texts[0], "x")
        self.assertEqual(talk.last["mode"], "script")


if __name__ == "__main__":
    unittest.main()
