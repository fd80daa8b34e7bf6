"""The whole work, once, by hand in a real browser: from an empty workspace to a segment's CSV.

Every figure it sees is compared with one worked out here by hand.
"""

import csv
import io
import os
import unittest
import urllib.request
from datetime import date

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from finesieve.services.accounts.staff import StaffAccounts
from tests.support.browser import Page, address
from tests.support.database import store
from tests.support.house import NOW, PASSWORD

# Who signs up, as typed: email, zone, length, width, born, swaps. Length and width are asked in the
# north and on the hill only, so Dell's are never asked. The areas: 12.5 × 4 = 50, 6 × 2.5 = 15,
# 20 × 3 = 60; Fern leaves the width out, so hers is blank; Dell's and Gale's are blank too.
PEOPLE = (
    ("alder@hedgerow.example", "North", "12.5", "4", "1984-05-27", "Yes"),
    ("briar@hedgerow.example", "North", "6", "2.5", "2012-11-26", "Yes"),
    ("clem@hedgerow.example", "Hill", "20", "3", "1990-02-28", "No"),
    ("dell@hedgerow.example", "South", None, None, "1975-01-01", "Yes"),
    ("fern@hedgerow.example", "Hill", "20", "", "", "Yes"),
    ("gale@hedgerow.example", "", None, None, "", ""),
)


