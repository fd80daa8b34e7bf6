"""Why an expression gives what it gives, checked against what one would say by hand."""

import cProfile
import unittest

from hypothesis import given, settings

from finesieve.core.fields.encoding import to_json
from finesieve.core.language import tree
from finesieve.core.language.checker import check
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.explain import Explained, explain
from finesieve.core.language.printer import print_expression
from finesieve.core.values import Value
from tests.support import strategies
from tests.support.fields import MOMENT, ROW, WORLD

# expression ⇒ the smallest parts that decided
DECIDED = (
    ("member and plot_length > 10", ["10", "plot_length"]),
    ("plot_length > 10 and plot_width > 10", ["10", "10", "plot_length", "plot_width"]),
    ("member or plot_length > 10", ["member"]),
    ("unsure and member", ["unsure"]),
    ("not unsure or depth > 1", ["depth", "unsure"]),
    ("if(member, plot_length, plot_width)", ["member", "plot_length"]),
    ("if(plot_length > 10, 1, plot_width)", ["10", "plot_length", "plot_width"]),
    ("if(unsure, 1, 2)", ["unsure"]),
    ("depth else plot_width else 3", ["depth", "plot_width"]),
    ("plot_length * depth", ["depth"]),
    ("sum(plot_length, depth)", ["plot_length"]),
    ("max(plot_length, plot_width)", ["plot_length"]),
    ("name & empty", ["name"]),
    ('zone in ("north", "hill")', ["zone"]),
    ("count(plots where area > 20)", ["count(plots where area > 20)"]),
)


def leaves(part: Explained, text: str) -> list[str]:
    if not part.parts:
        return [text[part.span.start : part.span.end]] if part.decided else []
    return [leaf for inner in part.parts for leaf in leaves(inner, text)]


class Explaining(unittest.TestCase):
    def test_what_decided(self) -> None:
        for text, wanted in DECIDED:
            typed = check(text, WORLD).typed
            assert typed is not None, text
            with self.subTest(text):
                self.assertEqual(sorted(leaves(explain(typed, ROW, MOMENT), text)), wanted)

    def test_parts_stand_as_they_are_written(self) -> None:
        """No part shows a step that only the checker put in: each has the value that its own text has."""
        for text, parts in (
            ("born - 3", [("born", "2000-02-29"), ("3", "3")]),
            ("born - plot_length", [("born", "2000-02-29"), ("plot_length", "6")]),
            ('zone not in ("hill", "south")', [("zone", "north")]),
            ("born = seen", [("born", "2000-02-29"), ("seen", "2026-11-24T23:30:00+00:00")]),
            ("date(seen)", [("seen", "2026-11-24T23:30:00+00:00")]),
            (
                'pick(zone, "north", 1, "hill", 2, "south", 3)',
                [('"north"', True), ("1", "1"), ('"hill"', False), ("2", "2"), ('"south"', False), ("3", "3")],
            ),
        ):
            typed = check(text, WORLD).typed
            assert typed is not None, text
            with self.subTest(text):
                found = explain(typed, ROW, MOMENT)
                shown = [(text[one.span.start : one.span.end], to_json(one.value)) for one in found.parts]
                self.assertEqual(shown, parts)
                self.assertEqual(found.value, compile_python(typed)(ROW, MOMENT))

    def test_long_formulas_are_explained_in_a_line_with_their_length(self) -> None:
        """Each part is worked out once: four times the parts are four times the steps, not sixteen."""
        steps = []
        for many in (60, 240):
            typed = check("plot_length" + " + 1" * many, WORLD).typed
            assert typed is not None
            profile = cProfile.Profile()
            profile.runcall(explain, typed, ROW, MOMENT)
            steps.append(sum(entry.callcount for entry in profile.getstats()))
        self.assertLess(steps[1], 5 * steps[0])

    @settings(max_examples=300, deadline=None, derandomize=True, database=None)
    @given(strategies.any_expression, strategies.rows)
    def test_every_part_has_its_value(self, node: tree.Node, row: dict[str, Value]) -> None:
        """The whole has the value that working it out gives; a part that did not decide has none below that did."""
        # From the text, so that every part has its own place.
        typed = check(print_expression(node), strategies.WORLD).typed
        assert typed is not None
        found = explain(typed, row, MOMENT)
        self.assertEqual(found.value, compile_python(typed)(row, MOMENT))
        waiting = [found]
        while waiting:
            part = waiting.pop()
            waiting += part.parts
            if not part.decided:
                self.assertFalse(any(inner.decided for inner in part.parts))
            elif part.parts:
                self.assertTrue(any(inner.decided for inner in part.parts), part.operation)


if __name__ == "__main__":
    unittest.main()
