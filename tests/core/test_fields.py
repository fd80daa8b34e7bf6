"""Field types, keys, options, values as JSON."""

import unittest
from datetime import UTC, date, datetime, time
from decimal import Decimal
from zoneinfo import ZoneInfo

from hypothesis import given, settings

from finesieve.core.fields.built_in import BUILT_IN, twin_of
from finesieve.core.fields.definition import Field, Shelf
from finesieve.core.fields.encoding import from_json, to_json
from finesieve.core.fields.families.schemas import schema_problem
from finesieve.core.fields.keys import key_from_label, key_problem
from finesieve.core.fields.manner import Manner, Titles
from finesieve.core.fields.options import Option, option_from_json, option_to_json, options_from_lines, options_to_lines
from finesieve.core.fields.settings import SETTINGS, FieldSettings
from finesieve.core.fields.types import TYPES
from finesieve.core.values import DayOfYear, Secret, StoredFile, Structured, Type, tidy_text
from tests.support import strategies

OPTIONS = (Option("North", "north"), Option("Hill", "hill"), Option("Riverside", "river", retired=True))


def field(type_key: str, **given: object) -> Field:
    """A field of this type; what is no part of a field is a setting."""
    parts = {name: given.pop(name) for name in ("options", "unit", "required", "manner") if name in given}
    options = OPTIONS if TYPES[type_key].has_options else ()
    settings = FieldSettings.model_validate(given)
    return Field(1, "a", "A", type_key, 1, **{"options": options, "settings": settings, **parts})  # type: ignore[arg-type]


