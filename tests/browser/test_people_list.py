"""The list of people in a browser: a column in two clicks, a filter as a sentence, a correction in its cell, many at once."""

import unittest
from decimal import Decimal

from selenium.webdriver.support.ui import Select

from finesieve.services.people.listing import list_views
from tests.services.test_long_work import stored
from tests.support.browser import Page
from tests.support.house import make_house


class PeopleList(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.house = make_house()
        cls.people = [
            cls.house.add(first_name=name, zone=zone, plot_length=Decimal(length))
            for name, zone, length in (("Ann", "hill", 5), ("Bea", "north", 9), ("Cyd", "hill", 7))
        ]

    def setUp(self) -> None:
        self.page = Page()
        self.page.sign_in(self.house.email)
        self.base = f"/w/{self.house.slug}/people"
        self.page.open(self.base)

    def names(self) -> list[str]:
        return [cell.text for cell in self.page.all("#people tbody td.strong")]

    def sound(self) -> None:
        self.assertEqual(self.page.violations(), [])
        self.assertEqual(self.page.complaints(), [])
        self.assertEqual(self.page.overflows(), [])

    def test_a_column_takes_two_clicks(self) -> None:
        page = self.page
        page.press("Columns", "summary")
        page.fill("[data-narrow]", "plot wid")
        page.wait(lambda: len([one for one in page.all("#column-list label") if one.is_displayed()]) == 1, "one field")
        page.press("Plot width", "#column-list label")
        page.until_text("#people thead", "Plot width")
        page.press("People", "h1")
        page.wait(lambda: not page.all("[data-panel][open]"), "the panel closed")
        self.sound()
        page.press("Plot length", "#people th a")
        page.wait(lambda: self.names() == ["Ann", "Cyd", "Bea"], "sorted by length")
        page.press("Plot length", "#people th a")
        page.wait(lambda: self.names() == ["Bea", "Cyd", "Ann"], "sorted the other way")
        page.fill("#name", "By length")
        page.press("Save view", "button")
        page.until_text(".index", "By length")
        self.assertEqual(list_views(self.house.scope)[0].listing.sort, "plot_length")

    def test_a_filter_is_a_sentence(self) -> None:
        page = self.page
        page.press("Filter", "summary")
        page.press("Only some people", "button")
        Select(page.one("[name=where_c0_key]")).select_by_visible_text("Zone")
        page.wait(lambda: page.all("[name=where_c0_value] option[value=hill]"), "the zones")
        Select(page.one("[name=where_c0_value]")).select_by_visible_text("Hill")
        page.until_text(".lead", "2 people of 3")
        self.assertEqual(self.names(), ["Cyd", "Ann"])
        page.until_text(".filter-said", "Zone is Hill")
        self.sound()

    def test_a_value_is_corrected_in_its_cell(self) -> None:
        page = self.page
        page.open(f"{self.base}?columns=favourite")
        page.press("Correct Favourite", "#people tbody tr:last-child button")
        page.fill(".cell-form input[name=v_favourite]", "Black kale")
        page.press("Save", ".cell-form button")
        page.until_text("#people tbody", "Black kale")
        self.assertEqual(stored(self.house, [self.people[0]], "favourite"), ["Black kale"])
        self.sound()

    def test_many_are_changed_and_it_is_undone(self) -> None:
        page = self.page
        page.press("all on this page", "label")
        page.choose("#what", "Add a tag")
        page.press("Change …", "button")
        page.fill("#value", "spring")
        page.press("Preview", "button")
        page.until_text("#sheet", "3 people change")
        self.sound()
        page.press("Change 3 people", "button")
        page.until_text(".said-done", "3 changed")
        self.assertEqual(stored(self.house, self.people, "tags"), [("spring",)] * 3)
        page.press("Undo", "button")
        page.wait(lambda: stored(self.house, self.people, "tags") == [()] * 3, "nobody has the tag")
