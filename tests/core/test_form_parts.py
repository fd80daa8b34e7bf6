"""Forms whole: sections, options, prefill, checks of every kind, repeats, surcharges, languages, reasons, differences."""

import ast
import re
import unittest
from datetime import date
from pathlib import Path
from typing import Any

from pydantic import ValidationError

import finesieve
import finesieve.core.fields.families as families
from finesieve.core.fields.about import PERSON
from finesieve.core.forms.compare import compare_forms
from finesieve.core.forms.definition import Form, Remark, Repeat, Section, Surcharge
from finesieve.core.forms.earlier import upgraded
from finesieve.core.forms.evaluate import prepare, tidied
from finesieve.core.forms.portable import asked_fields, localised, portable
from finesieve.core.forms.prepare import CompiledQuestion
from finesieve.core.forms.problems import form_problems
from finesieve.core.forms.rows import Situation
from finesieve.core.forms.tracing import reasons
from finesieve.core.forms.wording import texts_to_say, untranslated, worded, wording_of
from finesieve.core.language.checker import check
from finesieve.core.model.checks import CHECK_KINDS, Bound, check_expression, kinds_for, say_check
from finesieve.core.phrases import phrase
from finesieve.core.shipped import sentences, shipped, shipped_languages
from finesieve.core.values import plain_number
from tests.support.forms import CATALOGUE, ask, d, fill, form

PLOTS = Section(
    id="s2",
    title="Plots",
    repeat=Repeat(record_type=5, least=0, most=3),
    items=(ask(5, "soil"), ask(6, "size"), ask(7, "limed", show_when='soil = "clay" and size > 2')),
)


def messages(document: Form) -> list[tuple[str, str, str]]:
    return [(problem.place, problem.part, problem.message) for problem in form_problems(document, CATALOGUE)]


class Showing(unittest.TestCase):
    def test_a_section_rules_all_that_stands_in_it(self) -> None:
        """Hidden with its section: not asked, not checked, not stored; the reason is said."""
        document = form(
            Section(id="s1", items=(ask(1, "member"),)),
            Section(id="s2", show_when="member", items=(ask(2, "area"), Remark(kind="note", id="t1", text="Hello"))),
        )
        for member, shows in (("yes", True), ("no", False), ("", False)):
            found = fill(document, q1=member, q2="many")
            self.assertEqual([section.shows for section in found.sections], [True, shows])
            self.assertEqual(found.questions[1].trouble, "unreadable" if shows else "")
        self.assertEqual((found.questions[1].verdict, found.questions[1].because), (None, "section"))
        self.assertFalse(found.sections[1].fillings[0].items[1].shows)

    def test_options_show_under_rules(self) -> None:
        """An option that does not show cannot be chosen; who holds it keeps it."""
        document = form(ask(1, "member"), ask(2, "zone", options_when={"hill": "member"}))
        self.assertEqual(
            [option.stored_value for option in fill(document, q1="no").questions[1].offered], ["north", "south"]
        )
        self.assertEqual(fill(document, q1="yes", q2="hill").questions[1].trouble, "")
        self.assertEqual(fill(document, q1="no", q2="hill").questions[1].trouble, "unreadable")
        holder = Situation({"zone": "hill"}, known=True)
        self.assertEqual(fill(document, holder, q1="no", q2="hill").questions[1].trouble, "")

    def test_words_before_a_point(self) -> None:
        """`form.` is the answer alone, `person.` what is stored alone, `page.` an address parameter."""
        rules = ("form.area is blank", "person.area = 4", 'page.ref = "spring"', "area = 4", "double = 8")
        items = [ask(1, "member"), ask(2, "area", show_when="member")]
        document = form(
            *items, *(Remark(kind="note", id=f"t{n}", text="x", show_when=rule) for n, rule in enumerate(rules))
        )
        person = Situation({"area": d(4)}, page={"ref": "spring"})
        for answers, expected in (
            ({"q1": "no"}, [True, True, True, True, True]),
            ({"q1": "yes", "q2": "5"}, [False, True, True, False, False]),
            ({"q1": "yes", "q2": ""}, [True, True, True, None, None]),
        ):
            shown = fill(document, person, **answers).sections[0].fillings[0].items[2:]
            self.assertEqual([remark.verdict for remark in shown], expected, answers)

    def test_required_under_a_rule(self) -> None:
        """The rule decides alone; unknown is not required."""
        document = form(ask(1, "member"), ask(2, "code", required=True, required_when="member"))
        for member, trouble in (("yes", "missing"), ("no", ""), ("", "")):
            self.assertEqual(fill(document, q1=member).questions[1].trouble, trouble)


