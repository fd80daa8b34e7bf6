"""A whole business set up from nothing in the browser, once by keyboard alone and once by mouse; and changed."""

import os
import unittest
from collections.abc import Sequence
from decimal import Decimal

from selenium import webdriver
from selenium.webdriver.common.keys import Keys

from finesieve.core.fields.types import TYPES
from finesieve.services.accounts.staff import NewWorkspace, SignedIn, StaffAccounts
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from tests.support.browser import Page
from tests.support.database import store
from tests.support.house import NOW, PASSWORD, House, make_house
from tests.support.work import done

# Two groups about a person hold one field of every type but choices among records, which need a record type first.
PERSON = tuple(type_.label for type_ in TYPES.values() if type_.key != "record")
OTHERS = (
    ("one order", "", (("Waits on shelf", "Short text"), ("Picked up at", "Date and time"), ("Gift note", "Note"))),
    ("a membership level", "", (("Packets a year", "Number"), ("Yearly fee", "Money"), ("Badge", "Picture"))),
    ("the house", "", (("Swap link", "Web address"), ("Next swap", "Date"), ("Rate", "Number"), ("Sign", "Picture"))),
    (
        "a thing a person has several of",
        "Plot",
        (("Soil", "One choice"), ("Limed on", "Date"), ("Length", "Number")),
    ),
    ("a thing a person has several of", "Hive", (("Queen of", "Number"), ("Strain", "Short text"))),
)
OPTIONS = "Clay\tclay\t2\nLoam\tloam\t3\nSand\tsand\t1"

THERE = "const e = document.activeElement; return e.matches(arguments[0]) && (e.innerText || '').includes(arguments[1])"
# How many stops of the Tab key lie before a thing, at least: a group of radio buttons is one stop.
STOPS = """
const all = [...document.querySelectorAll("a[href], button, input, select, textarea, summary")].filter(
  (e) => e.checkVisibility() && !e.disabled && e.tabIndex >= 0 && e.type !== "hidden");
const here = all.indexOf(document.activeElement);
const there = all.findIndex((e, n) => n !== here && e.matches(arguments[0]) && (e.innerText || "").includes(arguments[1]));
return there < here ? 0 : all.slice(here + 1, there).filter((e) => e.type !== "radio").length;
"""

# The card with exactly these words.
CARD = (
    "return [...document.querySelectorAll('.type-card')].find((c) => c.querySelector('b').innerText === arguments[0])"
)
# Of the cards in focus: whether the one in focus is chosen, and how many arrows on (or back) the one with these words is.
CARDS = """
const here = document.activeElement;
const all = [...document.querySelectorAll(`input[type=radio][name=${here.name}]`)].filter((e) => e.parentElement.checkVisibility());
const there = all.findIndex((e) => e.parentElement.querySelector("b").innerText === arguments[0]);
return [here.checked, there < 0 ? null : there - all.indexOf(here)];
"""


class SettingUp(unittest.TestCase):
    """What both ways have in common; `press`, `fill` and the rest are the one or the other."""

    def begin(self, way: str) -> None:
        self.page = Page()
        accounts = StaffAccounts(store(), lambda: NOW, fast_hashes=True)
        email = f"{way}{os.getpid()}@brackenfold.example"
        staff_id = accounts.add_staff(email, "Maud Ellery", PASSWORD)
        slug = accounts.create_workspace(NewWorkspace(name=f"{way} {os.getpid()}"), staff_id)
        self.house = House(slug, email, accounts.enter(slug, SignedIn(staff_id, "Maud Ellery", "")).scope)
        self.page.sign_in(email)

    def check(self) -> None:
        """Forty fields and more, of every type and about, in their groups."""
        catalogue = read_catalogue(self.house.scope)
        made = [field for field in catalogue.all_fields if not field.built_in and field.key != "name"]
        self.assertGreaterEqual(len(made), 40)
        self.assertEqual({field.type_key for field in made}, set(TYPES))
        plot, hive = catalogue.record_types
        self.assertEqual({field.about for field in made}, {"person", "order", "level", "house", plot.about, hive.about})
        self.assertEqual([known.plural for known in (plot, hive)], ["Plots", "Hives"])
        soil = next(field for field in made if field.label == "Soil")
        self.assertEqual(
            [(o.label, o.stored_value, o.score) for o in soil.options],
            [("Clay", "clay", Decimal(2)), ("Loam", "loam", Decimal(3)), ("Sand", "sand", Decimal(1))],
        )
        self.assertEqual([group.name for group in catalogue.groups[1:]], ["Plot and growing", "Everything else"])
        bound = next(field for field in made if field.label == "Their short text")
        self.assertEqual(bound.settings.lists, (catalogue.lists[0].id,))
        with self.house.scope.transaction("reader") as unit:
            self.assertEqual(unit.moment.house["swap_link"], "https://swap.example/april")


