"""Conditions as sentences: both ways without loss."""

import unittest

from hypothesis import given, settings

from finesieve.core.language import tree
from finesieve.core.language.checker import check
from finesieve.core.language.parser import parse
from finesieve.core.language.printer import print_expression
from finesieve.core.language.sentence import (
    Clause,
    Quoted,
    Sentence,
    relations_for,
    sentence_to_tree,
    tree_to_sentence,
)
from finesieve.core.values import KINDS
from tests.support import strategies
from tests.support.fields import NAMES, checked


def said(text: str) -> Sentence:
    node = parse(text).tree
    assert node is not None
    return tree_to_sentence(node, NAMES)


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
            "age(born) > 3",
            "plot_length > plot_width",
            "member = true",
            "plot_length > 10%",
            "person.member",
        ):
            sentence = said(f"{text} and zone = 'north'")
            self.assertEqual(sentence.clauses, (Quoted(text), Clause("zone", "=", ("north",))))

    def test_joiners(self) -> None:
        """Any or all; a chain within a chain is quoted."""
        self.assertEqual(said("member or not member").joiner, "or")
        self.assertEqual(said("(member or zone = 'north') and member").clauses[0], Quoted('member or zone = "north"'))

    def test_missing_values_are_said(self) -> None:
        """A clause that lacks something raises one plain sentence."""
        for clause in (
            Clause("zone", "in"), Clause("zone", "=", ("",)), Clause("plot_length", ">", ("many",)), Clause("gone", "yes"),
            Clause("plot_length", "between", ("1",)), Clause("born", "<", ("soon",)), Clause("plot_length", ">", ("1e20",)),
        ):  # fmt: skip
            with self.subTest(clause), self.assertRaisesRegex(ValueError, r"\.$"):
                sentence_to_tree(Sentence("and", (clause,)), NAMES)
        with self.assertRaises(ValueError):
            sentence_to_tree(Sentence("and", ()), NAMES)

    def test_every_kind_has_relations(self) -> None:
        """Whatever a field is, something can be said of it; a collection is no field."""
        for kind in KINDS:
            if kind != "collection":
                self.assertTrue({"filled", "blank"} <= {relation.id for relation in relations_for(kind)})

    @settings(max_examples=400, deadline=None, derandomize=True, database=None)
    @given(strategies.expressions("yes_no"))
    def test_text_to_sentence_to_text_loses_nothing(self, node: tree.Node) -> None:
        """The sentence of any condition says the very same condition."""
        sentence = tree_to_sentence(node, strategies.NAMES)
        again = sentence_to_tree(sentence, strategies.NAMES)
        self.assertEqual(print_expression(again), print_expression(node))
        self.assertEqual(tree_to_sentence(again, strategies.NAMES), sentence)

    @settings(max_examples=600, deadline=None, derandomize=True, database=None)
    @given(strategies.sentences())
    def test_sentence_to_text_to_sentence_loses_nothing(self, sentence: Sentence) -> None:
        """The text of any sentence, parsed, says the very same sentence, and is sound."""
        names = {**strategies.NAMES, "crops": strategies.CROPS}
        text = print_expression(sentence_to_tree(sentence, names))
        node = parse(text).tree
        assert node is not None, text
        self.assertEqual(tree_to_sentence(node, names), sentence, text)
        self.assertEqual(check(text, names, expect="yes_no").problems, (), text)

    def test_a_sentence_is_sound(self) -> None:
        """What the sentence editor can say passes the checker."""
        node = sentence_to_tree(
            Sentence("and", (Clause("zone", "in", ("north", "hill")), Clause("member", "no"))), NAMES
        )
        self.assertEqual(checked(print_expression(node)).problems, ())
