"""The expression language: texts to trees and back, types, problems, values."""

import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st

from finesieve.core.fields.encoding import to_json
from finesieve.core.fields.keys import RESERVED
from finesieve.core.language import evaluator, gathering, tree
from finesieve.core.language.checker import check, check_tree
from finesieve.core.language.collecting import AGGREGATES
from finesieve.core.language.derived import find_circle, layers
from finesieve.core.language.evaluator import Moment
from finesieve.core.language.functions import FUNCTIONS
from finesieve.core.language.parser import has_comments, parse
from finesieve.core.language.printer import print_expression, print_text_literal, print_with_values
from finesieve.core.language.problems import CATALOGUE, FIXABLE
from finesieve.core.language.reference import words_of
from finesieve.core.language.typed import OPERATIONS
from finesieve.core.values import Type
from tests.support import strategies
from tests.support.fields import MOMENT, NAMES, WORLD, checked, value_of
from tests.support.texts import pairs

many = settings(max_examples=2_000, deadline=None, derandomize=True, database=None)
quick = settings(max_examples=400, deadline=None, derandomize=True, database=None)


def shown(value: object) -> str:
    """A value as the fixtures write it."""
    written = to_json(value)  # type: ignore[arg-type]
    return {None: "blank", True: "true", False: "false"}.get(written, written)  # type: ignore[arg-type,return-value,call-overload]


class Printing(unittest.TestCase):
    def test_canonical_texts(self) -> None:
        """Each text prints in its one canonical form, which prints as itself; `!` does not parse."""
        for text, expected in pairs("printed.txt"):
            with self.subTest(text):
                parsed = parse(text)
                if expected == "!":
                    self.assertIsNone(parsed.tree)
                    continue
                assert parsed.tree is not None, parsed.problems
                self.assertEqual(print_expression(parsed.tree), expected)
                self.assertEqual(parse(expected).tree, parsed.tree)

    @quick
    @given(strategies.any_expression)
    def test_print_then_parse_gives_the_equal_tree(self, node: tree.Node) -> None:
        """Whatever tree is printed parses back to an equal one."""
        parsed = parse(print_expression(node))
        self.assertEqual(parsed.problems, ())
        self.assertEqual(parsed.tree, node)

    @quick
    @given(st.text(st.characters(codec="utf-8", exclude_characters="\r\x00"), max_size=12))
    def test_any_text_can_be_a_literal(self, text: str) -> None:
        """A text literal gives back what went in, composed."""
        import unicodedata

        self.assertEqual(parse(print_text_literal(text)).tree, tree.Text(unicodedata.normalize("NFC", text)))

    def test_with_values(self) -> None:
        """A worked example shows values where the names stood."""
        node = parse("round(plot_length * (plot_width + 1), 1)").tree
        assert node is not None
        self.assertEqual(
            print_with_values(node, {"plot_length": "6", "plot_width": "blank"}), "round(6 * (blank + 1), 1)"
        )