class ByMouse(SettingUp):
    """Every step is a click; only words are typed."""

    def test_a_whole_business(self) -> None:
        self.begin("mouse")
        page = self.page
        page.press("Define", ".stages a")
        for group in ("Plot and growing", "Everything else"):
            page.press("New group about one person", ".plus")
            page.fill("#name", group)
            page.press("Make the group")
            page.until_text("h1", group)
        page.press("Plot and growing", ".index a")
        for type_label in PERSON[:13]:
            page.press("New field" if page.all("tbody tr[data-row]") else "Make the first field", "#sheet a")
            self.field("", f"Their {type_label.lower()}", type_label)
        self.make_the_rest(PERSON[13:])  # as before, which shows nothing new
        for singular in ("Plot", "Hive"):
            page.press("New record type", ".plus")
            page.fill("#singular", singular)
            page.fill("#plural", singular + "s")
            page.press("Make the record type")
            page.until_text("h1", singular + "s")
        for about, record, fields in OTHERS:
            for label, type_label in fields:
                page.open(f"/w/{self.house.slug}/define/new")
                self.field(about, label, type_label, record)
        page.open(f"/w/{self.house.slug}/define/new")
        self.field("one person", "Favourite plot", "One of the records")
        # The options pasted in bulk.
        page.open(f"/w/{self.house.slug}/define/fields/{self.id_of('Soil')}/options")
        page.press("Paste a list", "summary")
        page.driver.execute_script("arguments[0].value = arguments[1]", page.one("#options"), OPTIONS)
        page.press("Put these in their place")
        page.wait(lambda: len(page.all("tr:not(.new-option) [name$=_label]")) == 3, "three options")
        # A list, and a field that belongs to it.
        page.press("Lists", ".index a")
        page.fill("#name", "Growers letter")
        page.press("Make the list")
        page.until_text("td", "Growers letter")
        page.open(f"/w/{self.house.slug}/define/fields/{self.id_of('Their short text')}")
        page.press("Visibility", "summary")
        page.press("Growers letter", ".ticks label")
        page.press("Save", "form.stack > button")
        page.until_text(".note.done", "Saved")
        # A house value with its first value.
        page.press("House values", ".index a")
        page.press("Swap link", "td a")
        page.fill("[name=v_value]", "https://swap.example/april")
        page.press("Change it")
        page.until_text(".house-now", "https://swap.example/april")
        self.check()

    def make_the_rest(self, type_labels: Sequence[str]) -> None:
        catalogue = read_catalogue(self.house.scope)
        group = next(one.id for one in catalogue.groups if one.name == "Everything else")
        for label in type_labels:
            key = next(key for key, known in TYPES.items() if known.label == label)
            options = "First\nSecond" if label in ("One choice", "Several choices", "Progress") else ""
            create_field(
                self.house.scope, group, FieldInput(label=f"Their {label.lower()}", type_key=key, options=options)
            )

    def id_of(self, label: str) -> int:
        return next(field.id for field in read_catalogue(self.house.scope).all_fields if field.label == label)

    def field(self, about: str, label: str, type_label: str, record: str = "") -> None:
        page = self.page
        page.until_text("h1", "New field")
        if about:
            page.press(about, ".about-card")
        if record:
            page.choose("#record_type_id", record)
        page.fill("#label", label)
        page.wait(lambda: page.driver.execute_script(CARD, type_label), type_label).click()
        if type_label in ("One choice", "Several choices", "Progress"):
            page.fill("#options", "First\nSecond")
        if type_label == "One of the records":
            page.choose("#s_record_type", "Plots")
        page.press("Create the field")
        page.wait(lambda: "/new" not in page.driver.current_url, f"{label} made")


