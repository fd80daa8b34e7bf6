"""Formulas that are tables: written, read back, and left alone where they are something else."""

import unittest
from decimal import Decimal
from unicodedata import normalize

from hypothesis import given
from hypothesis import strategies as st

from finesieve.core.language.tables import (
    Band,
    Bands,
    Points,
    PointsOf,
    bands_from,
    bands_text,
    points_from,
    points_text,
)

NAMES = st.text(st.characters(categories=["L", "N"], include_characters=" \"'\\{}"), min_size=1, max_size=12).filter(
    lambda one: one.strip() == one and one and normalize("NFC", one) == one
)
FIGURES = st.decimals(-10_000, 10_000, places=2)


class Tables(unittest.TestCase):
    @given(st.lists(FIGURES, min_size=1, max_size=8, unique=True), st.data())
    def test_bands_come_back_as_they_were(self, limits: list[Decimal], data: st.DataObject) -> None:
        names = [data.draw(NAMES) for _ in range(len(limits) + 1)]
        bands = [Band(below, name) for below, name in zip(sorted(limits), names, strict=False)]
        table = Bands("score", (*bands, Band(None, names[-1])))
        self.assertEqual(bands_from(bands_text(table)), table)

    @given(
        st.lists(
            st.tuples(st.sampled_from("abc"), FIGURES.filter(bool)),
            min_size=1,
            max_size=3,
            unique_by=lambda one: one[0],
        ),
        FIGURES.filter(bool),
    )
    def test_points_come_back_as_they_were(self, chosen: list[tuple[str, Decimal]], yes: Decimal) -> None:
        table = Points((PointsOf("watering", tuple(chosen)), PointsOf("swaps", (("yes", yes),), yes_no=True)))
        self.assertEqual(points_from(points_text(table)), table)

    def test_words(self) -> None:
        table = Bands("score", (Band(Decimal(10), "Sprouting"), Band(Decimal(25), "Growing"), Band(None, "Flowering")))
        self.assertEqual(bands_text(table), 'if(score < 10, "Sprouting", score < 25, "Growing", "Flowering")')
        points = Points(
            (
                PointsOf("soil", (("clay", Decimal(3)), ("sand", Decimal(0)))),
                PointsOf("swaps", (("yes", Decimal(5)),), yes_no=True),
            )
        )
        self.assertEqual(points_text(points), '(pick(soil, "clay", 3, 0) else 0) + if(swaps else false, 5, 0)')

    def test_what_is_no_table(self) -> None:
        for text in (
            "", "score", "score < 10", 'if(score < 10, "a", width < 20, "b", "c")', 'if(score <= 10, "a", "b")', 'if(score < 10, 1, 2)',
            'if(score < 10, "a", score < 5, "b", "c")', 'if(score < 10% , "a", "b")', 'if(score < width, "a", "b")', 'if(score < 10, "a", "b"',
            'if(score < 10, "a")',
        ):  # fmt: skip
            self.assertIsNone(bands_from(text), text)
        for text in (
            "",
            "1",
            "soil",
            'pick(soil, "clay", 3, 0)',
            "if(swaps, 5, 0)",
            '(pick(soil, "clay", x, 0) else 0)',
            '(pick(soil, "clay", 3, 1) else 0)',
        ):
            self.assertIsNone(points_from(text), text)

    def test_what_cannot_be_written(self) -> None:
        for bands in (
            (), (Band(None, "all"),), (Band(Decimal(5), ""), Band(None, "b")), (Band(None, "a"), Band(None, "b")),
            (Band(Decimal(5), "a"), Band(Decimal(5), "b"), Band(None, "c")), (Band(Decimal(5), "a"), Band(Decimal(6), "b")),
        ):  # fmt: skip
            with self.assertRaises(ValueError):
                bands_text(Bands("score", bands))
        with self.assertRaises(ValueError):
            points_text(Points((PointsOf("soil", (("clay", Decimal(0)),)),)))


if __name__ == "__main__":
    unittest.main()
