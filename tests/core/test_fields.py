"""Field types, keys, options, values as JSON."""

import unittest
from datetime import UTC, date, datetime, time
from decimal import Decimal

from hypothesis import given, settings

from finesieve.core.fields.definition import BUILT_IN, Field, Option, options_from_lines
from finesieve.core.fields.encoding import from_json, to_json
from finesieve.core.fields.keys import key_from_label, key_problem
from finesieve.core.fields.types import TYPES
from finesieve.core.values import DayOfYear, Type, tidy_text
from tests.support import strategies


class ReadingAnswers(unittest.TestCase):
    def test_sound_answers(self) -> None:
        """Each type reads what people write."""
        for key, raw, value in (
            ("short_text", "  Ragged Jack ", "Ragged Jack"),
            ("short_text", "   ", None),
            ("email", " Wren@Hedgerow.Example", "Wren@hedgerow.example"),
            ("number", "1 250.5", Decimal("1250.5")),
            ("number", "−3", Decimal("-3")),
            ("number", "-0", Decimal(0)),
            ("yes_no", "yes", True),
            ("yes_no", "no", False),
            ("choice", "north", "north"),
            ("date", "2024-02-29", date(2024, 2, 29)),
            ("date", "", None),
        ):
            with self.subTest(key=key, raw=raw):
                self.assertEqual(TYPES[key].parse(raw, ("north", "hill")), value)
        self.assertFalse(str(TYPES["number"].parse("-0")).startswith("-"))

    def test_answers_that_will_not_do(self) -> None:
        """Each refusal is one plain sentence."""
        for key, raw in (
            ("short_text", "two\nlines"), ("short_text", "x" * 501), ("short_text", "nul\x00"), ("short_text", "\ud800"),
            ("email", "wren"), ("email", "wren@"), ("number", "1,5"), ("number", "many"), ("number", "1e5"), ("number", "NaN"),
            ("number", "1" * 16), ("number", "0.00000000001"), ("yes_no", "maybe"), ("choice", "nort"), ("date", "2023-02-29"),
            ("date", "27.5.1984"), ("date", "20240229"), ("date", "0000-01-01"),
        ):  # fmt: skip
            with self.subTest(key=key, raw=raw), self.assertRaisesRegex(ValueError, r"^[A-Z].*\.$"):
                TYPES[key].parse(raw, ("north", "hill"))

    def test_raw_text_reads_back(self) -> None:
        """What an input is filled with reads as the same value."""
        for key, value in (
            ("number", Decimal("12.50")),
            ("yes_no", False),
            ("date", date(1984, 5, 27)),
            ("short_text", "x"),
        ):
            self.assertEqual(TYPES[key].parse(TYPES[key].raw(value)), value)

    def test_showing(self) -> None:
        """Values are shown as people read them."""
        field = Field(1, "zone", "Zone", "choice", 1, options=(Option("Riverside", "river"),))
        self.assertEqual([field.show("river"), field.show("gone"), field.show(None)], ["Riverside", "gone", ""])
        self.assertEqual(Field(1, "a", "A", "number", 1, unit="m").show(Decimal("2.500")), "2.5 m")
        self.assertEqual(TYPES["date"].show(date(2026, 11, 5)), "5 Nov 2026")
        self.assertEqual(TYPES["yes_no"].show(True), "yes")


class KeysAndOptions(unittest.TestCase):
    def test_keys_from_labels(self) -> None:
        """A key is made from any label, free and usable."""
        for label, key in (
            ("Plot length", "plot_length"),
            ("Année", "annee"),
            ("3 beds", "field_3_beds"),
            ("and", "field_and"),
            ("种", "field"),
        ):
            self.assertEqual(key_from_label(label), key)
            self.assertEqual(key_problem(key), "")
        self.assertEqual(key_from_label("Zone", {"zone", "zone_2"}), "zone_3")
        self.assertLessEqual(len(key_from_label("x" * 200)), 60)

    def test_keys_that_cannot_be(self) -> None:
        """Words of the language, prefixes and odd signs are refused."""
        for key in ("and", "person", "level", "tags", "Zone", "1st", "a b", "", "x" * 61, "é"):
            self.assertNotEqual(key_problem(key), "", key)
        for builtin in BUILT_IN:
            self.assertEqual(key_problem(builtin.key), "")

    def test_options_from_lines(self) -> None:
        """Pasted lines become options; two of one stored value are refused."""
        self.assertEqual(
            options_from_lines("North\n\n Riverside = river "), (Option("North", "north"), Option("Riverside", "river"))
        )
        for text in ("", "\n \n", "North\nnorth", "A = x\nB = x"):
            with self.assertRaises(ValueError):
                options_from_lines(text)


class Json(unittest.TestCase):
    def test_round_trips(self) -> None:
        """Every kind of value comes back as it was."""
        for kind, value in (
            ("number", Decimal("12.5")), ("money", Decimal("3")), ("text", "x"), ("yes_no", False), ("date", date(1, 1, 1)),
            ("time", time(9, 30)), ("datetime", datetime(2026, 1, 2, 3, 4, tzinfo=UTC)), ("day_of_year", DayOfYear(2, 29)),
            ("choices", ("a", "b")), ("text_list", ("x",)), ("choice", "a"),
        ):  # fmt: skip
            type_ = Type(kind, ("a", "b") if "choice" in kind else ())  # type: ignore[arg-type]
            self.assertEqual(from_json(to_json(value), type_), value)  # type: ignore[arg-type]
            self.assertIsNone(from_json(None, type_))

    def test_refusals(self) -> None:
        """JSON of another shape, or beyond what is kept, is refused."""
        for kind, data in (
            ("number", 0.5), ("number", True), ("number", "x"), ("number", "1e400"), ("number", "0.00000000001"), ("number", "NaN"),
            ("yes_no", "yes"), ("date", "2020-13-01"), ("date", 5), ("datetime", "2020-01-01T10:00"), ("choice", "c"),
            ("choices", ["c"]), ("choices", "a"), ("day_of_year", "02-30"), ("day_of_year", "x"), ("text", 5),
        ):  # fmt: skip
            with self.subTest(kind=kind, data=data), self.assertRaises(ValueError):
                from_json(data, Type(kind, ("a", "b")))  # type: ignore[arg-type]

    @settings(max_examples=200, deadline=None, derandomize=True, database=None)
    @given(strategies.rows)
    def test_generated_values_round_trip(self, row: dict[str, object]) -> None:
        """Whatever a field can hold survives JSON."""
        for key, value in row.items():
            self.assertEqual(from_json(to_json(value), strategies.NAMES[key]), value)  # type: ignore[arg-type]

    def test_tidy_text(self) -> None:
        """Texts are composed and trimmed; what no database can hold is refused."""
        self.assertEqual(tidy_text(" Anne\u0301e "), "Ann\u00e9e")
        for text in ("a\x00b", "\ud800"):
            with self.assertRaises(ValueError):
                tidy_text(text)
