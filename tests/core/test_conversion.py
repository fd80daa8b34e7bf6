"""Values of one type read as another: by hand for what matters, and for every pair of types that nothing breaks."""

import unittest
from dataclasses import replace
from datetime import UTC, date, datetime, time
from decimal import Decimal
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st

from finesieve.core.fields.conversion import NotConverted, convert
from finesieve.core.fields.definition import Field
from finesieve.core.fields.families.dates import twice
from finesieve.core.fields.manner import PLAIN, Manner, locale_names
from finesieve.core.fields.options import Option
from finesieve.core.fields.settings import FieldSettings
from finesieve.core.fields.types import TYPES
from finesieve.core.values import DayOfYear, Structured, Value

GERMAN = replace(PLAIN, language="de_DE", currency="EUR")
MANNERS = (replace(PLAIN, zone=ZoneInfo("Europe/London")), replace(GERMAN, zone=ZoneInfo("Europe/Berlin")), PLAIN)
OPTIONS = (Option("Clay soil", "clay"), Option("Sand", "sand"))


def field(type_key: str, manner: Manner = PLAIN, **settings: object) -> Field:
    options = OPTIONS if TYPES[type_key].has_options else ()
    unit = "m" if type_key == "number" else ""
    return Field(
        1, "x", "X", type_key, 1, unit=unit, options=options, manner=manner, settings=FieldSettings(**settings)
    )


CONVERTS: tuple[tuple[str, Value, str, Value], ...] = (
    ("short_text", "12", "number", Decimal(12)),
    ("short_text", "1,250.5", "number", Decimal("1250.5")),
    ("short_text", "3,5", "number", Decimal("3.5")),
    ("short_text", "7 m", "number", Decimal(7)),
    ("number", Decimal("3.50"), "short_text", "3.5 m"),
    ("number", Decimal("3.5"), "money", Decimal("3.5")),
    ("yes_no", True, "number", Decimal(1)),
    ("yes_no", False, "short_text", "no"),
    ("short_text", "YES", "yes_no", True),
    ("short_text", "clay soil", "choice", "clay"),
    ("choice", "clay", "short_text", "Clay soil"),
    ("choice", "clay", "choices", ("clay",)),
    ("choices", ("clay",), "choice", "clay"),
    ("choices", ("clay", "sand"), "text_list", ("Clay soil", "Sand")),
    ("short_text", "Clay soil, Sand", "choices", ("clay", "sand")),
    ("short_text", "a, b; c", "text_list", ("a", "b", "c")),
    ("short_text", "2026-03-01", "date", date(2026, 3, 1)),
    ("short_text", "1 March 2026", "date", date(2026, 3, 1)),
    ("datetime", datetime(2026, 3, 1, 9, 30, tzinfo=UTC), "date", date(2026, 3, 1)),
    ("date", date(2026, 5, 27), "day_of_year", DayOfYear(5, 27)),
    ("short_text", "fr", "country", "FR"),
    ("long_text", "a\nb", "short_text", "a, b"),
)
FAILS = (
    ("short_text", "twelve", "number"), ("short_text", "maybe", "yes_no"), ("short_text", "loam", "choice"),
    ("choices", ("clay", "sand"), "choice"), ("short_text", "soon", "date"), ("short_text", "no", "email"),
    ("number", Decimal(7), "date"), ("short_text", "Atlantis", "country"), ("number", Decimal(2), "yes_no"),
    ("short_text", "x", "secret"), ("secret", "x", "short_text"), ("short_text", "x", "file"),
)  # fmt: skip
SAMPLES: dict[str, Value] = {
    "text": "12", "number": Decimal("1.25"), "money": Decimal(2), "yes_no": True, "choice": "clay", "choices": ("clay",),
    "date": date(2026, 3, 1), "time": time(9, 30), "datetime": datetime(2026, 3, 1, 9, 30, tzinfo=UTC),
    "day_of_year": DayOfYear(5, 27), "text_list": ("a", "b"), "structured": Structured('{"rain": 3}'),
}  # fmt: skip


