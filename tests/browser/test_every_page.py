"""Every page, empty and furnished: accessible, sound, no wider than its window, light and dark; and the keys."""

import unittest
from decimal import Decimal
from typing import Any
from unittest.mock import patch

from selenium.webdriver.common.keys import Keys

from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.deletion import delete_field
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.memberships import set_tags
from finesieve.services.define.named_checks import create_check
from finesieve.services.define.options import list_option_lists
from finesieve.services.filling.signup import PublicForms
from finesieve.services.follow_up.outbox import read_outbox
from finesieve.services.forms.cases import keep_case
from finesieve.services.forms.composing import (
    FormSettings,
    QuestionInput,
    SectionInput,
    add_question,
    add_remark,
    add_section,
    change_form_settings,
    change_question,
    change_section,
    set_phrases,
)
from finesieve.services.forms.forms import create_form, publish_form, read_draft
from finesieve.services.forms.rehearsing import Circumstances
from finesieve.services.people.profiles import set_values
from finesieve.services.people.records import add_record
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment, read_segment
from finesieve.services.values.house import set_house_value
from finesieve.store.reading import kept as keeping
from tests.support.browser import Page
from tests.support.database import store
from tests.support.everything import ANSWERS, everything
from tests.support.house import NOW, House, make_house


def furnish(house: House) -> dict[str, int]:
    """One of everything, with a held sign-up, a broken formula and a condition that cannot be said."""
    scope = house.scope
    form = create_form(scope, "Join us")
    for key in ("zone", "plot_length"):
        add_question(scope, form, read_draft(scope, form).revision, house.field_id(key))
    rule = QuestionInput(show_when='zone = "north"', checks=({"kind": "range", "low": "1", "high": "60"},))
    change_question(scope, form, read_draft(scope, form).revision, "q3", rule)
    publish_form(scope, form, read_draft(scope, form).revision)
    area = create_derived(scope, DerivedInput(label="Area", formula="plot_length * plot_width", unit="m²"))
    broken = create_derived(scope, DerivedInput(label="In the west", formula='if(zone = "south", 1, 2)'))
    nested = create_segment(scope, "Nested")
    said = (
        '(zone = "north" or not (swaps_seed or plot_width > 3)) and born <= add_years(today(), -16) and '
        "days_until(add_years(born, 18)) between 0 and 60"
    )
    change_segment(scope, nested, 1, SegmentInput(name="Nested", expression=said))
    segment = create_segment(scope, "Large plots")
    expression = 'zone in ("north", "hill") and area > 10 and age(born) > 3'
    change_segment(scope, segment, 1, SegmentInput(name="Large plots", expression=expression))
    person = house.add(
        email="wren@x.example", first_name="Wren", zone="north", plot_length=Decimal(6), plot_width=Decimal(3)
    )
    for number in range(3):
        house.add(zone=("hill", None, "north")[number], plot_length=Decimal(number))
    public = PublicForms(store(), lambda: NOW, "s")
    token = public.open(house.slug, "join-us").token
    public.send(house.slug, "join-us", token, {"q1": "wren@x.example", "q2": "hill"}, frozenset(("q1", "q2")))
    for part in ("billing", "consent_email"):
        use_part(scope, part)
    twins = [create_field(scope, house.group_id(), FieldInput(label=f"Child {n}")) for n in (1, 2)]
    found = {
        "nested": nested,
        "twin": twins[0],
        "form": form,
        "area": area,
        "broken": broken,
        "segment": segment,
        "person": person,
    }
    return found | furnish_definitions(house, person) | furnish_forms(house)


