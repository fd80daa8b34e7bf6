"""Definitions as JSON Schema: what a form accepts, a stock validator accepts; what the keywords say, counts."""

import json
import unittest
from collections import Counter
from decimal import Decimal
from typing import Any, ClassVar

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.encoding import to_json
from finesieve.core.fields.options import option_to_json
from finesieve.core.forms.definition import Form, Question
from finesieve.core.forms.portable import portable
from finesieve.core.language.checker import check
from finesieve.core.language.evaluator import compile_python
from finesieve.core.model.checks import ConditionCheck, CountCheck, LengthCheck, PatternCheck, RangeCheck
from finesieve.core.patterns import compile_pattern
from finesieve.core.setup.conditions import Unsaid, condition_schema, expression_of, opposite
from finesieve.core.setup.document import FieldPart, FormPart, GroupPart, Setup
from finesieve.core.setup.formschema import checks_from
from finesieve.core.setup.schema import as_instance, dump, read_schema, to_schema
from finesieve.core.setup.standard import values_schema
from tests.support.fields import MOMENT
from tests.support.forms import CATALOGUE, FIELDS, ask, fill, form

PARTS = tuple(
    FieldPart(
        key=one.key, label=one.label, about="person", group="All", type=one.type_key, required=one.required, unit=one.unit,
        options=tuple(option_to_json(option) for option in one.options), formula=one.formula,
    )
    for one in FIELDS
    if one.about == "person"
)  # fmt: skip
BY_KEY = {part.key: part for part in PARTS}
TYPES = {field.key: field.value_type for field in FIELDS if field.about == "person"}

_TESTS = st.sampled_from(
    ["member", "not member", 'zone = "north"', 'zone != "hill"', 'zone in ("hill", "south")', 'zone not in ("hill")',
     "area > 3", "area <= 10", "area = 5", "area != 5", "area between 2 and 8", "zone is filled", "area is blank",
     'crops holds "kale"', "member = false", "not (area >= 4)", "area < 5", "not (area < 4.5)", "not (area > 3)", "code is filled"]
)  # fmt: skip
RULES = st.one_of(
    _TESTS,
    st.builds(lambda a, b, word: f"({a}) {word} ({b})", _TESTS, _TESTS, st.sampled_from(["and", "or"])),
    st.builds(lambda a, b: f"not (({a}) and ({b}))", _TESTS, _TESTS),
)
CHECKS: dict[str, st.SearchStrategy[Any]] = {
    "area": st.sampled_from([RangeCheck(low=Decimal(2)), RangeCheck(low=Decimal(1), high=Decimal(9)), ConditionCheck(expression='area > 3 or zone = "north"')]),
    "code": st.sampled_from([LengthCheck(low=Decimal(2), high=Decimal(3)), PatternCheck(pattern="[A-F][0-9]+"), PatternCheck(pattern="a|bc")]),
    "crops": st.just(CountCheck(low=Decimal(1), high=Decimal(2))),
}  # fmt: skip
ANSWERS: dict[str, st.SearchStrategy[str]] = {
    "zone": st.sampled_from(["", "north", "hill", "south", "moon"]),
    "area": st.sampled_from(["", "0", "3", "4.5", "5", "12", "much"]),
    "code": st.sampled_from(["", "A1", "A123", "bc", "abc", "a"]),
    "member": st.sampled_from(["", "yes", "no"]),
    "born": st.sampled_from(["", "1984-05-27"]),
    "crops": st.sampled_from(["", "kale", "kale\nbeans", "kale\nbeans\nleek", "oak"]),
}
ASKED = tuple(ANSWERS)


@st.composite
def forms(draw: st.DrawFn) -> Form:
    """A form over all kinds of fields that the keywords speak of, with rules and checks."""
    questions = [ask(1, "email")]
    for number, key in enumerate(ASKED, 2):
        given: dict[str, Any] = {"required": draw(st.sampled_from([None, True, False]))}
        rule = draw(st.one_of(st.none(), RULES))
        needed = draw(st.one_of(st.none(), RULES))
        # A rule may not read the question that it is a rule of.
        given |= {"show_when": rule} if rule and key not in rule else {}
        given |= {"required_when": needed} if needed and key not in needed and not given["required"] else {}
        given |= {"checks": (draw(CHECKS[key]),)} if key in CHECKS and draw(st.booleans()) else {}
        questions.append(Question(id=f"q{number}", field_id=ask(1, key).field_id, **given))
    return form(*questions)


