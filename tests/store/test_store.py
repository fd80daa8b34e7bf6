"""Migrations, walls between workspaces, errors, columns made at run time."""

import unittest
from concurrent.futures import ThreadPoolExecutor
from contextlib import nullcontext, suppress
from datetime import UTC, datetime
from decimal import Decimal
from time import sleep
from unittest.mock import patch

from sqlalchemy import create_engine, func, inspect, text
from sqlalchemy.exc import OperationalError
from sqlmodel import Session, select

from finesieve.core.errors import Conflict, FineSieveError, InvalidInput, NotFound, Unavailable
from finesieve.core.language.evaluator import Moment
from finesieve.core.sieve.meshes import Tray, trays
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.fields import FieldInput, change_field, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.kernel.searching import tend
from finesieve.services.people.listing import Listing, save_view
from finesieve.services.people.records import add_linked_record
from finesieve.store import tables
from finesieve.store.connection.database import Store, apart, connect, one_reading
from finesieve.store.definitions import catalogue
from finesieve.store.definitions.catalogue import load_definitions
from finesieve.store.language import sources
from finesieve.store.migrate import downgrade, migrate
from finesieve.store.reading.people import (
    Blanks,
    Order,
    _people_query,
    blank_count,
    count_verdicts,
    count_where,
    page_of_people,
)
from finesieve.store.reading.searching import contains_word, tend_searches
from finesieve.store.steps import is_current
from finesieve.store.values.bulk import copy_guarded, copy_people
from tests.support.database import database_url, store
from tests.support.house import House, make_house
from tests.support.statements import asked_of

_WORKSPACE = (
    "INSERT INTO workspace (slug, name, description, zone, language, currency, country, catalogue_version, created_at) "
    "VALUES (:slug, 'House', '', 'UTC', 'en_GB', 'GBP', 'GB', 1, now())"
)
_FORM = (
    "INSERT INTO form (id, workspace_id, slug, channel, draft, revision, published, created_at) "
    "VALUES (:w, :w, 'join', 'sign-up', '{}', 1, 1, now())"
)
_SUBMISSION = (
    "INSERT INTO submission (workspace_id, form_id, version, key, person_id, state, answers, records, charges, received_at) "
    "VALUES (:w, :w, 1, :key, 7, :state, '{}', '[]', '[]', now())"
)
_ADDRESS = (
    "INSERT INTO email_change (workspace_id, form_id, person_id, old, new, confirmed_old, confirmed_new, state, at) "
    "VALUES (:w, :w, 7, 'o@x.example', 'n@x.example', :yes, false, :state, now())"
)


