"""Record types, records, links; levels, lists, tags and families of tags."""

import unittest
from datetime import timedelta

from finesieve.core.errors import Conflict, InvalidExpression, InvalidInput, NotFound
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.memberships import (
    MembershipInput,
    create_membership,
    list_levels,
    list_tags,
    read_level,
    remove_membership,
    set_level_values,
    set_lists,
    set_person_level,
    set_tag_end,
    set_tags,
)
from finesieve.services.define.record_types import (
    LinkInput,
    RecordTypeInput,
    add_link,
    create_record_type,
    put_away_record_type,
    remove_link,
)
from finesieve.services.define.tag_families import begin_family, plan_family, tag_families
from finesieve.services.define.tagging import sweep_tags, take_tag_off
from finesieve.services.kernel.changes import undo_change
from finesieve.services.people.profiles import read_profile
from finesieve.services.people.records import (
    add_record,
    archive_record,
    change_record,
    link_record,
    list_records,
    person_records,
    read_record,
    unlink_record,
)
from tests.support.database import store
from tests.support.house import NOW, House, make_house
from tests.support.work import done


def shown(house: House, person: int, key: str) -> str:
    profile = read_profile(house.scope, person)
    return next(line.shown for _, lines in profile.groups for line in lines if line.field.key == key)