def schema_of(document: Form) -> dict[str, Any]:
    part = FormPart(slug="join", document=portable(document, CATALOGUE))
    return to_schema(Setup(groups=(GroupPart(name="All", about="person"),), fields=PARTS, forms=(part,)))


def validator_of(schema: dict[str, Any]) -> Draft202012Validator:
    form_schema = {"$ref": "#/$defs/form-join", "$defs": schema["$defs"], "properties": schema["properties"]}
    return Draft202012Validator(form_schema, format_checker=Draft202012Validator.FORMAT_CHECKER)


class ByAStockValidator(unittest.TestCase):
    seen: ClassVar[Counter[str]] = Counter()

    @settings(max_examples=600, deadline=None, derandomize=True, database=None, suppress_health_check=list(HealthCheck))
    @given(forms(), st.fixed_dictionaries(ANSWERS))
    def test_accepts_and_refuses_what_the_form_does(self, document: Form, typed: dict[str, str]) -> None:
        """Of what shows: accepted where the form has no trouble with it, and refused where it has."""
        outcome = fill(
            document, None, q1="wren@hedgerow.example", **{f"q{at}": typed[key] for at, key in enumerate(ASKED, 2)}
        )
        instance = as_instance({key: to_json(value) for key, value in outcome.results().of(PERSON).items()}, TYPES)
        for one in outcome.showing:
            if one.field.key not in instance and one.raw:
                instance[one.field.key] = as_sent(one.field.key, one.raw)
        valid = validator_of(schema_of(document)).is_valid(instance)
        self.assertEqual(
            valid, not outcome.troubles, f"{document} {instance} {[one.message for one in outcome.troubles]}"
        )
        self.seen[f"{valid}"] += 1

    def test_both_happened(self) -> None:
        self.test_accepts_and_refuses_what_the_form_does()
        self.assertGreater(min(self.seen["True"], self.seen["False"]), 60)


def as_sent(key: str, raw: str) -> Any:
    """What was refused, as a program would send it."""
    kind = TYPES[key].kind
    if kind == "choices":
        return raw.split("\n")
    try:
        return float(raw) if kind == "number" else raw
    except ValueError:
        return raw


class Conditions(unittest.TestCase):
    @settings(max_examples=400, deadline=None, derandomize=True, database=None)
    @given(RULES, st.fixed_dictionaries({key: ANSWERS[key] for key in ("zone", "area", "member", "crops", "code")}))
    def test_there_and_back(self, rule: str, typed: dict[str, str]) -> None:
        """A schema is valid just where its expression is true, also the expression read from it, and its opposite."""
        row = {}
        for key, text in typed.items():
            try:
                row[key] = next(field for field in FIELDS if field.key == key).parse(text)
            except ValueError:
                row[key] = None
        schema = condition_schema(rule, BY_KEY)
        assert schema is not None, rule
        instance = as_instance({key: to_json(value) for key, value in row.items()}, TYPES)
        valid = Draft202012Validator(schema).is_valid(instance)
        names = {key: key for key in BY_KEY}
        again = expression_of(schema, names)
        for text, expected in ((rule, valid), (again, valid), (opposite(again), not valid)):
            typed_rule = check(text, CATALOGUE.names).typed
            assert typed_rule is not None, text
            self.assertIs(compile_python(typed_rule)(row, MOMENT) is True, expected, f"{text} {instance}")

    def test_what_a_rule_cannot_say(self) -> None:
        for rule in ("today() > born", "length(code) > 2", "area + 1 > 3", "area > plots_wanted", "double > 3"):
            self.assertIsNone(condition_schema(rule, BY_KEY), rule)
        names = {"zone": "zone"}
        for schema, place in (
            ({"properties": {"zone": {"pattern": "n"}}}, ("if", "properties", "zone", "pattern")),
            ({"required": ["nobody"]}, ("if", "required")), ({"oneOf": []}, ("if", "oneOf")), (7, ("if",)), ({}, ("if",)),
        ):  # fmt: skip
            with self.assertRaises(Unsaid) as raised:
                expression_of(schema, names, "if")
            self.assertEqual(raised.exception.place, place)


BASE = form(ask(1, "email"), ask(2, "zone"), ask(3, "area"), ask(4, "code", show_when='zone = "north"', required=True))