class Beginning(unittest.TestCase):
    person = Situation({"code": "C4", "area": d("2.5")}, page={"ref": "spring"}, known=True)

    def test_what_a_question_begins_with(self) -> None:
        """What is known, an address parameter, its default, that of the field: in this order; an answer wins over all."""
        document = form(
            ask(1, "code", parameter="ref", default="A1"),
            ask(2, "ref", parameter="ref", default="shop"),
            ask(3, "note"),
            ask(4, "area", prefill=False, default="7"),
        )
        known = fill(document, self.person)
        self.assertEqual([one.raw for one in known.questions], ["C4", "spring", "none", "7"])
        self.assertEqual([one.raw for one in fill(document).questions], ["A1", "shop", "none", "7"])
        self.assertEqual([one.raw for one in fill(document, self.person, q1="", q2="x").questions][:2], ["", "x"])

    def test_nothing_known_shows_unless_it_may(self) -> None:
        """What is stored decides rules, and is not shown to somebody who has not proved who they are."""
        stranger = Situation({"code": "C4"})
        self.assertEqual(fill(form(ask(1, "code")), stranger).questions[0].raw, "")

    def test_only_if_unknown(self) -> None:
        """What is known is not asked again, and stays."""
        document = form(ask(1, "code", only_if_unknown=True, required=True))
        known = fill(document, self.person)
        self.assertEqual((known.questions[0].because, known.results().of(PERSON), known.troubles), ("known", {}, ()))
        self.assertEqual(fill(document).questions[0].trouble, "missing")

    def test_hidden_questions_carry_values(self) -> None:
        """A hidden question is stored without being asked; nobody can send another value for it, nor be stopped by it."""
        document = form(
            ask(1, "ref", hidden=True, parameter="ref", default="shop"), ask(2, "area", hidden=True, default="many")
        )
        found = fill(document, Situation(page={"ref": "spring"}), q1="forged")
        self.assertEqual((found.results().of(PERSON), found.showing, found.troubles), ({"ref": "spring"}, (), ()))
        self.assertEqual(fill(document).results().of(PERSON), {"ref": "shop"})

    def test_a_passing_answer(self) -> None:
        """Is not kept on the person, who keeps what they had; rules see it, and it may set a house value."""
        document = form(ask(1, "code", passing=True), ask(2, "note", show_when='code = "B2"'))
        found = fill(document, self.person, q1="B2", q2="yes").results({"code": "motto"})
        self.assertEqual(found.values, {PERSON: {"note": "yes"}, "house": {"motto": "B2"}})
        self.assertEqual((found.passing, found.answers), ({"code": "B2"}, {"note": "yes", "code": "B2"}))
        self.assertEqual(fill(document, self.person, q1="").results().of(PERSON), {})

    def test_a_known_person_can_empty_an_answer(self) -> None:
        """For somebody new a blank stores nothing; for a known person it makes blank what was there."""
        document = form(ask(1, "code"), ask(2, "note"))
        self.assertEqual(fill(document, self.person, q1="", q2="").results().of(PERSON), {"code": None})
        self.assertEqual(fill(document, q1="", q2="").results().of(PERSON), {})

    def test_what_they_may_not_change_is_not_asked(self) -> None:
        locked = Situation({"code": "C4"}, known=True, locked=frozenset(("code",)))
        self.assertEqual(fill(form(ask(1, "code")), locked, q1="X").results().of(PERSON), {})


