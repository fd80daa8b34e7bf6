"""Conditions that ask the same: one normal form, and the same answer as before for everybody."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from finesieve.core.language import tree
from finesieve.core.language.checker import check_tree
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_expression
from finesieve.core.sieve.alike import normal_form
from finesieve.core.values import Value
from tests.support import strategies
from tests.support.fields import MOMENT

SAME = (
    ("a = 1 and b = 2", "b = 2 and a = 1"),
    ("a = 1 and (b = 2 and c = 3)", "c = 3 and a = 1 and b = 2 and a = 1"),
    ("a > 1", "1 < a"),
    ("not (a > 1)", "a <= 1"),
    ("a between 1 and 5", "a <= 5 and a >= 1"),
    ("not (a between 1 and 5)", "a < 1 or a > 5"),
    ('zone in ("north", "south")', 'zone = "south" or zone = "north"'),
    ('zone not in ("north", "south")', 'not (zone = "south") and zone != "north"'),
    ("not (a = 1 or b = 2)", "b != 2 and a != 1"),
    ("not (not (a is blank))", "not (a is filled)"),
    ('tags holds "a"', 'tags holds any ("a", "a")'),
    ('not (tags holds any ("a", "b"))', 'tags holds no ("b", "a")'),
    ('tags holds every ("a")', 'tags holds "a"'),
    ("any(plots where a = 1 and b = 2)", "any(plots where b = 2 and a = 1)"),
    ("a = 1 # why", "1 = a"),
    ("not (a + 1 in (1, 2))", "a + 1 not in (2, 1, 2)"),
    ("a + 1 in (2)", "2 = a + 1"),
)
DIFFERENT = (
    ("a = 1 and b = 2", "a = 1 or b = 2"),
    ("a > 1", "a >= 1"),
    ("a < b", "b < a"),
    ("not (a > 1)", "a < 1"),
    ("a between 1 and 5", "a between 5 and 1"),
    ("a - b > 1", "b - a > 1"),
    ("a + b + c = 1", "c + b + a = 1"),
    ('tags holds every ("a", "b")', 'tags holds any ("a", "b")'),
    ('not (tags holds every ("a", "b"))', 'tags holds no ("a", "b")'),
    ("a is blank", "a is filled"),
    ('zone = "a"', 'zone = "A"'),
    ("a else b", "b else a"),
)


def written(text: str) -> str:
    found = parse(text).tree
    assert found is not None, text
    return print_expression(normal_form(found))


class Alike(unittest.TestCase):
    def test_the_same_written_differently(self) -> None:
        for one, other in SAME:
            with self.subTest(one):
                self.assertEqual(written(one), written(other))

    def test_what_differs_stays_different(self) -> None:
        for one, other in DIFFERENT:
            with self.subTest(one):
                self.assertNotEqual(written(one), written(other))

    def test_what_is_nested_stays_about_as_large(self) -> None:
        """No condition is made to grow with every level, whatever it compares with how much."""
        for test in ("between 1 and 2", "in (1, 2, 3, 4, 5, 6, 7, 8)", "not in (1, 2, 3)"):
            text = "a"
            for _ in range(12):
                text = f"if({text} {test}, 1, 2)"
            with self.subTest(test):
                self.assertLess(len(written(f"{text} = 1")), 3 * len(text) + 200)

    @settings(max_examples=1_500, deadline=None, derandomize=True, database=None)
    @given(st.one_of(strategies.expressions("yes_no"), strategies.any_collecting), strategies.rows)
    def test_everybody_gets_the_same_answer(self, node: tree.Node, row: dict[str, Value]) -> None:
        """Whatever the condition and whoever the person, blanks and all; and the normal form is its own."""
        form = normal_form(node)
        self.assertEqual(form, normal_form(form))
        before, after = check_tree(node, strategies.WORLD), check_tree(form, strategies.WORLD)
        assert before.typed is not None
        assert after.typed is not None, (print_expression(node), print_expression(form), after.problems)
        asked, told = compile_python(before.typed)(row, MOMENT), compile_python(after.typed)(row, MOMENT)
        self.assertEqual(asked, told, f"{print_expression(node)} as {print_expression(form)} over {row}")


if __name__ == "__main__":
    unittest.main()