class Migrations(unittest.TestCase):
    def setUp(self) -> None:
        self.admin = create_engine(database_url(), isolation_level="AUTOCOMMIT")
        self.name = "finesieve_migrations"
        with self.admin.connect() as connection:
            connection.execute(text(f"DROP DATABASE IF EXISTS {self.name}"))
            connection.execute(text(f"CREATE DATABASE {self.name}"))
        self.engine = connect(self.admin.url.set(database=self.name).render_as_string(hide_password=False))

    def tearDown(self) -> None:
        self.engine.dispose()
        with self.admin.connect() as connection:
            connection.execute(text(f"DROP DATABASE {self.name}"))
        self.admin.dispose()

    def things(self) -> set[str]:
        """Names of all tables, functions and types of ours."""
        query = text(
            "SELECT relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE nspname IN ('public', 'finesieve') "
            "UNION SELECT proname FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE nspname IN ('public', 'finesieve')"
        )
        with self.engine.connect() as connection:
            return set(connection.execute(query).scalars())

    def test_up_down_and_up_again(self) -> None:
        """Every step can be taken back without a trace, and taken anew."""
        self.assertFalse(is_current(self.engine))
        self.assertFalse(Store(self.engine).health().ready)
        migrate(self.engine)
        self.assertTrue(Store(self.engine).health().ready)
        everything = self.things()
        self.assertIn("procrastinate_jobs", everything)
        downgrade(self.engine)
        self.assertEqual(self.things() - {"alembic_version", "alembic_version_pkc"}, set())
        migrate(self.engine)
        self.assertEqual(self.things(), everything)

    def test_what_waited_before_waits_on(self) -> None:
        """Held answers and new addresses of two workspaces become decisions, with what became of them; and back."""
        migrate(self.engine, "0008")
        held = ("held", "stored", "applied", "set_aside")
        with self.engine.begin() as connection:
            for number in (1, 2):
                connection.execute(text(_WORKSPACE), {"slug": f"w{number}"})
                connection.execute(text("SELECT set_config('finesieve.workspace', :w, true)"), {"w": str(number)})
                connection.execute(text(_FORM), {"w": number})
                for place, state in enumerate(held):
                    connection.execute(text(_SUBMISSION), {"w": number, "key": f"k{place}", "state": state})
                for state, confirmed in (("waiting", True), ("done", True), ("refused", False)):
                    connection.execute(text(_ADDRESS), {"w": number, "state": state, "yes": confirmed})

        def found(workspace: int, query: str) -> list[tuple[object, ...]]:
            with self.engine.begin() as connection:
                connection.execute(text("SELECT set_config('finesieve.workspace', :w, true)"), {"w": str(workspace)})
                return [tuple(row) for row in connection.execute(text(query))]

        migrate(self.engine)
        for workspace in (1, 2):
            self.assertEqual(
                found(workspace, "SELECT kind, state, asked ->> 'new', asked -> 'confirmed' FROM decision ORDER BY id"),
                [
                    ("known_email", "waiting", None, None), ("known_email", "applied", None, None),
                    ("known_email", "refused", None, None), ("new_address", "waiting", "n@x.example", ["old"]),
                    ("new_address", "applied", "n@x.example", ["old"]), ("new_address", "refused", "n@x.example", []),
                ],
            )  # fmt: skip
            states = found(workspace, "SELECT state FROM submission ORDER BY id")
            self.assertEqual([row[0] for row in states], ["held", "stored", "held", "held"])
        downgrade(self.engine, "0008")
        for workspace in (1, 2):
            states = found(workspace, "SELECT state FROM submission ORDER BY id")
            self.assertEqual([row[0] for row in states], list(held))
            addresses = found(workspace, "SELECT state, confirmed_old, confirmed_new FROM email_change ORDER BY id")
            self.assertEqual(addresses, [("waiting", True, False), ("done", True, False), ("refused", False, False)])

    def test_bulk_changes_of_before_count_once_each(self) -> None:
        """Two that were there before a bulk change had a key of its own; each has one now."""
        migrate(self.engine, "0013")
        made = "INSERT INTO bulk_change (workspace_id, what, applied, at) VALUES (1, '{}', true, now())"
        with self.engine.begin() as connection:
            connection.execute(text(_WORKSPACE), {"slug": "w"})
            connection.execute(text("SELECT set_config('finesieve.workspace', '1', true)"))
            for _ in range(2):
                connection.execute(text(made))
        migrate(self.engine)
        with self.engine.begin() as connection:
            connection.execute(text("SELECT set_config('finesieve.workspace', '1', true)"))
            keys = connection.execute(text("SELECT once FROM bulk_change WHERE people = 0")).scalars().all()
        self.assertEqual((len(keys), len(set(keys))), (2, 2))

    def test_the_models_are_what_the_migrations_made(self) -> None:
        """Each model's columns stand in its table, with the same nullability."""
        migrate(self.engine)
        found = inspect(self.engine)
        for table in tables.SQLModel.metadata.tables.values():
            columns = {column["name"]: column["nullable"] for column in found.get_columns(table.name)}
            self.assertEqual(columns, {column.name: column.nullable for column in table.columns}, table.name)

    def test_an_unreachable_database_is_not_ready(self) -> None:
        """No exception, just no."""
        self.assertFalse(Store(connect("postgresql://nobody@127.0.0.1:1/none")).health().ready)