class Checking(unittest.TestCase):
    def verdict(self, key: str, raw: str, *checks: dict[str, Any], **other: str) -> tuple[str, str]:
        document = form(ask(1, key, checks=checks), ask(2, "again" if key == "secret" else "plots_wanted"))
        found = fill(document, q1=raw, **other).questions[0]
        return found.trouble, found.message

    def test_every_kind(self) -> None:
        """Each fails on false alone, and says so in its own words or the usual ones."""
        cases: tuple[tuple[str, dict[str, Any], str, str, str], ...] = (
            ("area", {"kind": "range", "low": 1, "high": 5}, "5", "5.1", "This must be between 1 and 5 m²."),
            ("area", {"kind": "range", "low": 1}, "1", "0", "This must be at least 1 m²."),
            ("code", {"kind": "length", "low": 2, "high": 3}, "abc", "abcd", "Write 2 to 3 characters."),
            ("code", {"kind": "length", "high": 3}, "abc", "abcd", "Write at most 3 characters."),
            ("crops", {"kind": "count", "low": 2}, "beans\nkale", "beans", "Choose at least 2."),
            (
                "code",
                {"kind": "pattern", "pattern": "[a-z]+"},
                "abc",
                "ab1",
                "This does not have the form that is needed here.",
            ),
            ("born", {"kind": "date", "high": {}}, "2026-11-25", "2026-11-26", "This must not be after today."),
            (
                "born",
                {"kind": "date", "high": {"amount": -16, "unit": "years"}},
                "2010-11-25",
                "2010-11-26",
                "This must not be after 16 years ago.",
            ),
            (
                "born",
                {"kind": "date", "low": {"day": "2000-01-01"}},
                "2000-01-01",
                "1999-12-31",
                "This must not be before 2000-01-01.",
            ),
            ("area", {"kind": "condition", "expression": "area != 3", "message": "Not three."}, "2", "3", "Not three."),
            ("code", {"kind": "named", "check_id": 1}, "C4", "4C", "Letter and number."),
            ("code", {"kind": "named", "check_id": 1, "message": "As on the sign."}, "C4", "4C", "As on the sign."),
        )
        for key, given, right, wrong, message in cases:
            with self.subTest(given):
                self.assertEqual(self.verdict(key, right, given), ("", ""))
                self.assertEqual(self.verdict(key, wrong, given), ("check", message))
                self.assertEqual(self.verdict(key, "", given), ("", ""))

    def test_same_as_another_answer(self) -> None:
        """Secrets too, which no expression reads; compared with a question that does not show it cannot tell."""
        same = {"kind": "same", "question": "q2"}
        self.assertEqual(self.verdict("secret", "long enough", same, q2="long enough")[0], "")
        self.assertEqual(
            self.verdict("secret", "long enough", same, q2="long enougher"),
            ("check", "This must be the same as “Password again”."),
        )
        document = form(ask(1, "secret", checks=(same,)), ask(2, "again", show_when="member"))
        self.assertEqual(fill(document, q1="long enough", q2="another one").questions[0].trouble, "")

    def test_a_check_that_cannot_tell_passes(self) -> None:
        document = form(
            ask(1, "area", checks=({"kind": "condition", "expression": "area > plots_wanted"},)), ask(2, "plots_wanted")
        )
        self.assertEqual(
            [fill(document, q1="3", q2=wanted).questions[0].trouble for wanted in ("", "2", "3")], ["", "", "check"]
        )

    def test_answers_are_tidied_before(self) -> None:
        """Visibly: what was typed is replaced by what is stored."""
        document = form(
            ask(1, "code", tidy=("spaces", "upper"), checks=({"kind": "pattern", "pattern": "[A-F] [0-9]"},))
        )
        found = fill(document, q1="  c   4 ").questions[0]
        self.assertEqual((found.raw, found.tidied, found.trouble), ("C 4", True, ""))
        self.assertFalse(fill(document, q1="C 4").questions[0].tidied)
        self.assertEqual([tidied("wREN", (how,)) for how in ("lower", "upper", "capital")], ["wren", "WREN", "WREN"])

    def test_each_check_says_itself_and_its_expression_is_sound(self) -> None:
        """The kinds offered for a type of answer read as expressions over it, and can be said."""
        samples: dict[str, dict[str, Any]] = {
            "range": {"low": 1}, "length": {"low": 1, "high": 9}, "count": {"high": 2}, "pattern": {"pattern": 'a"b\\d'},
            "date": {"low": {}, "high": {"amount": 3, "unit": "months"}}, "same": {"question": "q2"},
            "condition": {"expression": "member"}, "unique": {}, "named": {"check_id": 1},
        }  # fmt: skip
        self.assertEqual(samples.keys(), CHECK_KINDS.keys())
        for key in ("area", "code", "crops", "born", "zone", "member"):
            type_ = CATALOGUE.by_key[key].value_type
            for kind in kinds_for(type_.kind):
                made = ask(1, key, checks=({"kind": kind, **samples[kind]},)).checks[0]
                self.assertTrue(say_check(made))
                text = check_expression(made, key, type_.kind)
                if text:
                    self.assertEqual(check(text, CATALOGUE.names, expect="yes_no").problems, (), text)

    def test_bounds_in_words(self) -> None:
        said = [
            Bound(amount=n, unit=unit).words for n, unit in ((0, "days"), (-1, "days"), (1, "months"), (-16, "years"))
        ]
        self.assertEqual(said, ["today", "yesterday", "a month from today", "16 years ago"])
        self.assertEqual(Bound(day=date(2026, 4, 18)).expression, 'date("2026-04-18")')