SCHEMA = '{"type": "object", "properties": {"rain": {"type": "number", "minimum": 0}}, "required": ["rain"]}'
PNG = StoredFile("ab" * 32, "plot.png", "image/png", 120, 4, 3)
# type, settings, answer, value, as shown
SOUND: tuple[tuple[str, dict[str, object], str, object, str], ...] = (
    ("short_text", {}, "  Ragged Jack ", "Ragged Jack", "Ragged Jack"),
    ("short_text", {}, "   ", None, ""),
    ("long_text", {}, "two\r\nlines", "two\nlines", "two\nlines"),
    ("email", {}, " Wren@Hedgerow.Example", "Wren@hedgerow.example", "Wren@hedgerow.example"),
    ("phone", {}, "01632 960123", "+441632960123", "+44 1632 960123"),
    ("phone", {"country": "DE"}, "030 23125 123", "+493023125123", "+49 30 23125123"),
    ("url", {}, "swap.example/day", "https://swap.example/day", "https://swap.example/day"),
    ("secret", {}, "a shed of tools", Secret("a shed of tools"), "set"),
    ("number", {}, "1 250.5", Decimal("1250.5"), "1250.5"),
    ("number", {}, "−3", Decimal("-3"), "-3"),
    ("number", {"low": 1, "high": 5, "step": "0.5"}, "2.5", Decimal("2.5"), "2.5"),
    ("number", {"unit": "m"}, "2.500", Decimal("2.5"), "2.5 m"),
    ("number", {"manner": Manner("de_DE")}, "2.5", Decimal("2.5"), "2,5"),
    ("money", {}, "£12.50", Decimal("12.5"), "£12.50"),
    ("money", {"currency": "JPY"}, "1200", Decimal(1200), "JP¥1,200"),
    ("money", {"manner": Manner("de_DE", currency="EUR")}, "12.50 €", Decimal("12.5"), "12,50\u00a0€"),
    ("yes_no", {}, "yes", True, "yes"),
    ("yes_no", {}, "no", False, "no"),
    ("agreement", {}, "yes", True, "agreed"),
    ("agreement", {}, "no", None, ""),
    ("choice", {}, "north", "north", "North"),
    ("choice", {}, "river", "river", "Riverside"),
    ("choices", {}, "hill\nnorth", ("north", "hill"), "North, Hill"),
    ("progress", {}, "hill", "hill", "Hill"),
    ("date", {}, "2024-02-29", date(2024, 2, 29), "29 Feb 2024"),
    ("date", {}, "", None, ""),
    ("date", {"manner": Manner("de_DE")}, "2024-05-02", date(2024, 5, 2), "2. Mai 2024"),
    ("time", {}, "9:30", time(9, 30), "09:30"),
    ("datetime", {"manner": Manner(zone=ZoneInfo("Europe/London"))}, "2026-07-01 14:30",
     datetime(2026, 7, 1, 13, 30, tzinfo=UTC), "1 Jul 2026, 14:30"),
    ("day_of_year", {}, "2-29", DayOfYear(2, 29), "29 February"),
    ("colour", {}, "1E5945", "#1e5945", "#1e5945"),
    ("colour", {}, "#fa0", "#ffaa00", "#ffaa00"),
    ("country", {}, "gb", "GB", "United Kingdom"),
    ("country", {}, "Norway", "NO", "Norway"),
    ("region", {"country": "GB"}, "Kent", "GB-KEN", "Kent"), ("postcode", {"country": "NL"}, "1234ab", "1234 AB", "1234 AB"),
    ("text_list", {}, "pond bed\n\n long bed ", ("pond bed", "long bed"), "pond bed, long bed"),
    ("structured", {}, '{"b": 1, "a": [true]}', Structured('{"a":[true],"b":1}'), '{"a":[true],"b":1}'),
    ("structured", {"json_schema": SCHEMA}, '{"rain": 2.5}', Structured('{"rain":2.5}'), '{"rain":2.5}'),
    ("record", {"manner": Manner(titles=Titles({"7": "Pond bed"}))}, "7", "7", "Pond bed"),
    ("picture", {}, "token", PNG, "plot.png"),
    ("file", {}, "token", PNG, "plot.png"),
)  # fmt: skip
UNSOUND: tuple[tuple[str, dict[str, object], str], ...] = (
    ("short_text", {}, "two\nlines"), ("short_text", {}, "x" * 501), ("short_text", {}, "nul\x00"), ("short_text", {}, "\ud800"),
    ("short_text", {"longest": 3}, "four"), ("long_text", {}, "x" * 10_001), ("email", {}, "wren"), ("email", {}, "wren@"),
    ("phone", {}, "ring me"), ("phone", {}, "12"), ("url", {}, "javascript:alert(1)"), ("url", {}, "ftp://a.example"),
    ("url", {}, "no"), ("url", {}, "https://a b.example"), ("url", {}, "https://a.example:x"), ("secret", {}, "short"),
    ("number", {}, "1,500"), ("number", {}, "many"), ("number", {}, "1e5"), ("number", {}, "NaN"), ("number", {}, "1" * 16),
    ("number", {}, "0.00000000001"), ("number", {"low": 1}, "0"), ("number", {"high": 1}, "2"), ("number", {"decimals": 0}, "2.5"),
    ("number", {"step": "0.5"}, "0.3"), ("number", {"low": 1, "step": 2}, "2"), ("money", {}, "1.005"), ("money", {}, "a lot"),
    ("yes_no", {}, "maybe"), ("agreement", {}, "perhaps"), ("choice", {}, "nort"), ("choices", {}, "north\nnort"),
    ("choices", {"most": 1}, "north\nhill"), ("choices", {"fewest": 2}, "north"), ("progress", {}, "x"),
    ("date", {}, "2023-02-29"), ("date", {}, "27.5."), ("date", {}, "20240230"), ("date", {}, "0000-01-01"),
    ("time", {}, "25:00"), ("time", {}, "9"), ("datetime", {}, "2026-07-01"), ("datetime", {}, "0001-01-01 00:00x"),
    ("day_of_year", {}, "02-30"), ("day_of_year", {}, "May"), ("colour", {}, "mud"), ("country", {}, "Atlantis"),
    ("region", {"country": "GB"}, "Bavaria"), ("postcode", {"country": "DE"}, "1234"), ("text_list", {"most": 1}, "a\nb"), ("structured", {}, "{"),
    ("structured", {}, "NaN"), ("structured", {"json_schema": SCHEMA}, '{"rain": -1}'), ("structured", {}, "[" * 5000),
    ("record", {}, "7"), ("file", {}, "somebody else's"), ("picture", {}, "x"),
)  # fmt: skip


