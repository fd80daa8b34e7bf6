"""Structured values and their schemas: every digit kept, nothing that runs away, a sentence for whatever does not fit."""

import json
import time
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from finesieve.core.fields.families.schemas import misfit, schema_problem
from finesieve.core.values import Structured, read_json, write_json


def _nested(levels: int) -> str:
    return "[" * levels + "]" * levels


def _branching(levels: int) -> str:
    steps = {f"a{n}": {"allOf": [{"$ref": f"#/$defs/a{n + 1}"}] * 2} for n in range(levels)}
    return json.dumps({"$defs": {**steps, f"a{levels}": {"type": "string"}}, "$ref": "#/$defs/a0"})


def _unevaluated(levels: int) -> str:
    schema: dict[str, object] = {}
    for _ in range(levels):
        schema = {"anyOf": [{"properties": {"a": schema}}, True], "unevaluatedProperties": False}
    return json.dumps(schema)


HURTING = (
    ('{"pattern": "^(a+)+$"}', json.dumps("a" * 27 + "!")),
    ('{"patternProperties": {"^(a+)+$": {}}}', json.dumps({"a" * 27 + "!": 1})),
    ('{"multipleOf": 0.01}', "1e300"),
    ('{"multipleOf": 1e-300}', "1e300"),
    ('{"uniqueItems": true}', json.dumps([[n] for n in range(8_000)])),
    (json.dumps({"items": {"enum": list(range(4_000))}}), json.dumps([-1] * 12_000)),
    (json.dumps({"items": {"required": [str(n) for n in range(3_000)]}}), json.dumps([{}] * 12_000)),
    (_branching(10), "1"),
    (_unevaluated(12), '{"a":' * 12 + "1" + "}" * 12),
)  # fmt: skip


class Following(unittest.TestCase):
    def test_nothing_runs_away(self) -> None:
        """Two seconds at the most, whatever the schema and the data; most take no time at all."""
        for schema, data in HURTING:
            with self.subTest(schema[:40]):
                started = time.process_time()
                self.assertIsInstance(schema_problem(schema) or misfit(schema, read_json(data)), str)
                self.assertLess(time.process_time() - started, 2)

    def test_what_cannot_be_followed_is_refused_when_it_is_saved(self) -> None:
        for schema in (
            "[", '{"type": "nonsense"}', '{"$ref": "http://elsewhere.example/schema"}', '{"$ref": "#/$defs/a"}',
            '{"$ref": "#"}', '{"$ref": "#name"}', '{"$defs": {"a": {"$ref": "#/$defs/b"}, "b": {"$ref": "#/$defs/a"}}, "$ref": "#/$defs/a"}',
            '{"$id": "http://here.example/", "$ref": "#/a"}', '{"$dynamicRef": "#a"}', '{"pattern": "("}', '{"pattern": "(?=a)"}',
            '{"patternProperties": {"[": {}}}', _branching(30), '{"a": ' * 60 + "1" + "}" * 60, '{"multipleOf": 0}',
            '{"type": "object", "type": "string"}', '{"maximum": 1e9999}', '{"x": {"pattern": "("}, "$ref": "#/x"}',
        ):  # fmt: skip
            with self.subTest(schema[:60]):
                self.assertTrue(schema_problem(schema).endswith("."), schema_problem(schema))
        for schema in (
            '{"properties": {"$ref": {"type": "string"}}}',
            '{"$defs": {"a/b": {}}, "$ref": "#/$defs/a~1b"}',
            "true",
        ):
            self.assertEqual(schema_problem(schema), "")

    def test_each_misfit_is_a_sentence(self) -> None:
        for schema, data, said in (
            ('{"properties": {"rain": {"type": "number"}}}', '{"rain": "much"}', "rain: This must be a number."),
            ('{"required": ["rain"]}', "{}", "“rain” is missing."),
            ('{"dependentRequired": {"rain": ["sun"]}}', '{"rain": 1}', "“sun” is missing."),
            ('{"items": {"maximum": 5}}', "[1, 7]", "1: This must be at most 5."),
            ('{"additionalProperties": false}', '{"wind": 1}', "“wind” is not expected here."),
            ('{"unevaluatedProperties": false}', '{"wind": 1}', "Something here is not expected."),
            ('{"enum": ["clay", 1.50]}', "3", "This must be one of clay, 1.50."),
            ('{"multipleOf": 0.1}', "0.25", "This must go in steps of 0.1."),
            ('{"pattern": "^[a-z]+$"}', '"A"', "This must match ^[a-z]+$."),
            ('{"type": "integer"}', "1.5", "This must be a whole number."),
            ('{"not": {}}', "1", "This is not allowed here."),
            ('{"if": {"required": ["a"]}, "then": {"required": ["b"]}}', '{"a": 1}', "“b” is missing."),
        ):
            with self.subTest(schema):
                self.assertEqual(misfit(schema, read_json(data)), said)

    def test_decimals_are_exact(self) -> None:
        """0.3 is three tenths: no step or bound is missed by a binary fraction."""
        for schema, data in (('{"multipleOf": 0.1}', "0.3"), ('{"multipleOf": 0.01}', "1.15"), ('{"type": "integer"}', "1.0"),
                             ('{"const": 1.0}', "1"), ('{"enum": [0.10]}', "0.1"), ('{"maximum": 0.30000000000000000001}', "0.30000000000000000001")):  # fmt: skip
            with self.subTest(schema):
                self.assertEqual(misfit(schema, read_json(data)), "")
        self.assertTrue(misfit('{"uniqueItems": true}', read_json("[1, 1.0]")))
        self.assertFalse(misfit('{"uniqueItems": true}', read_json("[1, true, 0, false]")))