class Repeating(unittest.TestCase):
    document = form(Section(id="s1", items=(ask(1, "member"), ask(2, "area"))), PLOTS)

    def test_each_filling_is_a_record(self) -> None:
        """Rules within see their own record; what is left empty adds none."""
        found = fill(self.document, s2="1 4", q5_1="clay", q6_1="3", q7_1="yes", q5_4="sand", q6_4="8", q7_4="yes")
        self.assertEqual(
            [one.values for one in found.results().records],
            [{"soil": "clay", "size": d(3), "limed": True}, {"soil": "sand", "size": d(8)}],
        )
        self.assertEqual(
            [(one.record_type, one.link, one.record_id) for one in found.results().records], [(5, 7, 0)] * 2
        )
        self.assertEqual(fill(self.document).results().records, ())

    def test_the_collection_follows_the_fillings(self) -> None:
        """Rules and derived values elsewhere see the records that would be there."""
        document = form(
            *self.document.sections,
            Section(
                id="s3", items=(Remark(kind="note", id="t1", text="x", show_when="rented > 10 and count(plots) = 3"),)
            ),
        )
        held = Situation(records={"plots": ((17, {"size": d(5)}),)})
        found = fill(document, held, s2="1 2", q6_1="3", q6_2="4")
        self.assertEqual((found.row.get("rented"), found.sections[2].fillings[0].items[0].verdict), (d(12), True))

    def test_a_filling_of_a_record_that_is_there(self) -> None:
        """A known person sees theirs, changes them, and adds more."""
        held = Situation(records={"plots": ((17, {"size": d(5), "soil": "clay"}),)}, known=True)
        self.assertEqual([one.id for one in fill(self.document, held).sections[1].fillings], ["r17"])
        found = fill(self.document, held, s2="r17 1", q6_r17="6", q6_1="2")
        self.assertEqual(
            [(one.record_id, one.values["size"]) for one in found.results().records], [(17, d(6)), (0, d(2))]
        )
        self.assertEqual(found.row.get("rented"), d(8))
        forged = fill(self.document, held, s2="r99", q6_r99="6")
        self.assertEqual(forged.results().records, ())

    def test_how_many(self) -> None:
        """From the fewest to the most; or as a formula says, and then nobody adds or takes away."""
        least = form(PLOTS.model_copy(update={"repeat": Repeat(record_type=5, least=2, most=3)}))
        self.assertEqual(
            [len(fill(least, s2=named).sections[0].fillings) for named in ("", "1", "1 2 3 4 5")], [2, 2, 3]
        )
        counted = form(
            Section(id="s1", items=(ask(1, "plots_wanted"),)),
            PLOTS.model_copy(update={"repeat": Repeat(record_type=5, count="plots_wanted", most=3)}),
        )
        for wanted, many in (("", 0), ("2", 2), ("2.9", 2), ("7", 3), ("-1", 0)):
            section = fill(counted, q1=wanted).sections[1]
            self.assertEqual((len(section.fillings), section.may_add, section.may_remove), (many, False, False))
        section = fill(self.document, s2="1 2 3").sections[1]
        self.assertEqual((section.may_add, section.may_remove), (False, True))

    def test_what_is_required_is_required_of_each(self) -> None:
        found = fill(self.document, s2="1 2", q6_1="3")
        self.assertEqual([one.id for one in found.troubles], ["q6.2"])

    def test_a_hidden_section_repeats_nothing(self) -> None:
        document = form(Section(id="s1", items=(ask(1, "member"),)), PLOTS.model_copy(update={"show_when": "member"}))
        self.assertEqual(fill(document, s2="1", q6_1="3").results().records, ())