class Walls(unittest.TestCase):
    def test_no_row_of_another_workspace_is_seen(self) -> None:
        """Row-level security hides each guarded table's rows from other workspaces, and from no workspace."""
        mine, other = make_house(), make_house()
        mine.add()
        with store().transaction(other.scope.workspace_id) as session:
            seen = session.exec(select(tables.FieldRow.workspace_id)).all()
            self.assertEqual(set(seen), {other.scope.workspace_id})
            self.assertEqual(session.exec(select(tables.History)).all(), [])
        with store().transaction() as session:
            for table in tables.GUARDED:
                self.assertEqual(session.execute(text(f"SELECT count(*) FROM {table}")).scalar_one(), 0, table)

    def test_no_row_can_be_written_into_another_workspace(self) -> None:
        """The wall holds for writing too."""
        mine, other = make_house(), make_house()
        with self.assertRaises(FineSieveError), store().transaction(other.scope.workspace_id) as session:
            session.add(tables.Segment(workspace_id=mine.scope.workspace_id, name="smuggled", key="smuggled"))

    def test_every_workspace_table_is_guarded(self) -> None:
        """A new table with a workspace_id must stand behind the wall; only memberships are read before entering."""
        with_workspace = {
            table.name for table in tables.SQLModel.metadata.tables.values() if "workspace_id" in table.columns
        }
        self.assertEqual(with_workspace - {"membership"}, set(tables.GUARDED))
        with store().engine.connect() as connection:
            forced = connection.execute(text("SELECT relname FROM pg_class WHERE relforcerowsecurity")).scalars()
            self.assertEqual(set(forced), set(tables.GUARDED))
            superuser = connection.execute(
                text("SELECT rolsuper FROM pg_roles WHERE rolname = current_user")
            ).scalar_one()
            self.assertFalse(superuser)


