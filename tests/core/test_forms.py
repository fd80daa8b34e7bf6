"""Forms: what shows, what is asked, what is wrong, what would be stored."""

import unittest
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

from pydantic import ValidationError

from finesieve.core.fields.about import PERSON
from finesieve.core.fields.definition import Field, Option
from finesieve.core.forms.definition import Form, Question, Section
from finesieve.core.forms.evaluate import PreparedForm, prepare
from finesieve.core.forms.outcome import Outcome
from finesieve.core.forms.problems import form_problems
from finesieve.core.forms.rows import Situation
from finesieve.core.model.catalogue import Catalogue, Group, build_catalogue
from finesieve.core.model.checks import PatternCheck, RangeCheck
from tests.support.fields import MOMENT

WATERING = (Option("By hand", "by hand"), Option("Drip line", "drip"))
FIELDS = (
    Field(1, "email", "Email", "email", 1, required=True),
    Field(2, "watering", "Watering", "choice", 1, options=WATERING),
    Field(3, "litres", "Litres a day", "number", 1, required=True, unit="litres"),
    Field(4, "plot_code", "Plot code", "short_text", 1),
    Field(5, "swaps", "Swaps seed", "yes_no", 1),
    Field(6, "a_week", "A week", "short_text", 1, formula="litres * 7"),
    Field(7, "note", "Note", "short_text", 1),
)
CATALOGUE: Catalogue = build_catalogue(1, ZoneInfo("UTC"), [Group(1, "All")], FIELDS)
BY_HAND = 'watering = "by hand"'


def form(*questions: Question) -> Form:
    return Form(title="Join", sections=(Section(id="s1", items=questions),))


FORM = form(
    Question(id="q1", field_id=1),
    Question(id="q2", field_id=2),
    Question(id="q3", field_id=3, show_when=BY_HAND, checks=(RangeCheck(low=Decimal(1), high=Decimal(500)),)),
    Question(
        id="q4", field_id=4, checks=(PatternCheck(pattern="[A-Z]{2}[0-9]{2}", message="Two letters, two digits."),)
    ),
)


def prepared(document: Form) -> PreparedForm:
    return prepare(document, CATALOGUE)


def outcome(document: Form = FORM, stored: dict[str, Any] | None = None, **answers: str) -> Outcome:
    return prepared(document).evaluate(answers, MOMENT, Situation(stored or {}))


def problems(*questions: Question) -> list[tuple[str, str]]:
    found = form_problems(form(*questions), CATALOGUE)
    return [(problem.place, problem.message) for problem in found]


class Showing(unittest.TestCase):
    def test_a_rule_decides_what_shows(self) -> None:
        """A question shows only when its rule is true; a blank is not yet true."""
        for watering, shows in (("by hand", True), ("drip", False), ("", False)):
            self.assertIs(outcome(q2=watering).questions[2].shows, shows)
        self.assertIsNone(outcome().questions[2].verdict)

    def test_hidden_is_not_asked_checked_or_stored(self) -> None:
        """What a hidden question was sent counts for nothing, not even when it is wrong."""
        found = outcome(q1="a@b.example", q2="drip", q3="9999")
        self.assertEqual(found.troubles, ())
        self.assertEqual(found.results().of(PERSON), {"email": "a@b.example", "watering": "drip"})

    def test_in_a_rule_a_hidden_answer_is_the_stored_value(self) -> None:
        """A shown question is its answer, even if blank; a hidden one is what was stored before."""
        document = form(*FORM.questions, Question(id="q5", field_id=7, show_when="litres > 100"))
        self.assertTrue(outcome(document, {"litres": Decimal(200)}, q2="drip").questions[4].shows)
        self.assertFalse(outcome(document, {"litres": Decimal(200)}, q2="by hand", q3="").questions[4].shows)

    def test_rules_may_ask_about_later_questions_and_derived_values(self) -> None:
        """The order of the page does not matter to rules, and derived values follow the answers."""
        document = form(
            Question(id="q1", field_id=7, show_when="a_week > 70"),
            Question(id="q2", field_id=3, show_when="swaps"),
            Question(id="q3", field_id=5),
        )
        found = outcome(document, q2="11", q3="yes", q1="hello")
        self.assertEqual([question.shows for question in found.questions], [True, True, True])
        self.assertEqual([question.question.id for question in found.questions], ["q1", "q2", "q3"])
        self.assertFalse(outcome(document, q2="10", q3="yes").questions[0].shows)
        self.assertFalse(outcome(document, q2="11", q3="no").questions[0].shows)


