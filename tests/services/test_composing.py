"""Composing forms whole: sections, order, copies, undo and redo, versions, two at once, languages, the library."""

import unittest

from finesieve.core.errors import Conflict, InvalidExpression, InvalidInput, NotAllowed, NotFound, Overtaken
from finesieve.core.forms.definition import Remark
from finesieve.services.define.named_checks import change_check, create_check, list_checks, remove_check
from finesieve.services.define.options import OptionInput, change_options
from finesieve.services.forms.composing import (
    FormSettings,
    FormTexts,
    QuestionInput,
    RemarkInput,
    SectionInput,
    add_question,
    add_remark,
    arrange,
    change_form_settings,
    change_form_texts,
    change_question,
    change_remark,
    change_section,
    copy_item,
    duplicate_section,
    remove_part,
    set_phrases,
)
from finesieve.services.forms.forms import (
    create_form,
    form_versions,
    known_phrases,
    publish_form,
    read_draft,
    read_form,
    return_to_version,
    unpublished_differences,
)
from finesieve.services.kernel.changes import redoable_change, undo_change, undoable_change
from tests.support.gardens import Garden


class Composing(unittest.TestCase):
    def setUp(self) -> None:
        self.garden = Garden()
        self.scope, self.form, self.do = self.garden.scope, self.garden.form, self.garden.do

    def document(self):  # type: ignore[no-untyped-def]
        return read_form(self.scope, self.form).document

    def test_order_goes_across_sections_of_one_kind_only(self) -> None:
        """A question moves among those about the same thing; a plot's question does not come among a person's."""
        self.do(arrange, ["s2", "q5", "q4", "s1", "q1", "q3", "q2"])
        self.assertEqual([section.id for section in self.document().sections], ["s2", "s1"])
        with self.assertRaises(InvalidInput):
            self.do(arrange, ["s1", "q1", "q2", "q3", "q4", "s2", "q5"])
        for order in (["s1", "q1", "q2", "q3", "s2", "q4"], ["q1", "s1", "q2", "q3", "s2", "q4", "q5"]):
            with self.assertRaises(Conflict):
                self.do(arrange, order)

    def test_a_section_with_questions_stays_what_it_is_about(self) -> None:
        with self.assertRaises(InvalidInput):
            self.do(change_section, "s2", SectionInput(title="Plots"))
        for asked, place in (
            (SectionInput(repeat=str(self.garden.type), count="zone"), "count"),
            (SectionInput(repeat=str(self.garden.type), least=4, most=3), "least"),
            (SectionInput(repeat="99"), "repeat"),
            (SectionInput(show_when="1 +"), "show_when"),
        ):
            with self.subTest(place), self.assertRaises(InvalidInput) as caught:
                self.do(change_section, "s2", asked)
            self.assertIn(place, caught.exception.messages)

    def test_headings_and_notes(self) -> None:
        self.do(add_remark, "heading", "s1")
        self.do(change_remark, "t1", RemarkInput(kind="note", text="Bring {zone}.", show_when='zone = "north"'))
        made = Remark(kind="note", id="t1", text="Bring {zone}.", show_when='zone = "north"')
        self.assertEqual(self.document().item("t1"), made)
        # A placeholder that cannot work is refused where it is saved, and what was there stays.
        with self.assertRaisesRegex(InvalidInput, "No house value is called tea"):
            self.do(change_remark, "t1", RemarkInput(kind="note", text="Bring {house.tea}."))
        self.assertEqual(self.document().item("t1"), made)
        with self.assertRaisesRegex(InvalidInput, "No house value is called tea"):
            self.do(change_form_texts, FormTexts(title="Tea", thanks="Bring {house.tea}."))
        with self.assertRaisesRegex(InvalidInput, "No house value is called tea"):
            create_check(self.scope, "Tea", {"kind": "length", "low": "2", "message": "Not without {house.tea}."})
        with self.assertRaises(InvalidExpression):
            self.do(change_remark, "t1", RemarkInput(show_when="zon"))
        with self.assertRaises(NotFound):
            self.do(change_remark, "q1", RemarkInput())

    def test_rules_in_a_repeated_section_speak_of_the_record(self) -> None:
        self.garden.question("q5", show_when='soil = "clay" and zone = "north"')
        with self.assertRaises(InvalidExpression):
            self.garden.question("q2", show_when='soil = "clay"')

    def test_copies(self) -> None:
        """A duplicate asks another field with the same settings; between forms all goes along but what does not fit."""
        self.garden.question("q2", show_when="swaps_seed", help="Where it lies")
        with self.assertRaises(InvalidInput):
            self.do(copy_item, "q2")
        self.do(copy_item, "q2", self.garden.house.field_id("favourite"))
        copy = self.document().sections[0].items[2]
        self.assertEqual((copy.id, copy.show_when, copy.help), ("q6", "swaps_seed", ""))
        other = create_form(self.scope, "Other")
        copy_item(self.scope, other, read_draft(self.scope, other).revision, "q2", from_form=self.form)
        copied = read_form(self.scope, other).document.questions[1]
        self.assertEqual(
            (copied.field_id, copied.help, copied.show_when),
            (self.garden.house.field_id("zone"), "Where it lies", "swaps_seed"),
        )
        self.do(duplicate_section, "s2")
        self.assertEqual(
            [(section.title, len(section.items)) for section in self.document().sections][1:],
            [("Plots", 2), ("Plots (copy)", 0)],
        )
        with self.assertRaises(NotFound):
            self.do(copy_item, "q2", from_form=10_000)

    def test_undo_and_redo_step_by_step(self) -> None:
        """Back through all changes, and forward again, until something new is done."""
        titles = []
        for title in ("One", "Two", "Three"):
            self.do(change_form_texts, FormTexts(title=title))
        for _ in range(2):
            change = undoable_change(self.scope, "form", self.form)
            assert change is not None
            undo_change(self.scope, change.id)
            titles.append(self.document().title)
        change = redoable_change(self.scope, "form", self.form)
        assert change is not None
        undo_change(self.scope, change.id, again=True)
        titles.append(self.document().title)
        self.assertEqual(titles, ["Two", "One", "Two"])
        self.do(change_form_texts, FormTexts(title="Four"))
        self.assertIsNone(redoable_change(self.scope, "form", self.form))

    def test_two_at_once(self) -> None:
        """Different parts do not meet; the same part is refused to the second, who is told by whom."""
        old = read_draft(self.scope, self.form).revision
        colleague = self.garden.house.as_role("editor", "Corin Yeo")
        change_question(colleague, self.form, old, "q2", QuestionInput(label="Where?"))
        change_question(self.scope, self.form, old, "q3", QuestionInput(label="Seed?"))
        add_question(self.scope, self.form, old, self.garden.house.field_id("born"))
        self.assertEqual([question.label for question in self.document().questions[1:3]], ["Where?", "Seed?"])
        with self.assertRaises(Overtaken) as caught:
            change_question(self.scope, self.form, old, "q2", QuestionInput(label="Which zone?"))
        self.assertEqual(caught.exception.by, "Corin Yeo")
        change_form_texts(self.scope, self.form, old, FormTexts(title="Mine"))
        with self.assertRaises(Overtaken):
            change_form_texts(colleague, self.form, old, FormTexts(title="Theirs"))
        self.assertEqual(self.document().title, "Mine")
        with self.assertRaises(Overtaken):
            change_section(colleague, self.form, self._touch("s1"), "s1", SectionInput(title="Theirs"))
        with self.assertRaises(NotAllowed):
            remove_part(self.garden.house.as_role("clerk"), self.form, old, "q2")

    def _touch(self, section: str) -> int:
        old = read_draft(self.scope, self.form).revision
        change_section(self.scope, self.form, old, section, SectionInput(title="Mine"))
        return old

    def test_versions(self) -> None:
        """Each with what it changed; an earlier one comes back as the draft, and is a version of its own when published."""
        self.garden.publish()
        self.garden.question("q2", label="Where?")
        self.assertEqual([one.what for one in unpublished_differences(self.scope, self.form)], ["wording"])
        self.garden.publish()
        self.assertEqual(
            [(line.number, len(line.differences)) for line in form_versions(self.scope, self.form)], [(2, 1), (1, 0)]
        )
        change = return_to_version(self.scope, self.form, 1)
        self.assertEqual(self.document().question("q2").label, "")
        undo_change(self.scope, change)
        self.assertEqual(self.document().question("q2").label, "Where?")
        return_to_version(self.scope, self.form, 1)
        self.assertEqual(self.garden.publish(), 3)
        with self.assertRaises(NotFound):
            return_to_version(self.scope, self.form, 9)

    def test_languages(self) -> None:
        """Only the form's own; what is translated goes with a language taken away, and helps other forms."""
        with self.assertRaises(NotFound):
            self.do(set_phrases, "de", {"Zone": "Lage"})
        self.do(change_form_settings, FormSettings(languages=("de", "de")))
        self.do(set_phrases, "de", {"Zone": " Lage ", "Email": "E-Mail"})
        with self.assertRaisesRegex(InvalidInput, "No house value is called tee"):
            self.do(set_phrases, "de", {"Zone": "Lage {house.tee}"})
        self.do(set_phrases, "de", {"Email": ""})
        self.assertEqual((self.document().languages, self.document().phrases), (("en", "de"), {"de": {"Zone": "Lage"}}))
        other = create_form(self.scope, "Other")
        self.assertEqual(known_phrases(self.scope, other, "de"), {"Zone": "Lage"})
        self.do(change_form_settings, FormSettings())
        self.assertEqual(self.document().phrases, {})