class Converting(unittest.TestCase):
    def test_what_converts(self) -> None:
        for old, value, new, becomes in CONVERTS:
            with self.subTest(old=old, new=new, value=value):
                self.assertEqual(convert(value, field(old), field(new)), becomes)

    def test_what_does_not(self) -> None:
        """It says why, in a sentence."""
        for old, value, new in FAILS:
            with self.subTest(old=old, new=new), self.assertRaisesRegex(NotConverted, r"^[A-Z“].*[.]$"):
                convert(value, field(old), field(new))

    def test_every_pair(self) -> None:
        """Of any type into any other: a value that the new type would take as an answer too, or a sentence."""
        for old in TYPES.values():
            for new in TYPES.values():
                if old.kind not in SAMPLES or not new.stores:
                    continue
                target = field(new.key)
                with self.subTest(old=old.key, new=new.key):
                    try:
                        value = convert(SAMPLES[old.kind], field(old.key), target)
                    except NotConverted as why:
                        self.assertTrue(str(why).endswith("."), str(why))
                        continue
                    self.assertEqual(target.parse(target.raw(value)), value)


_SAMPLED = {"country": st.sampled_from(["FR", "GB", "CI"]), "region": st.sampled_from(["GB-KEN", "GB-CON"])}
_SAMPLED |= {"colour": st.sampled_from(["#1e5945", "#ffaa00"]), "email": st.just("wren@hedgerow.example")}
_SAMPLED |= {"phone": st.just("+441632960123"), "url": st.just("https://swap.example/day"), "agreement": st.just(True)}
_items = st.text("ab ,;é", min_size=1, max_size=6).map(lambda text: " ".join(text.split())).filter(bool)
_OF_KIND: dict[str, st.SearchStrategy[Value]] = {
    "number": st.decimals("-1e9", "1e9", places=4).map(lambda number: number + 0),
    "money": st.decimals("-1e9", "1e9", places=2).map(lambda number: number + 0),
    "yes_no": st.booleans(),
    "choice": st.sampled_from(["clay", "sand"]),
    "choices": st.sampled_from([("clay",), ("sand",), ("clay", "sand")]),
    "date": st.dates(date(1000, 1, 1)),
    "time": st.times().map(lambda one: one.replace(microsecond=0)),
    "datetime": st.one_of(
        st.sampled_from([datetime(2026, 10, 25, 0, 30, tzinfo=UTC), datetime(2026, 10, 25, 1, 30, tzinfo=UTC)]),
        st.datetimes(datetime(1900, 1, 1), datetime(2100, 1, 1)).map(
            lambda one: one.replace(microsecond=0, tzinfo=UTC)
        ),
    ),
    "day_of_year": st.dates(date(2000, 1, 1), date(2000, 12, 31)).map(lambda day: DayOfYear(day.month, day.day)),
    "text_list": st.lists(_items, min_size=1, max_size=3).map(tuple),
    "structured": st.sampled_from([Structured('{"rain":3.10}'), Structured('["a","b"]'), Structured("12")]),
}
LOSES = {  # what the other type has no room for
    ("datetime", "date"), ("datetime", "time"), ("datetime", "day_of_year"), ("date", "day_of_year"),
}  # fmt: skip


class ThereAndBack(unittest.TestCase):
    @settings(max_examples=1_500, deadline=None, derandomize=True, database=None)
    @given(st.data())
    def test_what_the_product_wrote_it_reads_again(self, data: st.DataObject) -> None:
        """Of every type into every other and back: the same value, unless it could not become the other at all."""
        manner = data.draw(st.sampled_from(MANNERS))
        storing = [key for key, type_ in TYPES.items() if type_.kind in _OF_KIND or key in _SAMPLED]
        old = field(data.draw(st.sampled_from(storing)), manner)
        new = field(data.draw(st.sampled_from([*storing, "short_text", "long_text"])), manner)
        value = data.draw(_SAMPLED.get(old.type_key, _OF_KIND.get(old.type.kind, st.nothing())))
        try:
            other = convert(value, old, new)
        except NotConverted:
            return
        if (old.type.kind, new.type.kind) in LOSES:
            return
        self.assertEqual(convert(other, new, old), value, f"{old.type_key} {value!r} as {new.type_key} {other!r}")