class Checking(unittest.TestCase):
    def test_troubles(self) -> None:
        """Missing, unreadable and caught by a check: each says so in its own words."""
        found = outcome(q1="", q2="by hand", q3="many", q4="xx")
        self.assertEqual([question.trouble for question in found.questions], ["missing", "", "unreadable", "check"])
        self.assertEqual(found.questions[0].message, "Please give your email address.")
        self.assertEqual(found.questions[3].message, "Two letters, two digits.")
        self.assertEqual(found.results().of(PERSON), {"watering": "by hand"})

    def test_ranges(self) -> None:
        """The ends belong to the range; the message names them with their unit."""
        for raw, trouble in (("0.99", "check"), ("1", ""), ("500", ""), ("500.01", "check")):
            self.assertEqual(outcome(q2="by hand", q3=raw).questions[2].trouble, trouble)
        message = outcome(q2="by hand", q3="0").questions[2].message
        self.assertEqual(message, "This must be between 1 and 500 litres.")

    def test_an_optional_question_left_empty_passes_its_check(self) -> None:
        """Checks ignore blanks; "required" is another matter."""
        self.assertEqual(outcome(q4=" ").questions[3].trouble, "")

    def test_the_whole_answer_must_match(self) -> None:
        """A pattern that fits a part only does not fit."""
        self.assertEqual(outcome(q4="AB12").questions[3].trouble, "")
        self.assertEqual(outcome(q4="AB123").questions[3].trouble, "check")

    def test_required_can_be_set_per_question(self) -> None:
        """A question may ask more, or less, than its field."""
        document = form(Question(id="q1", field_id=1, required=False), Question(id="q2", field_id=2, required=True))
        self.assertEqual([question.trouble for question in outcome(document).questions], ["", "missing"])

    def test_wild_patterns_do_not_run_away(self) -> None:
        """A pattern that would explode elsewhere is harmless here; one that cannot be read is refused."""
        document = form(Question(id="q1", field_id=4, checks=(PatternCheck(pattern="(a+)+$"),)))
        self.assertEqual(outcome(document, q1="a" * 499 + "b").questions[0].trouble, "check")
        for pattern in ("(", "(?=x)x", ""):
            with self.assertRaises(ValidationError):
                PatternCheck(pattern=pattern)


class Publishing(unittest.TestCase):
    email = Question(id="q1", field_id=1)

    def test_a_sound_form_has_no_problems(self) -> None:
        self.assertEqual(problems(*FORM.questions), [])

    def test_what_keeps_a_form_from_being_published(self) -> None:
        """Each is said at its question, or at the whole."""
        self.assertEqual(problems()[0], ("", "The form asks nothing yet; add a question."))
        self.assertIn(
            ("", "A sign-up must ask for the email; add that question."), problems(Question(id="q2", field_id=2))
        )
        for question, words in (
            (Question(id="q2", field_id=99), "gone"),
            (Question(id="q2", field_id=6), "gone"),
            (Question(id="q2", field_id=2, checks=(RangeCheck(low=Decimal(1)),)), "does not fit"),
            (Question(id="q2", field_id=2, show_when="nothing_such"), "cannot be read"),
            (Question(id="q2", field_id=2, show_when="litres"), "cannot be read"),
        ):
            ((place, message),) = problems(self.email, question)
            self.assertEqual(place, "q2")
            self.assertIn(words, message)

    def test_the_email_is_always_asked_and_required(self) -> None:
        """A sign-up that could be sent without the built-in email would lead nowhere."""
        other = Field(8, "second_email", "Second email", "email", 1)
        for question in (
            Question(id="q1", field_id=1, required=False),
            Question(id="q1", field_id=1, show_when="swaps"),
        ):
            self.assertEqual([place for place, _ in problems(question)], ["q1"])
        catalogue = build_catalogue(1, ZoneInfo("UTC"), [Group(1, "All")], [*FIELDS, other])
        asked = form(Question(id="q1", field_id=8))
        found = form_problems(asked, catalogue)
        self.assertEqual([problem.place for problem in found], [""])

    def test_circles_of_rules_are_named(self) -> None:
        """Two rules that wait for one another can never be worked out."""
        found = problems(
            self.email,
            Question(id="q2", field_id=2, show_when="swaps"),
            Question(id="q3", field_id=5, show_when="a_week > 1"),
            Question(id="q4", field_id=3, show_when=BY_HAND),
        )
        self.assertEqual(len(found), 1)
        self.assertIn("Watering → Swaps seed → Litres a day → Watering", found[0][1])

    def test_documents_are_checked(self) -> None:
        """Twice the same id or field, bounds the wrong way round, surplus parts: refused."""
        for build in (
            lambda: form(self.email, self.email),
            lambda: form(self.email, Question(id="q2", field_id=1)),
            lambda: RangeCheck(low=Decimal(2), high=Decimal(1)),
            lambda: RangeCheck(),
            lambda: Form.model_validate({"title": "x", "surplus": 1}),
            lambda: Question(id="x1", field_id=1),
        ):
            with self.assertRaises(ValidationError):
                build()

    def test_a_document_survives_storing(self) -> None:
        """JSON and back is the same form."""
        self.assertEqual(Form.model_validate(FORM.model_dump(mode="json")), FORM)
        self.assertEqual(FORM.next_id(), "q5")