class Problems(unittest.TestCase):
    def test_every_code_has_samples_that_produce_it(self) -> None:
        """The catalogue is true: each sample gives its code, at a place inside the text."""
        for code, entry in CATALOGUE.items():
            for sample in entry.samples:
                with self.subTest(code=code, sample=sample):
                    problems = checked(sample).problems
                    self.assertIn(code, [problem.code for problem in problems])
                    for problem in problems:
                        self.assertTrue(0 <= problem.span.start <= problem.span.end <= len(sample))
                        self.assertTrue(problem.message.endswith((".", "…", "?")), problem.message)

    def test_codes_without_samples_are_produced_too(self) -> None:
        """The limits have no short sample; they are met here."""
        self.assertEqual(checked("1" * 4_001).problems[0].code, "too-long")
        self.assertEqual(checked("(" * 65 + "1" + ")" * 65).problems[0].code, "too-deep")
        self.assertEqual(checked("not " * 65 + "member").problems[0].code, "too-deep")
        self.assertEqual(checked("-" * 65 + "1").problems[0].code, "too-deep")
        self.assertEqual(checked("+".join(["1"] * 260)).problems[0].code, "too-big")
        self.assertEqual(checked(f"1 in ({','.join(['1'] * 201)})").problems[0].code, "too-big")
        unsampled = {code for code, entry in CATALOGUE.items() if not entry.samples}
        self.assertEqual(unsampled, {"too-long", "too-deep", "too-big", "circle", "deleted-field", "history"})
        self.assertEqual([problem.code for problem in checked("lost + 1").problems], ["deleted-field"])
        in_a_form = replace(WORLD, remembered=frozenset())
        self.assertEqual([one.code for one in check("last_change(zone)", in_a_form).problems], ["history"])
        for text in ("ever_held(tags, '')", "tags holds ''", "tags holds any ('x', '')"):
            tagged = replace(WORLD, base=replace(WORLD.base, names={"tags": Type("choices")}), remembered={"tags"})
            self.assertEqual([one.code for one in check(text, tagged).problems], ["compare-blank"], text)
        offered = [{one.text for one in words_of(world)} & {"last_change("} for world in (WORLD, in_a_form)]
        self.assertEqual(offered, [{"last_change("}, set()])

    def test_the_limits_admit_what_lies_within(self) -> None:
        """64 levels, long flat chains and 200 values are fine."""
        for text in ("(" * 64 + "1" + ")" * 64, " or ".join(["member"] * 400), f"1 in ({','.join(['1'] * 200)})"):
            self.assertEqual(checked(text).problems, ())

    def test_all_problems_at_once(self) -> None:
        """Independent problems are all said, in the order of the text."""
        codes = [problem.code for problem in checked("plot_lenght + 1 > 2 and zone = 'nort' and nme is blank").problems]
        self.assertEqual(codes, ["unknown-field", "unknown-option", "unknown-field"])

    def test_a_part_in_error_causes_no_further_problem(self) -> None:
        """A misspelt field in a sum says one thing, not three."""
        self.assertEqual(len(checked("round(plot_lenght + 1) > 2").problems), 1)

    def test_places_count_code_points(self) -> None:
        """A place is right behind signs outside the basic plane and behind line breaks."""
        problem = checked('name = "🌱🌱" and\n  plot_lenght > 1').problems[0]
        text = 'name = "🌱🌱" and\n  plot_lenght > 1'
        self.assertEqual(text[problem.span.start : problem.span.end], "plot_lenght")

    def test_a_remedy_mends_its_text(self) -> None:
        """Where a problem is fixable, its hint put in its place removes it."""
        tried = 0
        for code in FIXABLE:
            for sample in CATALOGUE[code].samples:
                for problem in checked(sample).problems:
                    if problem.code == code and problem.hint:
                        mended = sample[: problem.span.start] + problem.hint + sample[problem.span.end :]
                        self.assertNotIn(problem, checked(mended).problems, mended)
                        tried += 1
        self.assertGreater(tried, 5)

    def test_what_to_write_instead_is_said(self) -> None:
        """Each of these has the remedy that makes a sound expression of it, in the hint and in the words."""
        for text, hint in (
            ("name & plot_length", "text(plot_length)"),
            ("name & born", "text(born)"),
            ("name & fee", "text(fee)"),
            ("name & zone", "label(zone)"),
            ("name & crops", 'join(crops, ", ")'),
            ("zone = name", "label(zone)"),
            ('zone contains "nor"', "label(zone)"),
            ("length(plot_length)", "text(plot_length)"),
            ("zone + 1", "pick(zone, …)"),
            ("crops * 2", "score(crops)"),
            ('crops = "beans"', 'crops holds "beans"'),
            ('crops != "beans"', 'crops holds no ("beans")'),
            ('crops in ("beans")', "crops holds any (…)"),
            ("plot_length not between 1 and 2", "not (…)"),
            ('name not contains "a"', "not (…)"),
            ('crops not holds "beans"', "not (…)"),
            ('name not matches "a"', "not (…)"),
            ('name not starts with "a"', "not (…)"),
            ("zone in 'north'", "(…)"),
            ("zone in north", "(…)"),
            ("plot_length = 7,5", "7.5"),
            ("plot_length > 1,000,000", "1000000"),
            ("plot_length * 15 %", "15%"),
        ):
            with self.subTest(text):
                problems = checked(text).problems
                self.assertEqual([problem.hint for problem in problems], [hint])
                self.assertIn(hint, problems[0].message)

    def test_a_sign_that_is_missing_is_no_comma_too_many(self) -> None:
        for text in ("max(plot_length 5,100)", "round(plot_length, 2) 7,5"):
            (problem,) = checked(text).problems
            self.assertIn("cannot stand here", problem.message)

    def test_a_wrong_number_of_arguments_hides_no_problem_inside(self) -> None:
        codes = [problem.code for problem in checked("round(nme, 1, 2) + today(brn)").problems]
        self.assertEqual(codes, ["argument-count", "unknown-field", "argument-count", "unknown-field"])

    def test_wanted_kind(self) -> None:
        """A rule must be a yes/no."""
        problem = check("plot_length", NAMES, expect="yes_no").problems[0]
        self.assertEqual((problem.code, problem.span.start, problem.span.end), ("wrong-type", 0, 11))

    def test_nobody_reads_a_secret_through_a_formula(self) -> None:
        """Of secrets and files an expression learns whether they are filled, and nothing else."""
        for kind in ("secret", "file"):
            names = {"it": Type(kind), "member": Type("yes_no")}  # type: ignore[arg-type]  # literals
            self.assertIsNotNone(check("it is filled and member", names).typed)
            for text in (
                "it",
                "if(member, it, blank)",
                "it else it",
                "it = it",
                "max(it, it)",
                'it contains "a"',
                "it < it",
            ):
                with self.subTest(kind=kind, text=text):
                    self.assertIsNone(check(text, names).typed)

    def test_comments_are_told(self) -> None:
        """A # in a text is none."""
        for text, told in (
            ("1 # one", True),
            ('name = "#1"', False),
            ("# only\n1", True),
            ("name = '#' # x", True),
            ("1", False),
        ):
            self.assertIs(has_comments(text), told, text)

    def test_reserved_words_are_no_names(self) -> None:
        """No reserved word parses as a field."""
        for word in RESERVED:
            if word not in ("true", "false", "blank"):
                self.assertIsNone(parse(word).tree, word)

    @many
    @given(st.one_of(st.text(max_size=40), st.text(alphabet="()-not 1\"'.,<>=!andorif#\n", max_size=60)))
    def test_any_text_is_survived(self, text: str) -> None:
        """Whatever is typed gives problems or a checked form, never an exception."""
        found = check(text, NAMES)
        self.assertEqual(found.typed is None, bool(found.problems))

    @many
    @given(strategies.any_expression, st.data())
    def test_mutated_texts_are_survived(self, node: tree.Node, data: st.DataObject) -> None:
        """A sound text with a piece cut out or put in is survived."""
        text = print_expression(node)
        start = data.draw(st.integers(0, len(text)))
        end = data.draw(st.integers(start, min(len(text), start + 6)))
        mutated = text[:start] + data.draw(st.sampled_from(["", "(", ")", " and ", "'", ",", "%", "zone"])) + text[end:]
        found = check(mutated, NAMES)
        self.assertEqual(found.typed is None, bool(found.problems))