class OneReading(unittest.TestCase):
    """What a request reads in one transaction; what fails in it, and what does not belong to it."""

    def setUp(self) -> None:
        self.house, self.other = make_house(), make_house()
        for _ in range(3):
            self.house.add()
        self.other.add()

    def people(self, house: House) -> int:
        with house.scope.reading("reader") as unit:
            return int(unit.session.execute(select(func.count()).select_from(unit.definitions.person)).scalar_one())

    def test_shared_until_somebody_writes(self) -> None:
        with one_reading(), asked_of(store().engine) as asked:
            self.assertEqual([self.people(self.house) for _ in range(3)], [3] * 3)
            self.assertEqual(asked.transactions, 1)
            self.house.add()
            self.assertEqual(self.people(self.house), 4)
            self.assertEqual(asked.transactions, 3)

    def test_a_failure_inside_leaves_the_rest_as_it_is(self) -> None:
        """An error of ours costs nothing; after one of the database, reading goes on, behind the same wall."""
        with one_reading() as reading, self.house.scope.reading("reader") as unit:
            with self.assertRaises(NotFound), self.house.scope.reading("reader"):
                raise NotFound("not here")
            for _ in range(2):
                with self.assertRaises(FineSieveError), self.house.scope.reading("reader") as inner:
                    inner.session.execute(text("SELECT 1 / 0"))
                self.assertEqual(self.people(self.house), 3)
                fields = unit.session.execute(text("SELECT count(DISTINCT workspace_id) FROM field")).scalar_one()
                self.assertEqual(fields, 1)
            self.assertTrue(reading.is_open)

    def test_a_server_that_goes_down(self) -> None:
        """What can not even be rolled back is let go of; what is read next is read over another connection."""
        killed = text("SELECT pg_terminate_backend(pg_backend_pid())")
        gone = OperationalError("ROLLBACK", None, Exception("server closed the connection unexpectedly"))
        with one_reading():
            with patch.object(Session, "rollback", side_effect=gone), patch.object(Session, "close", side_effect=gone):
                for within in (nullcontext, apart):
                    with (
                        self.assertRaises(Unavailable),
                        self.house.scope.reading("reader") as unit,
                        within(unit.session),  # type: ignore[operator]  # both take a session
                    ):
                        unit.session.execute(killed)
            self.assertEqual(self.people(self.house), 3)
        with one_reading() as reading:
            self.assertEqual(self.people(self.house), 3)
            with patch.object(Session, "close", side_effect=gone):
                reading.end()
            self.assertFalse(reading.is_open)
        # A part that may fail by itself takes the connection along; what goes on without it learns of that.
        with self.assertRaises(Unavailable), self.house.scope.transaction("reader") as unit:
            with suppress(FineSieveError), apart(unit.session):
                unit.session.execute(killed)
            unit.session.execute(text("SELECT 1"))

    def test_another_workspace_stays_apart(self) -> None:
        """Read in the midst of reading, or after it, each sees its own rows and no other's."""
        count = text("SELECT array_agg(DISTINCT workspace_id) FROM field")
        mine, theirs = self.house.scope.workspace_id, self.other.scope.workspace_id
        with one_reading():
            with self.house.scope.reading("reader") as unit:
                self.assertEqual(self.people(self.other), 1)
                with self.other.scope.reading("reader") as inner:
                    self.assertEqual(inner.session.execute(count).scalar_one(), [theirs])
                self.assertEqual(unit.session.execute(count).scalar_one(), [mine])
            with self.other.scope.reading("reader") as unit:
                self.assertEqual(unit.session.execute(count).scalar_one(), [theirs])

    def test_a_command_within_a_command(self) -> None:
        """Is a part of it: what it did goes with the whole, and by itself where only it fails."""
        scope = self.house.scope
        with self.assertRaises(Conflict), scope.transaction("editor"):
            create_group(scope, GroupInput(name="Gone"))
            raise Conflict("no")
        with scope.transaction("editor"):
            create_group(scope, GroupInput(name="Kept"))
            with self.assertRaises(InvalidInput), scope.transaction("editor"):
                create_group(scope, GroupInput(name="Half"))
                raise InvalidInput({"": "no"})
            self.assertEqual([group.name for group in read_catalogue(scope).groups][-1], "Kept")
        self.assertEqual([group.name for group in read_catalogue(scope).groups][-1], "Kept")


class Errors(unittest.TestCase):
    def test_no_driver_error_leaks(self) -> None:
        """What the driver raises comes out as one of our errors."""
        house = make_house()
        for statement, expected in (
            ("INSERT INTO workspace (slug, name, zone, language, currency, country, catalogue_version, created_at) "
             f"VALUES ('{house.slug}', 'x', 'UTC', 'en_GB', 'GBP', 'GB', 1, now())", Conflict),
            ("SELECT 'x'::integer", InvalidInput),
            ("SELECT pg_sleep(1)", Unavailable),
            ("SELECT * FROM no_such_table", FineSieveError),
        ):  # fmt: skip
            with self.subTest(statement), self.assertRaises(expected), store().transaction() as session:
                session.execute(text("SET LOCAL statement_timeout = 100"))
                session.connection().exec_driver_sql(statement)
        nowhere = Store(connect("postgresql://nobody@127.0.0.1:1/none"))
        with self.assertRaises(Unavailable), nowhere.transaction() as session:
            session.execute(text("SELECT 1"))

    def test_a_busy_table_is_not_waited_for(self) -> None:
        """A new field gives up its wait for a lock soon, and changes nothing."""
        house = make_house()
        with store().transaction(house.scope.workspace_id) as session:
            definitions = load_definitions(session, house.scope.workspace_id)
            session.execute(text(f"LOCK TABLE {definitions.person.schema}.person IN SHARE MODE"))
            with self.assertRaises(Unavailable):
                create_field(house.scope, house.group_id(), FieldInput(label="Late"))
        with self.assertRaises(NotFound), store().transaction() as session:
            load_definitions(session, 0)