class Records(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.plots = create_record_type(self.scope, RecordTypeInput(singular="Plot", plural="Plots", symbol="▦"))
        group = next(g for g in read_catalogue(self.scope).all_groups if g.about == f"record:{self.plots}")
        for asked in (
            FieldInput(label="Length", type_key="number"),
            FieldInput(label="Width", type_key="number"),
            FieldInput(label="Soil", type_key="choice", options="Clay\nSand"),
        ):
            create_field(self.scope, group.id, asked)
        self.type = read_catalogue(self.scope).record_types_by_id[self.plots]
        self.holder = self.type.main_link.id  # type: ignore[union-attr]
        self.wren = self.house.add(first_name="Wren", last_name="Castellan")

    def plot(self, person: int = 0, **typed: str) -> int:
        values = {"name": "A1", **typed}
        return add_record(self.scope, self.plots, values, {self.holder: [person or self.wren]})

    def derived(self, label: str, formula: str, group_id: int = 0) -> None:
        create_derived(
            self.scope, DerivedInput(label=label, formula=formula, group_id=group_id or self.house.group_id())
        )

    def test_a_record_stands_on_the_profile_and_in_the_list(self) -> None:
        record = self.plot(length="6", width="2.5", soil="clay")
        link, page = person_records(self.scope, self.wren)[0]
        self.assertEqual((link.id, [line.title for line in page.lines]), (self.holder, ["A1"]))
        line = list_records(self.scope, self.plots).lines[0]
        self.assertEqual((line.id, line.holder, line.holder_id), (record, "Wren Castellan", self.wren))
        for words, found in (("a1", 1), ("A 1", 1), ("a1 b", 0), ("%", 0), ("_1", 0)):
            self.assertEqual(len(list_records(self.scope, self.plots, search=words).lines), found, words)

    def test_collections_follow_every_change_of_their_records(self) -> None:
        """Adding, correcting, linking to another, archiving: each is in the person's value, and in its history."""
        self.derived("Rented", 'sum(plots.length where soil = "clay")')
        self.derived("Largest", "max(plots.length)")
        first = self.plot(length="6", soil="clay")
        self.plot(length="9", soil="sand")
        self.assertEqual((shown(self.house, self.wren, "rented"), shown(self.house, self.wren, "largest")), ("6", "9"))
        change_record(self.scope, self.plots, first, {"length": "7"})
        self.assertEqual(shown(self.house, self.wren, "rented"), "7")
        other = self.house.add()
        link_record(self.scope, self.plots, first, self.holder, other)
        self.assertEqual((shown(self.house, self.wren, "rented"), shown(self.house, other, "rented")), ("0", "7"))
        archive_record(self.scope, self.plots, first, archived=True)
        self.assertEqual(shown(self.house, other, "rented"), "0")
        archive_record(self.scope, self.plots, first, archived=False)
        self.assertEqual(shown(self.house, other, "rented"), "7")

    def test_one_and_several(self) -> None:
        """A link that leads to one is replaced by linking anew; one that leads to several grows."""
        helper = add_link(self.scope, self.plots, LinkInput(name="Helper", back_name="Helped plots", many=True))
        self.assertTrue(helper)
        link = next(one for one in read_catalogue(self.scope).record_types_by_id[self.plots].links if one.many)
        record = self.plot()
        people = [self.house.add(), self.house.add()]
        for person in people:
            link_record(self.scope, self.plots, record, link.id, person)
            link_record(self.scope, self.plots, record, self.holder, person)
        links = {
            line.link.id: [target for target, _ in line.targets]
            for line in read_record(self.scope, self.plots, record).links
        }
        self.assertEqual((sorted(links[link.id]), links[self.holder]), (people, [people[1]]))
        unlink_record(self.scope, self.plots, record, link.id, people[0])
        with self.assertRaises(NotFound):
            unlink_record(self.scope, self.plots, record, link.id, people[0])
        with self.assertRaises(InvalidInput):
            add_record(self.scope, self.plots, {"name": "A2"}, {self.holder: people})
        with self.assertRaises(InvalidInput):
            link_record(self.scope, self.plots, record, self.holder, 999_999)

    def test_an_organisation_is_a_record_type(self) -> None:
        """Records lead to records; the other side says its own name and counts them in formulas."""
        schools = create_record_type(self.scope, RecordTypeInput(singular="School", plural="Schools", holder="Member"))
        add_link(self.scope, self.plots, LinkInput(name="School", back_name="School plots", target=f"record:{schools}"))
        link = next(
            one for one in read_catalogue(self.scope).record_types_by_id[self.plots].links if one.name == "School"
        )
        school = add_record(self.scope, schools, {"name": "Hedgerow School"}, {})
        group = next(g for g in read_catalogue(self.scope).all_groups if g.about == f"record:{schools}")
        self.derived("Its plots", f"count({link.back_key})", group.id)
        link_record(self.scope, self.plots, self.plot(), link.id, school)
        with self.assertRaises(InvalidInput):
            link_record(self.scope, self.plots, self.plot(), link.id, 999_999)
        view = read_record(self.scope, schools, school)
        self.assertEqual([line.shown for _, lines in view.groups for line in lines if line.field.derived], ["1"])

    def test_its_history(self) -> None:
        record = self.plot(length="6")
        change_record(self.scope, self.plots, record, {"length": "8"})
        archive_record(self.scope, self.plots, record, archived=True)
        told = [(line.label, line.old, line.new) for line in read_record(self.scope, self.plots, record).history]
        self.assertIn(("Length", "6", "8"), told)
        self.assertEqual(len(list_records(self.scope, self.plots).lines), 0)
        self.assertEqual(len(list_records(self.scope, self.plots, archived=True).lines), 1)

    def test_refusals_stand_at_their_field(self) -> None:
        for typed, key in (
            ({"length": "long"}, "length"),
            ({"soil": "moon"}, "soil"),
            ({"length": "1", "name": ""}, "name"),
        ):
            with self.subTest(key), self.assertRaises(InvalidInput) as caught:
                add_record(self.scope, self.plots, {"name": "A", **typed}, {})
            self.assertIn(key, caught.exception.messages)
        with self.assertRaises(InvalidExpression):
            self.derived("Wrong", "sum(plots.soil)")

    def test_a_type_put_away_comes_back(self) -> None:
        """In use it is refused; away, its records are out of sight; undone, all are back."""
        self.plot(length="6")
        with self.assertRaises(InvalidInput):
            put_away_record_type(self.scope, self.plots, "plots?")
        change = put_away_record_type(self.scope, self.plots, "Plots")
        self.assertEqual(person_records(self.scope, self.wren), ())
        undo_change(self.scope, change)
        self.assertEqual(len(person_records(self.scope, self.wren)[0][1].lines), 1)

    def test_a_link_in_use_stays(self) -> None:
        self.derived("Plots held", "count(plots)")
        with self.assertRaises(InvalidInput) as caught:
            remove_link(self.scope, self.holder)
        self.assertIn("Plots held", str(caught.exception.messages))
        added = add_link(self.scope, self.plots, LinkInput(name="Helper", back_name="Helped plots", target="person"))
        self.derived("Plots helped", "count(helped_plots)")
        with self.assertRaisesRegex(Conflict, "Plots helped"):
            undo_change(self.scope, added)


class Labels(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope

    def test_levels_have_values_and_an_order(self) -> None:
        """A rule reads a person's level and what the level says; higher is greater."""
        group = create_group(self.scope, GroupInput(name="What it brings", about="level"))
        create_field(self.scope, group, FieldInput(label="Packets", type_key="number"))
        for name in ("Sower", "Steward"):
            create_membership(self.scope, "level", MembershipInput(name=name))
        lines = {line.name: line for line in list_levels(self.scope)}
        set_level_values(self.scope, lines["Sower"].id, {"packets": "5"})
        with self.assertRaises(InvalidInput):
            set_level_values(self.scope, lines["Sower"].id, {"packets": "lots"})
        self.assertEqual(
            [line.shown for _, values in read_level(self.scope, lines["Sower"].id).groups for line in values], ["5"]
        )
        create_derived(
            self.scope, DerivedInput(label="High", formula='level >= "steward"', group_id=self.house.group_id())
        )
        person = self.house.add()
        for level, high in (("sower", "no"), ("steward", "yes")):
            set_person_level(self.scope, person, level)
            self.assertEqual(shown(self.house, person, "high"), high)
        with self.assertRaises(InvalidInput):
            set_person_level(self.scope, person, "king")

    def test_a_list_bound_field_shows_only_on_its_list(self) -> None:
        list_id = create_membership(self.scope, "list", MembershipInput(name="Growers letter"))
        create_field(
            self.scope,
            self.house.group_id(),
            FieldInput(label="Letter colour", type_key="short_text", settings={"lists": [list_id]}),
        )
        person = self.house.add()

        def keys() -> list[str]:
            return [line.field.key for _, lines in read_profile(self.scope, person).groups for line in lines]

        self.assertNotIn("letter_colour", keys())
        set_lists(self.scope, person, ["growers_letter"])
        self.assertIn("letter_colour", keys())
        with self.assertRaises(InvalidInput):
            set_lists(self.scope, person, ["nobody"])

    def test_tags_pass(self) -> None:
        """A tag is taken off everyone by hand, or the day after its last."""
        people = [self.house.add() for _ in range(3)]
        for person in people:
            set_tags(self.scope, person, "open day, open day , helper")
        self.assertEqual({tag.name: tag.people for tag in list_tags(self.scope)}, {"helper": 3, "open day": 3})
        set_tag_end(self.scope, "open day", "2026-11-26")
        sweep_tags(store(), lambda: NOW + timedelta(days=1))
        self.assertIn("open day", {tag.name for tag in list_tags(self.scope)})
        sweep_tags(store(), lambda: NOW + timedelta(days=2))
        self.assertEqual({tag.name for tag in list_tags(self.scope)}, {"helper"})
        self.assertEqual(take_tag_off(self.scope, "helper").people, 3)
        self.assertEqual(list_tags(self.scope), ())

    def test_a_family_of_tags_becomes_a_progress_field(self) -> None:
        """Found, shown, turned: everybody gets the furthest step, and the tags go if that was asked."""
        carried = ["bed-dug", "bed-marked", "bed-planted", "bed-dug, bed-planted", "bed-marked", "helper, bed-dug"]
        people = []
        for tags in carried:
            people.append(self.house.add(first_name="Wren"))
            set_tags(self.scope, people[-1], tags)
        family = tag_families(self.scope)[0]
        self.assertEqual((family.stem, family.people, family.contradictions), ("bed", 6, 1))
        order = ["bed-marked", "bed-dug", "bed-planted"]
        plan = plan_family(self.scope, "bed", order)
        self.assertEqual([count for _, _, count in plan.steps], [2, 2, 2])
        self.assertEqual(plan.torn, ((people[3], "Wren", ("bed-dug", "bed-planted"), "bed-planted"),))
        task = begin_family(self.scope, "bed", order, "Raised bed", self.house.group_id(), take_off=True)
        self.assertEqual(done(self.house, task).state, "done")
        self.assertEqual(
            [shown(self.house, person, "raised_bed") for person in people],
            ["Dug", "Marked", "Planted", "Planted", "Marked", "Dug"],
        )
        self.assertEqual({tag.name for tag in list_tags(self.scope) if tag.people}, {"helper"})

    def test_a_list_in_use_is_not_removed(self) -> None:
        list_id = create_membership(self.scope, "list", MembershipInput(name="Growers letter"))
        create_derived(
            self.scope,
            DerivedInput(label="Reads", formula='lists holds "growers_letter"', group_id=self.house.group_id()),
        )
        with self.assertRaises(InvalidInput):
            remove_membership(self.scope, "list", list_id)


if __name__ == "__main__":
    unittest.main()
