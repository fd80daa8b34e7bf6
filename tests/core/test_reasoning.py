"""Reasoning about rules: what it claims is so, and small forms are judged as trying everything judges them."""

import itertools
import unittest
from decimal import Decimal

from hypothesis import given, settings
from hypothesis import strategies as st

from finesieve.core.forms.definition import Form, Question, Section
from finesieve.core.forms.evaluate import prepare
from finesieve.core.forms.rows import Situation
from finesieve.core.reasoning.rules import reason_about
from tests.support.fields import MOMENT
from tests.support.forms import CATALOGUE, ask, form


def found(document: Form) -> list[tuple[str, str, str]]:
    return [(one.kind, one.place, one.part) for one in reason_about(document, CATALOGUE, MOMENT)]


class Findings(unittest.TestCase):
    def test_rules_that_are_never_or_always_true(self) -> None:
        """Over choices, ranges, dates, texts, blanks, several choices, lists, and derived values of choices."""
        for rule, kind in (
            ('zone = "north" and zone = "hill"', "never"),
            ("area > 5 and area < 5", "never"),
            ("area > 5 and area between 1 and 5", "never"),
            ("area is blank and area > 1", "never"),
            ('born > "2000-01-01" and born < "1990-01-01"', "never"),
            ('code = "A" and code = "B"', "never"),
            ('crops holds every ("beans", "kale") and crops holds no ("kale")', "never"),
            ('lists holds "letter" and lists is blank', "never"),
            ("points > 3", "never"),
            ('page.ref = "a" and page.ref = "b"', "never"),
            ("member is blank or member or not member", "always"),
            ("area is blank or area >= 0 or area < 0", "always"),
            ("area > 5 and area < 6", ""),
            ('born > "2000-01-01" and born < "2000-01-03"', ""),
            ('born > "2000-01-01" and born < "2000-01-02"', "never"),
            ('level >= "sower"', ""),
            ("points > 2", ""),
        ):
            with self.subTest(rule):
                document = form(
                    *(ask(n, key) for n, key in enumerate(("zone", "area", "born", "code", "crops", "member"), 1)),
                    ask(9, "note", show_when=rule),
                )
                self.assertEqual([one for one, place, _ in found(document) if place == "q9"], [kind] if kind else [])

    def test_what_is_not_claimed(self) -> None:
        """Arithmetic, functions, other fields, the clock, records, stored values: said not to be examined."""
        for rule in (
            "area * 2 > 3",
            "age(born) > 3",
            "area > plots_wanted",
            "count(plots) > 1",
            "person.area > 3",
            "born < today()",
            'code matches "a"',
        ):
            with self.subTest(rule):
                document = form(ask(1, "area"), ask(2, "note", show_when=rule))
                self.assertEqual([one for one, place, _ in found(document) if place == "q2"], ["unexamined"])

    def test_contradictions_with_other_rules(self) -> None:
        """A question that is asked only where another rule excludes it; checks and options count, sections too."""
        for items, others in (
            (
                (
                    ask(1, "zone"),
                    ask(2, "member", show_when='zone = "north"'),
                    ask(3, "note", show_when='member and zone = "hill"'),
                ),
                ("q2",),
            ),
            (
                (
                    ask(1, "area", checks=({"kind": "range", "low": 1, "high": 60},)),
                    ask(3, "note", show_when="area > 100"),
                ),
                (),
            ),
            (
                (
                    ask(1, "member"),
                    ask(2, "zone", options_when={"hill": "member"}),
                    ask(3, "note", show_when='zone = "hill" and not member'),
                ),
                (),
            ),
        ):
            with self.subTest(items[-1].show_when):
                (finding,) = reason_about(form(*items), CATALOGUE, MOMENT)
                self.assertEqual((finding.kind, finding.place), ("contradicts", "q3"))
                self.assertEqual(finding.others, others)
        document = form(
            Section(id="s1", items=(ask(1, "zone"),)),
            Section(id="s2", show_when='zone = "north"', items=(ask(2, "note", show_when='zone = "hill"'),)),
        )
        self.assertEqual(found(document), [("contradicts", "q2", "show_when")])

    def test_rules_that_ask_too_early(self) -> None:
        document = form(ask(1, "note", show_when="member"), ask(2, "member"))
        self.assertEqual(found(document), [("later", "q1", "show_when")])

    def test_rules_of_options_and_requirements(self) -> None:
        document = form(
            ask(1, "zone"),
            ask(2, "code", required_when='zone = "north" and zone is blank'),
            ask(3, "crops", options_when={"kale": "zone is blank or zone is filled"}),
        )
        self.assertEqual(found(document), [("never", "q2", "required_when"), ("always", "q3", "option:kale")])


