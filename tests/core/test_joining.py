"""Lists that a form, a question or an option puts people on or takes them off."""

import unittest
from dataclasses import replace

from finesieve.core.fields.definition import Field
from finesieve.core.fields.settings import FieldSettings
from finesieve.core.forms.compare import compare_forms
from finesieve.core.forms.definition import ListEffect
from finesieve.core.forms.evaluate import prepare
from finesieve.core.forms.joining import Joining, joining_of, say_effect
from finesieve.core.forms.portable import localised, portable
from finesieve.core.forms.rows import Situation
from finesieve.core.model.catalogue import NamedList
from tests.support.fields import MOMENT
from tests.support.forms import BY_KEY, CATALOGUE, FIELDS, ask, form

HOUSE = replace(
    CATALOGUE,
    all_fields=(
        *(field for field in FIELDS if field.key != "code"),
        Field(4, "code", "Code", "short_text", 1, settings=FieldSettings(lists=(1,))),
        Field(30, "terms", "Terms", "agreement", 1),
    ),
    lists=(NamedList(1, "letter", "Letter"), NamedList(2, "board", "Board"), NamedList(3, "trade", "Trade")),
)
PUTS_ON = ListEffect(list_id=1, option="yes")


def fill(document, situation=Situation(), **answers):  # type: ignore[no-untyped-def]  # noqa: B008
    return prepare(document, HOUSE).evaluate(answers, MOMENT, situation)


class Effects(unittest.TestCase):
    def joined(self, question, **answers):  # type: ignore[no-untyped-def]
        document = form(question)
        found = joining_of(document, fill(document, **answers))
        return sorted(found.joins), sorted(found.leaves)

    def test_a_yes_or_no(self) -> None:
        question = ask(1, "member", lists=(PUTS_ON, ListEffect(list_id=2, option="no", leave=True)))
        for answer, found in (("yes", ([1], [])), ("no", ([], [2])), ("", ([], []))):
            self.assertEqual(self.joined(question, q1=answer), found, answer)

    def test_an_agreement_left_unticked_is_a_no(self) -> None:
        effects = (PUTS_ON, ListEffect(list_id=1, option="no", leave=True))
        question = ask(1, "member", lists=effects).model_copy(update={"field_id": 30})
        self.assertEqual(self.joined(question, q1="yes"), ([1], []))
        self.assertEqual(self.joined(question), ([], [1]))

    def test_options_of_one_and_of_several(self) -> None:
        effects = (ListEffect(list_id=1, option="north"), ListEffect(list_id=2, option="hill"), ListEffect(list_id=3))
        self.assertEqual(self.joined(ask(1, "zone", lists=effects), q1="hill"), ([2, 3], []))
        self.assertEqual(self.joined(ask(1, "zone", lists=effects)), ([], []))
        several = (ListEffect(list_id=1, option="kale"), ListEffect(list_id=2, option="leek", leave=True))
        self.assertEqual(self.joined(ask(1, "crops", lists=several), q1="kale\nleek"), ([1], [2]))

    def test_what_does_not_count_does_nothing(self) -> None:
        """A question that is hidden by its rule, or whose answer cannot be read."""
        hidden = form(ask(1, "member"), ask(2, "zone", show_when="member", lists=(ListEffect(list_id=1),)))
        self.assertFalse(joining_of(hidden, fill(hidden, q1="no", q2="north")))
        self.assertEqual(self.joined(ask(1, "area", lists=(ListEffect(list_id=1),)), q1="many"), ([], []))

    def test_to_leave_is_stronger_than_to_join(self) -> None:
        document = form(ask(1, "member", lists=(ListEffect(list_id=1, option="no", leave=True),)))
        document = document.model_copy(update={"joins": (1, 2)})
        found = joining_of(document, fill(document, q1="no"))
        self.assertEqual((found.joins, found.leaves), ({2}, {1}))
        self.assertEqual(found.held_after(HOUSE, ("letter", "trade")), ("board", "trade"))
        self.assertEqual(Joining(frozenset((2, 9))).held_after(HOUSE, None), ("board",))


class AskedOfWhoJoins(unittest.TestCase):
    """A field kept for people on a list is asked of those who join it here, wherever the questions stand."""

    def test_by_an_answer(self) -> None:
        for document in (
            form(ask(1, "member", lists=(PUTS_ON,)), ask(2, "code")),
            form(ask(2, "code"), ask(1, "member", lists=(PUTS_ON,))),
        ):
            for answer, shows in (("yes", True), ("no", False)):
                self.assertEqual(fill(document, q1=answer).of("q2").shows, shows)

    def test_by_the_form_and_not_by_who_leaves(self) -> None:
        plain = form(ask(2, "code"))
        self.assertFalse(fill(plain).of("q2").shows)
        joins = plain.model_copy(update={"joins": (1,)})
        self.assertTrue(fill(joins).of("q2").shows)
        self.assertTrue(fill(plain, Situation({"lists": ("letter",)}, known=True)).of("q2").shows)
        leave = form(ask(1, "member", lists=(ListEffect(list_id=1, option="no", leave=True),)), ask(2, "code"))
        leave = leave.model_copy(update={"joins": (1,)})
        self.assertFalse(fill(leave, q1="no").of("q2").shows)


class Said(unittest.TestCase):
    def test_in_words_and_in_differences(self) -> None:
        zone = next(field for field in FIELDS if field.key == "zone")
        self.assertEqual(say_effect(ListEffect(list_id=1, option="hill"), zone, HOUSE), "Hill puts on Letter")
        self.assertEqual(say_effect(ListEffect(list_id=2, leave=True), zone, HOUSE), "any answer takes off Board")
        before, after = form(ask(1, "zone")), form(ask(1, "zone", lists=(ListEffect(list_id=1),)))
        found = [(one.what, one.after) for one in compare_forms(before, after, HOUSE)]
        self.assertEqual(found, [("lists", "any answer puts on Letter")])

    def test_by_file(self) -> None:
        document = form(ask(1, "zone", lists=(ListEffect(list_id=2, option="hill", leave=True),)))
        carried = portable(document, HOUSE)
        effects = [{"list": "board", "option": "hill", "leave": True}]
        self.assertEqual(carried["sections"][0]["items"][0]["lists"], effects)
        self.assertEqual(type(document).model_validate(localised(carried, HOUSE)), document)
        self.assertEqual(BY_KEY["zone"], 2)
