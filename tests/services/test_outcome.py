"""The black box of forms: by files alone it says what the running product says; and its command."""

import json
import tempfile
import unittest
from pathlib import Path
from typing import ClassVar

from hypothesis import given, settings
from hypothesis import strategies as st

from finesieve.core.fields.about import PERSON
from finesieve.core.fields.encoding import to_json
from finesieve.core.setup.schema import read_schema
from finesieve.core.setup.trial import FormTrial
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.forms.rehearsing import Circumstances, rehearse
from finesieve.services.transfer.setups import export_setup
from tests.services.test_command import run
from tests.support.gardens import Garden
from tests.support.house import NOW

ANSWERS = {
    "email": st.sampled_from(["", "a@x.example", "nonsense"]),
    "zone": st.sampled_from(["", "north", "hill", "moon"]),
    "swaps_seed": st.sampled_from(["", "yes", "no"]),
}
PLOTS = st.lists(
    st.fixed_dictionaries(
        {"soil": st.sampled_from(["", "clay", "sand", "peat"]), "size": st.sampled_from(["", "3", "7", "-1", "big"])}
    ),
    max_size=3,
)
FIXTURES = Path(__file__).parents[1] / "fixtures" / "outcome"


class Agreement(unittest.TestCase):
    garden: ClassVar[Garden]
    trial: ClassVar[FormTrial]

    @classmethod
    def setUpClass(cls) -> None:
        cls.garden = Garden()
        create_derived(cls.garden.scope, DerivedInput(label="Rented", formula="sum(plots.size)"))
        charge = {"label": "Swap", "amount": "rented * 2", "low": "3"}
        cls.garden.question("q3", show_when='zone != "hill"', surcharges=(charge,), required_when="rented > 5")
        cls.garden.question("q4", show_when="size > 2")
        cls.garden.question("q5", checks=({"kind": "range", "low": "1"},))
        cls.trial = FormTrial(read_schema(export_setup(cls.garden.scope, values=True)[1]), "join-us")

    @settings(max_examples=60, deadline=None, derandomize=True, database=None)
    @given(st.fixed_dictionaries(ANSWERS), PLOTS)
    def test_files_and_product_agree(self, answers: dict[str, str], plots: list[dict[str, str]]) -> None:
        situation = {"answers": answers, "fillings": {"s2": plots}, "zone": "Europe/London", "now": NOW.isoformat()}
        found = next(self.trial.results([json.dumps(situation)], NOW))
        typed = {"q1": answers["email"], "q2": answers["zone"], "q3": answers["swaps_seed"]}
        for number, plot in enumerate(plots, 1):
            typed |= {f"q4.{number}": plot["soil"], f"q5.{number}": plot["size"]}
        typed["s2"] = " ".join(str(number) for number in range(1, len(plots) + 1))
        real = rehearse(self.garden.scope, self.garden.form, Circumstances(), typed).outcome
        names = {
            one.id: f"s2.{int(one.id.partition('.')[2]) - 1}.{one.field.key}" if "." in one.id else one.field.key
            for one in real.walk()
        }
        self.assertEqual(found["shows"], [names[one.id] for one in real.showing])
        self.assertEqual(
            [(one["path"], one["message"]) for one in found["problems"]],
            [(names[one.id], one.message) for one in real.troubles],
        )
        self.assertEqual([one["amount"] for one in found["charges"]], [to_json(one.amount) for one in real.charges])
        self.assertEqual(found["taken"], not real.troubles)
        if found["taken"]:
            self.assertEqual(
                found["stores"]["person"], {key: to_json(value) for key, value in real.results().of(PERSON).items()}
            )
            stored = [{key: to_json(value) for key, value in one.values.items()} for one in real.results().records]
            self.assertEqual([one["values"] for one in found["stores"]["records"]], stored)


class Command(unittest.TestCase):
    SETUP: ClassVar = ("--setup", str(FIXTURES / "allotment.schema.json"), "--form", "apply", "--now", "2026-11-26")

    def test_one_situation_and_many(self) -> None:
        first = json.loads((FIXTURES / "cases.jsonl").read_text().splitlines()[0])
        with tempfile.TemporaryDirectory() as directory:
            one, many = Path(directory) / "one.json", Path(directory) / "many.jsonl"
            one.write_text(json.dumps(first["situation"], indent=2))
            many.write_text(f"{json.dumps(first['situation'])}\n\nnothing\n{json.dumps(first['situation'])}\n")
            single = run("outcome", *self.SETUP, "--situation", str(one))
            self.assertEqual((single.exit_code, json.loads(single.stdout)), (0, first["result"]))
            several = run("outcome", *self.SETUP, "--cases", str(many))
            lines = [json.loads(line) for line in several.stdout.splitlines()]
            self.assertEqual(several.exit_code, 2)
            self.assertEqual((lines[0], lines[2]), (first["result"], first["result"]))
            self.assertIn("not JSON", lines[1]["error"])
            one.write_text('{"answers": {"colour": "red"}}')
            wrong = run("outcome", *self.SETUP, "--situation", str(one))
            self.assertEqual((wrong.exit_code, wrong.stdout), (2, ""))
            self.assertIn("answers.colour", wrong.stderr)

    def test_misuse(self) -> None:
        for words in (
            self.SETUP,
            (*self.SETUP, "--situation", "a", "--cases", "b"),
            (*self.SETUP, "--situation", "no"),
        ):
            self.assertEqual(run("outcome", *words).exit_code, 2)


if __name__ == "__main__":
    unittest.main()