class TheKeywordsAreTheTruth(unittest.TestCase):
    """Each edit of a standard keyword in an exported file is a change, or a problem with its place; never nothing."""

    def read(self, *steps: Any, value: Any) -> Setup:
        schema = json.loads(dump(schema_of(BASE)))
        place = schema
        for step in steps[:-1]:
            place = place.setdefault(step, {}) if isinstance(place, dict) else place[step]
        if value is None:
            del place[steps[-1]]
        else:
            place[steps[-1]] = value
        return read_schema(json.dumps(schema))

    def field(self, setup: Setup, key: str) -> FieldPart:
        return next(one for one in setup.fields if one.key == key)

    def question(self, setup: Setup, key: str) -> dict[str, Any]:
        (section,) = setup.forms[0].document["sections"]
        return next(item for item in section["items"] if item["field"] == key)

    def test_unchanged_is_unchanged(self) -> None:
        setup = read_schema(dump(schema_of(BASE)))
        self.assertEqual(setup.misfits, ())
        self.assertEqual(setup.fields, PARTS)
        self.assertEqual(dump(to_schema(setup)), dump(schema_of(BASE)))

    def test_changes(self) -> None:
        setup = self.read("properties", "zone", "enum", value=["south", "north", "moor"])
        self.assertEqual(
            [(one["value"], one["label"]) for one in self.field(setup, "zone").options],
            [("south", "South"), ("north", "North"), ("moor", "moor")],
        )
        self.assertTrue(self.field(self.read("required", value=["email", "zone"]), "zone").required)
        self.assertEqual(
            self.field(self.read("properties", "area", "minimum", value=2.5), "area").settings, {"low": "2.5"}
        )
        self.assertEqual(
            self.field(self.read("properties", "area", "type", value="integer"), "area").settings, {"decimals": 0}
        )
        self.assertEqual(
            self.field(self.read("properties", "code", "maxLength", value=9), "code").settings, {"longest": 9}
        )
        self.assertEqual(
            self.field(self.read("properties", "crops", "maxItems", value=2), "crops").settings, {"most": 2}
        )

    def test_changes_of_a_form(self) -> None:
        at = ("$defs", "form-join")
        self.assertTrue(self.question(self.read(*at, "required", value=["email", "area"]), "area")["required"])
        setup = self.read(*at, "properties", "area", "maximum", value=9)
        self.assertEqual(self.question(setup, "area")["checks"], [{"kind": "range", "high": "9"}])
        rule = {"properties": {"zone": {"const": "hill"}}, "required": ["zone"]}
        for steps in (at, ()):
            setup = self.with_condition(steps, rule)
            self.assertEqual(self.question(setup, "area")["required_when"], 'zone = "hill"')
        setup = self.read("dependentRequired", value={"zone": ["area"]})
        self.assertEqual(self.question(setup, "area")["required_when"], "zone is filled")
        setup = self.read("dependentSchemas", value={"zone": {"properties": {"area": False}}})
        self.assertEqual(self.question(setup, "area")["show_when"], "zone is blank")

    def with_condition(self, steps: tuple[str, ...], rule: dict[str, Any]) -> Setup:
        schema = json.loads(dump(schema_of(BASE)))
        place = schema
        for step in steps:
            place = place[step]
        place |= {"if": rule, "then": {"required": ["area"]}}
        return read_schema(json.dumps(schema))

    def test_both_speak_and_differ(self) -> None:
        """The part is a misfit, and its place is named."""
        at = ("$defs", "form-join")
        for steps, value in (
            (("properties", "area", "type"), "string"), (("properties", "born", "format"), "time"),
            (("properties", "zone", "x-sieve-type"), "number"), (("properties", "email", "x-sieve-required"), False),
            (("properties", "code", "pattern"), "a+"), (("properties", "area", "exclusiveMinimum"), 3),
            ((*at, "allOf"), []), ((*at, "properties", "zone"), None), ((*at, "additionalProperties"), True),
            ((*at, "allOf", 0, "then"), {"required": ["area"]}), ((*at, "properties", "zone", "enum"), ["north"]),
            ((*at, "anyOf"), [{}]),
        ):  # fmt: skip
            with self.subTest(steps=steps):
                setup = self.read(*steps, value=value)
                misfit = setup.misfits[0]
                self.assertTrue(misfit.why.startswith(f"At {'.'.join(map(str, steps[:2]))}"), misfit.why)

    def test_refused_with_the_place(self) -> None:
        for keyword, value, place in (
            ("if", {"properties": {"zone": {"pattern": "n"}}}, "if.properties.zone.pattern"),
            ("dependentRequired", {"born": ["member"]}, "dependentRequired.born.required"),
            ("allOf", [{"minProperties": 1}], "allOf.0.minProperties"), ("required", ["nobody"], "required"),
        ):  # fmt: skip
            with self.subTest(keyword), self.assertRaises(InvalidInput) as raised:
                self.read(keyword, value=value)
            self.assertIn(f"At {place}:", raised.exception.messages["file"])


