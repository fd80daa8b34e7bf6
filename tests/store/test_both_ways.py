"""Two ways to run, one meaning: Python and PostgreSQL agree on every input."""

import unittest
from collections.abc import Mapping
from dataclasses import replace
from decimal import Decimal
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import select
from sqlmodel import Session

from finesieve.core.errors import NotCompilable
from finesieve.core.fields.encoding import to_json
from finesieve.core.language import tree
from finesieve.core.language.checker import check, check_tree
from finesieve.core.language.evaluator import Moment, compile_python
from finesieve.core.language.library import PYTHON_ONLY, WHITE
from finesieve.core.language.names import World
from finesieve.core.language.printer import print_expression
from finesieve.core.language.problems import Span
from finesieve.core.language.typed import OPERATIONS, Typed
from finesieve.core.values import Type, Value
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.deletion import delete_field
from finesieve.services.define.groups import read_catalogue
from finesieve.store.language import compiler
from finesieve.store.language.by_python import by_python
from finesieve.store.language.compiler import Columns, bound, compile_sql
from finesieve.store.language.sources import source_of
from finesieve.store.language.written import written_collections
from tests.support import strategies
from tests.support.database import store
from tests.support.fields import MOMENT, NAMES, ROW, WORLD, checked, value_of
from tests.support.planted import Planted
from tests.support.texts import pairs


def by_sql(typed: Typed, world: World, row: Mapping[str, Value], moment: Moment = MOMENT) -> Value:
    """The value as PostgreSQL works it out; the members of a collection stand in the statement as rows of values."""

    names = {key: bound(row.get(key), type_.kind) for key, type_ in world.base.names.items()}
    with Session(store().engine) as session:
        columns = Columns(names, None, written_collections(world, row), lookup=by_python(session))
        value: Value = session.execute(select(compile_sql(typed, columns, moment))).scalar_one()
    return tuple(value) if isinstance(value, list) else value


