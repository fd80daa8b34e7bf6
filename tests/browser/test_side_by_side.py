"""A specialist looks before saving, at segments side by side, and at who moved: figures worked out by hand."""

import json
import unittest
from dataclasses import replace
from datetime import timedelta
from decimal import Decimal

from selenium.webdriver.common.keys import Keys
from sqlmodel import select

from finesieve.places import files_directory
from finesieve.services.compute.derived import DerivedInput, create_derived
from finesieve.services.compute.keeping import read_keeping
from finesieve.services.define.memberships import list_tags
from finesieve.services.follow_up.personal_links import PersonalLinkInput, create_personal_link
from finesieve.services.forms.forms import publish_form, read_draft
from finesieve.services.kernel.tasks import run_task
from finesieve.services.people.profiles import set_values
from finesieve.services.sift.over_time import note_sizes
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment, list_segments
from finesieve.store.connection.database import Store
from finesieve.store.files.keeping import FileStore
from finesieve.store.tables import OutboxMessage
from tests.services.test_collect import make_form
from tests.support.browser import Page
from tests.support.database import store
from tests.support.house import NOW, make_house
from tests.support.work import done


class SideBySide(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope = self.house.scope
        self.people = [
            self.house.add(
                first_name=name, zone=zone, plot_length=None if length is None else Decimal(length), swaps_seed=swaps
            )
            for name, zone, length, swaps in (
                ("Wren", "north", 10, True), ("Finch", "north", 2, True), ("Jay", "hill", 10, None), ("Rook", "hill", None, True),
            )
        ]  # fmt: skip
        self.north = self.made("North", 'zone = "north"')
        self.swappers = self.made("Swappers", "swaps_seed")
        self.page = Page()
        self.page.sign_in(self.house.email)
        self.base = f"/w/{self.house.slug}"

    def made(self, name: str, expression: str) -> int:
        segment = create_segment(self.scope, name)
        change_segment(self.scope, segment, 1, SegmentInput(name=name, expression=expression))
        return segment

    def sound(self) -> None:
        self.assertEqual(self.page.violations(), [])
        self.assertEqual(self.page.complaints(), [])
        self.assertEqual(self.page.overflows(), [])

    def test_the_effect_is_read_before_saving(self) -> None:
        """Twice the length is more than nine for two of three; made thrice, still two, and all three change."""
        field = create_derived(self.scope, DerivedInput(label="Beds", formula="plot_length * 2"))
        self.made("Many beds", "beds > 5")
        page = self.page
        page.open(f"{self.base}/compute/{field}")
        page.until_text("#effect", "Over everybody")
        page.until_text("#effect", "ask Plot length: blank for 1 of 1")
        self.sound()
        page.fill("[name=who]", "Finch")
        page.fill("[name=as_if]", "plot_length = 7")
        page.until_text("#preview .samples", "7 * 2")
        page.editor("#formula").send_keys(Keys.CONTROL, "a")
        page.editor("#formula").send_keys("plot_length * 3")
        page.until_text("#effect", "3 people get another value")
        page.until_text("#effect", "Segments that move")
        page.until_text("#effect table:last-of-type tbody", "Many beds")
        moved = page.text("#effect table:last-of-type tbody")
        self.assertEqual(moved.split(), ["Many", "beds", "2", "3", "1", "–"])
        self.sound()
        page.open(f"{self.base}/compute/{field}")
        self.assertEqual(page.one("#formula").get_attribute("value"), "plot_length * 2", "nothing was stored")

    def test_a_slow_field_is_kept_and_given_up(self) -> None:
        """Built with its progress on the page, following what is saved, and worked out again once it is given up."""
        field = create_derived(self.scope, DerivedInput(label="Beds", formula="plot_length * 2"))
        page = self.page
        page.open(f"{self.base}/compute/{field}")
        page.until_text("#keeping", "Reading it for 4 people takes")
        self.sound()
        page.press("Keep the values", "#keeping button")
        page.until_text("#keeping", "Being built: 0 %")
        self.sound()
        done(self.house, read_keeping(self.scope, field).task)
        page.until_text("#keeping", "Kept since 25 Nov 2026")
        self.sound()
        page.press("Stop keeping them", "#keeping button")
        page.until_text("#keeping", "It is worked out whenever it is read.")
        timed = create_derived(self.scope, DerivedInput(label="Age", formula="age(born)"))
        page.open(f"{self.base}/compute/{timed}")
        page.until_text("#keeping", "It changes by itself from day to day")
        self.assertEqual(page.all("#keeping button"), [])

    def test_a_file_is_prepared_and_taken(self) -> None:
        """Two are northern; what a worker wrote is taken from the page that followed it."""
        page = self.page
        page.open(f"{self.base}/sift/{self.north}/export")
        page.press("JSON Lines", "label")
        page.press("First name", ".export-columns label")
        self.sound()
        page.press("Prepare in the background", "button")
        page.until_text("#task", "Waiting for its turn")
        task = int(page.driver.current_url.rpartition("/")[2])
        files = FileStore(files_directory())
        run_task(Store(store().engine, files), self.scope.workspace_id, task, lambda: NOW)
        page.until_text("#task", "north.jsonl has")
        page.until_text("#task", "2 of 2")
        self.sound()
        taken = page.driver.execute_async_script(
            "const done = arguments[1]; fetch(arguments[0]).then((answer) => answer.text()).then(done)",
            page.one("#task a").get_attribute("href"),
        )
        self.assertEqual([json.loads(line)["first_name"] for line in taken.splitlines()], ["Finch", "Wren"])

    def test_a_mesh_is_switched_off_and_a_segment_found_again(self) -> None:
        """Two northern people swap; without the first mesh Rook as well. Another segment that asks the same is named."""
        both = self.made("Both", 'zone = "north" and swaps_seed')
        self.made("Written differently", 'swaps_seed and not (zone != "north")')
        page = self.page
        page.open(f"{self.base}/sift/{both}")
        page.until_text("#passing", "2 people")
        page.until_text("#alike", "Written differently asks the same")
        self.sound()
        page.press("Preview", "#keep-copy button")
        page.until_text("#sheet", "2 people change")
        self.sound()
        page.press("Change 2 people", "button")
        page.until_text("#sheet", "Wren")
        tags = {line.name.split()[0]: line.people for line in list_tags(self.scope)}
        self.assertEqual(tags, {"Both": 2})
        page.open(f"{self.base}/sift/{both}")
        page.press("switch off", "a")
        page.until_text("#passing", "3 people")
        page.until_text(".looked", "without mesh 1")
        self.sound()
        page.press("All 3 people", "a")
        page.until_text("h1", "Who passes")
        self.assertIn("Rook", page.text("#sheet"))
        self.sound()
        page.press("Work with them", "a")
        page.until_text("h1", "People")
        self.assertIn("Rook", page.text("#sheet"))
        self.assertNotIn("Jay", page.text("#sheet"))
        page.driver.back()
        page.fill("[name=name]", "Swappers and Rook")
        page.press("Save as a segment", "button")
        page.until_text("h1", "Swappers and Rook")
        page.until_text("#passing", "3 people")
        page.until_text("#alike", "Swappers asks the same")
        page.driver.back()
        page.press("Both", ".up a")
        page.until_text("#passing", "3 people")
        page.press("switch on", "a.mesh-switch")
        page.until_text("#passing", "2 people")

    def test_a_value_of_two_people_side_by_side(self) -> None:
        """Ten metres and two: the length is where they differ, and that is marked, whichever of them comes first."""
        create_derived(self.scope, DerivedInput(label="Beds", formula="round(plot_length * 2) + if(swaps_seed, 1, 0)"))
        page = self.page
        page.open(f"{self.base}/people/{self.people[0]}/steps/beds")
        page.until_text("h1", "Beds: 21")
        self.sound()
        page.fill("[name=who]", "Finch")
        page.press("Compare", "button")
        page.until_text(".differs", "Finch: 2 m")
        self.assertEqual(page.text(".differs code"), "plot_length")
        self.sound()
        page.press("Swap the two", "a")
        page.until_text("h1", "Beds: 5")
        page.until_text(".differs", "Wren: 10 m")
        page.fill("[name=who]", "Nobody at all")
        page.press("Compare", "button")
        page.until_text("#sheet", "Nobody else is found by “Nobody at all”.")
        set_values(self.scope, self.people[0], {"plot_length": "12"})
        page.open(f"{self.base}/people/{self.people[0]}/steps/beds?on={NOW.date()}")
        page.until_text("h1", "Beds: 25")
        page.until_text("#sheet", "There is no record of Wren")
        page.open(f"{self.base}/people/{self.people[0]}/steps/beds?on=tomorrow")
        page.until_text("h1", "Beds: 25")

    def test_a_score_by_bands(self) -> None:
        """Ten and ten are long, two is short; whoever gave no length is in no band."""
        page = self.page
        page.open(f"{self.base}/compute/new")
        page.press("bands of a number", "a")
        self.sound()
        page.choose("[name=key]", "Plot length")
        for place, (css, words) in enumerate((("[name=below]", "5"), ("[name=name]", "Short"))):
            page.all(css)[0].clear()
            page.all(css)[0].send_keys(words)
            self.assertLess(place, 2)
        page.press("×", "tr:nth-child(2) button")
        page.wait(lambda: len(page.all("[name=name]")) == 2, "two bands")
        page.all("[name=name]")[1].send_keys("Long")
        page.press("Write the formula", "button")
        page.until_text("#effect", "Over everybody")
        self.assertEqual(page.one("#formula").get_attribute("value"), 'if(plot_length < 5, "Short", "Long")')
        self.assertEqual([row.text.split() for row in page.all(".spread tr")], [["Long", "2"], ["Short", "1"]])
        page.fill("#label", "Length of plot")
        page.press("Save", "button")
        page.until_text("h1", "Length of plot")
        page.press("Change it in a table", "a")
        page.wait(
            lambda: [one.get_attribute("value") for one in page.all("[name=name]")] == ["Short", "Long"], "read back"
        )
        self.sound()
        page.open(f"{self.base}/compute/points")
        self.sound()
        page.fill("[name=p_swaps_seed_0]", "5")
        page.press("Write the formula", "button")
        page.until_text("#effect", "Over everybody")
        self.assertEqual(page.one("#formula").get_attribute("value"), "if(swaps_seed else false, 5, 0)")

    def test_a_region_of_an_overlap_is_saved(self) -> None:
        page = self.page
        page.open(f"{self.base}/sift/overlap")
        page.press("North", "label")
        page.press("Swappers", "label")
        page.press("Show the overlap", "button")
        page.until_text("#sheet", "Counted exactly")
        rows = [row.text for row in page.all("#sheet tbody tr")]
        self.assertEqual(sorted(rows), ["North and Swappers 2 66.7 %", "Only Swappers, not North 1 33.3 %"])
        self.sound()
        page.resize(390, 844)
        self.assertEqual(page.overflows(), [])
        page.resize(1280, 800)
        page.press("Only Swappers, not North", "td a")
        page.until_text("#sheet tbody", "Rook")
        page.press("Save as a segment", "button")
        page.until_text("h1", "Only Swappers, not North")
        page.until_text("#passing", "1 person")
        self.sound()
        self.assertEqual(list_segments(self.scope)[-1].people, 1)

    def test_what_they_are_like_and_who_moved(self) -> None:
        set_values(self.scope, self.people[2], {"zone": "north"})
        page = self.page
        page.open(f"{self.base}/sift/{self.north}")
        page.press("What they are like", "a")
        page.until_text("#sheet", "3 people, beside 4 in all")
        self.sound()
        late = NOW.replace(hour=23, minute=50) - timedelta(days=5)
        note_sizes(replace(self.scope, clock=lambda: late), late=True)
        page.open(f"{self.base}/sift/{self.north}")
        page.press("Over time", "a")
        page.until_text("#sheet", "3 people today")
        page.press("a week ago", "a")
        page.until_text("#sheet tbody", "Jay")
        self.assertIn("Zone Hill → North", page.text("#sheet tbody"))
        page.choose("[name=with]", "Swappers")
        page.press("Show", "button")
        page.until_text(".legend", "North, 3 today")
        self.assertIn("Swappers, 3 today", page.text(".legend"))
        self.sound()
        page.press("yesterday", "a")
        page.until_text(".legend", "Swappers, 3 today")
        change_segment(self.scope, self.north, 2, SegmentInput(name="North", expression='zone = "hill"'))
        page.open(f"{self.base}/sift/{self.north}/time")
        page.until_text("#sheet", "Its condition, version by version")
        page.press("Compare with now", "a")
        page.until_text("#sheet table", "Only North, not North until")
        page.press("Only North until", "#sheet table a")
        page.until_text("#sheet", "Jay")
        page.press("Save as a segment", "button")
        page.until_text("#passing", "3 people")
        self.sound()

    def test_the_undecided_are_asked_by_a_personal_link(self) -> None:
        """From the tray of those who cannot be told to the answer: Jay is asked for what is missing, and passes."""
        form = make_form(self.house, "swaps_seed", "zone")
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        create_personal_link(self.scope, PersonalLinkInput(name="My answers", form=form, only_missing=True))
        page = self.page
        page.open(f"{self.base}/sift/{self.swappers}/tray/0/cant_tell")
        page.until_text("#sheet tbody", "Jay")
        page.press("Ask them", "a")
        page.until_text("h1", "Write to them")
        self.assertIn("we would like to know from you: Swaps seed.", page.one("#text").get_attribute("value") or "")
        self.sound()
        page.press("Preview", "button")
        page.until_text(".letter", "Hello Jay,")
        self.assertNotIn("?me=", page.text(".letter"), "nobody is given a link before it is sent")
        self.sound()
        page.press("Write to 1 person", "button")
        page.until_text("#sheet", "It goes on if you leave this page")
        done(self.house, int(page.driver.current_url.rpartition("/")[2]))
        with self.scope.reading("owner") as unit:
            body = unit.session.exec(select(OutboxMessage.body)).one()
        page.open(body.split("here: ")[1].split()[0])
        page.until_text("main", "Swaps seed")
        self.assertNotIn("Zone", page.text("main"))
        page.press("Yes", "label")
        page.press("Send", "button")
        page.until_text("main", "Thank you")
        page.open(f"{self.base}/sift/{self.swappers}")
        page.until_text("#passing", "4 people")

    def test_a_segment_made_of_another_by_sentence(self) -> None:
        both = self.made("Both", "")
        page = self.page
        page.open(f"{self.base}/sift/{both}?as=text")
        page.fill("#expression", "segment.north and not segment.swappers")
        page.press("Save and count", "button")
        page.until_text("#sheet", "Counted exactly")
        page.press("Sentence", "a")
        page.until_text("#sieve", "Being in “North”")
        page.until_text("#passing", "0 people")
        page.open(f"{self.base}/people/{self.people[2]}")
        page.until_text("body", "Being in “North”")
        page.open(f"{self.base}/people?where=segment.north")
        page.until_text("#sheet", "Wren")
        self.sound()
        page.open(f"{self.base}/sift/{self.north}?as=text")
        page.fill("#expression", "segment.both")
        page.press("Save and count", "button")
        page.until_text("#sheet", "sifted by itself")
        self.sound()

    def test_what_is_being_written_stays_where_the_page_comes_anew(self) -> None:
        page, here = self.page, f"{self.base}/sift/{self.north}?as=text"
        page.open(here)
        again = (
            "const done = arguments[0]; htmx.ajax('GET', location.href, {target: '#work', select: '#work', "
            "swap: 'outerMorph'}).then(() => done(true))"
        )
        editor, box = "#expression-editor .cm-content", "#expression"
        page.one(editor).click()
        page.keys(Keys.END, *(Keys.ARROW_LEFT,) * len('= "north"'))
        page.driver.execute_async_script(again)
        page.keys("!")
        self.assertEqual(page.one(box).get_property("value"), 'zone != "north"')
        page.one("#sheet h1").click()  # not being written in, but not saved
        change_segment(
            replace(self.scope, actor="Ossian"), self.north, 2, SegmentInput(name="North", expression='zone = "hill"')
        )
        page.driver.execute_async_script(again)
        self.assertEqual(page.one(box).get_property("value"), 'zone != "north"')
        page.press("Save and count", "button")
        page.until_text("[role=alert]", "has changed this meanwhile")
        page.open(here)
        change_segment(self.scope, self.north, 3, SegmentInput(name="North", expression='zone = "north"'))
        page.driver.execute_async_script(again)
        self.assertEqual(page.one(editor).text, 'zone = "north"')
        self.sound()

    def test_a_field_is_called_otherwise_everywhere(self) -> None:
        group = self.house.group_id()
        area = create_derived(self.scope, DerivedInput(label="Area", formula="plot_length * 2", group_id=group))
        self.made("Large", "area > 5 and plot_length > 1")
        page = self.page
        page.open(f"{self.base}/compute/{area}")
        page.press("Plot length", ".margin a, aside a")
        page.press("rename it", "a")
        page.until_text("main, #sheet", "Its name in formulas")
        page.until_text("body", "formula Area")
        page.fill("#name", "plot width")
        page.press("Rename everywhere", "button")
        page.until_text("[role=alert]", "small letter")
        page.fill("#name", "bed_length")
        page.press("Rename everywhere", "button")
        page.until_text("body", "Formulas call it bed_length")
        self.sound()
        page.open(f"{self.base}/compute/{area}")
        page.until_text(".cm-content", "bed_length * 2")
        page.fill("#formula", "plot_length * 3 + bed_length")
        page.until_text("#preview", "10 * 3 + 10")
        page.press("Save", "button")
        page.until_text("body", "Changed")
        page.press("Plot length", ".margin a, aside a")
        page.until_text("body", "segment Large")
        self.sound()


if __name__ == "__main__":
    unittest.main()
