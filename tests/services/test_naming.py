"""A field called otherwise in formulas: written everywhere, meant the same, and what was written before stays right."""

from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from decimal import Decimal
from typing import Any
from unittest.mock import patch

from sqlmodel import Session, select

from finesieve.core.errors import InvalidInput
from finesieve.services.chat.scripts import read_script
from finesieve.services.compute.derived import DerivedInput, TriedOn, create_derived, preview_formula
from finesieve.services.compute.language import words_here
from finesieve.services.define.deletion import delete_field
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue, read_field
from finesieve.services.define.naming import call_field
from finesieve.services.define.options import OptionInput, change_options
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.forms.composing import (
    FormSettings,
    FormTexts,
    QuestionInput,
    SectionInput,
    add_question,
    add_section,
    change_form_settings,
    change_form_texts,
    change_question,
    change_section,
    set_phrases,
)
from finesieve.services.forms.forms import publish_form, read_draft, read_form
from finesieve.services.kernel.changes import undo_change
from finesieve.services.pages.editing import create_page, publish_page, read_page_view, save_page
from finesieve.services.people.listing import Listing, list_people
from finesieve.services.people.profiles import read_profile
from finesieve.services.people.records import add_record
from finesieve.services.sift.segments import SegmentInput, change_segment, count_segment, create_segment, read_segment
from finesieve.services.transfer.setups import export_setup, load_setup
from finesieve.services.values.house import set_house_value
from finesieve.store.definitions.catalogue import touch
from finesieve.store.tables import PageRow, PageVersion
from tests.services.test_collect import make_form
from tests.support.chats import Chats
from tests.support.house import make_house
from tests.support.talking import ask, do, say