class Charging(unittest.TestCase):
    def charges(self, key: str, raw: str, **settings: Any) -> list[str]:
        document = form(ask(1, key, surcharges=(Surcharge(label="Extra", **settings),)), ask(2, "area"))
        return [plain_number(charge.amount) for charge in fill(document, q1=raw, q2="4").charges]

    def test_what_an_answer_costs(self) -> None:
        """An amount, or a formula, between its bounds; for any answer, or for one option; nothing for no answer or no."""
        self.assertEqual(self.charges("member", "yes", amount="12"), ["12"])
        self.assertEqual(self.charges("member", "no", amount="12"), [])
        self.assertEqual(self.charges("member", "", amount="12"), [])
        self.assertEqual(self.charges("plots_wanted", "3", amount="plots_wanted * area * 0.5"), ["6"])
        self.assertEqual(self.charges("plots_wanted", "3", amount="plots_wanted * 9", high=d(20)), ["20"])
        self.assertEqual(self.charges("plots_wanted", "3", amount="plots_wanted", low=d(5)), ["5"])
        self.assertEqual(self.charges("crops", "beans\nkale", amount="2", option="kale"), ["2"])
        self.assertEqual(self.charges("crops", "beans", amount="2", option="kale"), [])

    def test_nothing_hidden_is_charged(self) -> None:
        document = form(ask(1, "area", surcharges=(Surcharge(label="Extra", amount="area"),), show_when="member"))
        self.assertEqual(fill(document, q1="3").charges, ())


class Speaking(unittest.TestCase):
    document = form(
        ask(1, "email", label="Your email"), ask(2, "zone"), ask(3, "area", checks=({"kind": "range", "low": 1, "high": 9},)),
        languages=("en", "de", "fr"), phrases={"de": {"Your email": "Ihre E-Mail", "Hill": "Hügel"}},
    )  # fmt: skip

    def test_texts_follow_the_language(self) -> None:
        """Labels, options, messages, the product's own sentences with their values; what lacks falls back."""
        say = wording_of(self.document, "de")
        found = worded(fill(self.document, q1="", q3="12"), say)
        self.assertEqual([one.label for one in found.questions], ["Ihre E-Mail", "Zone", "Area"])
        self.assertEqual([option.label for option in found.questions[1].offered], ["North", "Hügel", "South"])
        self.assertEqual(found.questions[0].message, "Bitte geben Sie Ihre E-Mail-Adresse an.")
        self.assertEqual(found.questions[2].message, "Das muss zwischen 1 und 9 m² liegen.")
        self.assertEqual(wording_of(self.document, "sv").language, "en")
        self.assertEqual(
            say(phrase("This must not be after {high}.", high=Bound(amount=-16, unit="years").words)),
            "Das darf nicht nach heute vor 16 Jahren liegen.",
        )

    def test_what_is_untranslated_is_listed(self) -> None:
        missing = [text.text for text in untranslated(self.document, CATALOGUE, "de")]
        self.assertEqual(missing, ["Join", "Zone", "North", "South", "Area", "m²"])
        self.assertIn("Send", [text.text for text in texts_to_say(self.document, CATALOGUE)])
        self.assertTrue({*sentences()} <= {text.text for text in untranslated(self.document, CATALOGUE, "fr")})

    def test_every_sentence_that_an_answer_can_meet_is_there(self) -> None:
        """What the types say of an answer has its place among the product's own sentences."""
        said = set()
        for path in Path(families.__file__).parent.glob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                if (
                    isinstance(node, ast.Call)
                    and getattr(node.func, "id", "") in ("ValueError", "phrase")
                    and node.args
                ):
                    first = node.args[0]
                    if isinstance(first, ast.Constant) and isinstance(first.value, str) and first.value[0].isupper():
                        said.add(first.value)
        root = Path(finesieve.__file__).parent
        for path in (*root.glob("web/question.html"), *root.glob("front/**/*.html")):
            said.update(re.findall(r'\b(?:say|phrase)\(\s*"([^"]+)"', re.sub(r'"\s+"', "", path.read_text())))
        self.assertGreater(len(said), 60)
        self.assertEqual(said - set(sentences()), set())

    def test_every_language_says_everything(self) -> None:
        """No sentence lacks in a catalogue, none is there that nobody says, and each has the places of its English."""
        root = Path(finesieve.__file__).parent
        said = {
            node.value for path in root.rglob("*.py") for node in ast.walk(ast.parse(path.read_text()))
            if isinstance(node, ast.Constant)
        }  # fmt: skip
        pages = "".join(re.sub(r'"\s+"', "", path.read_text()) for path in root.rglob("*.html"))
        said.update(sentence for sentence in sentences() if f'"{sentence}"' in pages or f"'{sentence}'" in pages)
        self.assertEqual(set(sentences()) - said, set())
        self.assertIn("de", shipped_languages())
        for language in shipped_languages():
            self.assertEqual(set(shipped(language)), set(sentences()))
            for english, words in shipped(language).items():
                self.assertLessEqual(set(re.findall(r"{\w+}", words)), set(re.findall(r"{\w+}", english)), english)

    def test_a_translation_with_strange_places_falls_back(self) -> None:
        self.assertEqual(phrase("At most {high}.", high="3").said_as("Höchstens {hoch}."), "At most 3.")


