"""Reading the fields: how filled, how spread, how it came about; and everything that is found wrong or wasteful."""

import unittest
from datetime import UTC, datetime, timedelta
from decimal import Decimal

from finesieve.core.commerce.shop import Shop
from finesieve.core.reasoning.findings import FINDINGS
from finesieve.services.commerce.setting_up import set_up_shop
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.deletion import delete_field
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.memberships import MembershipInput, create_membership, set_tags
from finesieve.services.define.options import OptionInput, change_options
from finesieve.services.define.record_types import RecordTypeInput, create_record_type, put_away_record_type
from finesieve.services.filling.mapping import allow_mapping, change_mapping
from finesieve.services.filling.signup import PublicForms
from finesieve.services.forms.composing import (
    FormTexts,
    QuestionInput,
    add_question,
    change_form_texts,
    change_question,
)
from finesieve.services.forms.forms import create_form, publish_form, read_draft
from finesieve.services.pages.editing import create_page, publish_page, read_page_view, save_page
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment
from finesieve.services.transfer.exports import values_as_csv
from finesieve.services.upkeep.readings import compare_fields, find_all, read_values_of
from finesieve.services.values.house import set_house_value
from tests.support.database import store
from tests.support.house import NOW, House, make_house
from tests.support.shop import SHOP
from tests.support.site import Office
from tests.support.work import later


def wasteful() -> House:
    """A house in which each finding can be made, once at least."""
    house = make_house()
    scope, group = house.scope, house.group_id()
    for n in range(60):
        house.add(favourite=("Kale", "Leek")[n % 2], zone="north")
    create_field(scope, group, FieldInput(label="Date of birth", type_key="date"))
    create_field(scope, group, FieldInput(label="Phone number", type_key="phone"))
    create_field(scope, group, FieldInput(label="Length plot", type_key="number"))
    create_field(scope, group, FieldInput(label="Age", type_key="number"))
    for n in (1, 2):
        create_field(scope, group, FieldInput(label=f"Bed {n}", type_key="short_text"))
    created = create_field(
        scope, group, FieldInput(label="Way", type_key="choice", options="A\nB", settings={"default": "a"})
    )
    change_options(scope, created, [OptionInput(was="b", label="B", value="b")])
    create_field(scope, group, FieldInput(label="Member until", type_key="date"))
    create_field(scope, group, FieldInput(label="Active", type_key="yes_no"))
    create_field(scope, group, FieldInput(label="Came", type_key="datetime"))
    for day in range(1, 13):
        house.add(came=datetime(2026, 1, day, 9, tzinfo=UTC))
    create_membership(scope, "list", MembershipInput(name="Nobody’s"))
    nobody = create_membership(scope, "level", MembershipInput(name="Nobody’s level"))
    hive = create_record_type(scope, RecordTypeInput(singular="Hive", plural="Hives"))
    lost = create_record_type(scope, RecordTypeInput(singular="Shed", plural="Sheds"))
    about_hives = read_catalogue(scope).groups_about(f"record:{hive}")[0].id
    create_field(scope, about_hives, FieldInput(label="Hive name", type_key="short_text"))
    create_field(scope, group, FieldInput(label="Own shed", type_key="record", settings={"record_type": lost}))
    put_away_record_type(scope, lost, "Sheds")
    house_group = create_group(scope, GroupInput(name="The house", about="house"))
    link = create_field(scope, house_group, FieldInput(label="Swap link", type_key="url"))
    set_house_value(scope, link, "https://swap.example")
    set_house_value(scope, link, "")
    set_up_shop(scope, Shop.model_validate(SHOP | {"rates": SHOP["rates"][:1]}))
    create_membership(scope, "list", MembershipInput(name="Almanac letter"))
    create_field(scope, group, FieldInput(label="Letter joined on", type_key="date"))
    create_field(scope, house_group, FieldInput(label="Favourite seed", type_key="short_text"))
    open_form = create_form(scope, "Open")
    add_question(scope, open_form, read_draft(scope, open_form).revision, house.field_id("favourite"))
    change_mapping(scope, open_form, "", {house.field_id("favourite"): "favourite_seed"})
    allow_mapping(scope, open_form, "", allowed=True)
    publish_form(scope, open_form, read_draft(scope, open_form).revision)
    for title in ("Join", "Swap"):
        form = create_form(scope, title)
        change_form_texts(
            scope, form, read_draft(scope, form).revision,
            FormTexts(title=title, intro="See https://swap.example/april or {house.swap_link}."),
        )  # fmt: skip
    add_question(scope, form, read_draft(scope, form).revision, house.field_id("born"))
    add_question(scope, form, read_draft(scope, form).revision, house.field_id("swaps_seed"))
    rule = QuestionInput(show_when="swaps_seed")
    change_question(scope, form, read_draft(scope, form).revision, "q2", rule)
    for n, rule in enumerate(("swaps_seed and not swaps_seed", "swaps_seed is blank or swaps_seed is filled")):
        key = ("plot_length", "bed_1")[n]
        add_question(scope, form, read_draft(scope, form).revision, house.field_id(key))
        change_question(scope, form, read_draft(scope, form).revision, f"q{n + 4}", QuestionInput(show_when=rule))
    add_question(scope, form, read_draft(scope, form).revision, house.field_id("bed_2"))
    unreachable = QuestionInput(show_when="bed_2 is filled and not swaps_seed")
    change_question(scope, form, read_draft(scope, form).revision, "q6", QuestionInput(show_when="swaps_seed"))
    add_question(scope, form, read_draft(scope, form).revision, house.field_id("favourite"))
    change_question(scope, form, read_draft(scope, form).revision, "q7", unreachable)
    segment = create_segment(scope, "North")
    change_segment(scope, segment, 1, SegmentInput(name="North", expression='zone = "north"'))
    options = [OptionInput(was=z, label=z, value=z, retired=z == "north") for z in ("north", "hill", "south")]
    change_options(scope, house.field_id("zone"), options)
    create_derived(scope, DerivedInput(label="Area", formula="plot_width * 2", group_id=group))
    delete_field(scope, house.field_id("plot_width"), "Plot width")
    for title, more in (("Your year", {}), ("For nobody", {"audience": "levels", "levels": [nobody]})):
        page = create_page(scope, title)
        document = {
            "title": title,
            "blocks": [{"text": "Dear {first_name}, {count(hives)} {favourite else 'seed'}"}],
            **more,
        }
        save_page(scope, page, read_page_view(scope, page).revision, document)
        publish_page(scope, page)
    for n, tag in enumerate(("bed-dug", "bed-marked", "bed-dug", "bed-marked")):
        set_tags(scope, house.add(favourite="Kale"), tag + (", helper" if n else ""))
    return house