class ByKeyboard(SettingUp):
    """No mouse: every step is a key."""

    def test_a_whole_business(self) -> None:
        self.begin("keys")
        page = self.page
        self.go("Define")
        for group in ("Plot and growing", "Everything else"):
            self.focus(".plus[aria-label='New group about one person']")
            page.keys(Keys.ENTER)
            self.type("#name", group, Keys.ENTER)
            page.until_text("h1", group)
        for name, half in (("Plot and growing", PERSON[:13]), ("Everything else", PERSON[13:])):
            self.go(name)
            for type_label in half:
                page.keys("n")
                self.field("one person", f"Their {type_label.lower()}", type_label)
                page.until_text("h1", name)
        for singular in ("Plot", "Hive"):
            self.focus(".plus[aria-label='New record type']")
            page.keys(Keys.ENTER)
            self.type("#singular", singular)
            self.type("#plural", singular + "s", Keys.ENTER)
            page.until_text("h1", singular + "s")
        for about, record, fields in OTHERS:
            for label, type_label in fields:
                self.go("Who they are")
                page.keys("n")
                self.field(about, label, type_label, record)
        self.go("Who they are")
        page.keys("n")
        self.field("one person", "Favourite plot", "One of the records")
        # The options pasted in bulk, from another input's text by Ctrl+C and Ctrl+V.
        self.go("Plots")
        self.focus("td a", "Soil")
        page.keys(Keys.ENTER)
        page.until_text("h1", "Soil")
        page.keys("o")
        page.until_text("h1", "Options")
        self.focus("summary", "Paste a list")
        page.keys(Keys.ENTER)
        self.focus("#options")
        webdriver.ActionChains(page.driver).key_down(Keys.CONTROL).send_keys("a").key_up(Keys.CONTROL).perform()
        page.keys("Clay = clay\nLoam = loam\nSand = sand")
        self.focus("button", "Put these in their place")
        page.keys(Keys.ENTER)
        page.wait(lambda: len(page.all("tr:not(.new-option) [name$=_label]")) == 3, "three options")
        for row, score in enumerate("231"):
            self.type(f"[name=o_{row}_score]", score)
        page.keys(Keys.ENTER)
        page.until_text(".note.done", "Saved")
        # A list, and a field that belongs to it.
        self.go("Lists")
        self.type("#name", "Growers letter", Keys.ENTER)
        page.until_text("td", "Growers letter")
        self.go("Plot and growing")
        page.keys("j", Keys.ENTER)
        page.until_text("h1", "Their short text")
        self.focus("summary", "Visibility")
        page.keys(Keys.ENTER)
        self.focus("[name=s_lists][type=checkbox]")
        page.keys(Keys.SPACE)
        page.keys(Keys.ENTER)
        page.until_text(".note.done", "Saved")
        # A house value with its first value.
        self.go("House values")
        self.focus("td a", "Swap link")
        page.keys(Keys.ENTER)
        self.type("[name=v_value]", "https://swap.example/april", Keys.ENTER)
        page.until_text(".house-now", "https://swap.example/april")
        self.check()

    def focus(self, css: str, words: str = "") -> None:
        """Press Tab until the thing has the focus: nearly there in one go, the rest one by one."""
        page = self.page
        page.keys(Keys.TAB * max(0, page.driver.execute_script(STOPS, css, words) - 2) or Keys.NULL)
        for _ in range(260):
            if page.driver.execute_script(THERE, css, words):
                return
            page.keys(Keys.TAB)
        raise AssertionError(f"Tab never reached {css} {words}: {page.driver.current_url}")

    def type(self, css: str, words: str, *then: str) -> None:
        self.focus(css)
        self.page.keys(words, *then)

    def go(self, words: str) -> None:
        """To a page of the office, along its links."""
        self.focus(".stages a, .index a", words)
        self.page.keys(Keys.ENTER)
        if words != "Define":
            self.page.until_text("h1", words)

    def field(self, about: str, label: str, type_label: str, record: str = "") -> None:
        page = self.page
        page.until_text("h1", "New field")
        self.pick("about", about)
        if record:
            self.type("#record_type_id", record)
        self.type("#label", label)
        self.pick("type_key", type_label)
        if type_label in ("One choice", "Several choices", "Progress"):
            self.type("#options", "First\nSecond")
        if type_label == "One of the records":
            self.type("#s_record_type", "Plots")
        self.focus("button", "Create the field")
        page.keys(Keys.ENTER)
        page.wait(lambda: "/new" not in page.driver.current_url, f"{label} made")

    def pick(self, name: str, label: str) -> None:
        """Choose among cards with the arrow keys."""
        self.focus(f"[name={name}]")
        chosen, steps = self.page.driver.execute_script(CARDS, label)
        self.assertIsNotNone(steps, f"no card {label}")
        if not chosen:
            self.page.keys(Keys.SPACE)
        if steps:
            self.page.keys(*[Keys.ARROW_RIGHT if steps > 0 else Keys.ARROW_LEFT] * abs(steps))
        self.assertEqual(self.page.driver.execute_script(CARDS, label), [True, 0])


