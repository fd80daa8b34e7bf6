"""Chat scripts in the browser: written by keys, tried, published; held on a phone, handed over, returned."""

import unittest
from datetime import timedelta
from unittest.mock import patch

from selenium.webdriver.common.keys import Keys

from finesieve.core.fields.about import record_about
from finesieve.services.chat import holding
from finesieve.services.chat.desk import list_conversations, waiting_at_desk
from finesieve.services.chat.scripts import list_scripts, read_script
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.people.listing import list_people
from finesieve.services.people.profiles import read_profile
from finesieve.services.people.records import person_records
from tests.services.test_chat import STEPS, Chats
from tests.support.browser import Page
from tests.support.house import House, make_house
from tests.support.talking import about, ask, choose, say
from tests.support.work import done


class Journey(unittest.TestCase):
    def setUp(self) -> None:
        self.house: House = make_house()
        self.scope = self.house.scope
        self.page = Page()

    def sign_in(self) -> None:
        self.page.sign_in(self.house.email)

    def sound(self) -> None:
        self.assertEqual((self.page.violations(), self.page.overflows(), self.page.complaints()), ([], [], []))

    def below(self) -> None:
        """Save the line that is open, with one below it."""
        number = len(self.page.all(".play-line"))
        self.page.one("[data-line-form] textarea").send_keys(Keys.CONTROL, Keys.ENTER)
        self.page.wait(lambda: len(self.page.all(".play-line")) == number + 1, "a line more")

    def becomes(self, words: str) -> None:
        self.page.choose("[data-line-form] [name=kind]", words)
        self.page.wait(
            lambda: (
                self.page.one("[data-line-form] [name=kind]").find_element("css selector", "option:checked").text
                == words
            ),
            words,
        )

    def kept_in(self, label: str) -> None:
        self.page.choose("[name=subject]", label)


class Writing(Journey):
    def test_from_nothing_to_a_published_script(self) -> None:
        """By keys; tried beside the text; what reasoning found is mended."""
        self.sign_in()
        page = self.page
        page.open(f"/w/{self.house.slug}/collect/chat/new")
        page.fill("#title", "Plan my first bed" + Keys.ENTER)
        page.until_text("h1", "Plan my first bed")
        page.press("Put it in", "button")
        page.fill("[name=text]", "Good to see you.")
        self.below()
        page.fill("[name=text]", "How long is the spot?")
        page.one("[name=text]").send_keys(Keys.ALT, "q")
        page.until_text(".line-editor", "The answer is kept in")
        self.kept_in("Plot length")
        self.below()
        self.becomes("Do something")
        page.press("Do something", "button")
        self.kept_in_action("Plot width")
        page.fill("[name=act0_value]", "plot_length * 2")
        page.press("Save", ".btn")
        page.until_text(".play", "Plot width becomes plot_length * 2")
        page.open(page.driver.current_url.partition("?")[0])
        self.sound()
        page.fill("#trial-reply", "long" + Keys.ENTER)
        page.until_text(".trial", "Write a number in digits")
        page.fill("#trial-reply", "about 3" + Keys.ENTER)
        page.until_text(".trial .changes", "6 m")
        page.press("Step back", ".trial button")
        page.wait(lambda: "about 3" not in page.text(".trial-talk"), "one step back")
        page.fill("#trial-reply", "4" + Keys.ENTER)
        page.until_text(".trial .changes", "8 m")
        page.press("Keep as a case", "summary")
        page.fill("[name=case]", "four metres")
        page.press("Keep it", ".trial button")
        page.until_text(".trial", "1 case kept")
        script = list_scripts(self.scope)[0].id
        page.open(f"/w/{self.house.slug}/collect/chat/{script}?l=l2")
        page.press("Checks", "summary")
        page.press("It may be skipped", "label")
        page.press("Save", ".btn")
        page.until_text(".margin", "Plot length may still be blank here")
        page.press("Line 3", ".margin a")
        page.open(f"/w/{self.house.slug}/collect/chat/{script}?l=l2")
        page.press("It may be skipped", "label")
        page.press("Save", ".btn")
        page.wait(lambda: "still be blank" not in page.text(".margin"), "nothing found any more")
        page.press("Publish version 1", "a.btn")
        page.until_text("#sheet", "four metres")
        self.sound()
        page.press("Publish version 1", "form button")
        page.until_text("#sheet", "Version 1 is in force")
        self.assertEqual([one.kind for one in read_script(self.scope, script).document.steps], ["say", "ask", "do"])

    def kept_in_action(self, label: str) -> None:
        self.page.choose("[name=act0_subject]", label)