class ReadingAnswers(unittest.TestCase):
    def test_sound_answers(self) -> None:
        """Each type reads what people write, and shows it as they read it."""
        shelf = Shelf({"token": PNG}, sent_for={"token": field("file").id})
        for key, given_, raw, value, shown in SOUND:
            with self.subTest(key=key, raw=raw):
                known = field(key, **given_)
                self.assertEqual(known.parse(raw, shelf), value)
                self.assertEqual(known.show(value), shown)  # type: ignore[arg-type]
        storing = {key for key, type_ in TYPES.items() if type_.stores}
        self.assertEqual({row[0] for row in SOUND}, storing)
        self.assertFalse(str(field("number").parse("-0")).startswith("-"))

    def test_answers_that_will_not_do(self) -> None:
        """Each refusal is one plain sentence."""
        for key, given_, raw in UNSOUND:
            with self.subTest(key=key, raw=raw[:30]), self.assertRaisesRegex(ValueError, r"^[A-Za-z].*\.$"):
                field(key, **given_).parse(raw, Shelf({"token": PNG}))
        self.assertEqual({row[0] for row in UNSOUND}, {key for key, type_ in TYPES.items() if type_.stores})

    def test_raw_text_reads_back(self) -> None:
        """What an input is filled with reads as the same value; secrets and files are never put back."""
        for key, given_, _, value, _ in SOUND:
            known = field(key, **given_)
            if TYPES[key].kind in ("secret", "file"):
                self.assertEqual(known.raw(value), "")  # type: ignore[arg-type]
            else:
                self.assertEqual(known.parse(known.raw(value)), value, key)  # type: ignore[arg-type]

    def test_what_is_gone_is_shown_all_the_same(self) -> None:
        """A stored value outlives its option, its record, its country."""
        self.assertEqual(field("choice").show("gone"), "gone")
        self.assertEqual(field("choice", renamed={"old": "north"}).show("old"), "North")
        self.assertEqual(field("record").show("7"), "no. 7")
        self.assertEqual(field("country").show("XX"), "XX")

    def test_retired_options_are_kept_and_not_offered(self) -> None:
        """Who holds one may keep it; nobody is offered it."""
        self.assertEqual([option.stored_value for option in field("choice").offered], ["north", "hill"])

    def test_layout_types_hold_nothing(self) -> None:
        """A heading has no value."""
        self.assertFalse(field("heading").stores)
        self.assertIsNone(field("note").parse("anything"))


class Texts(unittest.TestCase):
    def test_figures_in_texts_stand_in_groups(self) -> None:
        """With their unit, in the way of the language; a bare one of four digits may be a year, and stays whole."""
        for unit, language, value, said in (
            ("packets", "en_GB", "7668", "7,668 packets"), ("packets", "de_DE", "7668.5", "7.668,5 packets"),
            ("", "en_GB", "1886", "1886"), ("", "en_GB", "-12345", "-12,345"), ("m", "en_GB", "8.5", "8.5 m"),
        ):  # fmt: skip
            field = Field(1, "n", "N", "number", 1, unit=unit, manner=Manner(language=language))
            with self.subTest(said):
                self.assertEqual(field.say(Decimal(value)), said)
        self.assertEqual(Field(1, "n", "N", "number", 1).say(None), "")
        self.assertEqual(Field(1, "d", "D", "date", 1).say(date(2026, 5, 27)), "27 May 2026")