def furnish_forms(house: House) -> dict[str, int]:
    """A form of steps in two languages, with plots, a note, checks, a surcharge, a case, and a draft that fails it."""
    scope = house.scope
    plots = next(known for known in read_catalogue(scope).record_types if known.plural == "Plots")
    check = create_check(scope, "Short", {"kind": "length", "high": "9"})
    form = create_form(scope, "Rent a plot")

    def do(change: Any, *rest: Any) -> None:
        change(scope, form, read_draft(scope, form).revision, *rest)

    do(change_form_settings, FormSettings(stepped=True, challenge=True, languages=("de",)))
    for key in ("zone", "swaps_seed"):
        do(add_question, house.field_id(key))
    do(add_remark, "note", "s1")
    do(change_question, "q3", QuestionInput(surcharges=({"label": "Swap table", "amount": "3"},)))
    do(add_section, "The plots")
    do(change_section, "s2", SectionInput(title="The plots", repeat=str(plots.id), least=1, most=3, one="Plot"))
    keys = {one.key: one.id for one in read_catalogue(scope).fields_about(plots.about)}
    do(add_question, keys["name"], "s2")
    checks = ({"kind": "named", "check_id": check}, {"kind": "condition", "expression": 'name != "A1"'})
    do(change_question, "q4", QuestionInput(checks=checks))
    do(set_phrases, "de", {"Zone": "Lage"})
    do(publish_form)
    case = keep_case(scope, form, "newcomer", Circumstances(), {"q1": "a@x.example", "q2": "north", "q4.1": "B2"})
    do(change_question, "q2", QuestionInput(show_when="swaps_seed and not swaps_seed"))
    return {"rent": form, "check": check, "case": case}


def furnish_definitions(house: House, person: int) -> dict[str, int]:
    """One of everything that can be defined, with values of it, and a form that asks for all of it."""
    scope, types = house.scope, everything(house)
    catalogue = read_catalogue(scope)
    plots = next(known for known in catalogue.record_types if known.plural == "Plots")
    record = add_record(scope, plots.id, {"name": "A1", "soil": "loam"}, {plots.main_link.id: [person]})  # type: ignore[union-attr]
    everything_id = catalogue.by_id[types["number"]].group_id
    house_group = next(group for group in catalogue.all_groups if group.about == "house").id
    link = next(field.id for field in catalogue.all_fields if field.about == "house")
    sign = create_field(scope, house_group, FieldInput(label="Sign", type_key="picture"))
    set_house_value(scope, link, "https://swap.example")
    set_house_value(scope, link, "https://later.example", effective="2030-01-01T08:00")
    for number, tags in enumerate(("bed-dug", "bed-marked", "bed-dug, open day")):
        set_tags(scope, house.add(first_name=f"No. {number}"), tags)
    set_values(scope, person, {f"the_{key}": answer for key, answer in ANSWERS.items()} | {"the_record": str(record)})
    lost = create_field(scope, house.group_id(), FieldInput(label="Lost"))
    delete_field(scope, lost, "Lost")
    form = create_form(scope, "One of each")
    for field_id in types.values():
        add_question(scope, form, read_draft(scope, form).revision, field_id)
    publish_form(scope, form, read_draft(scope, form).revision)
    return {
        "plots": plots.id, "record": record, "link": link, "sign": sign, "level": catalogue.levels[0].id,
        "sizes": list_option_lists(scope)[0].id, "everything": everything_id,
        **{key: types[key] for key in ("number", "structured", "picture")},
    }  # fmt: skip