class Reasons(unittest.TestCase):
    def test_the_parts_that_decided(self) -> None:
        """Of an `and` that is false those that are false, with what they read."""
        document = form(ask(1, "member"), ask(2, "area"), ask(3, "code", show_when="member and area > 3 and area < 9"))
        prepared = prepare(document, CATALOGUE)
        found = fill(document, q1="yes", q2="2")
        question = prepared.compiled.sections[0].items[2]
        assert isinstance(question, CompiledQuestion) and question.show is not None and found.moment is not None
        (reason,) = reasons(question.show, found.row, found.moment)
        self.assertEqual((reason.text, reason.verdict), ("area > 3", False))
        self.assertEqual([(key, value) for key, _, value in reason.read], [("area", d(2))])


class Documents(unittest.TestCase):
    def test_earlier_documents_are_read(self) -> None:
        old = {
            "title": "A",
            "questions": [
                {"id": "q1", "field_id": 1, "check": {"kind": "range", "low": "1"}},
                {"id": "q2", "field_id": 2, "check": None},
            ],
        }
        found = Form.model_validate(old)
        self.assertEqual([len(question.checks) for question in found.questions], [1, 0])
        self.assertEqual(found.sections[0].id, "s1")
        self.assertEqual(Form.model_validate(found.model_dump(mode="json")), found)

    def test_to_a_file_and_back(self) -> None:
        """Ids become keys and come back; a check of the library is spelled out."""
        named = {"kind": "named", "check_id": 1}
        document = form(
            Section(id="s1", items=(ask(1, "code", checks=(named,)), Remark(kind="heading", id="t1", text="Then"))),
            PLOTS,
        )
        written = portable(document, CATALOGUE)
        self.assertEqual(
            asked_fields(written),
            [("person", "code"), ("record:plot", "soil"), ("record:plot", "size"), ("record:plot", "limed")],
        )
        back = Form.model_validate(localised(written, CATALOGUE))
        self.assertEqual(portable(back, CATALOGUE), written)
        self.assertEqual(back.questions[0].checks[0].kind, "pattern")
        self.assertEqual(upgraded(written, terse=True), written)
        with self.assertRaises(KeyError):
            localised({"title": "A", "sections": [{"id": "s1", "items": [{"id": "q1", "field": "gone"}]}]}, CATALOGUE)

    def test_refused_documents(self) -> None:
        """A wrong id, a field asked twice, the fewest above the most, a language named twice."""
        for build in (
            lambda: form(ask(1, "code"), ask(1, "area")),
            lambda: form(ask(1, "code"), ask(2, "code")),
            lambda: form(Section(id="x1")),
            lambda: Repeat(record_type=5, least=4, most=3),
            lambda: form(ask(1, "code"), languages=("en", "en")),
            lambda: ask(1, "code", parameter="Ref"),
        ):
            with self.assertRaises(ValidationError):
                build()

    def test_problems_stand_at_their_place(self) -> None:
        """Sections, options, counts, conditions, surcharges, strangers in a section, checks that do not fit."""
        email = ask(1, "email")
        for items, expected in (
            ((email, ask(2, "zone", options_when={"hill": "1 +"})), ("q2", "option:hill")),
            ((email, ask(2, "zone", options_when={"moor": "member"})), ("q2", "option:moor")),
            ((email, ask(2, "area", checks=({"kind": "condition", "expression": "aera > 1"},))), ("q2", "check:0")),
            ((email, ask(2, "area", checks=({"kind": "length", "low": 1},))), ("q2", "check:0")),
            ((email, ask(2, "area", checks=({"kind": "same", "question": "q9"},))), ("q2", "check:0")),
            ((email, ask(2, "code", checks=({"kind": "named", "check_id": 9},))), ("q2", "check:0")),
            ((email, ask(2, "area", surcharges=(Surcharge(label="x", amount="zone"),))), ("q2", "surcharge:0")),
            ((email, ask(2, "area", required_when="area")), ("q2", "required_when")),
            ((email, ask(2, "soil")), ("q2", "")),
        ):
            with self.subTest(expected):
                ((place, part, _),) = messages(form(*items))
                self.assertEqual((place, part), expected)
        repeated = PLOTS.model_copy(update={"repeat": Repeat(record_type=5, count="zone")})
        self.assertEqual(
            [(place, part) for place, part, _ in messages(form(Section(id="s1", items=(email,)), repeated))],
            [("s2", "count")],
        )
        gone = PLOTS.model_copy(update={"repeat": Repeat(record_type=99)})
        self.assertIn(
            ("s2", ""), [(place, part) for place, part, _ in messages(form(Section(id="s1", items=(email,)), gone))]
        )

    def test_circles_go_through_sections_and_counts(self) -> None:
        document = form(
            Section(id="s1", items=(ask(1, "email"), ask(2, "plots_wanted", show_when="rented > 3"))),
            PLOTS.model_copy(update={"repeat": Repeat(record_type=5, count="plots_wanted")}),
        )
        self.assertTrue(any("wait for one another" in message for _, _, message in messages(document)))

    def test_differences_are_readable(self) -> None:
        """What was added, removed, moved, changed, each with how it was and is; an equal form has none."""
        before = form(
            Section(
                id="s1",
                title="You",
                items=(ask(1, "email"), ask(2, "zone"), ask(3, "area", checks=({"kind": "range", "low": 1},))),
            )
        )
        after = form(
            Section(id="s1", title="About you", items=(ask(3, "area", checks=({"kind": "range", "low": 2},), show_when="member"), ask(1, "email"))),
            Section(id="s2", items=(ask(4, "code"),)), send_label="Go",
        )  # fmt: skip
        found = [
            (one.kind, one.where, one.what, one.before, one.after) for one in compare_forms(before, after, CATALOGUE)
        ]
        for line in (
            ("changed", "The form", "button", "Send", "Go"),
            ("removed", "Zone", "", "", ""),
            ("changed", "About you", "title", "You", "About you"),
            ("moved", "Area", "", "", ""),
            ("changed", "Area", "shows when", "", "member"),
            ("changed", "Area", "check", "must be at least 1 m²", "must be at least 2 m²"),
            ("added", "Code", "", "", ""),
        ):
            self.assertIn(line, found)
        self.assertNotIn(("moved", "Email", "", "", ""), found)
        self.assertEqual(compare_forms(before, before, CATALOGUE), ())
