"""Conditions as sentences: both ways without loss."""

import unittest
from dataclasses import replace

from hypothesis import given, settings

from finesieve.core.language import tree
from finesieve.core.language.checker import check
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_expression
from finesieve.core.language.relations import RELATIONS, relations_for
from finesieve.core.language.sentence import (
    Clause,
    Collected,
    Names,
    Quoted,
    Sentence,
    sentence_to_tree,
    tree_to_sentence,
)
from finesieve.core.values import KINDS, Type
from tests.support import strategies
from tests.support.fields import NAMES, checked


def said(text: str) -> Sentence:
    node = parse(text).tree
    assert node is not None
    return tree_to_sentence(node, SPOKEN)


SPOKEN = Names(
    {
        **NAMES,
        "page.ref": Type("text"),
        **dict.fromkeys(("level", "form.level", "level|form.level"), Type("choice", ("sprout", "sower"), ordered=True)),
        "party": Type("day_of_year"),
    },
    {"plots": {"soil": Type("choice", ("clay", "sand")), "size": Type("number"), "limed": Type("date")}},
)


class Sentences(unittest.TestCase):
    def test_clauses(self) -> None:
        """Each relation is recognised, with its values as they are typed."""
        for text, clause in (
            ("zone = 'north'", Clause("zone", "=", ("north",))),
            ("zone in ('north', 'hill')", Clause("zone", "in", ("north", "hill"))),
            ("zone not in ('north')", Clause("zone", "not in", ("north",))),
            ("member", Clause("member", "yes")),
            ("not member", Clause("member", "no")),
            ("plot_length >= -2.5", Clause("plot_length", ">=", ("-2.5",))),
            ("plot_length between 1 and 3", Clause("plot_length", "between", ("1", "3"))),
            ("born < '2000-01-01'", Clause("born", "<", ("2000-01-01",))),
            ("name contains 'x'", Clause("name", "contains", ("x",))),
            ("name is filled", Clause("name", "filled")),
        ):
            with self.subTest(text):
                self.assertEqual(said(text), Sentence("and", (clause,)))

    def test_what_cannot_be_said_is_quoted(self) -> None:
        """A part beyond the sentence stands as a formula, untouched, beside those that can be said."""
        for text in (
            "age(born) + 1 > 3",
            "plot_length > plot_width",
            "member = true",
            "plot_length > 10%",
            "person.member",
        ):
            sentence = said(f"{text} and zone = 'north'")
            self.assertEqual(sentence.clauses, (Quoted(text), Clause("zone", "=", ("north",))))

    def test_joiners(self) -> None:
        """Any or all; a chain within a chain is a sentence within."""
        self.assertEqual(said("member or not member").joiner, "or")
        inner = Sentence("or", (Clause("member", "yes"), Clause("zone", "=", ("north",))))
        self.assertEqual(said("(member or zone = 'north') and member").clauses[0], inner)
        none = Sentence("none", inner.clauses)
        self.assertEqual(said("not (member or zone = 'north')"), Sentence("and", (none,)))
        self.assertEqual(said("not zone = 'north'").clauses, (Sentence("none", (Clause("zone", "=", ("north",)),)),))

    def test_deeper_than_one_can_read_is_quoted(self) -> None:
        text = "member"
        for _ in range(12):
            text = f"(not ({text} or member) and member)"
        sentence = said(text)
        self.assertEqual(sentence_to_tree(sentence, SPOKEN), parse(text).tree)
        self.assertIn("Quoted", repr(sentence))

    def test_told_from_today(self) -> None:
        """What moves with the days is said in words, with its numbers; a shape that is like it is quoted."""
        for text, clause in (
            ("born between add_days(today(), -30) and today()", Clause("born", "in last", ("30", "days"))),
            ("born between today() and add_months(today(), 2)", Clause("born", "in next", ("2", "months"))),
            ("born <= add_years(today(), -16)", Clause("born", "ago", ("16", "years"))),
            ("born > add_days(today(), -7)", Clause("born", "since", ("7", "days"))),
            ("age(born) >= 18", Clause("born", "age >=", ("18",))),
            ("age(born) < 30", Clause("born", "age <", ("30",))),
            ("days_until(add_years(born, 18)) between 0 and 60", Clause("born", "turns", ("18", "60"))),
            ("days_until(add_years(born, 60)) between 0 and 60", Clause("born", "turns", ("60", "60"))),
            ("days_until(next_anniversary(party)) <= 30", Clause("party", "comes round", ("30",))),
        ):
            with self.subTest(text):
                self.assertEqual(said(text), Sentence("and", (clause,)))
                self.assertEqual(sentence_to_tree(said(text), SPOKEN), parse(text).tree)
        for text in (
            "born between add_days(today(), -30) and add_days(today(), -1)", "born > add_days(today(), 7)",
            "age(born) >= 17.5", "born <= add_years('2026-01-01', -16)", "days_until(add_years(born, 18)) between 1 and 60",
        ):  # fmt: skip
            self.assertIsInstance(said(text).clauses[0], Quoted, text)

    def test_of_the_past(self) -> None:
        """What was, and what has changed: only of fields whose history is in reach."""
        names = replace(SPOKEN, past=frozenset(("zone", "born", "plot_length")))
        for text, clause in (
            ("ever_held(zone, 'north', 'hill')", Clause("zone", "ever", ("north", "hill"))),
            ("not ever_held(zone, 'south')", Clause("zone", "never", ("south",))),
            ("value_on(plot_length, '2026-01-31') = 6", Clause("plot_length", "was", ("6", "2026-01-31"))),
            (
                "last_change(born) between add_days(today(), -30) and today()",
                Clause("born", "changed in", ("30", "days")),
            ),
            ("date(last_change(zone)) >= '2026-01-31'", Clause("zone", "changed since", ("2026-01-31",))),
            ("last_change(zone) <= add_years(today(), -2)", Clause("zone", "unchanged", ("2", "years"))),
        ):
            with self.subTest(text):
                tree = parse(text).tree
                assert tree is not None
                self.assertEqual(tree_to_sentence(tree, names).clauses, (clause,))
                self.assertEqual(sentence_to_tree(Sentence("and", (clause,)), names), tree)
                unsaid = tree_to_sentence(tree, SPOKEN).clauses[0]
                self.assertIsInstance(unsaid.clauses[0] if isinstance(unsaid, Sentence) else unsaid, Quoted)
        with self.assertRaisesRegex(ValueError, "Choose"):
            sentence_to_tree(Sentence("and", (Clause("zone", "was", ("north", "")),)), names)

    def test_steps_and_addresses(self) -> None:
        self.assertEqual(said("level >= 'sower'").clauses, (Clause("level", ">=", ("sower",)),))
        self.assertEqual(RELATIONS[">="].said(SPOKEN.fields["level"]), "is at least")
        self.assertNotIn(">=", [one.id for one in relations_for(NAMES["zone"])])
        self.assertEqual(said("page.ref = 'spring'").clauses, (Clause("page.ref", "=", ("spring",)),))

    def test_held_or_being_chosen(self) -> None:
        """The same said of both is one clause, alone and among others; what is not the same stays two."""
        either = Clause("level|form.level", "=", ("sower",))
        text = 'level = "sower" or form.level = "sower"'
        self.assertEqual(said(text), Sentence("and", (either,)))
        self.assertEqual(print_expression(sentence_to_tree(said(text), SPOKEN)), text)
        self.assertEqual(said(f"member and ({text})"), Sentence("and", (Clause("member", "yes"), either)))
        for other in (
            'level = "sower" or form.level = "sprout"',
            'form.level = "sower" or level = "sower"',
            'level != "sower" or form.level != "sower"',
            f"{text} or member",
        ):
            clauses = said(other).clauses
            self.assertNotIn(either, clauses, other)
            self.assertEqual(print_expression(sentence_to_tree(said(other), SPOKEN)), other)
        with self.assertRaises(ValueError):
            sentence_to_tree(Sentence("and", (Clause("level|form.level", "!=", ("sower",)),)), SPOKEN)

    def test_records(self) -> None:
        clay = Sentence("and", (Clause("soil", "=", ("clay",)),))
        both = Sentence("and", (*clay.clauses, Clause("limed", "ago", ("2", "years"))))
        for text, part in (
            ("any(plots where soil = 'clay' and limed <= add_years(today(), -2))", Collected("plots", "any", both)),
            ("not any(plots where soil = 'clay')", Collected("plots", "no", clay)),
            ("all(plots where soil = 'clay')", Collected("plots", "all", clay)),
            ("count(plots) >= 2", Collected("plots", "count", None, "", ">=", ("2",))),
            (
                "sum(plots.size where soil = 'clay') between 3 and 4",
                Collected("plots", "sum", clay, "size", "between", ("3", "4")),
            ),
            ("max(plots.limed) < '2025-01-01'", Collected("plots", "max", None, "limed", "<", ("2025-01-01",))),
        ):
            with self.subTest(text):
                self.assertEqual(said(text), Sentence("and", (part,)))
                self.assertEqual(sentence_to_tree(said(text), SPOKEN), parse(text).tree)
        for text in (
            "any(hives where soil = 'clay')",
            "latest(plots.size by limed) > 3",
            "sum(plots.depth) > 1",
            "count(plots) > size",
        ):
            self.assertIsInstance(said(text).clauses[0], Quoted, text)

    def test_missing_values_are_said(self) -> None:
        """A clause that lacks something raises one plain sentence."""
        for clause in (
            Clause("zone", "in"), Clause("zone", "=", ("",)), Clause("plot_length", ">", ("many",)), Clause("gone", "yes"),
            Clause("plot_length", "between", ("1",)), Clause("born", "<", ("soon",)), Clause("plot_length", ">", ("1e20",)),
            Clause("born", "ago", ("many", "days")), Clause("born", "ago", ("3", "weeks")), Clause("born", "age >=", ("-3",)),
            Collected("plots", "any"), Collected("plots", "sum", None, "gone", ">", ("1",)), Collected("hives", "count", None, "", ">", ("1",)),
            Sentence("none", ()),
        ):  # fmt: skip
            with self.subTest(clause), self.assertRaisesRegex(ValueError, r"\.$"):
                sentence_to_tree(Sentence("and", (clause,)), SPOKEN)
        with self.assertRaises(ValueError):
            sentence_to_tree(Sentence("and", ()), SPOKEN)

    def test_every_kind_has_relations(self) -> None:
        """Whatever a field is, something can be said of it; a collection is no field."""
        for kind in KINDS:
            if kind != "collection":
                self.assertTrue({"filled", "blank"} <= {relation.id for relation in relations_for(Type(kind))})

    @settings(max_examples=400, deadline=None, derandomize=True, database=None)
    @given(strategies.expressions("yes_no"))
    def test_text_to_sentence_to_text_loses_nothing(self, node: tree.Node) -> None:
        """The sentence of any condition says the very same condition."""
        sentence = tree_to_sentence(node, strategies.SPOKEN)
        again = sentence_to_tree(sentence, strategies.SPOKEN)
        self.assertEqual(print_expression(again), print_expression(node))
        self.assertEqual(tree_to_sentence(again, strategies.SPOKEN), sentence)

    @settings(max_examples=600, deadline=None, derandomize=True, database=None)
    @given(strategies.sentences())
    def test_sentence_to_text_to_sentence_loses_nothing(self, sentence: Sentence) -> None:
        """The text of any sentence, parsed, says the very same sentence, and is sound."""
        text = print_expression(sentence_to_tree(sentence, strategies.SPOKEN))
        node = parse(text).tree
        assert node is not None, text
        self.assertEqual(tree_to_sentence(node, strategies.SPOKEN), sentence, text)
        self.assertEqual(check(text, strategies.WORLD, expect="yes_no").problems, (), text)

    def test_a_sentence_is_sound(self) -> None:
        """What the sentence editor can say passes the checker."""
        node = sentence_to_tree(
            Sentence("and", (Clause("zone", "in", ("north", "hill")), Clause("member", "no"))), SPOKEN
        )
        self.assertEqual(checked(print_expression(node)).problems, ())