PLAIN = {
    "$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Bee keepers", "type": "object",
    "properties": {
        "fullName": {"type": "string", "maxLength": 80, "minLength": 3}, "contact-mail": {"type": "string", "format": "email"},
        "hives": {"type": "integer", "minimum": 0, "maximum": 400}, "weight": {"type": ["number", "null"], "exclusiveMinimum": 0},
        "honey": {"enum": ["heather", "clover"]}, "rank": {"oneOf": [{"const": "a", "title": "Apprentice"}, {"const": "m"}]},
        "tools": {"type": "array", "items": {"type": "string", "enum": ["smoker", "veil"]}, "maxItems": 2},
        "since": {"$ref": "#/$defs/day"}, "trained": {"type": "boolean"}, "site": {"type": "string", "format": "uri"},
        "notes": {"type": "array", "items": {"type": "string"}}, "code": {"type": "string", "pattern": "^[A-Z]{2}$"},
        "place": {"type": "object", "properties": {"lat": {"type": "number"}}, "required": ["lat"]},
        "odd": {"type": "string", "contentEncoding": "base64"},
    },
    "required": ["fullName", "hives"],
    "if": {"properties": {"trained": {"const": True}}, "required": ["trained"]}, "then": {"required": ["since"]},
    "dependentRequired": {"honey": ["weight"]},
    "$defs": {"day": {"type": "string", "format": "date"}},
}  # fmt: skip


class PlainSchemas(unittest.TestCase):
    def test_of_another_program(self) -> None:
        setup = read_schema(json.dumps(PLAIN))
        self.assertEqual(
            {one.key: one.type for one in setup.fields if one.key != "odd"},
            {"full_name": "short_text", "contact_mail": "email", "hives": "number", "weight": "number", "honey": "choice",
             "rank": "choice", "tools": "choices", "since": "date", "trained": "yes_no", "site": "url", "notes": "text_list",
             "code": "short_text", "place": "structured"},
        )  # fmt: skip
        by_key = {one.key: one for one in setup.fields}
        self.assertEqual(by_key["hives"].settings, {"low": "0", "high": "400", "decimals": 0})
        self.assertEqual([one["label"] for one in by_key["rank"].options], ["Apprentice", "m"])
        self.assertEqual([key for key, one in by_key.items() if one.required], ["full_name", "hives"])
        (odd,) = setup.misfits
        self.assertTrue(odd.why.startswith("At properties.odd.contentEncoding:"), odd.why)
        items = {item["field"]: item for item in setup.forms[0].document["sections"][0]["items"]}
        self.assertEqual(items["since"]["required_when"], "trained")
        self.assertEqual(items["weight"]["required_when"], "honey is filled")
        self.assertEqual(items["code"]["checks"][0]["pattern"], "[A-Z]{2}")
        self.assertEqual(items["full_name"]["checks"], [{"kind": "length", "low": "3"}])
        for part in setup.fields:
            if part.key != "odd":
                Draft202012Validator.check_schema(values_schema(part))

    def test_patterns_are_looked_for_anywhere(self) -> None:
        """As a stock validator does, whatever the anchors; here a text must match as a whole."""
        for pattern in ("a", "^a", "a$", "^a|b$", "^(?:a|b)$", "^a$", "x[0-9]+"):
            (check,), _left = checks_from({"pattern": pattern}, ())
            for text in ("a", "b", "ab", "ba", "cac", "x12", "ax1"):
                with self.subTest(pattern=pattern, text=text):
                    stock = Draft202012Validator({"pattern": pattern}).is_valid(text)
                    self.assertIs(compile_pattern(check["pattern"]).fullmatch(text) is not None, stock)

    def test_what_is_none(self) -> None:
        for schema in (
            {},
            {"type": "array"},
            {"properties": {}},
            {"properties": {"a": {}}, "oneOf": []},
            {"$ref": "#"},
        ):
            with self.subTest(schema), self.assertRaises(InvalidInput):
                read_schema(json.dumps(schema))


if __name__ == "__main__":
    unittest.main()