class Findings(unittest.TestCase):
    def test_each_is_found_and_leads_to_a_page_that_is_there(self) -> None:
        house = wasteful()
        found = find_all(house.scope)
        self.assertEqual(set(FINDINGS) - {one.code for one in found}, set())
        pages = [one.message for one in found if one.code.startswith("page-")]
        self.assertEqual(
            pages,
            [
                "Nobody can see the page For nobody: it is for no one who is here.",
                "On the page Your year, First name is blank for 100 % of those who read it.",
            ],
        )
        office = Office(house)
        for one in {one.code: one for one in found}.values():
            with self.subTest(one.code):
                self.assertTrue(one.message.endswith((".", "”", "?")), one.message)
                self.assertIn(office.get(one.path).status_code, (200, 303), one.path)
        self.assertEqual(office.get("define/findings").status_code, 200)
        house.add(came=datetime(2026, 1, 20, 14, tzinfo=UTC))
        self.assertNotIn("time-unused", {one.code for one in find_all(house.scope)})

    def test_what_does_not_work_is_found_wherever_it_stands(self) -> None:
        """A formula, a segment, a rule and a text that name a deleted field, each with the page that mends it."""
        house = make_house()
        scope, key = house.scope, "plot_length"
        area = create_derived(scope, DerivedInput(label="Area", formula=f"{key} * 2", group_id=house.group_id()))
        segment = create_segment(scope, "Long")
        change_segment(scope, segment, 1, SegmentInput(name="Long", expression=f"{key} > 3"))
        form = create_form(scope, "Join")
        for asked in (key, "born"):
            add_question(scope, form, read_draft(scope, form).revision, house.field_id(asked))
        rule = QuestionInput(show_when=f"{key} > 3")
        change_question(scope, form, read_draft(scope, form).revision, "q3", rule)
        self.assertNotIn("broken", {one.code for one in find_all(scope)})
        delete_field(scope, house.field_id(key), "Plot length")
        broken = [one for one in find_all(scope) if one.code == "broken"]
        self.assertEqual({one.path for one in broken}, {f"compute/{area}", f"sift/{segment}", f"collect/{form}"})
        self.assertTrue(all("was deleted" in one.message for one in broken))

    def test_nothing_is_found_where_all_is_well(self) -> None:
        house = make_house(fields=False)
        form = create_form(house.scope, "Join")
        for key in ("first_name", "last_name", "phone"):
            add_question(house.scope, form, read_draft(house.scope, form).revision, house.field_id(key))
        self.assertEqual(find_all(house.scope), ())


