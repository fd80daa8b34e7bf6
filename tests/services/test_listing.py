"""The list of people: columns, filter, order, views; many changed at once, stopped, killed and taken back."""

import unittest
from concurrent.futures import ThreadPoolExecutor
from datetime import date
from decimal import Decimal
from unittest.mock import patch

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.deletion import delete_field
from finesieve.services.define.fields import FieldInput, change_field, create_field
from finesieve.services.define.groups import GroupInput, create_group
from finesieve.services.define.memberships import MembershipInput, create_membership, set_tags
from finesieve.services.kernel.changes import undo_change
from finesieve.services.kernel.tasks import TaskLine
from finesieve.services.people import bulk
from finesieve.services.people.bulk import BulkInput, Chosen, change_in_bulk, plan_bulk
from finesieve.services.people.listing import Listing, list_people, list_views, read_view, remove_view, save_view
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.store.tables import Task
from tests.services.test_long_work import Killed, saying, stored, told
from tests.support.house import make_house
from tests.support.work import done


class Looking(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        for name, zone, length in (("Åsa", "hill", 5), ("bea", "north", None), ("Cyd", None, 7), ("Dan", "south", 5)):
            self.house.add(first_name=name, zone=zone, plot_length=None if length is None else Decimal(length))

    def names(self, **how: object) -> list[str]:
        return [line.name for line in list_people(self.scope, Listing.model_validate(how)).lines]

    def test_columns_are_those_chosen_in_that_order(self) -> None:
        page = list_people(self.scope, Listing(columns=("zone", "plot_length", "nowhere", "email")))
        self.assertEqual([field.key for field in page.columns], ["zone", "plot_length", "email"])
        self.assertEqual(page.lines[0].cells[:2], ("South", "5 m"))

    def test_sorted_as_people_sort_names_blanks_last(self) -> None:
        self.assertEqual(self.names(sort="first_name"), ["Åsa", "bea", "Cyd", "Dan"])
        self.assertEqual(self.names(sort="first_name", down=True), ["Dan", "Cyd", "bea", "Åsa"])
        self.assertEqual(self.names(sort="plot_length"), ["Dan", "Åsa", "Cyd", "bea"])
        self.assertEqual(self.names(sort="plot_length", down=True), ["Cyd", "Dan", "Åsa", "bea"])
        self.assertEqual(self.names(sort="tags"), self.names())

    def test_options_are_sorted_in_their_order(self) -> None:
        order = [
            option.stored_value for option in list_people(self.scope, Listing(columns=("zone",))).columns[0].options
        ]
        zones = {"Åsa": "hill", "bea": "north", "Dan": "south"}
        expected = sorted(zones, key=lambda name: order.index(zones[name]))
        self.assertEqual(self.names(sort="zone"), [*expected, "Cyd"])

    def test_filtered_and_counted(self) -> None:
        page = list_people(self.scope, Listing(where="plot_length = 5"))
        self.assertEqual(([line.name for line in page.lines], page.matching, page.everyone), (["Dan", "Åsa"], 2, 4))
        wrong = list_people(self.scope, Listing(where="plot_lenght = 5"))
        self.assertEqual((wrong.lines, wrong.problems[0].hint), ((), "plot_length"))

    def test_what_only_editors_see_is_no_column_filter_or_order_of_others(self) -> None:
        hidden = create_group(self.scope, GroupInput(name="Money", about="person", seen_by="editors"))
        create_field(self.scope, hidden, FieldInput(label="Debt", type_key="number"))
        reader = self.house.as_role("reader")
        for scope, sees in ((self.scope, True), (reader, False)):
            page = list_people(scope, Listing(columns=("debt", "zone"), sort="debt", where="debt is blank"))
            self.assertEqual("debt" in [field.key for field in page.columns], sees)
            self.assertEqual(bool(page.problems), not sees)
            self.assertEqual(bool(list_people(scope, Listing(sort="debt"), limit=1).after), sees)

    @settings(max_examples=20, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(
        st.sampled_from(["first_name", "plot_length", "zone", "born", "swaps_seed", "area"]), st.booleans(), st.data()
    )
    def test_pages_go_through_all_once(self, sort: str, down: bool, data: st.DataObject) -> None:
        """Whatever it is sorted by, the pages together are the list, each person once and in that order."""
        house = getattr(type(self), "_many", None)
        if house is None:
            house = type(self)._many = make_house()  # type: ignore[attr-defined]
            create_derived(house.scope, DerivedInput(label="Area", formula="plot_length * 2"))
            for number in range(23):
                house.add(
                    first_name=["Ann", "ann", "Bo", None, "Éva"][number % 5], zone=["hill", None, "north"][number % 3],
                    plot_length=None if number % 4 == 0 else Decimal(number % 6), swaps_seed=[True, False, None][number % 3],
                    born=None if number % 7 == 0 else date(1980, 1, 1 + number % 9),
                )  # fmt: skip
        limit = data.draw(st.integers(1, 9))
        listing, after, seen = Listing(sort=sort, down=down), "", []
        while True:
            page = list_people(house.scope, listing, after=after, limit=limit)
            seen += [line.id for line in page.lines]
            after = page.after
            if not after:
                break
        whole = [line.id for line in list_people(house.scope, listing, limit=100).lines]
        self.assertEqual((seen, len(set(seen))), (whole, 23))

    def test_a_cursor_that_is_none_begins_at_the_start(self) -> None:
        for after in ("x", "eyJ4IjoxfQ", "WyJ4Iiwx", "W251bGwsIG51bGxd"):
            page = list_people(self.scope, Listing(sort="plot_length"), after=after)
            self.assertEqual(len(page.lines), 4, after)


class Views(unittest.TestCase):
    def test_kept_changed_and_taken_back(self) -> None:
        scope = make_house().scope
        listing = Listing(columns=("zone",), where="zone is filled", sort="zone", down=True)
        view, change = save_view(scope, "On the hill", listing)
        self.assertEqual(
            (read_view(scope, view).listing, [one.name for one in list_views(scope)]), (listing, ["On the hill"])
        )
        with self.assertRaises(InvalidInput):
            save_view(scope, "on the HILL", listing)
        with self.assertRaises(InvalidInput):
            save_view(scope, "Broken", Listing(where="zon is filled"))
        save_view(scope, "On the hill", Listing(), view)
        self.assertEqual(read_view(scope, view).listing, Listing())
        removed = remove_view(scope, view)
        with self.assertRaises(NotFound):
            read_view(scope, view)
        undo_change(scope, removed)
        self.assertEqual(read_view(scope, view).name, "On the hill")
        self.assertTrue(change)


class Bulk(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        zones = ("hill", "north", None, "hill", "south")
        self.people = [self.house.add(first_name=f"P{n}", zone=zone) for n, zone in enumerate(zones)]
        self.everybody = Chosen(listing=Listing())
        patcher = patch.object(bulk, "AT_ONCE", 1_000)
        patcher.start()
        self.addCleanup(patcher.stop)

    def zones(self) -> list[object]:
        return stored(self.house, self.people, "zone")

    def wish(self, value: str = "hill") -> BulkInput:
        return BulkInput(what="set", field=self.house.field_id("zone"), value=value)

    def test_looked_at_done_and_undone(self) -> None:
        plan = plan_bulk(self.scope, self.everybody, self.wish())
        self.assertEqual((plan.looked_at, plan.changes, plan.same, plan.more), (5, 3, 2, False))
        self.assertIn((self.people[1], "P1", "North", "Hill"), plan.samples)
        before = self.zones()
        did = change_in_bulk(self.scope, self.everybody, self.wish())
        self.assertEqual((did.people, self.zones()), (3, ["hill"] * 5))
        self.assertIn(("Zone", "North", "Hill"), [line[:3] for line in told(self.house, self.people[1])])
        set_values(self.scope, self.people[4], {"zone": "north"})
        undo_change(self.scope, did.change)
        self.assertEqual(self.zones(), [*before[:4], "north"])
        undo_change(self.scope, did.change, again=True)
        self.assertEqual(self.zones(), [*["hill"] * 4, "north"])

    def test_only_those_chosen(self) -> None:
        change_in_bulk(self.scope, Chosen((self.people[1], 999_999)), self.wish())
        self.assertEqual(self.zones(), ["hill", "hill", None, "hill", "south"])
        change_in_bulk(self.scope, Chosen(listing=Listing(where='zone = "south"')), self.wish("north"))
        self.assertEqual(self.zones()[4], "north")

    def test_tags_lists_and_levels(self) -> None:
        create_membership(self.scope, "list", MembershipInput(name="Almanac"))
        create_membership(self.scope, "level", MembershipInput(name="Sower"))
        done_ = [
            change_in_bulk(self.scope, self.everybody, BulkInput(what=what, value=value))  # type: ignore[arg-type]
            for what, value in (("put_on", "spring"), ("join", "almanac"), ("level", "sower"))
        ]
        held = read_profile(self.scope, self.people[0]).memberships
        self.assertEqual((held.tags, held.lists, held.level), (("spring",), ("almanac",), "sower"))
        for one in reversed(done_):
            undo_change(self.scope, one.change)
        held = read_profile(self.scope, self.people[0]).memberships
        self.assertEqual((held.tags, held.lists, held.level), ((), (), ""))

    def test_what_will_not_do_is_said_first(self) -> None:
        create_field(
            self.scope,
            self.house.group_id(),
            FieldInput(label="Code", type_key="short_text", settings={"unique": True}),
        )
        for asked, place in (
            (self.wish("nowhere"), "value"), (self.wish(""), "value"),
            (BulkInput(what="set", field=self.house.field_id("email"), value="a@b.example"), "field"),
            (BulkInput(what="clear", field=self.house.field_id("code")), "field"),
            (BulkInput(what="set", field=999_999, value="x"), "field"),
            (BulkInput(what="join", value="nowhere"), "value"), (BulkInput(what="put_on", value=" "), "value"),
        ):  # fmt: skip
            with self.subTest(asked.what, field=asked.field), self.assertRaises(InvalidInput) as caught:
                change_in_bulk(self.scope, self.everybody, asked)
            self.assertEqual([*caught.exception.messages], [place])
        with self.assertRaises(NotAllowed):
            change_in_bulk(self.house.as_role("clerk"), self.everybody, self.wish())

    def test_who_may_not_have_it_keeps_what_they_have(self) -> None:
        once = FieldInput(label="Zone", settings={"change_by": "once"})
        change_field(self.scope, self.house.field_id("zone"), once)
        plan = plan_bulk(self.scope, self.everybody, self.wish())
        self.assertEqual((plan.changes, plan.same, len(plan.refused)), (1, 2, 2))
        change_in_bulk(self.scope, self.everybody, self.wish())
        self.assertEqual(self.zones(), ["hill", "north", "hill", "hill", "south"])

    def test_many_by_a_task_killed_stopped_and_undone(self) -> None:
        """Batch by batch; a killed worker's work goes on; stopped, all is as it was; undo is a task too."""
        before = self.zones()
        with patch.object(bulk, "AT_ONCE", 2):
            task = change_in_bulk(self.scope, self.everybody, self.wish()).task
            with saying(None, Killed()), self.assertRaises(Killed):
                done(self.house, task)
            line = done(self.house, task)
            self.assertEqual((line.state, self.zones()), ("done", ["hill"] * 5), line.message)
            self.assertEqual(done(self.house, task).result["change"], line.result["change"])
            undo_change(self.scope, line.result["change"])
            with saying(None, bulk.Stopped("stopped")):
                self.assertEqual(self.last_task().state, "stopped")
            self.assertEqual(self.zones(), ["hill"] * 5)
            undo_change(self.scope, line.result["change"])
            self.assertEqual((self.last_task().state, self.zones()), ("done", before))
            other = change_in_bulk(self.scope, self.everybody, self.wish("north")).task
            with saying(None, bulk.Stopped("stopped")):
                done(self.house, other)
            self.assertEqual(self.zones(), before)

    def last_task(self) -> TaskLine:
        with self.scope.transaction("owner") as unit:
            newest = unit.session.exec(select(Task.id).order_by(col(Task.id).desc())).first()
        return done(self.house, newest or 0)

    def test_a_field_that_goes_meanwhile_ends_it(self) -> None:
        with patch.object(bulk, "AT_ONCE", 2):
            task = change_in_bulk(self.scope, self.everybody, self.wish()).task
            with saying(None, Killed()), self.assertRaises(Killed):
                done(self.house, task)
            change = delete_field(self.scope, self.house.field_id("zone"), "Zone")
            self.assertEqual(done(self.house, task).state, "failed")
        undo_change(self.scope, change)
        self.assertEqual(self.zones()[0], "hill")
        self.assertIn(("Zone", "Hill"), [(line[0], line[2]) for line in told(self.house, self.people[1])])

    def test_sent_twice_it_counts_once(self) -> None:
        """A double click, one after the other or at one moment: both get the change that can be undone."""
        first = change_in_bulk(self.scope, self.everybody, self.wish(), "key")
        self.assertEqual(change_in_bulk(self.scope, self.everybody, self.wish(), "key"), first)
        with ThreadPoolExecutor(4) as pool:
            done_ = list(
                pool.map(lambda _: change_in_bulk(self.scope, self.everybody, self.wish("north"), "two"), range(4))
            )
        self.assertEqual((len(set(done_)), done_[0].people), (1, 5))
        self.assertEqual(change_in_bulk(self.scope, self.everybody, self.wish("north")).change, 0)

    def test_a_tag_that_one_has_already_stays_where_it_is(self) -> None:
        set_tags(self.scope, self.people[0], "spring, helper")
        plan = plan_bulk(self.scope, Chosen((self.people[0],)), BulkInput(what="put_on", value="spring"))
        self.assertEqual((plan.changes, plan.same), (0, 1))
