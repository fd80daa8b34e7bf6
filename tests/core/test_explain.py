"""Why an expression gives what it gives, checked against what one would say by hand."""

import unittest

from hypothesis import given, settings

from finesieve.core.language import tree
from finesieve.core.language.checker import check, check_tree
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.explain import Explained, explain
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

    @settings(max_examples=300, deadline=None, derandomize=True, database=None)
    @given(strategies.any_expression, strategies.rows)
    def test_every_part_has_its_value(self, node: tree.Node, row: dict[str, Value]) -> None:
        """The whole has the value that working it out gives; a part that did not decide has none below that did."""
        typed = check_tree(node, strategies.WORLD).typed
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
