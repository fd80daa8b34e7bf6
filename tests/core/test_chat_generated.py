"""Properties of conversations over generated scripts and replies; and what can be told of a script by reasoning."""

import unittest
from dataclasses import replace
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from finesieve.core.chat.journal import fold, read_state, write_state
from finesieve.core.chat.problems import script_problems
from finesieve.core.chat.reasoning import script_findings
from finesieve.core.chat.turn import Reply
from tests.support.talking import Talking, ask, choose, do, say

REPLIES = st.sampled_from(
    ("1", "2", "3", "6", "about 4", "yes", "no", "clay", "loam sol", "back", "start over", "done", "skip", "12 May", "1,250",
     "that is right", "nonsense", "stop", "", "1, 3", "a person")
)  # fmt: skip


@st.composite
def scripts(draw: Any) -> list[dict[str, Any]]:
    """Up to ten lines of any kind, that lead anywhere."""
    count = draw(st.integers(1, 10))
    ids = [f"l{n}" for n in range(1, count + 1)]
    to = st.sampled_from(["", "", "", "end", *ids])
    made: list[dict[str, Any]] = []
    for number in range(1, count + 1):
        kind = draw(st.sampled_from(("say", "ask", "ask", "choose", "do", "branch", "sum_up", "go_to", "end")))
        if kind == "say":
            made.append(say(number, "{beds} beds", to=draw(to)))
        elif kind == "ask":
            field = draw(st.sampled_from(("length", "width", "soil", "soils", "swaps", "born", "plot_name")))
            known, optional = draw(st.sampled_from(("ask", "skip", "confirm"))), draw(st.booleans())
            then = draw(st.sampled_from(("hand", "skip", *ids)))
            made.append(ask(number, field, known=known, optional=optional, then=then, to=draw(to)))
        elif kind == "choose":
            made.append(choose(number, ("Yes", draw(to)), ("No", draw(to))))
        elif kind == "do":
            verb = draw(st.sampled_from(("becomes", "gains", "is_emptied")))
            made.append(
                do(number, {"verb": verb, "field": "beds", "value": "length + 1"}, now=draw(st.booleans()), to=draw(to))
            )
        elif kind == "branch":
            cases = [
                {
                    "id": f"c{number}",
                    "rule": draw(st.sampled_from(("length > 3", "swaps", 'soil = "clay"'))),
                    "to": draw(to),
                }
            ]
            made.append({"kind": "branch", "id": f"l{number}", "cases": cases, "to": draw(to)})
        else:
            target = {"to": draw(st.sampled_from(ids))} if kind == "go_to" else {}
            made.append({"kind": kind, "id": f"l{number}", **target})
    return made


class Generated(unittest.TestCase):
    @settings(max_examples=250, deadline=None)
    @given(scripts(), st.lists(REPLIES, max_size=9), st.booleans())
    def test_every_reply_leads_somewhere(self, steps: list[dict[str, Any]], replies: list[str], known: bool) -> None:
        """A message, or a stated reason for none; values are the fold; sent twice it counts once; kept, it is the same."""
        talk = Talking(steps, {"length": "6", "soil": "clay"} if known else None)
        for number, reply in enumerate(replies):
            before = talk.state
            turn = talk.again(before, Reply(f"k{number}", reply))
            self.assertTrue(turn.messages or turn.quiet or turn.restarts, (before.place, reply))
            again = talk.again(turn.state, Reply(f"k{number}", reply))
            self.assertTrue(again.repeated)
            self.assertEqual(again.state, turn.state)
            self.assertEqual(read_state(write_state(turn.state)), turn.state)
            self.assertLessEqual(turn.state.committed, len(turn.state.journal))
            if turn.effects is not None:
                self.assertEqual(turn.state.written, fold(turn.state.journal[: turn.state.committed]))
            talk.say(reply, key=f"k{number}")

    @settings(max_examples=250, deadline=None)
    @given(scripts(), st.lists(REPLIES, max_size=6), REPLIES)
    def test_back_gives_the_earlier_state(self, steps: list[dict[str, Any]], replies: list[str], last: str) -> None:
        """After an answer that is not written yet."""
        talk = Talking(steps)
        for number, reply in enumerate(replies):
            talk.say(reply, key=f"k{number}")
        before = talk.state
        turn = talk.again(before, Reply("a", last))
        answered = [
            one for one in turn.state.journal[len(before.journal) :] if one.kind == "answer" and one.reply != "known"
        ]
        first = turn.state.journal[: len(before.journal)] == before.journal
        fresh = before.mode == turn.state.mode == "script" and not before.sub and turn.state.place[1]
        if len(answered) != 1 or not first or not fresh or turn.state.committed > before.committed or turn.state.sub:
            return
        back = talk.again(turn.state, Reply("b", "back"))
        if back.state.sub:
            return  # it stands at a question for text, where it might be the answer
        self.assertEqual(
            replace(back.state, results=(), tries=0, since=""), replace(before, results=(), tries=0, since="")
        )