class EveryPage(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.house = make_house()
        cls.ids = furnish(cls.house)

    def setUp(self) -> None:
        self.page = Page()
        self.page.sign_in(self.house.email)

    def letter(self) -> str:
        return read_outbox(self.house.scope).letters[0].link.partition("letter=")[2]

    def pages(self) -> list[str]:
        ids, group, field = self.ids, self.house.group_id(), self.house.field_id("zone")
        office = (
            "", "find?q=plot", "find?q=nothing-such", f"define/{group}", f"define/{group}?edit=1", f"define/{group}/new", "define/groups/new",
            f"define/fields/{field}", f"collect/{ids['form']}", f"collect/{ids['form']}?q=q3", f"collect/{ids['form']}?q=q3&text=show_when",
            f"collect/{ids['form']}?texts=1", "collect/new", f"compute/{ids['area']}", "compute/new", f"sift/{ids['segment']}",
            f"sift/{ids['segment']}?as=text", f"sift/{ids['segment']}?edit=1", f"sift/{ids['segment']}/tray/1/cant_tell",
            f"sift/{ids['segment']}/tray/0/caught", "sift/new", "sift/removed", "people", "people?q=wren", "people?q=nobody",
            f"people/{ids['person']}", f"people/{ids['person']}?edit={group}", "no-such-page", "define/built-in?part=billing",
            f"people/{ids['person']}/steps/area", f"sift/{ids['nested']}", f"define/fields/{ids['twin']}/gather", "people?columns=billing_country",
            "define/new", "define/new?about=house", "define/groups/new?about=house", "define/house", f"define/house/{ids['link']}",
            f"define/house/{ids['sign']}", "define/records/new", f"define/records/{ids['plots']}", f"define/records/{ids['plots']}?edit=1",
            f"records/{ids['plots']}", f"records/{ids['plots']}/new", f"records/{ids['plots']}/{ids['record']}", "define/levels",
            f"define/levels/{ids['level']}", "define/lists", "define/tags", "define/tags/family?stem=bed", "define/tags/remove?name=bed-dug", "define/options",
            f"define/options/{ids['sizes']}", f"define/fields/{field}/options", f"define/fields/{field}/type",
            f"define/fields/{field}/type?to=number", f"define/fields/{field}/mend", f"define/fields/{field}/delete",
            f"define/fields/{ids['number']}", f"define/fields/{ids['structured']}", f"define/fields/{ids['picture']}", "define/deleted",
            "define/history", f"define/history?entity=field&of={field}", "define/findings", "define/compare", "define/picture",
            f"define/picture?field={ids['area']}", "define/file", f"define/file?field={field}", "define/starters",
            "define/starters?name=choir", "define/manner", f"define/mapping/{ids['form']}", "define/search?q=zone",
            f"define/{ids['everything']}", f"people/{ids['person']}?edit={ids['everything']}", "compute/new?about=house",
            "collect/checks", "collect/checks?kind=date", f"collect/checks?check={ids['check']}", "follow-up/outbox",
            *(f"collect/{ids['rent']}{rest}" for rest in (
                "", "?q=s1", "?q=s2", "?q=t1", "?q=q2", "?q=q4&text=check1_expression", "/rehearse", f"/rehearse?person={ids['person']}",
                f"/rehearse?case={ids['case']}", "/grid", "/grid?axis=q3&axis=q2", "/languages", "/versions", "/publish")),
        )  # fmt: skip
        join = f"/join/{self.house.slug}/join-us"
        return [f"/w/{self.house.slug}/{rest}" for rest in office] + [
            "/workspaces",
            join,
            f"{join}/thanks",
            f"{join}/confirm?letter={self.letter()}",
            f"/join/{self.house.slug}/rent-a-plot",
            f"/join/{self.house.slug}/one-of-each",
            "/no-such-page",
        ]

    def test_accessible_and_sound(self) -> None:
        """axe finds nothing on any page, the console says nothing, and nothing runs out of 1280 or of 390 pixels."""
        page = self.page
        for address in self.pages():
            with self.subTest(address):
                page.resize(1280, 800)
                page.open(address)
                self.assertEqual(page.violations(), [])
                self.assertEqual(page.overflows(), [])
                page.resize(390, 844)
                self.assertEqual(page.overflows(), [])
                self.assertEqual([words for words in page.complaints() if "status of 404" not in words], [])

    def test_estimates_first_exact_figures_after(self) -> None:
        """Where counting takes long, the page says that it estimates, and then has the figures themselves."""
        page = self.page
        note = "estimates for the moment"
        with patch.object(keeping, "SMALL", -2), patch.object(keeping, "QUICK", 1e-9):
            for rest in ("people", f"sift/{self.ids['segment']}", f"define/fields/{self.house.field_id('zone')}"):
                self.house.add()
                page.open(f"/w/{self.house.slug}/{rest}")
                page.wait(lambda: page.all("h1") and note not in page.text("#sheet"), f"exact figures of {rest}")
                self.assertEqual(page.violations(), [])
                self.assertEqual(page.complaints(), [])
            page.until_text("#sheet", "Zone")

    def test_dark(self) -> None:
        """The dark scheme has contrast enough too."""
        page = self.page
        try:
            dark = {"features": [{"name": "prefers-color-scheme", "value": "dark"}]}
            page.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", dark)
            for rest in (
                "",
                f"define/{self.house.group_id()}",
                f"collect/{self.ids['form']}?q=q3",
                f"compute/{self.ids['area']}",
                f"sift/{self.ids['segment']}",
            ):
                page.open(f"/w/{self.house.slug}/{rest}")
                self.assertEqual(page.violations(), [])
            page.open(f"/join/{self.house.slug}/join-us")
            self.assertEqual(page.violations(), [])
        finally:
            page.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": []})

    def test_keys(self) -> None:
        """The whole office can be driven by the keys it promises."""
        page = self.page
        page.open(f"/w/{self.house.slug}/define/{self.house.group_id()}")
        page.keys("?")
        page.until_text("#keys", "search and jump to anything")
        page.keys(Keys.ESCAPE)
        page.keys("j", "j", "k", Keys.ENTER)
        page.until_text("h1", "Email")
        page.keys("/")
        page.keys("large")
        page.until_text("#found", "Large plots")
        page.keys(Keys.TAB, Keys.ENTER)
        page.until_text("h1", "Large plots")
        page.keys("e")
        page.fill("#name", "Larger plots" + Keys.ENTER)
        page.until_text("h1", "Larger plots")
        page.keys("u")
        page.until_text("h1", "Large plots")
        page.keys("n")
        page.wait(lambda: len(page.all(".mesh-row")) == 4, "a fourth condition")
        page.keys(".")
        self.assertEqual(page.driver.switch_to.active_element.text, "Rename")

    def test_two_people_at_once(self) -> None:
        """Of two specialists on one page, the second is told, and nothing is overwritten."""
        page = self.page
        page.open(f"/w/{self.house.slug}/sift/{self.ids['segment']}?edit=1")
        colleague = self.house.as_role("editor", "Corin Yeo")
        view = read_segment(colleague, self.ids["segment"])
        asked = SegmentInput(name="Plots of Corin", expression=view.expression)
        change_segment(colleague, view.id, view.revision, asked)
        try:
            page.fill("#name", "Plots of Maud" + Keys.ENTER)
            page.until_text(".overtaken", "Corin Yeo has changed this meanwhile")
            page.until_text(".overtaken", "Large plots became Plots of Corin")
            self.assertEqual(page.one("#name").get_attribute("value"), "Plots of Maud")
            self.assertEqual(read_segment(colleague, view.id).name, "Plots of Corin")
        finally:
            view = read_segment(colleague, view.id)
            change_segment(
                colleague, view.id, view.revision, SegmentInput(name="Large plots", expression=view.expression)
            )

    def test_what_breaks_says_so_at_its_place(self) -> None:
        """A formula whose option has gone is blank, marked wherever it stands, and can be mended."""
        house = make_house()
        ids = furnish(house)
        with store().transaction(house.scope.workspace_id) as session:
            from finesieve.store.definitions.catalogue import touch
            from finesieve.store.tables import FieldRow

            row = session.get(FieldRow, house.field_id("zone"))
            assert row is not None
            # Past the guard of the service, as an import or a later version might.
            row.options = [{"label": one, "value": one.lower()} for one in ("North", "Hill", "West")]
            session.add(row)
            touch(session, house.scope.workspace_id)
        page = self.page
        page.driver.delete_all_cookies()
        page.sign_in(house.email)
        page.until_text(".margin", "In the west cannot be worked out")
        page.press("Mend the formula")
        page.until_text("#preview", "zone has no option “south”")
        self.assertEqual(page.violations(), [])
        page.fill("#formula", 'if(zone = "west", 1, 2)')
        page.until_text("#preview", "Gives a number")
        page.press("Save")
        page.until_text(".index", "number")
        self.assertNotIn("broken", page.text(".index"))
        self.assertTrue(ids)

    def test_options_in_use(self) -> None:
        """An option that people hold cannot be taken away, and what was typed stays to be mended."""
        page = self.page
        page.open(f"/w/{self.house.slug}/define/fields/{self.house.field_id('zone')}/options")
        page.fill("[name=o_0_label]", "North end")
        page.press("Remove Hill")
        page.until_text(".problem", "1 person holds “Hill”")
        self.assertEqual(page.one("[name=o_0_label]").get_attribute("value"), "North end")
