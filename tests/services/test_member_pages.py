"""Member pages: who sees what, filled in for each; nothing private, nothing of HTML; looked at as anybody."""

import tempfile
import unittest
from pathlib import Path

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound, Overtaken
from finesieve.core.language.placeholders import Piece
from finesieve.core.pages.reading import ReadBlock
from finesieve.services.define.fields import FieldInput, change_field, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.memberships import MembershipInput, create_membership, set_level_values, set_person_level
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.kernel.changes import undo_change
from finesieve.services.pages.editing import (
    create_page,
    delete_page,
    list_pages,
    publish_page,
    read_page_as,
    read_page_view,
    save_page,
    withdraw_page,
)
from finesieve.services.pages.reading import PublicPages
from finesieve.services.people.records import add_record
from finesieve.services.sift.segments import SegmentInput, change_segment, create_segment
from finesieve.services.usage.uses import uses_of
from finesieve.services.values.files import examine, read_shelf, send_file
from finesieve.services.values.house import set_house_value
from finesieve.store.files.keeping import FileStore
from finesieve.web.pages import block_html, sound_address
from tests.support.database import store
from tests.support.house import NOW, make_house
from tests.support.pictures import png


class Pages(unittest.TestCase):
    def setUp(self) -> None:
        self.house = make_house()
        self.scope, self.slug = self.house.scope, self.house.slug
        self.level = create_membership(self.scope, "level", MembershipInput(name="Steward"))
        group = create_group(self.scope, GroupInput(name="Brings", about="level"))
        create_field(self.scope, group, FieldInput(label="Packets", key="packets", type_key="number"))
        set_level_values(self.scope, self.level, {"packets": "40"})
        self.wren = self.house.add(email="wren@hedgerow.example", first_name="Wren")
        self.fern = self.house.add(email="fern@hedgerow.example")
        self.page = create_page(self.scope, "Your year")
        self.public = PublicPages(store(), lambda: NOW)

    def save(self, *blocks: dict[str, str], publish: bool = True, **settings: object) -> int:
        document = {"title": "Your year", "blocks": list(blocks), **settings}
        change = save_page(self.scope, self.page, read_page_view(self.scope, self.page).revision, document)
        if publish:
            publish_page(self.scope, self.page)
        return change

    def read(self, person: int) -> list[str]:
        opened = self.public.open(self.slug, "your-year", person)
        return ["".join(piece.text for piece in one.text) for one in opened.blocks] if opened else ["not for them"]

    def test_filled_in_for_each_and_blocks_for_some(self) -> None:
        plots = create_record_type(self.scope, RecordTypeInput(singular="Plot", plural="Plots", holder="Holder"))
        link = read_catalogue(self.scope).record_types_by_id[plots].links[0].id
        add_record(self.scope, plots, {"name": "C 14"}, {link: [self.wren]})
        set_person_level(self.scope, self.wren, "steward")
        self.save(
            {"text": 'Hello {first_name else "neighbour"}, {count(plots)} plots.'},
            {"text": "{level.packets} packets", "show_when": "level is filled"},
            {"text": "Only for plots", "show_when": "count(plots) > 0"},
        )
        self.assertEqual(self.read(self.wren), ["Hello Wren, 1 plots.", "40 packets", "Only for plots"])
        self.assertEqual(self.read(self.fern), ["Hello neighbour, 0 plots."])

    def test_who_may_read_it(self) -> None:
        set_person_level(self.scope, self.wren, "steward")
        segment = create_segment(self.scope, "With a name")
        change_segment(self.scope, segment, 1, SegmentInput(name="With a name", expression="first_name is filled"))
        for audience, more, wren, fern, nobody in (
            ("public", {}, True, True, True),
            ("signed_in", {}, True, True, False),
            ("levels", {"levels": [self.level]}, True, False, False),
            ("segment", {"segment": segment}, True, False, False),
        ):
            self.save({"text": "Here"}, audience=audience, **more)
            seen = [self.read(one) == ["Here"] for one in (self.wren, self.fern, 0)]
            self.assertEqual(seen, [wren, fern, nobody], audience)
            self.assertEqual(
                [len(self.public.for_whom(self.slug, one)) == 1 for one in (self.wren, self.fern, 0)], seen
            )
        self.save({"text": "Here"}, publish=False, audience="levels")
        with self.assertRaises(InvalidInput):
            publish_page(self.scope, self.page)
        self.save({"text": "Here"}, publish=False, audience="segment", segment=9_999)
        with self.assertRaises(InvalidInput):
            publish_page(self.scope, self.page)

    def test_drafts_versions_and_undo(self) -> None:
        self.save({"text": "One"})
        change = self.save({"text": "Two"}, publish=False)
        self.assertEqual((self.read(self.wren), list_pages(self.scope)[0].unpublished), (["One"], True))
        undo_change(self.scope, change)
        self.assertFalse(list_pages(self.scope)[0].unpublished)
        with self.assertRaises(Overtaken):
            save_page(self.scope, self.page, 0, {"title": "Late"})
        with self.assertRaises(InvalidInput):
            delete_page(self.scope, self.page)
        withdraw_page(self.scope, self.page)
        self.assertRaises(NotFound, lambda: self.read(self.wren))
        delete_page(self.scope, self.page)
        self.assertEqual(list_pages(self.scope), [])
        self.assertRaises(NotAllowed, lambda: create_page(self.house.as_role("clerk"), "No"))
        self.assertRaises(InvalidInput, lambda: create_page(self.scope, "  "))

    def test_what_is_wrong_is_said_at_its_block(self) -> None:
        zone = read_catalogue(self.scope).by_key["zone"]
        options = "\n".join(one.label for one in zone.options)
        change_field(self.scope, zone.id, FieldInput(label="Zone", options=options, settings={"private": True}))
        self.save(
            {"text": "{nonsense}"},
            {"text": "x", "show_when": "1 +"},
            {"text": "{zone}"},
            {"button": "Go"},
            publish=False,
        )
        found = [(one.block, one.part) for one in read_page_view(self.scope, self.page).problems]
        self.assertEqual(found, [(0, "text"), (1, "show_when"), (2, "text"), (3, "to")])
        with self.assertRaises(InvalidInput):
            publish_page(self.scope, self.page)
        with self.scope.reading("reader") as unit:
            self.assertIn("page", {one.kind for one in uses_of(unit).of_field(zone.id)})

    def test_pictures_of_the_house(self) -> None:
        """Only those that stand on the page, only for who may read it, never a private one; each says what it shows."""
        directory = tempfile.TemporaryDirectory()
        self.addCleanup(directory.cleanup)
        files = FileStore(Path(directory.name))
        group = create_group(self.scope, GroupInput(name="The house", about="house"))
        fields = {
            key: create_field(
                self.scope, group, FieldInput(label=key.title(), key=key, type_key="picture", settings={"private": hides})
            )
            for key, hides in (("gate", False), ("shed", False), ("safe", True))
        }  # fmt: skip
        for field in fields.values():
            known = read_catalogue(self.scope).by_id[field]
            token = send_file(self.scope, files, examine(known, "a.png", png()))
            set_house_value(self.scope, field, token, read_shelf(self.scope, [token]))
        for block in ({"picture": "gate"}, {"picture": "gone", "shows": "x"}, {"picture": "safe", "shows": "x"}):
            self.save(block, publish=False)
            self.assertEqual([one.part for one in read_page_view(self.scope, self.page).problems], ["picture"], block)
        self.save({"picture": "gate", "shows": "The gate"}, audience="levels", levels=[self.level])
        set_person_level(self.scope, self.wren, "steward")
        public = PublicPages(store(), lambda: NOW, files)
        opened = public.open(self.slug, "your-year", self.wren)
        assert opened is not None
        self.assertEqual((opened.blocks[0].picture, opened.blocks[0].shows), ("gate", "The gate"))
        self.assertEqual(public.picture(self.slug, "your-year", "gate", self.wren).data, png())
        for key, person in (
            ("gate", self.fern),
            ("gate", 0),
            ("shed", self.wren),
            ("safe", self.wren),
            ("x", self.wren),
        ):
            with self.assertRaises(NotFound):
                public.picture(self.slug, "your-year", key, person)

    def test_as_anybody_without_being_them(self) -> None:
        self.save({"text": "Hello {first_name}"}, publish=False, audience="levels", levels=[self.level])
        seen = read_page_as(self.scope, self.page, "wren")
        self.assertEqual(
            (seen.name, seen.may, seen.blocks[0].text), ("Wren", False, (Piece("Hello "), Piece("Wren", "first_name")))
        )
        self.assertEqual(read_page_as(self.scope, self.page, "", self.fern).blocks[0].text[1].text, "")

    def test_nothing_filled_in_is_markdown_or_html(self) -> None:
        evil = "**x** <script>alert(1)</script> [a](javascript:alert(1))"
        block = ReadBlock(
            0,
            (
                Piece("# Hi "),
                Piece(evil, "first_name"),
                Piece("\n\n<b>no</b> [go]("),
                Piece("javascript:alert(1)", "link"),
                Piece(")"),
            ),
        )
        html = str(block_html(block))
        self.assertIn("<h1>Hi **x** &lt;script&gt;", html)
        for bad in ("<script", "<strong", "<b>", 'href="javascript'):
            self.assertNotIn(bad, html)
        address = ReadBlock(0, (Piece("[go]("), Piece("https://swap.example/?a=1&b=2", "house.link"), Piece(")")))
        self.assertIn('href="https://swap.example/?a=1&amp;b=2"', str(block_html(address)))
        for text, sound in (
            ("/join/x", True),
            ("https://a.example", True),
            ("mailto:a@b.example", True),
            ("//evil", False),
            ("javascript:1", False),
            ("http:", False),
            ("/\\evil", False),
        ):
            self.assertEqual(bool(sound_address(text)), sound, text)


if __name__ == "__main__":
    unittest.main()