class Naming(Chats):
    def setUp(self) -> None:
        super().setUp()
        self.field = self.house.field_id("plot_length")
        self.person = self.house.add(first_name="Wren", plot_length=Decimal(6), plot_width=Decimal(3))
        self.area = create_derived(
            self.scope, DerivedInput(label="Area", formula="plot_length * person.plot_width # of the plot", group_id=self.house.group_id())
        )  # fmt: skip
        self.segment = create_segment(self.scope, "Long")
        self.sift(
            "plot_length > 5 and (last_change(plot_length) is blank or value_on(plot_length, date(2026, 1, 1)) = 2)"
        )

    def sift(self, expression: str) -> None:
        revision = read_segment(self.scope, self.segment).revision
        change_segment(self.scope, self.segment, revision, SegmentInput(name="Long", expression=expression))

    def call(self, name: str, field: int = 0) -> int:
        return call_field(self.scope, field or self.field, name)

    def formula(self) -> str:
        return read_catalogue(self.scope).by_id[self.area].formula

    def shown_area(self) -> Any:
        lines = (line for _, found in read_profile(self.scope, self.person).groups for line in found)
        return next((line.shown, line.worked) for line in lines if line.field.key == "area")

    def test_formulas_segments_and_texts(self) -> None:
        before = self.shown_area()
        size = count_segment(self.scope, self.segment)
        change = self.call("bed_length")
        self.assertEqual(self.formula(), "bed_length * person.plot_width # of the plot")
        expected = "bed_length > 5 and (last_change(bed_length) is blank or value_on(bed_length, date(2026, 1, 1)) = 2)"
        self.assertEqual(read_segment(self.scope, self.segment).expression, expected)
        self.assertEqual(self.shown_area(), before)
        self.assertEqual(count_segment(self.scope, self.segment), size)
        undo_change(self.scope, change)
        self.assertEqual(self.formula(), "plot_length * person.plot_width # of the plot")
        self.assertEqual(read_catalogue(self.scope).by_id[self.field].name, "plot_length")
        undo_change(self.scope, change, again=True)
        self.assertEqual(self.formula(), "bed_length * person.plot_width # of the plot")

    def test_the_texts_of_fields(self) -> None:
        """Each is a place of its own, that of the field it belongs to."""
        asked = FieldInput(
            label="Note",
            type_key="short_text",
            help="For your {plot_length} m.",
            settings={"fallback": "{plot_length}"},
        )
        note = create_field(self.scope, self.house.group_id(), asked)
        places = {use.place for use in read_field(self.scope, self.field).uses}
        self.assertEqual(places, {
            ("formula", self.area, "Area", ""), ("segment", self.segment, "Long", ""), ("help", note, "Note", ""),
        })  # fmt: skip
        self.call("bed_length")
        field = read_field(self.scope, note).field
        self.assertEqual((field.help, field.settings.fallback), ("For your {bed_length} m.", "{bed_length}"))

    def test_forms_and_scripts_published_ones_as_well(self) -> None:
        form = make_form(self.house, "plot_length", "favourite")
        rules = QuestionInput(
            show_when="form.plot_length > 3 and plot_length < 90", label="plot_length",
            checks=({"kind": "condition", "expression": "plot_length > 1", "message": "Not {plot_length}."},),
        )  # fmt: skip
        change_question(self.scope, form, read_draft(self.scope, form).revision, "q3", rules)
        texts = FormTexts(title="Join us", thanks="Thank you for {plot_length}.")
        change_form_texts(self.scope, form, read_draft(self.scope, form).revision, texts)
        publish_form(self.scope, form, read_draft(self.scope, form).revision)
        script = self.make([
            say(1, "You have {plot_length} m."), ask(2, "plot_width", checks=[{"kind": "condition", "expression": "plot_length > 1"}]),
            do(3, {"verb": "gains", "field": "plot_length", "value": "plot_length"}, {"verb": "tag_on", "value": "plot_length"}),
        ])  # fmt: skip
        self.call("bed_length")
        view = read_form(self.scope, form)
        question = view.document.questions[2]
        self.assertEqual(
            (question.show_when, question.label), ("form.bed_length > 3 and bed_length < 90", "plot_length")
        )
        self.assertEqual(
            (question.checks[0].expression, question.checks[0].message), ("bed_length > 1", "Not {bed_length}.")
        )
        self.assertEqual(view.document.thanks, "Thank you for {bed_length}.")
        self.assertEqual((view.problems, view.unpublished), ((), False))
        steps = read_script(self.scope, script).document.steps
        self.assertEqual(steps[0].texts[0].text, "You have {bed_length} m.")  # type: ignore[union-attr]
        self.assertEqual(steps[1].checks[0].expression, "bed_length > 1")  # type: ignore[union-attr]
        self.assertEqual([one.value for one in steps[2].actions], ["bed_length", "plot_length"])  # type: ignore[union-attr]

    def test_member_pages_published_ones_as_well(self) -> None:
        """By name and by option: who reads a page goes on seeing what they saw."""
        page = create_page(self.scope, "Your plot")
        block = {"text": "It is {plot_length} m.", "show_when": 'plot_length > 5 and zone = "north"'}
        save_page(
            self.scope, page, read_page_view(self.scope, page).revision, {"title": "Your plot", "blocks": [block]}
        )
        publish_page(self.scope, page)
        self.call("bed_length")
        rows = [
            OptionInput(was=one, label=one, value="mound" if one == "north" else one)
            for one in ("north", "hill", "south")
        ]
        change_options(self.scope, self.house.field_id("zone"), rows)
        with self.scope.reading("reader") as unit:
            documents = [
                unit.session.exec(select(PageRow.draft)).one(),
                unit.session.exec(select(PageVersion.document)).one(),
            ]
        for document in documents:
            (block,) = document["blocks"]
            self.assertEqual(block["text"], "It is {bed_length} m.")
            self.assertEqual(block["show_when"], 'bed_length > 5 and zone = "mound"')

    def test_translations_and_the_same_words_about_something_else(self) -> None:
        """In a section about plots the same words mean the plot’s; a translation stays under its text."""
        plots = create_record_type(self.scope, RecordTypeInput(singular="Plot", plural="Plots"))
        group = next(one.id for one in read_catalogue(self.scope).all_groups if one.about == f"record:{plots}")
        own = create_field(self.scope, group, FieldInput(label="Plot length", type_key="number"))
        soil = create_field(self.scope, group, FieldInput(label="Soil", type_key="short_text"))
        form = make_form(self.house, "plot_length", "favourite")

        def change(step: Any, *rest: Any) -> None:
            step(self.scope, form, read_draft(self.scope, form).revision, *rest)

        change(change_form_settings, FormSettings(languages=("de",)))
        change(add_section, "Your plots")
        change(
            change_section,
            "s2",
            SectionInput(title="Your plots", show_when="plot_length > 1", repeat=str(plots), one="Plot"),
        )
        change(add_question, own, "s2")
        change(add_question, soil, "s2")
        rule = QuestionInput(show_when="plot_length > 1", help="Of {plot_length} m.")
        change(change_question, "q3", rule)
        change(change_question, "q5", rule)
        change(set_phrases, "de", {"Of {plot_length} m.": "Von {plot_length} m.", "Send": "Senden"})
        change(publish_form)
        self.call("bed_length")
        document = read_draft(self.scope, form).document
        asked = {one.id: one for one in document.questions}
        self.assertEqual((asked["q3"].show_when, asked["q3"].help), ("bed_length > 1", "Of {bed_length} m."))
        self.assertEqual((document.sections[1].show_when, asked["q5"].show_when), ("bed_length > 1", "plot_length > 1"))
        self.assertEqual(document.phrases["de"]["Of {bed_length} m."], "Von {bed_length} m.")
        self.assertEqual(document.phrases["de"]["Send"], "Senden")
        self.call("size", own)
        asked = {one.id: one for one in read_draft(self.scope, form).document.questions}
        self.assertEqual((asked["q3"].show_when, asked["q5"].show_when), ("bed_length > 1", "size > 1"))
        self.assertEqual(read_form(self.scope, form).problems, ())

    def test_every_earlier_name_stays_right_and_nobody_else_gets_it(self) -> None:
        self.call("bed_length")
        self.call("length_of_bed")
        people = list_people(self.scope, Listing(where="plot_length > 5 and bed_length > 5 and length_of_bed > 5"))
        self.assertEqual([line.id for line in people.lines], [self.person])
        self.sift("bed_length > 5")
        self.assertEqual(count_segment(self.scope, self.segment), 1)
        for name, said in (
            ("plot_width", "Plot width"), ("Bed", "small letter"), ("between", "word of the expression"), ("", "small letter"),
            ("bed length", "small letter"),
        ):  # fmt: skip
            with self.subTest(name), self.assertRaises(InvalidInput) as refused:
                self.call(name)
            self.assertIn(said, refused.exception.messages["name"])
        for name in ("plot_length", "bed_length", "length_of_bed"):
            with self.subTest(name), self.assertRaises(InvalidInput):
                create_field(self.scope, self.house.group_id(), FieldInput(label="New", key=name, type_key="number"))
            with self.assertRaises(InvalidInput):
                self.call(name, self.house.field_id("plot_width"))
        made = create_field(self.scope, self.house.group_id(), FieldInput(label="Bed length", type_key="number"))
        self.assertEqual(read_field(self.scope, made).field.key, "bed_length_2")
        self.assertEqual(self.call("length_of_bed"), 0)
        tried = preview_formula(self.scope, "length_of_bed * 2", tried_on=TriedOn("wren", "length_of_bed = 9"))
        self.assertEqual([(one.worked, one.shown) for one in tried.samples], [("9 * 2", "18")])
        self.call("plot_length")
        self.assertEqual(self.formula(), "plot_length * person.plot_width # of the plot")
        with self.assertRaises(InvalidInput):
            self.call("address", self.house.field_id("email"))

    def test_two_at_once(self) -> None:
        """Both names mean it; and a field that is made at that moment has another name, or is refused."""

        def make() -> None:
            with suppress(InvalidInput):
                create_field(
                    self.scope, self.house.group_id(), FieldInput(label="Made", key="bed_length", type_key="number")
                )

        with ThreadPoolExecutor(4) as threads:
            tries = [
                threads.submit(self.call, "bed_length"),
                threads.submit(make),
                threads.submit(self.call, "length_of_bed"),
            ]
            refused = [one.exception() for one in tries]
        self.assertLessEqual({type(one) for one in refused} - {type(None)}, {InvalidInput})
        catalogue = read_catalogue(self.scope)
        self.assertIn("length_of_bed", catalogue.by_id[self.field].names)
        self.assertEqual("bed_length" in catalogue.by_key, "bed_length" not in catalogue.by_id[self.field].names)
        self.assertEqual(catalogue.check(self.formula()).problems, ())

    def test_overtaken_while_it_waits(self) -> None:
        """Who was called otherwise by somebody else a moment before keeps that name, too."""

        def others_first(session: Session, workspace_id: int) -> None:
            overtaking.stop()
            self.call("bed_length")
            touch(session, workspace_id)

        overtaking = patch("finesieve.services.define.naming.touch", others_first)
        overtaking.start()
        self.call("length_of_bed")
        names = read_catalogue(self.scope).by_id[self.field].names
        self.assertEqual(names, ("length_of_bed", "plot_length", "bed_length"))
        self.assertEqual(self.formula(), "length_of_bed * person.plot_width # of the plot")

    def test_a_name_about_something_else_stays(self) -> None:
        plots = create_record_type(self.scope, RecordTypeInput(singular="Plot", plural="Plots"))
        group = next(one.id for one in read_catalogue(self.scope).all_groups if one.about == f"record:{plots}")
        size = create_field(self.scope, group, FieldInput(label="Plot length", type_key="number"))
        self.assertEqual(read_field(self.scope, size).field.key, "plot_length")
        link = next(one for one in read_catalogue(self.scope).links.values() if one.record_type_id == plots)
        add_record(self.scope, plots, {"name": "A1", "plot_length": "9"}, {link.id: [self.person]})
        self.sift(
            f"any({link.back_key} where plot_length > 8) and sum({link.back_key}.plot_length) = 9 and person.plot_length = 6"
        )
        self.call("bed_length")
        own = f"any({link.back_key} where plot_length > 8) and sum({link.back_key}.plot_length) = 9 and person.bed_length = 6"
        self.assertEqual(read_segment(self.scope, self.segment).expression, own)
        self.call("size", size)
        both = f"any({link.back_key} where size > 8) and sum({link.back_key}.size) = 9 and person.bed_length = 6"
        self.assertEqual(read_segment(self.scope, self.segment).expression, both)
        self.assertEqual(count_segment(self.scope, self.segment), 1)
        words = {word.text for word in words_here(self.scope)}
        self.assertLessEqual({"bed_length", f"{link.back_key}.size"}, words)
        self.assertFalse({"plot_length", f"{link.back_key}.plot_length"} & words)

    def test_a_house_value_and_a_deleted_field(self) -> None:
        group = create_group(self.scope, GroupInput(name="Prices", about="house"))
        price = create_field(self.scope, group, FieldInput(label="Price", type_key="number"))
        set_house_value(self.scope, price, "2")
        self.sift("plot_length * house.price = 12")
        self.call("price_of_a_metre", price)
        self.assertEqual(read_segment(self.scope, self.segment).expression, "plot_length * house.price_of_a_metre = 12")
        self.assertEqual(count_segment(self.scope, self.segment), 1)
        born = self.house.field_id("born")
        self.call("birthday", born)
        delete_field(self.scope, born, "Born")
        with self.assertRaises(InvalidInput) as refused:
            self.call("birthday")
        self.assertIn("deleted field Born", refused.exception.messages["name"])
        self.assertIn("was deleted", read_catalogue(self.scope).check("birthday is filled").problems[0].message)

    def test_in_a_setup_file(self) -> None:
        """A file from before the renaming takes no name away; one from after it brings its names along."""
        _, earlier = export_setup(self.scope)
        self.call("bed_length")
        _, later = export_setup(self.scope)
        load_setup(self.scope, earlier)
        self.assertEqual(self.formula(), "plot_length * person.plot_width # of the plot")
        self.sift("bed_length > 5 and plot_length > 5")
        self.assertEqual(count_segment(self.scope, self.segment), 1)
        other = make_house(fields=False)
        create_field(other.scope, other.group_id(), FieldInput(label="Taken", key="bed_length", type_key="number"))
        with self.assertRaises(InvalidInput) as refused:
            load_setup(other.scope, later)
        self.assertIn("Plot length is called bed_length in the file; here Taken is.", str(refused.exception.messages))
        empty = make_house(fields=False)
        load_setup(empty.scope, later)
        self.assertEqual(read_catalogue(empty.scope).by_key["plot_length"].names, ("bed_length", "plot_length"))
        self.assertEqual(
            read_catalogue(empty.scope).by_key["area"].formula, "bed_length * person.plot_width # of the plot"
        )
