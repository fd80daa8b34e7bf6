"""Questions against the options of a choice: what is set is read back, and means what it says."""

import unittest
from dataclasses import replace
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from finesieve.core.fields.definition import Field, Option
from finesieve.core.forms.definition import Form, Question, Section
from finesieve.core.forms.evaluate import prepare
from finesieve.core.forms.rows import Situation
from finesieve.core.forms.sowing import NOBODY, Asked, asked_of, rules_for, sowable
from finesieve.core.model.catalogue import Group, build_catalogue
from tests.support.fields import MOMENT

OPTIONS = ("school", 'mar"ket', "home")
ROLE = Field(1, "role", "Role", "choice", 1, options=tuple(Option(one, one) for one in OPTIONS))
NUMBER = Field(2, "number", "Number", "short_text", 1)
ZONE = Field(3, "zone", "Zone", "choice", 1, options=(Option("North", "north"),))
CATALOGUE = build_catalogue(1, ZoneInfo("UTC"), [Group(1, "All")], (ROLE, NUMBER, ZONE))
COLUMNS = (*OPTIONS, NOBODY)
HOW = st.sampled_from(("required", "optional", "not asked"))


def asked(question: Question) -> dict[str, Asked] | None:
    form = Form(title="Form", sections=(Section(id="s1", items=(question,)),))
    return asked_of(question, CATALOGUE.by_key["number"], CATALOGUE.by_key["role"], form, CATALOGUE)


def question(**rules: object) -> Question:
    return Question(id="q1", field_id=CATALOGUE.by_key["number"].id, **rules)  # type: ignore[arg-type]


class Sowing(unittest.TestCase):
    @given(st.tuples(HOW, HOW, HOW, HOW))
    def test_what_is_set_is_read_back_and_is_what_the_form_does(self, how: tuple[Asked, ...]) -> None:
        wanted = dict(zip(COLUMNS, how, strict=True))
        if set(how) == {"not asked"}:
            with self.assertRaises(ValueError):
                rules_for(wanted, CATALOGUE.by_key["role"])
            return
        made = question(**rules_for(wanted, CATALOGUE.by_key["role"]))
        self.assertEqual(asked(made), wanted)
        prepared = prepare(Form(title="T", sections=(Section(id="s1", items=(made,)),)), CATALOGUE)
        for column, said in wanted.items():
            outcome = prepared.evaluate({}, MOMENT, Situation(stored={"role": column or None}))
            (shown,) = outcome.questions
            self.assertEqual(shown.shows, said != "not asked")
            self.assertEqual(shown.trouble == "missing", said == "required")

    def test_rules_written_by_hand(self) -> None:
        self.assertEqual(asked(question(show_when='role != "school"')), dict.fromkeys(OPTIONS[1:], "optional") | {
            "school": "not asked", NOBODY: "not asked",
        })  # fmt: skip
        for rule in ('zone = "north"', 'role = "school" and zone = "north"', "today() > date(2020, 1, 1)", "role = "):
            with self.subTest(rule=rule):
                self.assertIsNone(asked(question(show_when=rule)))
                self.assertIsNone(asked(question(required_when=rule)))

    def test_nothing_is_written_where_all_are_asked_alike(self) -> None:
        everybody = rules_for(dict.fromkeys(COLUMNS, "optional"), CATALOGUE.by_key["role"])
        self.assertEqual(everybody, {"show_when": "", "required": False, "required_when": ""})
        chosen = dict.fromkeys(OPTIONS, "optional") | {NOBODY: "not asked"}
        self.assertEqual(rules_for(chosen, CATALOGUE.by_key["role"])["show_when"], "role is filled")

    def test_what_can_be_a_column(self) -> None:
        many = replace(ROLE, options=tuple(Option(str(one), str(one)) for one in range(13)))
        self.assertEqual([sowable(one) for one in (ROLE, NUMBER, many)], [True, False, False])


if __name__ == "__main__":
    unittest.main()