class ChangingOnesMind(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.page = Page()
        self.page.sign_in(self.house.email)

    def open(self, rest: str) -> None:
        self.page.open(f"/w/{self.house.slug}/{rest}")

    def test_a_text_becomes_a_number(self) -> None:
        """The dry run on the page, what to do with what does not convert, the work followed, and taken back."""
        for text in ("12", "3.5", "twelve", None):
            self.house.add(favourite=text)
        page, field = self.page, self.house.field_id("favourite")
        self.open(f"define/fields/{field}")
        page.press("Change type")
        page.choose("#to", "Num · Number")
        page.press("Try all values")
        page.until_text("#sheet", "twelve")
        self.assertEqual(page.violations(), [])
        page.fill("tbody input[name^='instead']", "a dozen")
        page.press("Make it number")
        page.until_text(".problem", "number")
        page.fill("tbody input[name^='instead']", "12")
        page.press("Make it number")
        page.until_text("h1", "becomes number")
        self.assertEqual(page.violations(), [])
        task_id = int(page.driver.current_url.rpartition("/")[2].partition("?")[0])
        done(self.house, task_id)
        page.until_text("#sheet", "1 value looks different now")
        page.press("To the field")
        page.press("Undo")
        page.until_text("#sheet", "Waiting for its turn")
        done(self.house, task_id + 1)
        page.until_text("#sheet", "Everything is back as it was")
        page.press("To the field")
        page.until_text(".note.done", "Taken back")
        self.assertEqual(read_catalogue(self.house.scope).by_id[field].type_key, "short_text")

    def test_deleted_and_brought_back(self) -> None:
        """The name has to be typed; what is deleted is listed, and comes back in one press."""
        self.house.add(plot_length=Decimal(6))
        page, field = self.page, self.house.field_id("plot_length")
        self.open(f"define/fields/{field}")
        page.press("Delete", ".acts a")
        page.until_text("#sheet", "1 value is")
        self.assertEqual(page.violations(), [])
        page.fill("#typed", "Plot")
        page.press("Delete the field")
        page.until_text(".problem", "Plot length")
        page.fill("#typed", "Plot length")
        page.press("Delete the field")
        page.until_text("h1", "Deleted fields")
        self.assertNotIn("plot_length", read_catalogue(self.house.scope).by_key)
        page.until_text("tbody", "Plot length")
        page.press("Bring it back")
        page.until_text(".note.done", "Brought back Plot length")
        self.assertIn("plot_length", read_catalogue(self.house.scope).by_key)

    def test_a_field_is_dragged_to_its_place(self) -> None:
        page = self.page
        self.open(f"define/{self.house.group_id()}")
        page.drag("tbody tr:nth-child(7) .dots", "tbody tr:nth-child(5)")
        page.until_text(".note.done", "Reordered")


if __name__ == "__main__":
    unittest.main()