class Settings(unittest.TestCase):
    def test_every_setting_is_in_words(self) -> None:
        """Each setting has its label and help, but for what only the product itself sets."""
        self.assertEqual(set(FieldSettings.model_fields) - {"renamed", "called"}, set(SETTINGS))
        for setting in SETTINGS.values():
            self.assertLessEqual(setting.types, set(TYPES))

    def test_only_what_differs_is_stored(self) -> None:
        """A stored setting survives its way through JSON."""
        settings = FieldSettings.model_validate({"low": "0.5", "lists": [3], "unique": True})
        self.assertEqual(settings.to_json(), {"low": "0.5", "lists": [3], "unique": True})
        self.assertEqual(FieldSettings.model_validate(settings.to_json()), settings)
        self.assertEqual(FieldSettings().to_json(), {})

    def test_settings_that_contradict_each_other(self) -> None:
        """The smallest is not above the largest, and no style class breaks out of its attribute."""
        for wrong in (
            {"low": 2, "high": 1}, {"step": 0}, {"fewest": 3, "most": 2}, {"style_class": '" onclick="x'},
            {"width": "wide"}, {"decimals": 11}, {"low": "many"}, {"currency": "gbp"}, {"surplus": 1},
        ):  # fmt: skip
            with self.subTest(wrong), self.assertRaises(ValueError):
                FieldSettings.model_validate(wrong)

    def test_schemas(self) -> None:
        """A schema must be one, and may not fetch anything."""
        self.assertEqual(schema_problem(SCHEMA), "")
        for text in ("{", '{"type": 5}', '{"$ref": "https://elsewhere.example/x"}'):
            self.assertRegex(schema_problem(text), r"\.$")

    def test_twins_of_built_in_fields(self) -> None:
        """A hand-made twin is recognised by what it is called."""
        for label in ("E-Mail", "Email address", "mobile", "Surname"):
            self.assertIsNotNone(twin_of(label), label)
        self.assertIsNone(twin_of("Zone"))


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
            self.assertEqual(key_problem(builtin.key) == "", builtin.key != "role")

    def test_options_from_lines(self) -> None:
        """Pasted lines become options; two of one stored value are refused."""
        self.assertEqual(
            options_from_lines("North\n\n Riverside = river "), (Option("North", "north"), Option("Riverside", "river"))
        )
        for text in ("", "\n \n", "North\nnorth", "A = x\nB = x"):
            with self.assertRaises(ValueError):
                options_from_lines(text)

    def test_options_keep_what_is_known_of_them(self) -> None:
        """Pasting labels anew keeps scores, prices and retirement; columns of a sheet set them."""
        known = (Option("North", "north", Decimal(3), Decimal("1.5"), True), Option("Riverside", "river"))
        self.assertEqual(options_from_lines("Northern = north\nRiverside", known)[0].score, Decimal(3))
        self.assertEqual(options_from_lines("Riverside", known), (Option("Riverside", "river"),))
        pasted = options_from_lines("Hill\thill\t2\t4.50\nDale\t\t1")
        self.assertEqual(
            pasted, (Option("Hill", "hill", Decimal(2), Decimal("4.5")), Option("Dale", "dale", Decimal(1)))
        )
        for option in (*known, *pasted):
            self.assertEqual(option_from_json(option_to_json(option)), option)
        self.assertEqual(options_from_lines(options_to_lines(known), known), known)
        for wrong in ("Hill\thill\tmany", "x" * 201):
            with self.assertRaises(ValueError):
                options_from_lines(wrong)
        for data in ({}, {"label": "", "value": "x"}, {"label": "x"}, [], {"label": "x", "value": "x", "score": "NaN"}):
            with self.assertRaises(ValueError):
                option_from_json(data)


class Json(unittest.TestCase):
    def test_round_trips(self) -> None:
        """Every kind of value comes back as it was."""
        for kind, value in (
            ("number", Decimal("12.5")), ("money", Decimal("3")), ("text", "x"), ("yes_no", False), ("date", date(1, 1, 1)),
            ("time", time(9, 30)), ("datetime", datetime(2026, 1, 2, 3, 4, tzinfo=UTC)), ("day_of_year", DayOfYear(2, 29)),
            ("choices", ("a", "b")), ("text_list", ("x",)), ("choice", "a"), ("structured", Structured('{"a":1}')), ("file", PNG),
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
            if key in strategies.NAMES:  # collections are records of their own
                self.assertEqual(from_json(to_json(value), strategies.NAMES[key]), value)  # type: ignore[arg-type]

    def test_tidy_text(self) -> None:
        """Texts are composed and trimmed; what no database can hold is refused."""
        self.assertEqual(tidy_text(" Anne\u0301e "), "Ann\u00e9e")
        for text in ("a\x00b", "\ud800"):
            with self.assertRaises(ValueError):
                tidy_text(text)