class Reasoning(unittest.TestCase):
    def found(self, steps: list[dict[str, Any]], **parts: Any) -> list[tuple[str, str]]:
        talk = Talking(steps, **parts)
        script = talk.talk.scripts["talk"]
        return [(one.line, one.code) for one in script_findings(script, talk.talk._moment)]

    def test_a_sound_script_has_none(self) -> None:
        steps = [
            ask(1, "length"),
            ask(2, "width"),
            do(3, {"verb": "becomes", "field": "beds", "value": "area"}),
            choose(4, "Yes", "No"),
        ]
        self.assertEqual(self.found(steps), [])

    def test_each_kind(self) -> None:
        for code, line, steps in (
            ("unreached", "l2", [say(1, "a", to="end"), say(2, "b")]),
            ("circle", "l1", [say(1, "a"), {"kind": "go_to", "id": "l2", "to": "l1"}]),
            ("always", "l1", [{"kind": "branch", "id": "l1", "cases": [{"id": "c1", "rule": "1 < 2"}]}, say(2, "x")]),
            ("never", "l1", [{"kind": "branch", "id": "l1", "cases": [{"id": "c1", "rule": "1 > 2"}]}, say(2, "x")]),
            ("twice", "l2", [ask(1, "length"), ask(2, "length")]),
            ("blank", "l2", [ask(1, "length", optional=True), do(2, {"verb": "becomes", "field": "beds", "value": "length"})]),
            ("alike", "l1", [choose(1, "Morning", "Mornings", field="plot_name")]),
            ("choice", "l1", [choose(1, "Morning", "Evening", field="plot_name")]),
            ("opposing", "l1", [choose(1, "In", "Out"), do(2, {"verb": "tag_on", "value": "in"}, under="b10"),
                do(3, {"verb": "tag_off", "value": "in"}, under="b11")]),
        ):  # fmt: skip
            with self.subTest(code):
                self.assertIn((line, code), self.found(steps))

    def test_blank_by_the_way_that_leads_there(self) -> None:
        """Asked on one way only, it may be blank; asked on both, or begun with a value, it cannot."""
        one = [
            choose(1, "a", ("b", "l3")),
            ask(2, "length"),
            do(3, {"verb": "becomes", "field": "beds", "value": "length"}),
        ]
        self.assertIn(("l3", "blank"), self.found(one))
        both = [choose(1, "a", ("b", "l4")), ask(2, "length"), {"kind": "go_to", "id": "l3", "to": "l5"}, ask(4, "length"),
            do(5, {"verb": "becomes", "field": "beds", "value": "length"})]  # fmt: skip
        self.assertNotIn("blank", [code for _, code in self.found(both)])

    def test_problems_at_their_place(self) -> None:
        def wrong(steps: list[dict[str, Any]], **parts: Any) -> list[tuple[str, str]]:
            return [(one.line, one.part) for one in script_problems(Talking(steps, **parts).talk.scripts["talk"])]

        self.assertEqual(wrong([]), [("", "steps")])
        for part, step in (
            ("text", say(1, " ")), ("text", say(1, "{no_such}")), ("text", say(1, "{secret_note}")),
            ("field", {"kind": "ask", "id": "l1", "text": "?"}), ("field", choose(1, "a", field="word")), ("field", ask(1, "area")),
            ("replies", choose(1)), ("b10", choose(1, "Moss", field="soil")), ("b10", choose(1, "long", field="length")),
            ("c1", {"kind": "branch", "id": "l1", "cases": [{"id": "c1", "rule": "length >"}]}),
            ("action0", do(1, {"verb": "gains", "field": "soil", "value": "1"})), ("action0", do(1, {"verb": "tag_on"})),
            ("action0", do(1, {"verb": "becomes", "field": "beds", "value": "soil"})),
            ("script", {"kind": "go_to", "id": "l1", "script": "gone"}), ("to", {"kind": "go_to", "id": "l1"}),
            ("to", say(1, "x", to="l99")),
        ):  # fmt: skip
            with self.subTest(part=part, step=step):
                self.assertIn(("l1", part), wrong([step]))


if __name__ == "__main__":
    unittest.main()