class Reading(unittest.TestCase):
    def test_what_no_value_can_be(self) -> None:
        for text in ('{"a": 1, "a": 2}', _nested(51), "[" * 100_000, "1e999999", "9" * 5_000, "0." + "1" * 200, "NaN", "-Infinity",
                     '"\\u0000"', '"\\ud800"', '{"\\u0000": 1}', '{"a":}', ""):  # fmt: skip
            with self.subTest(text[:20]), self.assertRaises(ValueError) as caught:
                read_json(text)
            self.assertTrue(str(caught.exception).endswith("."))
        self.assertEqual(write_json(read_json(_nested(50))), _nested(50))

    def test_every_digit_is_kept(self) -> None:
        text = '{"a":[1.10,12345678901234567890.123456789012345678901234567890,0.0000001],"b":100000}'
        self.assertEqual(Structured.of(read_json(text)).text, text)
        self.assertEqual(write_json(Structured(text).data), text)

    @settings(max_examples=300, deadline=None, derandomize=True, database=None)
    @given(st.data())
    def test_the_library_and_we_agree(self, data: st.DataObject) -> None:
        """Where neither bounds nor fractions come in, our validator finds what the library finds."""
        schema, value = data.draw(_schemas), data.draw(_values)
        stock = not list(Draft202012Validator(schema).iter_errors(value))
        self.assertEqual(misfit(json.dumps(schema), read_json(json.dumps(value))) == "", stock, (schema, value))


_plain = st.one_of(st.none(), st.booleans(), st.integers(-3, 3), st.sampled_from(["a", "b", "ab", ""]))
_values = st.recursive(
    _plain,
    lambda below: st.one_of(st.lists(below, max_size=3), st.dictionaries(st.sampled_from("ab"), below)),
    max_leaves=6,
)
_facts = st.one_of(
    st.sampled_from(["null", "boolean", "integer", "number", "string", "array", "object"]).map(
        lambda kind: {"type": kind}
    ),
    st.integers(-2, 2).flatmap(lambda n: st.sampled_from([{"minimum": n}, {"maximum": n}, {"multipleOf": abs(n) + 1}])),
    st.lists(_values, min_size=1, max_size=3).map(lambda options: {"enum": options}),
    _values.map(lambda wanted: {"const": wanted}),
    st.sampled_from([{"uniqueItems": True}, {"pattern": "^a"}, {"required": ["a"]}, {"maxItems": 1}, {"minLength": 1}]),
    st.sampled_from([{"patternProperties": {"^a": {"type": "string"}}, "additionalProperties": False}]),
)


def _grown(below: st.SearchStrategy[dict[str, object]]) -> st.SearchStrategy[dict[str, object]]:
    several = st.lists(below, min_size=1, max_size=2)
    return st.one_of(
        *(several.map(lambda parts, word=word: {word: parts}) for word in ("allOf", "anyOf", "oneOf")),  # type: ignore[misc]  # a default binds it
        *(
            below.map(lambda part, word=word: {word: part})
            for word in ("not", "items", "contains", "additionalProperties")
        ),  # type: ignore[misc]  # as above
        below.map(lambda part: {"properties": {"a": part}, "unevaluatedProperties": False}),
        st.tuples(below, below).map(lambda pair: {"if": pair[0], "then": pair[1]}),
    )


_schemas: st.SearchStrategy[dict[str, object]] = st.recursive(_facts, _grown, max_leaves=5)
