"""Findings one can work with: by weight, dismissed with a reason and back, several asked at once."""

import unittest

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.core.reasoning.findings import FINDINGS, WEIGHTS
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group
from finesieve.services.forms.forms import create_form, read_form
from finesieve.services.kernel.changes import undo_change
from finesieve.services.upkeep.dismissing import ask_in, bring_back, count_open, dismiss, open_findings
from tests.support.house import make_house


class Dismissing(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.age = create_field(self.scope, self.house.group_id(), FieldInput(label="Age", type_key="number"))

    def codes(self, weight: str) -> list[str]:
        return [one.code for one in open_findings(self.scope).by_weight[weight]]  # type: ignore[index]

    def test_every_weight_is_of_a_finding(self) -> None:
        self.assertLessEqual(WEIGHTS.keys(), FINDINGS.keys())

    def test_dismissed_with_a_reason_and_back(self) -> None:
        before = count_open(self.scope)
        self.assertIn("age-kept", self.codes("doubtful"))
        with self.assertRaises(InvalidInput):
            dismiss(self.scope, "age-kept", self.age, "", " ")
        change = dismiss(self.scope, "age-kept", self.age, "", "As of the census of that day.")
        self.assertEqual(
            (count_open(self.scope), dismiss(self.scope, "age-kept", self.age, "", "Again")), (before - 1, 0)
        )
        (one,) = open_findings(self.scope).dismissed
        self.assertEqual((one.reason, one.there, one.actor), ("As of the census of that day.", True, "Maud Ellery"))
        undo_change(self.scope, change)
        self.assertEqual(count_open(self.scope), before)
        undo_change(self.scope, change, again=True)
        back = bring_back(self.scope, one.id)
        self.assertEqual(count_open(self.scope), before)
        undo_change(self.scope, back)
        self.assertEqual(count_open(self.scope), before - 1)
        for role, wrong in (("reader", NotAllowed), ("clerk", NotAllowed)):
            with self.assertRaises(wrong):
                dismiss(self.house.as_role(role), "age-kept", self.age, "", "No")  # type: ignore[arg-type]
        with self.assertRaises(NotFound):
            dismiss(self.scope, "age-kept", 999_999, "", "No")

    def test_of_what_only_editors_see_others_see_nothing_dismissed(self) -> None:
        hidden = create_group(self.scope, GroupInput(name="Money", about="person", seen_by="editors"))
        field = create_field(self.scope, hidden, FieldInput(label="Age of debt", type_key="number"))
        dismiss(self.scope, "age-kept", field, "", "Known.")
        for role, sees in (("reader", 0), ("editor", 1)):
            self.assertEqual(len(open_findings(self.house.as_role(role)).dismissed), sees)  # type: ignore[arg-type]

    def test_what_is_merely_unused_counts_for_nothing(self) -> None:
        self.assertIn("never-collected", self.codes("unused"))
        self.assertEqual(count_open(self.scope), len(self.codes("wrong")) + len(self.codes("doubtful")))

    def test_several_are_asked_at_once(self) -> None:
        form = create_form(self.scope, "Join")
        fields = [self.house.field_id(key) for key in ("zone", "born", "zone")]
        self.assertEqual(ask_in(self.scope, form, fields), (2, ()))
        asked = {question.field_id for question in read_form(self.scope, form).document.questions}
        self.assertLessEqual(set(fields), asked)
        self.assertEqual(ask_in(self.scope, form, fields), (0, ()))
        with self.assertRaises(InvalidInput):
            ask_in(self.scope, form, [])
