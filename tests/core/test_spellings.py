"""How people write dates, birthdays, money, numbers, colours, phones and times: read as meant, or asked about."""

import unittest
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from finesieve.core.fields.definition import Field
from finesieve.core.fields.manner import locale_names, manner_of
from finesieve.core.phrases import asks
from finesieve.core.values import DayOfYear, Value
from finesieve.evaluate import read_as

NOW = datetime(2026, 11, 27, 10, 30, tzinfo=UTC)
TABLE = [line.split("\t") for line in Path(__file__).with_name("spellings.tsv").read_text().splitlines()[1:]]
ASKED = "?"
LANGUAGES = st.sampled_from(sorted(locale_names()))


def read(kind: str, text: str, language: str, country: str = "") -> str:
    """What is read, or the sign that it is asked about."""
    found = read_as(kind, text, language, country, NOW, ZoneInfo("UTC"))
    value = found.get("value", ASKED)
    return str(value).lower() if isinstance(value, bool) else value


class Spellings(unittest.TestCase):
    def test_each_is_read_as_it_is_meant(self) -> None:
        self.assertGreater(len(TABLE), 200)
        for kind, language, country, text, expected in TABLE:
            with self.subTest(kind, language=language, typed=text):
                self.assertEqual(read(kind, text, language, country), expected)

    def test_what_is_asked_names_a_way_to_write_it(self) -> None:
        for kind, text, words in (
            ("date", "3/4/2026", "3 April or 4 March"),
            ("date", "Monday 27 May 1984", "27 May is a Sunday"),
            ("date", "27/5/30", "1930 or 2030"),
            ("time", "9", "09:00 or 21:00"),
            ("number", "1,250", "without commas"),
        ):
            self.assertIn(words, read_as(kind, text, "en", "", NOW, ZoneInfo("UTC"))["problem"])
        self.assertIn("British pounds", read_as("money", "$12", "en_GB", "", NOW, ZoneInfo("UTC"))["problem"])
        self.assertIn("vier Ziffern", read_as("date", "27.5.30", "de", "", NOW, ZoneInfo("UTC"))["problem"])

    def test_types_languages_and_countries_that_there_are_not(self) -> None:
        for kind, language, country in (("choice", "", ""), ("date", "xx", ""), ("date", "en", "GBR")):
            with self.assertRaises(ValueError):
                read_as(kind, "1", language, country, NOW, ZoneInfo("UTC"))

    def test_without_a_clock_nothing_rests_on_the_day(self) -> None:
        field = Field(0, "born", "Born", "date", 0)
        for text in ("tomorrow", "27/5/84"):
            with self.assertRaises(ValueError):
                field.parse(text)


class ThereAndBack(unittest.TestCase):
    """Whatever is shown in a language is read back as the same, in that language."""

    def read_back(self, kind: str, language: str, value: Value) -> None:
        field = Field(0, "x", "X", kind, 0, manner=manner_of(language, ""))
        for written in (field.show(value), field.raw(value)):
            self.assertEqual(field.parse(written, today=NOW.date()), value, (language, written))

    @given(LANGUAGES, st.dates(date(1000, 1, 1), date(9999, 12, 31)))
    def test_dates(self, language: str, value: date) -> None:
        self.read_back("date", language, value)

    @given(LANGUAGES, st.dates(date(2000, 1, 1), date(2000, 12, 31)))
    def test_days_of_the_year(self, language: str, value: date) -> None:
        self.read_back("day_of_year", language, DayOfYear(value.month, value.day))

    @given(LANGUAGES, st.decimals(-(10**9), 10**9, places=0))
    def test_money(self, language: str, value: Decimal) -> None:
        self.read_back("money", language, value + 0)

    @given(LANGUAGES, st.times().map(lambda one: one.replace(microsecond=0, fold=0)))
    def test_times(self, language: str, value: Value) -> None:
        self.read_back("time", language, value)

    @given(
        st.sampled_from(["date", "day_of_year", "time", "datetime", "money", "number", "colour"]), LANGUAGES, st.text()
    )
    def test_no_text_does_harm(self, kind: str, language: str, text: str) -> None:
        """Whatever is typed is read, or refused with a sentence."""
        field = Field(0, "x", "X", kind, 0, manner=manner_of(language, ""))
        try:
            field.parse(text, today=NOW.date() + timedelta(days=1))
        except ValueError as why:
            self.assertTrue(asks(why) or str(why).endswith("."), why)