# Small forms, and everything that can be answered ------------------------------------------------

_ANSWERS = {
    "zone": ("", "north", "hill", "south"),
    "member": ("", "yes", "no"),
    "area": ("", "0", "1", "1.5", "2", "2.5", "3"),
    "crops": ("", "beans", "kale", "beans\nkale", "leek", "beans\nleek", "kale\nleek", "beans\nkale\nleek"),
}
_ATOMS = {
    "zone": (
        'zone = "north"',
        'zone != "hill"',
        'zone in ("north", "south")',
        "zone is blank",
        "points > 1",
        "points = 3",
    ),
    "member": ("member", "not member", "member is blank", "member is filled"),
    "area": ("area > 2", "area <= 2", "area = 2", "area between 1 and 2", "area is blank", "area < 1"),
    "crops": (
        'crops holds "beans"',
        'crops holds no ("kale")',
        'crops holds every ("beans", "kale")',
        "crops is blank",
    ),
}
_KEYS = tuple(_ATOMS)


@st.composite
def rules(draw: st.DrawFn) -> str:
    atoms = st.sampled_from([atom for key in _KEYS for atom in _ATOMS[key]])
    parts = [draw(atoms) for _ in range(draw(st.integers(1, 3)))]
    wrapped = [f"not ({part})" if draw(st.booleans()) and draw(st.booleans()) else part for part in parts]
    return draw(st.sampled_from((" and ", " or "))).join(wrapped)


@st.composite
def small_forms(draw: st.DrawFn) -> Form:
    """Each question may ask about those before it, so that no circles come about."""
    order = draw(st.permutations(_KEYS))
    items: list[Question] = []
    for number, key in enumerate(order, 1):
        rule = draw(rules()) if number > 1 and draw(st.booleans()) else ""
        earlier = set(order[: number - 1])
        used = {other for other in _KEYS if any(atom in rule for atom in _ATOMS[other])}
        checks = ({"kind": "range", "high": Decimal(2)},) if key == "area" and draw(st.booleans()) else ()
        items.append(ask(number, key, show_when=rule if used <= earlier else "", checks=checks))
    items.append(ask(9, "note", show_when=draw(rules())))
    return form(*items)


def tried(document: Form) -> dict[str, set[bool | None]]:
    """The verdicts that each rule has over everything that somebody new can answer without being stopped."""
    prepared = prepare(document, CATALOGUE)
    verdicts: dict[str, set[bool | None]] = {}
    names = {CATALOGUE.by_id[one.field_id].key: one.id for one in document.questions}
    for answers in itertools.product(*(_ANSWERS[key] for key in _KEYS)):
        given = {names[key]: answer for key, answer in zip(_KEYS, answers, strict=True)}
        outcome = prepared.evaluate(given, MOMENT, Situation())
        for one in outcome.questions:
            stopped = any(other.trouble for other in outcome.questions if other is not one)
            if not stopped:
                verdicts.setdefault(one.id, set()).add(one.verdict)
    return verdicts


class BruteForce(unittest.TestCase):
    @settings(max_examples=120, deadline=None, derandomize=True, database=None)
    @given(small_forms())
    def test_the_verdicts_are_those_of_trying_everything(self, document: Form) -> None:
        """Never and contradicted: no answers make it show. Always: all do. No finding: some do."""
        verdicts = tried(document)
        claimed = {one.place: one.kind for one in reason_about(document, CATALOGUE, MOMENT) if one.kind != "later"}
        for question in document.questions:
            if not question.show_when or question.id not in verdicts:
                continue
            shows = True in verdicts[question.id]
            kind = claimed.get(question.id, "")
            text = f"{question.id}: {[one.show_when for one in document.questions]}"
            self.assertEqual(kind in ("never", "contradicts"), not shows, text)
            if kind == "always":
                self.assertEqual(verdicts[question.id], {True}, text)