class Types(unittest.TestCase):
    def test_result_types(self) -> None:
        """Money, numbers, dates and choices come out as what they are."""
        for text, kind in (
            ("1 + 2", "number"), ("fee + 1", "money"), ("fee * 2", "money"), ("fee / price", "number"), ("fee / 2", "money"),
            ("born + 1", "date"), ("born - born", "number"), ("if(member, 1, fee)", "money"), ("depth else fee", "money"),
            ("max(1, fee)", "money"), ("if(member, zone, 'hill')", "choice"), ("max(seen, born)", "date"),
            ("name = 'x'", "yes_no"), ("if(member, 'a', blank)", "text"), ("round(fee)", "money"),
        ):  # fmt: skip
            with self.subTest(text):
                typed = checked(text).typed
                assert typed is not None
                self.assertEqual(typed.type.kind, kind)

    def test_refusals(self) -> None:
        """What makes no sense is refused, each with its own code."""
        for text, code in (
            ("zone + 1", "wrong-type"), ("born + name", "wrong-type"), ("1 - born", "wrong-type"), ("zone = name", "wrong-type"),
            ("zone = colour", "wrong-type"), ("if(member, zone, home_zone)", "branch-types"), ("crops = crops", "wrong-type"),
            ("fee in ('x')", "wrong-type"), ("opens = seen", "wrong-type"), ("crops in ('beans')", "wrong-type"),
            ("member < unsure", "no-order"), ("zone between 'a' and 'b'", "unknown-option"), ("age(1)", "wrong-type"),
            ("plot_length = '6'", "wrong-type"), ("born = today", "unknown-field"), ("a.b.c.d", "syntax"),
        ):  # fmt: skip
            with self.subTest(text):
                self.assertIn(code, [problem.code for problem in checked(text).problems])

    def test_a_local_time_becomes_an_instant_once(self) -> None:
        """Half past one happens twice when the clocks go back; the first is meant."""
        london = Moment(MOMENT.now, ZoneInfo("Europe/London"))
        typed = check("seen = '2026-10-25T01:30'", NAMES, zone=london.zone).typed
        assert typed is not None
        run = evaluator.compile_python(typed)
        self.assertIs(run({"seen": datetime(2026, 10, 25, 0, 30, tzinfo=UTC)}, london), True)
        self.assertIs(run({"seen": datetime(2026, 10, 25, 1, 30, tzinfo=UTC)}, london), False)

    @quick
    @given(st.sampled_from(["number", "money", "date", "yes_no", "text"]), st.data())
    def test_generated_expressions_are_sound(self, kind: str, data: st.DataObject) -> None:
        """The generator keeps its word: what it makes has the type it says."""
        found = check_tree(data.draw(strategies.expressions(kind)), strategies.NAMES)
        self.assertEqual(found.problems, ())
        assert found.typed is not None
        self.assertEqual(found.typed.type.kind, kind)


