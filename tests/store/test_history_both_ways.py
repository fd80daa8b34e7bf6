"""What the past was: the same in Python and in PostgreSQL, over a history of whatever a field may once have kept."""

import unittest
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import func, insert, select

from finesieve.core.fields.about import PERSON
from finesieve.core.fields.encoding import Json, to_json
from finesieve.core.language.checker import check
from finesieve.core.language.evaluator import compile_python
from finesieve.services.define.options import OptionInput, change_options
from finesieve.services.values.writing import row_of
from finesieve.store.language.admitted import admitted
from finesieve.store.language.compiler import compile_sql
from finesieve.store.language.sources import source_of
from finesieve.store.reading.rows import stored_row
from finesieve.store.tables import History
from finesieve.store.values.rows import insert_row
from tests.support import strategies
from tests.support.fields import MOMENT
from tests.support.planted import Planted
from tests.support.strategies import NAMES

_ODD: list[Json] = [
    None, "", [], {}, True, False, 5, -3, 1.5, "5", "-0", "1e3", " 7", "007.50", "1234567890123456", "0.12345678901",
    "north", "hill", "moor", "North", "beans", ["beans"], ["beans", "moor"], ["kale", "beans", "kale"], ["kale", 5], ["hill"], {"beans": 1},
    "2026-02-29", "2024-02-29", "20240229", "0000-01-01", "2024-02-29 ", "02-29", "02-30", "2-9", "24:00", "23:59",
    "23:59:60", "23:59:59.123456", "2026-03-29T00:30:00+00:00", "2026-03-29T00:30:00", "2026-03-29T00:30+15:30",
    "2026-13-01T00:30:00+00:00", "2026-03-29T24:00:00+00:00", "tab\tbed", "ß",
]  # fmt: skip
_MOMENTS = [datetime(2026, 3, 28, 23, 30, tzinfo=UTC) + timedelta(minutes=30 * step) for step in range(6)]
_KEYS = [*NAMES, "crops", "tags"]
_SOUND: dict[str, list[Json]] = {
    "plot_length": ["5", "3", "0.25"], "zone": ["north", "hill", "moor"], "crops": [["beans"], ["kale", "leek"]],
    "tags": [["beans"], ["old"]], "member": [True, False], "name": ["Wren", "Ash"], "born": ["2000-02-29"],
}  # fmt: skip


def _lines_of(key: str) -> st.SearchStrategy[tuple[str, datetime, Json, Json]]:
    """Mostly what the field keeps today, and now and then something else."""
    sound, odd = st.sampled_from(_SOUND.get(key, _ODD)), st.sampled_from(_ODD)
    value = st.one_of(sound, sound, odd)
    return st.tuples(st.just(key), st.sampled_from(_MOMENTS), value, value)


_line = st.sampled_from([*_KEYS, *_SOUND, *_SOUND]).flatmap(_lines_of)
_days = st.sampled_from([date(2026, 3, 28), date(2026, 3, 29), date(2026, 3, 30)])


class HistoryBothWays(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.planted = Planted()
        rows = [OptionInput(was=one, label=one, value={"hill": "moor"}.get(one, one)) for one in NAMES["zone"].options]
        change_options(cls.planted.house.scope, cls.planted.house.field_id("zone"), rows)

    @settings(max_examples=40, deadline=None, derandomize=True, database=None)
    @given(st.lists(_line, max_size=14), _days, strategies.zones)
    def test_whatever_was_kept(self, lines: list[tuple[str, datetime, Json, Json]], day: date, zone: ZoneInfo) -> None:
        """Moments on both sides of midnight, values of every kind, and what no field of that kind would keep."""
        moment = replace(MOMENT, zone=zone)
        scope = self.planted.house.scope
        with scope.transaction("owner") as unit:
            person = insert_row(unit.session, unit.definitions, PERSON, {})
            fields = unit.catalogue.by_key
            ids = {key: fields[key].id if key in fields else -1 for key in _KEYS}
            for key, at, old, new in lines:
                told = {"workspace_id": unit.workspace_id, "about": PERSON, "entity_id": person, "field_id": ids[key]}
                unit.session.execute(
                    insert(History).values(**told, old=old, new=new, source="test", actor="A test", at=at)
                )
            row = row_of(unit, PERSON, person, stored_row(unit.session, unit.definitions, PERSON, person) or {})
            source = source_of(unit.session, unit.definitions, frozenset(), moment)
            asked = ['ever_held(zone, "moor")', *(f"last_change({key})" for key in _KEYS)]
            asked += [f'value_on({key}, "{day}")' for key in _KEYS]
            asked += ['ever_held(zone, "north")', 'ever_held(crops, "kale", "leek")', 'ever_held(tags, "beans")']
            asked += [f'value_on(plot_length, "{day}") > 3 or value_on(zone, "{day}") = "north"']
            for text in asked:
                typed = check(text, unit.catalogue.world(PERSON), zone=zone).typed
                assert typed is not None, text
                query = select(compile_sql(typed, source.columns, moment)).where(source.id == person)
                found = unit.session.execute(query).scalar_one()
                found = tuple(found) if isinstance(found, list) else found
                python = compile_python(typed)(row, moment)
                self.assertEqual(to_json(found), to_json(python), f"{text} over {lines}")
            for text in self.conditions(day):
                typed = check(text, unit.catalogue.world(PERSON), zone=zone, expect="yes_no").typed
                assert typed is not None, text
                expected = compile_python(typed)(row, moment) is True
                for whole in (False, True):
                    source, where = admitted(unit.session, unit.definitions, [typed], moment, whole=whole)
                    query = select(func.count()).select_from(source.table).where(source.id == person, *where)
                    count = unit.session.execute(query).scalar_one()
                    self.assertEqual(count == 1, expected, f"{text} over {lines}, whole: {whole}")
            unit.session.rollback()

    def conditions(self, day: date) -> list[str]:
        """What admits people: the past alone, beside something else, and within something else."""
        changed = [
            f'last_change(zone) {sign} "{day}T00:30"' for sign in ("=", "!=", "<", "<=", ">", ">=")
        ] + [f'date(last_change(zone)) {sign} "{day}"' for sign in ("=", "<", "<=", ">", ">=")]  # fmt: skip
        return [
            *changed,
            f'last_change(zone) between "{day}T00:00" and "{day}T23:00"',
            f'date(last_change(zone)) between add_days("{day}", -1) and "{day}"',
            "last_change(zone) is blank", "last_change(zone) is filled", f'not (date(last_change(zone)) > "{day}")',
            f'value_on(zone, "{day}") = "north"', f'value_on(plot_length, add_days("{day}", 1)) > 3',
            f'value_on(zone, "{day}") in ("north", "moor")', f'value_on(zone, "{day}") is blank',
            f'(value_on(zone, "{day}") else "moor") = "moor"', f'value_on(crops, "{day}") holds "beans"',
            f'value_on(zone, "{day}") = "north" and date(last_change(zone)) >= "{day}" and plot_length is blank',
            f'value_on(zone, "{day}") = "north" or date(last_change(fee)) >= "{day}"',
            f'value_on(zone, "{day}") = zone or value_on(name, "{day}") != value_on(note, "{day}")',
            f'value_on(limed_on, born else "{day}") is blank', 'ever_held(zone, "moor") and last_change(fee) is filled',
        ]  # fmt: skip