class Library(unittest.TestCase):
    def test_a_check_of_the_library_is_one_for_all(self) -> None:
        """Changed, it is so at once where it is used, in published forms too; it stays while it is used."""
        garden = Garden()
        scope = garden.scope
        check = create_check(scope, "Code", {"kind": "pattern", "pattern": "[A-F][0-9]", "message": "Like C4."})
        favourite = garden.house.field_id("favourite")
        garden.do(add_question, favourite, "s1")
        garden.question("q6", checks=({"kind": "named", "check_id": check},))
        garden.publish()
        self.assertEqual(garden.send(q1="a@x.example", q6="C44").outcome.troubles[0].message, "Like C4.")
        change = change_check(scope, check, "Code", {"kind": "pattern", "pattern": "[A-F][0-9]+"})
        self.assertTrue(garden.send(q1="a@x.example", q6="C44").sent)
        undo_change(scope, change)
        self.assertFalse(garden.send(q1="b@x.example", q6="C44").sent)
        self.assertEqual(
            [(use.check.name, use.forms) for use in list_checks(scope)], [("Code", ((garden.form, "Join us"),))]
        )
        with self.assertRaisesRegex(Conflict, "Join us"):
            remove_check(scope, check)
        garden.do(remove_part, "q6")
        with self.assertRaisesRegex(Conflict, "Join us .in force."):
            remove_check(scope, check)
        garden.publish()
        undo = remove_check(scope, check)
        self.assertEqual(list_checks(scope), ())
        undo_change(scope, undo)
        self.assertEqual(len(list_checks(scope)), 1)

    def test_refusals(self) -> None:
        scope = Garden().scope
        create_check(scope, "Code", {"kind": "length", "low": "2"})
        for name, given, place in (
            ("", {"kind": "length", "low": "2"}, "name"),
            (" code ", {"kind": "length", "low": "2"}, "name"),
            ("Other", {"kind": "pattern", "pattern": "("}, "pattern"),
            ("Other", {"kind": "range"}, "low"),
            ("Other", {"kind": "condition", "expression": "true"}, "low"),
        ):
            with self.subTest(given), self.assertRaises(InvalidInput) as caught:
                create_check(scope, name, given)
            self.assertIn(place, caught.exception.messages)


