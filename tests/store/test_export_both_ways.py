"""People written as CSV by the database: byte for byte what Python writes."""

import csv
import io
import unittest
from dataclasses import replace
from typing import Any
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st

from finesieve.core.cells import safe_cell
from finesieve.core.language.checker import check
from finesieve.store.reading.exporting import is_written_here
from finesieve.store.reading.people import people_as_csv, stream_people
from tests.support import strategies
from tests.support.fields import MOMENT
from tests.support.planted import Planted

_CELLS = ["=1+2", "+44", "-5", "-5,5", "-a", "@x", "＝a", "\tx", "a,b", 'say "x"', "two\nlines", "x\r\ny", " x ", "’"]


class ExportBothWays(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.planted = Planted()

    @settings(max_examples=80, deadline=None, derandomize=True, database=None)
    @given(
        st.lists(strategies.rows, min_size=1, max_size=4), st.lists(st.sampled_from(_CELLS), min_size=4, max_size=4),
        strategies.zones, st.booleans(),
    )  # fmt: skip
    def test_the_same(self, rows: list[dict[str, Any]], cells: list[str], zone: ZoneInfo, narrow: bool) -> None:
        """Whatever the values are, with a condition or without, in any zone, formulas made harmless."""
        moment = replace(MOMENT, zone=zone)
        rows = [row | {"name": cell} for row, cell in zip(rows, cells, strict=False)]
        for unit in self.planted.planting(rows):
            of_house = replace(unit.catalogue.by_key["name"].manner, zone=zone)
            fields = [replace(one, manner=of_house) for one in unit.catalogue.fields if is_written_here(one)]
            self.assertGreater(len(fields), 12)
            asked = 'name != "-5" and (plot_length > 3 or zone in ("north", "hill") or crops holds any ("beans"))'
            typed = check(asked, unit.catalogue.names, zone=zone).typed
            assert typed is not None
            meshes = [typed] if narrow else []
            what = (unit.session, unit.definitions, moment)
            written = io.StringIO()
            for person in stream_people(*what, [one.key for one in fields], meshes):
                csv.writer(written).writerow([safe_cell(one.plain(person.values[one.key])) for one in fields])
            self.assertEqual("".join(people_as_csv(*what, fields, meshes)), written.getvalue())
