"""Forms tried by files alone: text fixtures, the documented schema, and what does not fit."""

import json
import unittest
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from jsonschema import Draft202012Validator

from finesieve.core.errors import InvalidInput
from finesieve.core.setup.schema import read_schema
from finesieve.core.setup.trial import FormTrial, documented

FIXTURES = Path(__file__).parents[1] / "fixtures" / "outcome"
DOCUMENTED = Path(__file__).parents[2] / "docs" / "outcome.schema.json"
SETUP = (FIXTURES / "allotment.schema.json").read_text()
CASES = [json.loads(line) for line in (FIXTURES / "cases.jsonl").read_text().splitlines()]
NOW = datetime(2026, 11, 26, 10, tzinfo=UTC)


def trial(changed: Any = None) -> FormTrial:
    """The form of the fixture, its file changed first."""
    schema = json.loads(SETUP)
    if changed:
        changed(schema)
    return FormTrial(read_schema(json.dumps(schema)), "apply")


class Fixtures(unittest.TestCase):
    maxDiff = None

    def test_what_comes_of_each(self) -> None:
        form = trial()
        for case in CASES:
            with self.subTest(case["about"]):
                self.assertEqual(next(form.results([json.dumps(case["situation"])], NOW)), case["result"])

    def test_one_line_does_not_change_another(self) -> None:
        lines = [json.dumps(case["situation"]) for case in CASES]
        self.assertEqual([*trial().results(lines, NOW)], [case["result"] for case in CASES])

    def test_fillings_by_collection(self) -> None:
        for case in CASES:
            situation = case["situation"]
            if "s2" in situation.get("fillings", {}):
                named = {**situation, "fillings": {"plots": situation["fillings"]["s2"]}}
                self.assertEqual(next(trial().results([json.dumps(named)], NOW)), case["result"])

    def test_they_fit_the_documented_schema(self) -> None:
        schema = json.loads(DOCUMENTED.read_text())
        self.assertEqual(schema, documented())
        for case in CASES:
            if "error" in case["result"]:
                continue
            for name, data in (("situation", case["situation"]), ("result", case["result"])):
                one = Draft202012Validator({"$ref": f"#/$defs/{name}", "$defs": schema["$defs"]})
                self.assertEqual([problem.message for problem in one.iter_errors(data)], [], case["about"])


class Misfits(unittest.TestCase):
    def said(self, changed: Any) -> str:
        with self.assertRaises(InvalidInput) as caught:
            trial(changed)
        return str(caught.exception)

    def test_a_file_that_does_not_hold_together(self) -> None:
        """A sentence that names what it is."""

        def formula(schema: dict[str, Any]) -> None:
            schema["properties"]["area"]["x-sieve-formula"] = "beds * width"

        def rule(schema: dict[str, Any]) -> None:
            schema["x-sieve-forms"][0]["document"]["sections"][0]["items"][4]["show_when"] = "aera > 2"

        def group(schema: dict[str, Any]) -> None:
            schema["x-sieve-groups"].pop(0)

        def asks(schema: dict[str, Any]) -> None:
            schema["x-sieve-forms"][0]["document"]["sections"][0]["items"][4]["field"] = "width"

        def option(schema: dict[str, Any]) -> None:
            del schema["properties"]["zone"]["x-sieve-options"][0]["value"]

        for change, words in (
            (formula, "The formula of Area: No field is called width."),
            (rule, "At apply.q5.show_when: The rule cannot be read. No field is called aera."),
            (group, "“Who they are” is named in this file"),
            (asks, "“width” is named in this file"),
            (option, "At properties.zone.x-sieve-options: An option has a label and a value."),
        ):
            with self.subTest(words):
                self.assertIn(words, self.said(change))

    def test_no_such_form(self) -> None:
        with self.assertRaises(InvalidInput) as caught:
            FormTrial(read_schema(SETUP), "leave")
        self.assertIn("there are: apply", str(caught.exception))

    def test_a_situation_that_is_none(self) -> None:
        form = trial()
        for text, words in (
            ("[]", "the whole: this has to be an object, in braces"),
            ('{"answer": {}}', "answer: a situation has no such part"),
            ('{"answers": {"beds": {"size": 2}}}', "answers.beds: this has to be a text, in quotes"),
            ('{"tags": "x"}', "tags: this has to be a list"),
            ('{"answers": {"plot_name": "x"}}', "answers.plot_name: "),
            ('{"fillings": {"s1": []}}', "fillings.s1: "),
            ('{"fillings": {"s2": [{"beds": "1"}]}}', "fillings.s2.0.beds: "),
            ('{"fillings": {"s2": [{"$record": "4"}]}}', "fillings.s2.0.$record: "),
            ('{"records": {"hives": []}}', "records.hives: "),
            ('{"records": {"plots": [{"soil": "sand"}]}}', "records.plots.0.soil: "),
            ('{"person": {"beds": "two"}}', "person.beds: "),
            ('{"now": "then"}', "now: write a moment"),
            ('{"answers": {"email": "a\\u0000"}}', "cannot"),
            ("[" * 100_000, "not JSON"),
        ):
            with self.subTest(text[:60]):
                self.assertIn(words, next(form.results([text], NOW)).get("error", ""))


if __name__ == "__main__":
    unittest.main()