class Clocks(unittest.TestCase):
    """A time that the clocks pass over or show twice is said to the person, and nothing is moved."""

    berlin = field("datetime", replace(PLAIN, zone=ZoneInfo("Europe/Berlin")))

    def test_passed_over(self) -> None:
        with self.assertRaisesRegex(ValueError, r"^The clocks go forward at that time, so 02:30 does not exist[.]"):
            self.berlin.parse("2026-03-29T02:30")

    def test_twice(self) -> None:
        with self.assertRaisesRegex(ValueError, r"02:30 comes twice[.] Say which one: the first [(][+]02:00[)]"):
            self.berlin.parse("2026-10-25 02:30")
        ways = twice("2026-10-25T02:30", self.berlin.manner.zone)
        self.assertEqual(
            [self.berlin.parse(way) for way, _offset in ways],
            [datetime(2026, 10, 25, 0, 30, tzinfo=UTC), datetime(2026, 10, 25, 1, 30, tzinfo=UTC)],
        )
        self.assertEqual(twice("2026-10-25T03:30", self.berlin.manner.zone), ())

    def test_a_wrong_offset(self) -> None:
        with self.assertRaises(ValueError):
            self.berlin.parse("2026-06-01T12:00+05:00")

    def test_offsets_with_seconds(self) -> None:
        """Local mean time of the old days, as given."""
        instant = self.berlin.parse("1880-05-01T12:00:07")
        self.assertEqual(self.berlin.raw(instant), "1880-05-01T12:00:07")
        self.assertEqual(self.berlin.parse(self.berlin.raw(instant)), instant)


class Languages(unittest.TestCase):
    def test_numbers_of_each_language_read_back(self) -> None:
        """What a house sees in an input and on a page, it can type."""
        for language in locale_names():
            known = field("number", replace(PLAIN, language=language))
            money = field("money", replace(PLAIN, language=language, currency="EUR"))
            for number in (Decimal("1250.5"), Decimal("-0.125"), Decimal(1_250), Decimal("1.125")):
                with self.subTest(language=language, number=number):
                    self.assertEqual(known.parse(known.raw(number)), number)
            self.assertEqual(money.parse(money.raw(Decimal("12.5"))), Decimal("12.5"))

    def test_what_could_be_thousands_or_decimals(self) -> None:
        """Both signs leave no doubt; where there is doubt it is refused, not guessed."""
        for manner, text, value in (
            (PLAIN, "1,250.50", Decimal("1250.5")), (GERMAN, "1.250,50", Decimal("1250.5")), (GERMAN, "0,125", Decimal("0.125")),
            (GERMAN, "1250.5", Decimal("1250.5")), (GERMAN, "1 250,5", Decimal("1250.5")),
        ):  # fmt: skip
            with self.subTest(text):
                self.assertEqual(field("number", manner).parse(text), value)
        for manner, text in (
            (PLAIN, "1,250"), (GERMAN, "1.250"), (GERMAN, "1,2,3"), (GERMAN, "1.25,5"), (PLAIN, "12 50"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(ValueError):
                field("number", manner).parse(text)

    def test_converting_follows_the_language(self) -> None:
        for text, value in (("1.250", Decimal(1_250)), ("1.250,5", Decimal("1250.5")), ("3.5", Decimal("3.5"))):
            self.assertEqual(convert(text, field("short_text", GERMAN), field("number", GERMAN)), value)


if __name__ == "__main__":
    unittest.main()