class Journey(unittest.TestCase):
    def setUp(self) -> None:
        self.page = Page()
        self.house = f"Test House {os.getpid()}"
        self.email = f"journey{os.getpid()}@brackenfold.example"
        StaffAccounts(store(), lambda: NOW, fast_hashes=True).add_staff(self.email, "Maud Ellery", PASSWORD)

    def sound(self) -> None:
        """Nothing on this page is inaccessible, broken or wider than the window."""
        self.assertEqual(self.page.violations(), [])
        self.assertEqual(self.page.complaints(), [])
        self.assertEqual(self.page.overflows(), [])

    def test_from_an_empty_workspace_to_a_segment(self) -> None:
        self.make_workspace()
        self.define()
        self.collect()
        self.sign_up()
        self.compute()
        self.look_at_people()
        self.sift()
        self.look_at_the_bench()

    def make_workspace(self) -> None:
        page = self.page
        page.open("/")
        page.fill("#email", self.email)
        page.fill("#password", "not the password")
        page.press("Sign in", "button.quiet")
        page.until_text("[role=alert]", "do not belong together")
        self.sound()
        page.fill("#password", PASSWORD + Keys.ENTER)
        page.until_text("main", "You belong to no workspace yet")
        self.sound()
        page.fill("#name", self.house)
        page.fill("#zone", "Europe/London")
        page.press("Make the workspace")
        page.until_text("#sheet", "The order of the work")
        self.sound()
        self.base = page.driver.current_url.removeprefix(address())

    def define(self) -> None:
        page = self.page
        page.press("Define", ".stages a")
        for built_in in ("Email", "First name", "Last name", "Signed up on"):
            page.until_text("#sheet", built_in)
        page.press("New group", ".plus")
        self.sound()
        page.fill("#name", "Plot and growing" + Keys.ENTER)
        page.until_text("#sheet", "Nothing is kept in this group yet")
        self.sound()
        page.press("Make the first field")
        self.sound()
        # Nothing typed is lost by a mistake.
        page.fill("#label", "Zone")
        page.fill("#key", "between")
        page.press("One choice", ".type-card")
        page.fill("#options", "North\nHill\nSouth")
        page.press("Create the field")
        page.until_text("#key-problem", "word of the expression language")
        self.assertEqual(page.one("#options").get_attribute("value"), "North\nHill\nSouth")
        page.fill("#key", "")
        page.press("Create the field")
        page.until_text("#sheet", "North · Hill · South")
        for label, type_label, unit in (
            ("Plot width", "Number", "m"), ("Plot length", "Number", "m"), ("Born", "Date", ""), ("Swaps seed", "Yes or no", ""),
            ("Nickname", "Short text", ""),
        ):  # fmt: skip
            page.keys("n")
            page.fill("#label", label)
            page.press(type_label, ".type-card")
            if unit:
                page.fill("#unit", unit)
            page.press("Create the field")
            page.until_text("#sheet", label)
        self.assertEqual(self.order(), ["Zone", "Plot width", "Plot length", "Born", "Swaps seed", "Nickname"])
        self.sound()
        # Reordered by keyboard, by mouse, and taken back.
        page.driver.find_element(By.CSS_SELECTOR, "[aria-label='Move Plot length up']").send_keys(Keys.ENTER)
        page.wait(lambda: self.order()[1:3] == ["Plot length", "Plot width"], "the new order")
        page.drag("tr:nth-child(6) .dots", "tr:nth-child(1)")
        page.wait(lambda: self.order()[-1] != "Nickname", "the dragged order")
        page.keys("u")
        page.until_text(".note.done", "Taken back")
        self.assertEqual(self.order(), ["Zone", "Plot length", "Plot width", "Born", "Swaps seed", "Nickname"])
        # Edited: the label of an option changes, its stored value does not.
        page.press("Zone", "td a")
        page.press("Change them")
        page.fill("[name=o_0_label]", "North end")
        page.press("Save the options")
        page.until_text(".note.done", "Saved")
        self.assertEqual(page.one("[name=o_0_value]").get_attribute("value"), "north")
        self.sound()
        page.press("Undo")
        page.until_text(".note.done", "Taken back")
        self.assertEqual(page.one("[name=o_0_label]").get_attribute("value"), "North")

    def order(self) -> list[str]:
        return [cell.text for cell in self.page.all("tbody td.strong")]

    def collect(self) -> None:
        page = self.page
        page.press("Collect", ".stages a")
        self.sound()
        page.fill("#title", "Join us" + Keys.ENTER)
        page.until_text("#sheet", "A draft; nobody sees it yet")
        for label in ("Zone", "Plot length", "Plot width", "Born", "Swaps seed"):
            page.press("Ask in", ".ask-panel > summary")
            page.fill("#ask-label", label + Keys.ENTER)
            page.until_text(".questions", label)
        self.sound()
        # Length: shown in the north or on the hill, between 0.5 and 60; set as a sentence, saved on leaving.
        self.rule("Plot length", ["North", "Hill"])
        page.choose("#new_check", "Between two bounds")
        page.press("Add a check")
        page.fill("#check0_low", "0.5" + Keys.TAB)
        page.until_text("#sheet .on .question-notes", "at least 0.5 m")
        page.fill("#check0_high", "60" + Keys.TAB)
        page.until_text("#sheet .on .question-notes", "Must be between 0.5 and 60 m")
        self.sound()
        # Width: the same rule, this time as text, with a mistake first.
        page.press("Plot width", ".question-label")
        page.until_text(".settings-form", "Plot width")
        page.press("as text", ".flip")
        page.one("#show_when").send_keys('zon in ("north", "hill")' + Keys.TAB)
        page.until_text("#show_when-problems", "No field is called zon. Nearest: zone.")
        self.sound()
        page.fill("#show_when", 'zone in ("north", "hill")' + Keys.TAB)
        page.until_text("#sheet .on .question-notes", "Shows when Zone is one of North, Hill")
        page.press("as a sentence", ".flip")
        page.until_text("#rule", "North, Hill")
        page.press("Publish version 1")
        page.until_text("#sheet", "This is the first version")
        self.sound()
        page.press("Publish version 1", ".publish-now button")
        page.until_text(".note.done", "Version 1 is in force")
        self.sound()
        self.public = page.one(".lead a").get_attribute("href") or ""

    def rule(self, question: str, options: list[str]) -> None:
        page = self.page
        page.press(question, ".question-label")
        page.until_text(".settings-form", question)
        page.press("Only under a condition")
        page.choose("[name=show_when_c0_key]", "Zone")
        page.wait(lambda: "is one of" in page.text("[name=show_when_c0_relation]"), "the relations of a choice")
        page.choose("[name=show_when_c0_relation]", "is one of")
        page.until_text("#rule", "Choose what to compare with")
        page.one(".pick summary").click()
        for option in options:
            page.press(option, ".pick-list label")
        page.keys(Keys.ESCAPE)
        page.until_text("#sheet .on .question-notes", f"Shows when Zone is one of {', '.join(options)}")

    def sign_up(self) -> None:
        page = self.page
        page.resize(390, 800)
        self.mistakes_on_the_way()
        for email, zone, length, width, born, swaps in PEOPLE:
            page.open(self.public)
            page.fill("#q1", email)
            if zone:
                page.press(zone, "#question-q2 label")
            if length is not None and width is not None:
                page.fill("#q3", length)
                page.fill("#q4", width)
            if born:
                day = date.fromisoformat(born)
                page.one("#q5").send_keys(  # month first: the browser speaks American
                    f"{day.month:02}{day.day:02}{day.year:04}"
                )
            if swaps:
                page.press(swaps, "#question-q6 label")
            page.press("Send", "button.send")
            page.until_text("h1", "Thank you")
        page.resize(1280, 800)

    def mistakes_on_the_way(self) -> None:
        """Questions come and go, errors come when a question is left, nothing typed is lost."""
        page = self.page
        page.open(self.public)
        self.sound()
        self.assertEqual(page.all("#q3"), [])
        page.fill("#q1", "alder")
        page.keys(Keys.TAB)
        page.until_text("#q1-problem", "not a complete email address")
        page.press("North", ".chips label")
        page.one("#q3").send_keys("61" + Keys.TAB)
        page.until_text("#q3-problem", "This must be between 0.5 and 60 m.")
        self.sound()
        page.press("South", ".chips label")
        page.wait(lambda: not page.all("#q3"), "the length to go")
        page.press("Hill", ".chips label")
        self.assertEqual(page.one("#q1").get_attribute("value"), "alder")
        self.assertEqual(page.one("#q3").get_attribute("value"), "61")
        page.fill("#q3", "7")
        page.press("Send", "button.send")
        page.until_text(".summary", "One answer needs another look")
        self.assertEqual(page.one("#q3").get_attribute("value"), "7")
        self.assertTrue(page.all(".chips input[value=hill]")[0].is_selected())
        self.sound()

    def compute(self) -> None:
        page = self.page
        page.open(self.base)
        page.press("Compute", ".stages a")
        page.until_text("#sheet", "New derived field")
        self.sound()
        page.fill("#label", "Plot area")
        page.fill("#unit", "m²")
        page.editor("#formula").send_keys("plot_le")
        page.until_text(".formula-words", "Plot length: number")
        page.editor("#formula").send_keys(Keys.ENTER, " * plot_wdith")
        page.until_text("#preview", "No field is called plot_wdith. Nearest: plot_width.")
        page.until_text(".cm-lintRange-error", "plot_wdith")
        self.assertEqual(page.text(".f-field"), "plot_length")
        self.sound()
        page.press("use plot_width")
        page.until_text("#preview", "Gives a number")
        # Newest first: Clem 20 × 3, Briar 6 × 2.5, Alder 12.5 × 4; then one who cannot be worked out.
        results = [cell.text for cell in page.all(".samples td:last-child")]
        self.assertEqual(results, ["60 m²", "15 m²", "50 m²", "blank"])
        self.assertIn("20 * 3", page.text(".samples"))
        page.until_text("#preview", "3 of 6 people would be blank")
        page.press("Save")
        page.until_text(".index", "Plot area")
        self.sound()
        # A second that builds on the first, and a circle that is refused.
        page.press("New derived field", ".plus")
        page.fill("#label", "Large")
        page.editor("#formula").send_keys("plot_area >= 50")
        page.until_text("#preview", "Gives a yes/no")
        page.press("Save")
        page.until_text(".index", "Large")
        page.press("Plot area", ".index a")
        page.fill("#formula", "if(large, 1, 2)")
        page.until_text("#preview", "Plot area → Large → Plot area")
        page.press("Save")
        page.until_text("#preview", "Plot area → Large → Plot area")
        page.open(page.driver.current_url)
        self.assertEqual(page.one("#formula").get_attribute("value"), "plot_length * plot_width")

    def look_at_people(self) -> None:
        page = self.page
        page.press("People", ".right a")
        page.until_text("#sheet", "6 people in all")
        self.sound()
        page.fill("#q", "CLEM")
        page.wait(lambda: len(page.all("#people tbody tr")) == 1, "one found")
        page.press("clem@hedgerow.example", "#people td a")
        page.until_text("h1", "clem@hedgerow.example")
        values = page.text("#sheet")
        for words in (
            "Zone Hill",
            "Plot length 20 m",
            "Plot area 60 m² = 20 * 3",
            "Large yes = 60 >= 50",
            "Born 28 Feb 1990",
            "Nickname blank",
        ):
            self.assertIn(words, values)
        self.sound()
        # Corrected, with its history, the derived value following.
        page.press("Correct Plot and growing")
        page.fill("#v_plot_width", "2")
        page.press("Save")
        page.until_text("#sheet", "40 m² = 20 * 2")
        page.press("history", "tr:has(th) a")
        page.open(page.driver.current_url.split("?")[0] + "?history=plot_width")
        rows = [row.text for row in page.all(".history tbody tr")]
        self.assertEqual(len(rows), 2)
        self.assertIn("Plot width 3 m 2 m staff, Maud Ellery", rows[0])
        self.assertIn("Plot width blank 3 m form: Join us", rows[1])
        page.press("Correct Plot and growing")
        page.fill("#v_plot_width", "three")
        page.press("Save")
        page.until_text("#v_plot_width-problem", "Write a number in digits")
        self.sound()
        page.fill("#v_plot_width", "3")
        page.press("Save")
        page.until_text("#sheet", "60 m² = 20 * 3")

    def sift(self) -> None:
        page = self.page
        page.press("Sift", ".stages a")
        self.sound()
        page.fill("#name", "Swappers with room" + Keys.ENTER)
        page.until_text("#passing", "6 people")
        self.sound()
        # Zone is one of North, Hill: Alder, Briar, Clem, Fern pass; Dell is caught; Gale can't be told.
        self.add_condition(0, "Zone", "is one of")
        page.until_text("#sheet", "Not counted yet")
        page.one(".pick summary").click()
        page.press("North", ".pick-list label")
        page.press("Hill", ".pick-list label")
        page.one("h1").click()
        page.until_text("#passing", "4 people")
        # Plot area more than 20: Alder 50 and Clem 60 pass; Briar 15 is caught; Fern can't be told.
        self.add_condition(1, "Plot area", "is more than")
        page.one("[name=c1_value]").send_keys("20" + Keys.TAB)
        page.until_text("#passing", "2 people")
        # Swaps seed: Alder passes, Clem is caught.
        self.add_condition(2, "Swaps seed", "is yes")
        page.until_text("#passing", "1 person")
        labels = [tray.get_attribute("aria-label") for tray in page.all(".tray")]
        self.assertEqual(labels, [
            "6 reach this mesh: 4 pass, 1 are caught, 1 can’t be told",
            "4 reach this mesh: 2 pass, 1 are caught, 1 can’t be told",
            "2 reach this mesh: 1 pass, 1 are caught, 0 can’t be told",
        ])  # fmt: skip
        widths = [float(rect.get_attribute("width") or 0) for rect in page.all(".tray .part")]
        self.assertEqual([round(width / (670 / 6)) for width in widths], [4, 1, 1, 2, 1, 1, 1, 1])
        self.sound()
        # Without the zone: Alder only, as before; without the area: Alder, Briar, Fern; without swapping: Alder, Clem.
        page.until_text(".margin", "Mesh 2 costs the most alone")
        page.until_text(".margin", "Without it 3 people would pass, 2 more.")
        page.until_text(".margin", "2 people can’t be told")
        self.assertIn("alder@hedgerow.example", page.text(".people"))
        self.assertIn("50 m²", page.text(".people"))
        self.trays_and_text()

    def add_condition(self, place: int, field: str, relation: str) -> None:
        page = self.page
        page.press("Add a condition")
        page.choose(f"[name=c{place}_key]", field)
        page.wait(lambda: relation in page.text(f"[name=c{place}_relation]"), f"the relations of {field}")
        page.choose(f"[name=c{place}_relation]", relation)

    def trays_and_text(self) -> None:
        page = self.page
        here = page.driver.current_url
        page.driver.find_element(By.CSS_SELECTOR, ".tray:first-of-type a[aria-label*='can’t tell']").click()
        page.until_text("h1", "Can’t tell yet")
        self.assertEqual([cell.text for cell in page.all(".people td.strong")], ["gale@hedgerow.example"])
        self.sound()
        page.open(here)
        # The order of the meshes changes what each costs, not who passes.
        page.driver.find_element(By.CSS_SELECTOR, "[aria-label='Move condition 3 up']").send_keys(Keys.ENTER)
        page.wait(
            lambda: "4 reach this mesh: 3 pass" in (page.all(".tray")[1].get_attribute("aria-label") or ""),
            "the other order",
        )
        page.until_text("#passing", "1 person")
        page.press("Undo")
        page.wait(
            lambda: "4 reach this mesh: 2 pass" in (page.all(".tray")[1].get_attribute("aria-label") or ""),
            "the first order",
        )
        page.drag(".mesh-row:nth-child(3) [data-grip]", ".mesh-row:nth-child(2) [data-grip]")
        page.wait(
            lambda: "4 reach this mesh: 3 pass" in (page.all(".tray")[1].get_attribute("aria-label") or ""),
            "the dragged order",
        )
        self.sound()
        page.press("Undo")
        page.wait(
            lambda: "4 reach this mesh: 2 pass" in (page.all(".tray")[1].get_attribute("aria-label") or ""),
            "the first order again",
        )
        page.press("Text", ".tools a")
        text = page.one("#expression").get_attribute("value")
        self.assertEqual(text, 'zone in ("north", "hill") and plot_area > 20 and swaps_seed')
        page.fill("#expression", "plot_aera > 20")
        page.press("Save and count")
        page.until_text("#expression-problems", "No field is called plot_aera")
        self.sound()
        page.press("use plot_area")
        page.press("Save and count")
        page.until_text("#passing", "2 people")
        page.keys("u")
        page.until_text("#passing", "1 person")
        self.export()

    def export(self) -> None:
        page = self.page
        page.press("Export", "a")
        page.until_text("h1", "Take them along")
        self.sound()
        link = f"{page.driver.current_url.rpartition('?')[0] or page.driver.current_url}.csv"
        cookie = page.driver.get_cookie("finesieve_session")
        assert cookie is not None
        request = urllib.request.Request(link, headers={"Cookie": f"finesieve_session={cookie['value']}"})
        with urllib.request.urlopen(request) as answer:
            rows = list(csv.DictReader(io.StringIO(answer.read().decode())))
        self.assertEqual(len(rows), 1)
        wanted = {"email": "alder@hedgerow.example", "zone": "north", "plot_length": "12.5", "plot_width": "4", "born": "1984-05-27",
                  "swaps_seed": "yes", "plot_area": "50", "large": "yes", "signed_up_on": "2026-11-25"}  # fmt: skip
        self.assertEqual({key: rows[0][key] for key in wanted}, wanted)

    def look_at_the_bench(self) -> None:
        page = self.page
        page.press("Fine Sieve", ".brand")
        page.until_text("#sheet", "Latest sign-ups")
        figures = [cell.text for cell in page.all(".figures dd")]
        # Built-in 5 and made 6; two derived; one form; one segment.
        self.assertEqual(figures, ["6", "11", "2", "1", "1"])
        self.assertEqual(
            [cell.text for cell in page.all("#sheet td.strong")], [person[0] for person in reversed(PEOPLE)]
        )
        self.assertIn("1", page.text(".index"))
        self.sound()
        page.keys("/")
        page.keys("plot a")
        page.until_text("#found", "Plot area")
        page.keys(Keys.TAB, Keys.ENTER)
        page.until_text("h1", "Plot area")