class Renaming(unittest.TestCase):
    def test_a_renamed_option_is_renamed_throughout_a_form(self) -> None:
        """In rules of every kind, in those of options, defaults and surcharges, in the draft and what is published."""
        garden = Garden()
        charge = {"label": "Walk", "amount": 'if(form.zone = "hill", 2, 1)', "option": "hill"}
        garden.question("q2", options_when={"hill": "swaps_seed"}, default="hill", surcharges=(charge,))
        garden.question("q5", show_when='soil = "clay" and zone = "hill"')
        garden.publish()
        options = [OptionInput(was=z, label=z, value="moor" if z == "hill" else z) for z in ("north", "hill", "south")]
        change_options(garden.scope, garden.house.field_id("zone"), options)
        document = read_form(garden.scope, garden.form).document
        asked = document.question("q2")
        assert asked is not None
        self.assertEqual((asked.options_when, asked.default), ({"moor": "swaps_seed"}, "moor"))
        self.assertEqual(
            (asked.surcharges[0].option, asked.surcharges[0].amount), ("moor", 'if(form.zone = "moor", 2, 1)')
        )
        self.assertEqual(document.questions[4].show_when, 'soil = "clay" and zone = "moor"')
        self.assertFalse(read_form(garden.scope, garden.form).unpublished)
        self.assertEqual(garden.do(publish_form), 1)
