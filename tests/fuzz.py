"""Compare the two back ends, and the printer with the parser, on fresh examples for as long as one likes.

Usage: python -m tests.fuzz SECONDS [--seed N]. Prints the seed, so that what was found can be found again.
"""

import argparse
import random
import sys
import time
from collections.abc import Callable
from functools import cache

from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st

from finesieve.core.fields.encoding import to_json
from finesieve.core.language import tree
from finesieve.core.language.checker import check, check_tree
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.explain import explain
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_expression
from finesieve.core.values import Value
from tests.store.test_both_ways import by_sql
from tests.support import strategies
from tests.support.fields import MOMENT
from tests.support.planted import Planted

fresh = settings(
    max_examples=300,
    deadline=None,
    derandomize=False,
    database=None,
    suppress_health_check=list(HealthCheck),
    phases=(Phase.generate, Phase.shrink),
)


@fresh
@given(st.one_of(strategies.any_expression, strategies.any_collecting), strategies.rows)
def both_back_ends(node: tree.Node, row: dict[str, Value]) -> None:
    """Python and PostgreSQL agree, digit for digit; what is explained is what is worked out."""
    typed = check_tree(node, strategies.WORLD).typed
    assert typed is not None, print_expression(node)
    python = compile_python(typed)(row, MOMENT)
    assert to_json(python) == to_json(by_sql(typed, strategies.WORLD, row)), f"{print_expression(node)} over {row}"
    written = check(print_expression(node), strategies.WORLD).typed
    assert written is not None and explain(written, row, MOMENT).value == python, print_expression(node)


@cache
def planted() -> Planted:
    """The workspace whose tables the rows stand in."""
    return Planted()


@fresh
@given(
    st.one_of(strategies.any_expression, strategies.any_collecting), st.lists(strategies.rows, min_size=1, max_size=4)
)
def rows_of_real_tables(node: tree.Node, rows: list[dict[str, Value]]) -> None:
    """The same over people and records that stand in tables."""
    typed = check_tree(node, planted().world).typed
    assert typed is not None, print_expression(node)
    python = [compile_python(typed)(row, MOMENT) for row in rows]
    found = planted().values(typed, rows, MOMENT)
    assert [*map(to_json, python)] == [*map(to_json, found)], f"{print_expression(node)} over {rows}"


@fresh
@given(st.one_of(strategies.any_expression, strategies.any_collecting))
def printed_and_parsed(node: tree.Node) -> None:
    """What is printed parses to the same tree."""
    text = print_expression(node)
    assert parse(text).tree == node, text


@fresh
@given(strategies.any_expression, st.data())
def broken_texts(node: tree.Node, data: st.DataObject) -> None:
    """A text with a piece cut out, doubled or put elsewhere is checked in time, and never raises."""
    text = print_expression(node)
    start = data.draw(st.integers(0, len(text)))
    end = data.draw(st.integers(start, min(len(text), start + 12)))
    place = data.draw(st.integers(0, len(text)))
    mutated = data.draw(st.sampled_from([text[:start] + text[end:], text[:place] + text[start:end] + text[place:]]))
    started = time.perf_counter()
    check(mutated, strategies.WORLD)
    taken = time.perf_counter() - started
    assert taken < 1, f"{taken:.2f} s for {mutated}"


TESTS: tuple[Callable[[], None], ...] = (both_back_ends, rows_of_real_tables, printed_and_parsed, broken_texts)


def main() -> int:
    """Run until the time is over; 1 for the first thing that does not hold."""
    parser = argparse.ArgumentParser()
    parser.add_argument("seconds", type=float)
    parser.add_argument("--seed", type=int, default=random.SystemRandom().randrange(10**6))
    asked = parser.parse_args()
    end, number, rounds = time.monotonic() + asked.seconds, asked.seed, 0
    while time.monotonic() < end:
        for test in TESTS:
            print(f"seed {number}: {test.__name__}", flush=True)
            seed(number)(test)()
        number, rounds = number + 1, rounds + 1
    print(f"{rounds * len(TESTS) * 300:,} examples, nothing found")
    return 0


if __name__ == "__main__":
    sys.exit(main())