class Values(unittest.TestCase):
    def test_values(self) -> None:
        """Every line of the fixture gives its value in Python; the store's tests hold SQL to the same lines."""
        for text, expected in pairs("values.txt"):
            with self.subTest(text):
                if expected == "!":
                    self.assertTrue(checked(text).problems)
                else:
                    self.assertEqual(shown(value_of(text)), expected)

    def test_age_is_right_the_second_after_midnight(self) -> None:
        """Age follows the clock of the house, with nothing to be run first."""
        zone = ZoneInfo("Europe/London")
        midnight = datetime(2027, 3, 1, tzinfo=zone)
        self.assertEqual(shown(value_of("age(born)", Moment(midnight - timedelta(seconds=1), zone))), "26")
        self.assertEqual(shown(value_of("age(born)", Moment(midnight, zone))), "27")

    def test_volatile_expressions_are_known(self) -> None:
        """What changes by time passing alone is marked."""
        for text, volatile in (
            ("age(born) > 3", True),
            ("today() - born", True),
            ("years_between(born, limed_on)", False),
        ):
            typed = checked(text).typed
            assert typed is not None
            self.assertIs(typed.volatile, volatile)

    def test_every_operation_runs_in_python(self) -> None:
        """Nothing the checker can make is missing in the evaluator, and nothing else is there."""
        self.assertEqual(evaluator.HANDLED, OPERATIONS)
        collecting = {name for name, function in FUNCTIONS.items() if function.collects}
        said_by_others = {"pick", "date"}
        self.assertLessEqual(set(FUNCTIONS) - collecting - said_by_others, OPERATIONS)
        self.assertEqual(set(gathering.FINISHERS), AGGREGATES)

    def test_examples_of_functions_are_sound(self) -> None:
        """What the help shows can be used as it stands."""
        world = replace(WORLD, base=replace(WORLD.base, names=NAMES | {"signed_up_on": NAMES["born"]}))
        for function in FUNCTIONS.values():
            self.assertEqual(check(function.example, world).problems, (), function.name)

    @quick
    @given(strategies.any_expression, strategies.rows)
    def test_operations_never_raise(self, node: tree.Node, row: dict[str, object]) -> None:
        """Any sound expression gives a value, or blank, for any values."""
        typed = check_tree(node, strategies.NAMES).typed
        assert typed is not None
        value = evaluator.compile_python(typed)(row, MOMENT)  # type: ignore[arg-type]
        self.assertNotEqual(value, "")


class Derivations(unittest.TestCase):
    def test_circles_are_named(self) -> None:
        """A circle is found wherever it lies, and named from the inside."""
        needs = {"a": frozenset("b"), "b": frozenset("c"), "c": frozenset("bx")}
        self.assertEqual(find_circle(needs), ("b", "c", "b"))
        self.assertEqual(find_circle({"a": frozenset("a")}), ("a", "a"))
        self.assertEqual(find_circle({"a": frozenset("bc"), "b": frozenset("c"), "c": frozenset("x")}), ())

    def test_layers_need_only_earlier_ones(self) -> None:
        """Only what is wanted is laid out, the deepest first."""
        needs = {"a": frozenset("bx"), "b": frozenset("cx"), "c": frozenset("x"), "d": frozenset("x")}
        self.assertEqual(layers(needs, frozenset("a")), [["c"], ["b"], ["a"]])
        self.assertEqual(layers(needs, frozenset("xy")), [])