class Definitions(unittest.TestCase):
    def test_of_many_at_once_one_makes_them(self) -> None:
        """After a change the definitions are made once, however many come at that moment."""
        house = make_house()
        create_field(house.scope, house.group_id(), FieldInput(label="Lately added"))
        made, real = [], catalogue._load_catalogue

        def slowly(*given):  # type: ignore[no-untyped-def]
            made.append(1)
            sleep(0.2)
            return real(*given)

        def come(_: int) -> int:
            with store().transaction(house.scope.workspace_id) as session:
                return id(load_definitions(session, house.scope.workspace_id))

        catalogue._kept.clear()
        with patch.object(catalogue, "_load_catalogue", slowly), ThreadPoolExecutor(4) as crowd:
            found = set(crowd.map(come, range(4)))
        self.assertEqual((len(made), len(found)), (1, 1))


class People(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        for values in (
            {"first_name": "Wren", "zone": "north", "plot_length": Decimal(6), "plot_width": Decimal(2)},
            {"first_name": "Ödön", "zone": "hill", "plot_length": Decimal(4)},
            {"first_name": "Lis", "plot_length": Decimal(10), "plot_width": Decimal(3), "swaps_seed": True},
        ):
            self.house.add(**values)
        create_derived(self.house.scope, DerivedInput(label="Area", formula="plot_length * plot_width"))
        create_derived(self.house.scope, DerivedInput(label="Double", formula="area * 2 + area"))
        create_derived(self.house.scope, DerivedInput(label="Large", formula="double > 40 or area > 1000"))

    def test_layers_of_derived_values(self) -> None:
        """Derived values that build on one another come out of SQL as of Python."""
        with self.house.scope.transaction("reader") as unit:
            keys = ["first_name", "area", "double", "large"]
            people = page_of_people(unit.session, unit.definitions, unit.moment, keys)
            self.assertEqual([person.values["area"] for person in people], [Decimal(30), None, Decimal(12)])
            for person in people:
                stored = {key: None for key in unit.catalogue.by_key}
                with self.subTest(person.values["first_name"]):
                    self.assertEqual(set(person.values), set(keys))
                    self.assertEqual(person.values["large"], {30: True, 12: False}.get(person.values["area"]))  # type: ignore[arg-type]
                    self.assertTrue(stored)
            large = unit.catalogue.check("large").typed
            assert large is not None
            self.assertEqual(count_where(unit.session, unit.definitions, large, unit.moment), 1)
            self.assertEqual(blank_count(unit.session, unit.definitions, large, unit.moment), Blanks(3, 1, 0))
            divided = unit.catalogue.check("1 / (area - area)").typed
            assert divided is not None
            # Two have an area; theirs cannot be worked out, and it is no blank that is to blame.
            self.assertEqual(blank_count(unit.session, unit.definitions, divided, unit.moment), Blanks(3, 3, 2))

    def test_meshes_are_counted_in_one_pass(self) -> None:
        """Counts worked out by hand: passes, caught, and what would pass without each mesh."""
        with self.house.scope.transaction("reader") as unit:
            typed = [unit.catalogue.check(part).typed for part in ("plot_length > 5", "zone = 'north'")]
            counts = count_verdicts(unit.session, unit.definitions, [part for part in typed if part], unit.moment)
            everyone = count_verdicts(unit.session, unit.definitions, [], unit.moment)
        self.assertEqual(everyone, {(): 3})
        self.assertEqual(trays(counts, (0, 1)), (Tray(3, 2, 1, 1), Tray(2, 1, 0, 2)))

    def test_written_out_or_behind_a_fence(self) -> None:
        """Derived fields mean the same however large they have grown: on one another, lists, of records, in conditions."""
        scope, group = self.house.scope, self.house.group_id()
        create_derived(scope, DerivedInput(label="Twice", formula="area * 2", group_id=group))
        create_derived(scope, DerivedInput(label="Id", key="id", formula="area + 1", group_id=group))
        create_derived(scope, DerivedInput(label="Words", formula="if(twice > 30, tags, tags)", group_id=group))
        kept = create_record_type(scope, RecordTypeInput(singular="Hive", plural="Hives"))
        about = read_catalogue(scope).groups_about(f"record:{kept}")[0].id
        create_field(scope, about, FieldInput(label="Honey", type_key="number"))
        create_field(scope, about, FieldInput(label="Id", key="id", type_key="number"))
        create_derived(scope, DerivedInput(label="Jars", formula="honey * 4", group_id=about))
        create_derived(scope, DerivedInput(label="Ids", formula="sum(hives.id)", group_id=group))
        create_derived(
            scope, DerivedInput(label="Jars in all", key="all_jars", formula="sum(hives.jars)", group_id=group)
        )
        with scope.transaction("owner") as unit:
            known = unit.catalogue.record_types_by_id[kept]
            for number, person in enumerate(page_of_people(unit.session, unit.definitions, unit.moment, ["email"])):
                holders = {known.links[0].id: [person.id]}
                add_linked_record(unit, known, {"honey": Decimal(number), "id": Decimal(number * 7)}, holders, "staff")
        found = []
        for limit in (0, 3, 300):
            with patch.object(sources, "WRITTEN_OUT", limit), scope.transaction("reader") as unit:
                conditions = [unit.catalogue.check(text).typed for text in ("twice >= 60", "all_jars > 3", "large")]
                sound = [condition for condition in conditions if condition]
                keys = ["twice", "words", "all_jars", "large", "id", "ids"]
                rows = page_of_people(unit.session, unit.definitions, unit.moment, keys, meshes=sound[:1])
                counts = count_verdicts(unit.session, unit.definitions, sound, unit.moment)
                everyone = page_of_people(unit.session, unit.definitions, unit.moment, keys)
                found.append(([(row.id, dict(row.values)) for row in everyone], counts, [row.id for row in rows]))
        self.assertEqual(found[0], found[2])
        self.assertEqual(found[1], found[2])
        self.assertEqual(
            [values["all_jars"] for _, values in found[0][0]], [Decimal(number * 4) for number in range(3)]
        )
        self.assertEqual([values["ids"] for _, values in found[0][0]], [Decimal(number * 7) for number in range(3)])

    def test_derived_fields_that_double_stay_small(self) -> None:
        """However often each names the one before it, the statement grows in a line with them."""
        scope, group, below = self.house.scope, self.house.group_id(), "area"
        for number in range(14):
            create_derived(scope, DerivedInput(label=f"D{number}", formula=f"({below} + {below}) / 2", group_id=group))
            below = f"d{number}"
        with scope.transaction("reader") as unit:
            source = sources.source_of(unit.session, unit.definitions, frozenset((below,)), unit.moment)
            query = select(source.id, source.names[below]).select_from(source.table)
            self.assertLess(len(str(query.compile(unit.session.get_bind()))), 60_000)
            people = page_of_people(unit.session, unit.definitions, unit.moment, [below, "area"])
        self.assertEqual([one.values[below] for one in people], [one.values["area"] for one in people])

    def test_search_ignores_case_and_needs_every_word(self) -> None:
        """Names are found whatever the case, in whatever script, and signs of patterns mean themselves."""
        with self.house.scope.transaction("reader") as unit:
            for words, found in (
                ("wREN", 1),
                ("ÖDÖN", 1),
                ("wren hedgerow", 1),
                ("wren lis", 0),
                ("%", 0),
                ("_", 0),
                ("", 3),
            ):
                people = page_of_people(unit.session, unit.definitions, unit.moment, ["email"], search=words)
                self.assertEqual(len(people), found, words)

    def test_searching_has_its_indexes(self) -> None:
        """Made once, used, and dropped when they are wanted no more; what they find is the same."""
        scope, engine = self.house.scope, store().engine
        with scope.transaction("reader") as unit:
            definitions = unit.definitions
        self.assertEqual([tend_searches(engine, definitions), tend_searches(engine, definitions)], [3, 0])
        with scope.transaction("reader") as unit:
            unit.session.execute(text("SET LOCAL enable_seqscan = off"))
            email = unit.definitions.person.c[unit.catalogue.by_key["email"].column]
            statement = select(email).where(contains_word(email, "Hedgerow"))
            compiled = statement.compile(unit.session.get_bind(), compile_kwargs={"literal_binds": True})
            plan = "\n".join(row[0] for row in unit.session.execute(text(f"EXPLAIN {compiled}".replace(":", "\\:"))))
            self.assertIn("search_f", plan)
        favourite = self.house.field_id("favourite")
        change_field(scope, favourite, FieldInput(label="Favourite", settings={"searchable": True}))
        with scope.transaction("reader") as unit:
            definitions = unit.definitions
        self.assertEqual(tend_searches(engine, definitions), 1)
        self.test_search_ignores_case_and_needs_every_word()

    def test_sorting_has_its_indexes(self) -> None:
        """By surname, and as kept views are sorted: up and down are read off an index, and are what they were."""
        scope = self.house.scope
        group = read_catalogue(scope).groups[0].id
        create_field(scope, group, FieldInput(label="Story", type_key="long_text"))
        save_view(scope, "By length", Listing(sort="plot_length", down=True))
        # A long text does not fit into an index; one made would refuse it from then on.
        save_view(scope, "By story", Listing(sort="story"))
        self.assertEqual([tend(scope), tend(scope)], [3 + 2 * 2, 0])
        with scope.transaction("reader") as unit:
            for setting in ("enable_seqscan", "enable_sort", "enable_incremental_sort"):
                unit.session.execute(text(f"SET LOCAL {setting} = off"))
            for key in ("last_name", "plot_length"):
                kept = unit.catalogue.by_key[key]
                for down in (False, True):
                    order = Order(key, kept.value_type, down)
                    query = _people_query(
                        unit.session, unit.definitions, unit.moment, [key], "", (), "passes", None, order
                    )
                    compiled = query.compile(unit.session.get_bind(), compile_kwargs={"literal_binds": True})
                    plan = "\n".join(
                        row[0] for row in unit.session.execute(text(f"EXPLAIN {compiled}".replace(":", "\\:")))
                    )
                    self.assertIn(f"order_f{kept.id}_{kept.generation}_{'desc' if down else 'asc'}", plan)
                    self.assertNotIn("Sort", plan)

    def test_many_at_once(self) -> None:
        """COPY adds people after those there are, and the next single one follows on."""
        with self.house.scope.transaction("owner") as unit:
            rows = ((f"bulk{number}@lowfold.example", Decimal(number)) for number in range(50))
            ids = copy_people(unit.session, unit.definitions, ["email", "plot_length"], rows)
            lines = (
                (unit.workspace_id, "person", person, 1, '"x"', "import", "x", datetime(2026, 1, 1, tzinfo=UTC))
                for person in ids
            )
            columns = ["workspace_id", "about", "entity_id", "field_id", "new", "source", "actor", "at"]
            copy_guarded(unit.session, "history", columns, lines)
        self.assertEqual(len(ids), 50)
        self.assertEqual(self.house.add(), ids.stop)
        with store().transaction(self.house.scope.workspace_id) as session:
            query = select(func.count()).select_from(tables.History).where(tables.History.source == "import")
            self.assertGreaterEqual(session.exec(query).one(), 50)
        with self.assertRaises(ValueError), store().transaction() as session:
            copy_guarded(session, "staff", ["id"], [])

    def test_the_moment_is_given(self) -> None:
        """Nothing reads the database's clock: a moved clock moves the result."""
        with self.house.scope.transaction("reader") as unit:
            typed = unit.catalogue.check("today() > '2030-01-01'").typed
            assert typed is not None
            later = Moment(datetime(2031, 1, 1, tzinfo=UTC), unit.moment.zone)
            self.assertEqual(count_where(unit.session, unit.definitions, typed, unit.moment), 0)
            self.assertEqual(count_where(unit.session, unit.definitions, typed, later), 3)