class Reading(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope

    def test_numbers_by_hand(self) -> None:
        """Quartiles, and what lies far from the rest, as worked out on paper."""
        people = [self.house.add(plot_length=Decimal(n)) for n in (2, 4, 4, 5, 6, 7, 8, 9, 100)]
        self.house.add()
        reading = read_values_of(self.scope, self.house.field_id("plot_length"))
        self.assertEqual((reading.filled, reading.everyone), (9, 10))
        self.assertEqual(reading.spread_words, ("2 m", "4 m", "6 m", "8 m", "100 m"))
        self.assertEqual([(row_id, shown) for row_id, _, shown in reading.outliers], [(people[-1], "100 m")])
        self.assertEqual(sum(reading.spread.bars), 9)  # type: ignore[union-attr]

    def test_choices_and_months(self) -> None:
        """How many gave each answer; how many were filled at the end of each month, from the history."""
        for zone, days in (("north", 40), ("north", 0), ("hill", 0)):
            later(self.house, NOW - timedelta(days=days)).add(zone=zone)
        reading = read_values_of(self.scope, self.house.field_id("zone"))
        self.assertEqual(reading.answers, (("North", 2), ("Hill", 1)))
        self.assertEqual([count for _, count in reading.months[-3:]], [0, 1, 3][-3:])
        self.assertEqual(reading.months[-1][0], "2026-11")
        self.assertEqual(reading.last_change, NOW)

    def test_blanks_by_form_and_version(self) -> None:
        """Of each version that asks it, how many sent it without an answer; those that do not are not there."""
        field, form = self.house.field_id("zone"), create_form(self.scope, "Join us")
        public = PublicForms(store(), lambda: NOW, "s")

        def do(change, *rest) -> None:  # type: ignore[no-untyped-def]
            change(self.scope, form, read_draft(self.scope, form).revision, *rest)

        def send(name: str, zone: str = "") -> None:
            token = public.open(self.house.slug, "join-us").token
            answers = {"q1": f"{name}@x.example", **({"q2": zone} if zone else {})}
            public.send(self.house.slug, "join-us", token, answers, frozenset({"q1", "q2"}))

        do(publish_form)
        send("ash")
        do(add_question, field)
        do(publish_form)
        for name, zone in (("wren", "north"), ("bea", ""), ("cyd", "hill")):
            send(name, zone)
        self.assertEqual(read_values_of(self.scope, field).blanks, ((form, "Join us", 2, 3, 1),))
        do(change_form_texts, FormTexts(title="Join"))
        do(publish_form)
        send("dee")
        self.assertEqual(read_values_of(self.scope, field).blanks, ((form, "Join", 3, 1, 1), (form, "Join", 2, 3, 1)))

    def test_all_side_by_side(self) -> None:
        """How many are filled and how many differ; 2 and 2.0 are one number, Kale and kale are two texts."""
        self.house.add(zone="north", favourite="Kale", plot_length=Decimal("2"))
        self.house.add(zone="hill", favourite="kale", plot_length=Decimal("2.0"))
        self.house.add(zone="hill", favourite="Kale")
        compared, people = compare_fields(self.scope)
        lines = {line.field.key: line for line in compared}
        zone = lines["zone"]
        self.assertEqual((people, zone.filled, zone.distinct, zone.asked, zone.used), (3, 3, 2, 0, 0))
        self.assertEqual((lines["favourite"].filled, lines["favourite"].distinct), (3, 2))
        self.assertEqual((lines["plot_length"].filled, lines["plot_length"].distinct), (2, 1))

    def test_values_as_a_file(self) -> None:
        """One line a person, nothing that a spreadsheet would run."""
        self.house.add(email="wren@hedgerow.example", favourite="=1+1")
        name, text = values_as_csv(self.scope, self.house.field_id("favourite"))
        self.assertTrue(name.endswith(".csv"))
        self.assertIn("wren@hedgerow.example", text)
        self.assertIn("'=1+1", text)


if __name__ == "__main__":
    unittest.main()