class Holding(Chats, Journey):
    def setUp(self) -> None:
        Chats.setUp(self)
        self.page = Page()

    def reply(self, words: str) -> None:
        said = len(self.page.all("#exchange li"))
        self.page.fill("#text", words + Keys.ENTER)
        self.page.wait(lambda: len(self.page.all("#exchange li")) > said, f"an answer to {words}")

    def test_a_visitor_on_a_phone_and_the_clerk(self) -> None:
        """Answers wrongly, corrects from the sum-up, wants a person; the clerk writes and returns it."""
        script = self.make(STEPS)
        page = self.page
        page.resize(390, 844)
        page.open(f"/chat/{self.house.slug}/plan-a-bed")
        page.until_text("#exchange", "plot_length?")
        self.sound()
        self.reply("quite long")
        page.until_text("#exchange", "Write a number in digits")
        self.reply("about 6")
        page.until_text("#exchange", "I have noted 6 m.")
        self.reply("4")
        self.reply("wren@hedgerow.example")
        page.press("Change Plot width", ".offers button")
        page.until_text("#exchange li:last-child", "plot_width?")
        self.reply("2")
        page.until_text("#exchange li:last-child .answers", "2 m")
        page.press("That is right", ".offers button")
        page.until_text("#exchange li:last-child", "choose 7")
        self.sound()
        page.open(f"/chat/{self.house.slug}/plan-a-bed")
        page.until_text("#exchange li:last-child", "choose 7")
        page.press("A clerk", ".offers button")
        page.until_text("#reply", "One of us will answer here")
        self.reply("Hello?")
        (waiting,) = waiting_at_desk(self.scope)
        address = page.driver.current_url
        page.resize(1280, 800)
        self.sign_in()
        page.open(f"/w/{self.house.slug}/follow-up/desk")
        page.until_text("#sheet", "wants to talk")
        self.sound()
        page.press(waiting.name, "td a")
        page.press("Take it", "button")
        page.fill("#text", "Hello from the co-op.")
        page.press("Send", "button")
        page.until_text(".desk-talk", "Hello from the co-op.")
        self.sound()
        page.choose("#step", "7 · choose 7")
        page.press("Return it", "button")
        page.until_text(".lead", "The script has it")
        page.open(address)
        page.until_text("#exchange", "Hello from the co-op.")
        page.press("Done", ".offers button")
        page.until_text("#exchange", "Goodbye.")
        person = next(one.id for one in list_people(self.scope, search="wren").lines)
        self.assertEqual((self.value(person, "plot_length"), self.value(person, "plot_width")), ("6 m", "2 m"))
        self.assertEqual(read_profile(self.scope, person).memberships.tags, ("bed",))
        self.assertEqual([one.mode for one in list_conversations(self.scope, script)[0]], ["ended"])

    def test_what_does_not_arrive_stays(self) -> None:
        """Too much, or nobody there: the words stay in the box, the page says so, nothing is swapped in."""
        self.make(STEPS)
        page = self.page
        page.open(f"/chat/{self.house.slug}/plan-a-bed")
        self.reply("6")
        with patch.object(holding, "_PACE", (timedelta(minutes=10), 0)):
            page.fill("#text", "4" + Keys.ENTER)
            page.until_text("#reply", "That did not arrive")
        self.assertEqual(page.one("#text").get_attribute("value"), "4")
        self.assertNotIn("a lot in a short time", page.text("#exchange"))
        page.complaints()
        page.press("Send", ".typing button")
        page.until_text("#exchange li:last-child", "email?")

    def test_replies_over_a_text_make_it_a_choice(self) -> None:
        """What was found leads to the change of type with the replies as options; the script goes on with it."""
        script = self.make([choose(1, "Beans", "Peas", field="favourite"), {"kind": "end", "id": "l2"}])
        self.house.add(email="wren@hedgerow.example", favourite="Beans")
        page = self.page
        self.sign_in()
        page.open(f"/w/{self.house.slug}/collect/chat/{script}")
        page.press("Make it a choice with these options", ".finding-line a")
        self.assertEqual(page.one("#options").get_attribute("value"), "Beans\nPeas")
        page.press("Make it one choice")
        page.until_text("h1", "becomes one choice")
        done(self.house, int(page.driver.current_url.rpartition("/")[2].partition("?")[0]))
        page.open(f"/w/{self.house.slug}/collect/chat/{script}")
        page.until_text(".play", "Favourite")
        self.assertNotIn("Make it a choice", page.text("body"))
        page.press("Peas", ".trial-offers button")
        page.until_text("#trial", "Favourite")

    def test_along_the_lines_by_keys(self) -> None:
        """Folded, along a thread into what is folded, back against it; scripts of a group stand together."""
        script = self.make([
            choose(1, ("Beans", "l3"), ("Peas", "l4")),
            {**say(2, "Beans are hungry."), "under": "b10"},
            {**say(3, "Feed them."), "under": "b10"},
            say(4, "Goodbye."),
        ])  # fmt: skip
        page = self.page
        self.sign_in()
        page.open(f"/w/{self.house.slug}/collect/chat/{script}")
        page.keys("j")
        page.keys("f")
        page.wait(
            lambda: [one.is_displayed() for one in page.all(".play-line")] == [True, False, False, True], "folded"
        )
        self.sound()
        page.keys("j")
        self.assertEqual(page.driver.switch_to.active_element.text, "4")
        page.keys("T")
        self.assertEqual(page.driver.switch_to.active_element.text, "1")
        places = []
        for key in ("t", "T", "t"):
            page.keys(key)
            places.append(page.driver.switch_to.active_element.text)
        self.assertEqual(sorted(places), ["1", "3", "4"])
        page.wait(lambda: page.one("#l3").is_displayed(), "unfolded")
        page.press("Settings", ".compose-tools a")
        page.fill("#group", "Beds" + Keys.ENTER)
        page.until_text(".index", "chat: Beds")
        self.sound()

    def test_the_same_by_text_messages(self) -> None:
        """Over the stand-in handset the same replies store the same values."""
        self.make(STEPS)
        page = self.page
        page.resize(390, 844)
        page.open(f"/handset/{self.house.slug}?number=%2B447700900999")
        for words, comes in (
            ("hello", "plot_length?"), ("about 6", "I have noted 6 m."), ("2", "email?"),
            ("wren@hedgerow.example", "1 That is right"), ("1", "1 Done"), ("1", "Goodbye."),
        ):  # fmt: skip
            page.fill("#text", words + Keys.ENTER)
            page.until_text(".exchange", comes)
        self.assertEqual((page.violations(), page.overflows()), ([], []))
        person = next(one.id for one in list_people(self.scope, search="wren").lines)
        self.assertEqual((self.value(person, "plot_length"), self.value(person, "plot_width")), ("6 m", "2 m"))
        self.assertEqual(read_profile(self.scope, person).memberships.tags, ("bed",))

    def test_plots_by_text_messages(self) -> None:
        """Two plots of somebody new, one after the other; one is corrected from the sum-up, by its number."""
        plots = create_record_type(self.scope, RecordTypeInput(singular="Plot", plural="Plots"))
        group = read_catalogue(self.scope).groups_about(record_about(plots))[0].id
        create_field(self.scope, group, FieldInput(label="Size", key="size", type_key="number", unit="m²"))
        self.make(
            [
                ask(1, "email"), about(2, "new", another=True), ask(3, "plots.name", under="c2"), ask(4, "plots.size", under="c2"),
                {"kind": "sum_up", "id": "l5"}, say(6, "{sum(plots.size)} in all."), {"kind": "end", "id": "l7"},
            ]
        )  # fmt: skip
        page = self.page
        page.resize(390, 844)
        page.open(f"/handset/{self.house.slug}?number=%2B447700900998")
        for words, comes in (
            ("hello", "email?"), ("wren@hedgerow.example", "plots.name?"), ("Hill", "plots.size?"), ("14", "1 Yes"),
            ("1", "plots.name?"), ("Brook", "plots.size?"), ("about 5", "I have noted 5 m²."), ("no", "1 That is right"),
            ("4", "plots.size?"), ("16", "Hill: Size: 16 m²"), ("1", "21 in all."),
        ):  # fmt: skip
            page.fill("#text", words + Keys.ENTER)
            page.until_text(".exchange", comes)
        self.assertEqual((page.violations(), page.overflows()), ([], []))
        person = next(one.id for one in list_people(self.scope, search="wren").lines)
        ((_, found),) = person_records(self.scope, person)
        self.assertEqual(sorted((one.title, *one.cells) for one in found.lines), [("Brook", "5 m²"), ("Hill", "16 m²")])


if __name__ == "__main__":
    unittest.main()