class BothWays(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.planted = Planted()

    def test_values_of_the_fixture(self) -> None:
        """Every line of the core's fixture gives the same value in SQL, digit for digit."""
        for text, expected in pairs("values.txt"):
            typed = checked(text).typed
            if expected == "!" or typed is None:
                continue
            with self.subTest(text):
                self.assertEqual(to_json(by_sql(typed, WORLD, ROW)), to_json(value_of(text)))

    @settings(max_examples=2_000, deadline=None, derandomize=True, database=None)
    @given(strategies.any_expression, strategies.rows, strategies.zones)
    def test_generated_expressions_and_data(self, node: tree.Node, row: dict[str, Value], zone: ZoneInfo) -> None:
        """Generated, well-typed expressions over generated people, in any zone: equal results, blanks and edges included."""
        moment = replace(MOMENT, zone=zone)
        typed = check_tree(node, strategies.WORLD, zone=zone).typed
        assert typed is not None
        python = compile_python(typed)(row, moment)
        sql = by_sql(typed, strategies.WORLD, row, moment)
        self.assertEqual(to_json(python), to_json(sql), f"{print_expression(node)} over {row}")

    @settings(max_examples=1_000, deadline=None, derandomize=True, database=None)
    @given(strategies.any_collecting, strategies.rows)
    def test_generated_collections(self, node: tree.Node, row: dict[str, Value]) -> None:
        """Functions over records agree as well, the person's own fields within their conditions included."""
        found = check_tree(node, strategies.WORLD)
        assert found.typed is not None, (print_expression(node), found.problems)
        python = compile_python(found.typed)(row, MOMENT)
        sql = by_sql(found.typed, strategies.WORLD, row)
        self.assertEqual(to_json(python), to_json(sql), f"{print_expression(node)} over {row}")

    @settings(max_examples=100, deadline=None, derandomize=True, database=None)
    @given(
        st.one_of(strategies.any_expression, strategies.any_collecting),
        st.lists(strategies.rows, min_size=1, max_size=3),
    )
    def test_rows_of_a_real_table(self, node: tree.Node, rows: list[dict[str, Value]]) -> None:
        """People and records that stand in the tables of a workspace, read as lists and segments read them."""
        typed = check_tree(node, self.planted.world).typed
        assert typed is not None
        python = [compile_python(typed)(row, MOMENT) for row in rows]
        for together in (False, True):
            sql = self.planted.values(typed, rows, MOMENT, together=together)
            self.assertEqual([*map(to_json, python)], [*map(to_json, sql)], f"{print_expression(node)} over {rows}")
        if typed.type.kind == "yes_no":
            found = self.planted.admits(typed, rows, MOMENT)
            self.assertEqual([one is True for one in python], found, f"{print_expression(node)} over {rows}")

    def test_behind_a_fence(self) -> None:
        """A derived field too large to be written out reads what is worked out for everybody at once, and so may the
        condition around it."""
        large = " + ".join(["sum(plots.area)", *["0"] * 200])
        scope = self.planted.house.scope
        derived = create_derived(scope, DerivedInput(label="Much", formula=large))
        self.addCleanup(delete_field, scope, derived, "Much")
        world = read_catalogue(scope).world("person")
        typed = check("much > 1 and count(plots) + plot_length > 2", world).typed
        assert typed is not None
        blank = dict.fromkeys((*strategies.NAMES, "crops"))
        rows = [blank | {"plot_length": Decimal(1), "plots": ({**dict.fromkeys(strategies.PLOT), "area": Decimal(one)},) * many}
                for one, many in ((1, 1), (1, 2), (2, 1), (2, 2))]  # fmt: skip
        self.assertEqual(self.planted.admits(typed, rows, MOMENT), [False, True, False, True])
        for unit in self.planted.planting(rows):
            source = source_of(unit.session, unit.definitions, typed.names, MOMENT, over=[typed])
            query = str(select(source.id).select_from(source.table).where(compile_sql(typed, source.columns, MOMENT)))
            self.assertEqual(query.count("count(*)"), 1, "asked once, and not again beyond the fence")

    def test_white_space_is_the_same_set(self) -> None:
        """All of Unicode's white space is trimmed in both, and what only looks like it in neither."""
        typed = checked("trim(name)").typed
        assert typed is not None
        for name, trimmed in ((f"{WHITE}a b{WHITE}", "a b"), (WHITE, None), ("\u200ba\u180e", "\u200ba\u180e")):
            row = {**ROW, "name": name}
            self.assertEqual((compile_python(typed)(row, MOMENT), by_sql(typed, WORLD, row)), (trimmed, trimmed))

    def test_every_operation_runs_in_sql(self) -> None:
        """The SQL meanings are complete, but for what Python is asked for, and nothing else is there."""
        self.assertEqual(compiler.HANDLED, OPERATIONS - PYTHON_ONLY)

    def test_what_sql_cannot_say_is_said(self) -> None:
        """An operation without SQL meaning raises with its place, and is never approximated."""
        unknown = Typed("matches", Type("yes_no"), Span(3, 9))
        with self.assertRaises(NotCompilable) as caught:
            compile_sql(unknown, {}, MOMENT)
        self.assertEqual(caught.exception.span, Span(3, 9))

    def test_nothing_typed_becomes_sql(self) -> None:
        """Texts go as bound parameters, whatever they hold."""
        typed = checked('name = "x\'; DROP TABLE person; --"').typed
        assert typed is not None
        columns = {key: bound(ROW.get(key), type_.kind) for key, type_ in NAMES.items()}
        self.assertNotIn("DROP", str(compile_sql(typed, columns, MOMENT)))
        self.assertIs(by_sql(typed, WORLD, ROW), False)

    def test_deep_formulas_stay_small(self) -> None:
        """The SQL of nested operations grows in a line with their number, not with a power of it."""

        def size(text: str) -> int:
            typed = checked(text).typed
            assert typed is not None
            columns = {key: bound(ROW.get(key), type_.kind) for key, type_ in NAMES.items()}
            return len(str(compile_sql(typed, columns, MOMENT)))

        for part in (" + 1", " * 2"):
            self.assertLess(size("plot_length" + part * 60), 4 * size("plot_length" + part * 20))
        self.assertLess(size("born" + " + 1" * 60), 4 * size("born" + " + 1" * 20))
        nested = "round(" * 30 + "plot_length / 2" + ", 1)" * 30
        self.assertLess(size(nested), 30 * size("round(plot_length / 2, 1)"))

    def test_the_longest_formulas_run(self) -> None:
        """The limits of the language hold in both back ends: 500 parts, 64 levels."""
        for text in (
            "plot_length" + " + 1" * 249,
            "plot_length" + " / 1" * 249,
            "born" + " + 1" * 249,
            "round(" * 63 + "plot_length / 7" + ", 1)" * 63,
            "if(member, " * 63 + "1" + ", 2)" * 63,
            "not " * 63 + "member",
            " or ".join(["unsure"] * 395),
            " else ".join(["depth"] * 360 + ["1"]),
        ):
            typed = checked(text).typed
            assert typed is not None, text[:40]
            with self.subTest(text[:30]):
                self.assertEqual(to_json(by_sql(typed, WORLD, ROW)), to_json(value_of(text)))
