"""The outcome of a form: what shows, what is wrong, what would be stored, and why.

The public page, and later rehearsal and checkout, all draw on this one value.
"""

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, replace
from datetime import tzinfo
from decimal import Decimal
from typing import Final, Literal

from finesieve.core.fields.about import PERSON
from finesieve.core.fields.definition import Field, Shelf
from finesieve.core.forms.definition import Check, Form, PatternCheck, Question, RangeCheck, compile_pattern
from finesieve.core.language.checker import check
from finesieve.core.language.derived import Derivation, find_circle
from finesieve.core.language.evaluator import Moment, Program, compile_python
from finesieve.core.language.names import World
from finesieve.core.language.problems import Problem
from finesieve.core.values import Type, Value, plain_number

__all__ = [
    "FormProblem",
    "Outcome",
    "PreparedForm",
    "QuestionOutcome",
    "can_ask",
    "check_fits",
    "form_problems",
    "prepare",
    "say_range",
]

Trouble = Literal["", "missing", "unreadable", "check", "taken"]


@dataclass(frozen=True, slots=True)
class FormProblem:
    """Something that keeps a form from being published, at a question or (id "") the whole."""

    question_id: str
    message: str
    problems: tuple[Problem, ...] = ()


@dataclass(frozen=True, slots=True)
class QuestionOutcome:
    """What became of one question.

    `verdict` is that of its rule: it shows only on true. `raw` is what was
    typed, `value` what it was read as; `trouble` and `message` say what is
    wrong with it.
    """

    question: Question
    field: Field
    verdict: bool | None
    raw: str
    value: Value
    required: bool
    trouble: Trouble = ""
    message: str = ""

    @property
    def shows(self) -> bool:
        return self.verdict is True

    @property
    def label(self) -> str:
        return self.question.label or self.field.label

    @property
    def help(self) -> str:
        return self.question.help or self.field.help


@dataclass(frozen=True, slots=True)
class Outcome:
    """The questions in the order of the form, and what sending would store."""

    questions: tuple[QuestionOutcome, ...]

    @property
    def showing(self) -> tuple[QuestionOutcome, ...]:
        return tuple(question for question in self.questions if question.shows)

    @property
    def troubles(self) -> tuple[QuestionOutcome, ...]:
        return tuple(question for question in self.questions if question.trouble)

    def taken(self, keys: Collection[str]) -> "Outcome":
        """The same, saying that somebody else has the values of these fields already."""
        message = "This is taken already. Please choose another."
        return Outcome(
            tuple(
                replace(one, trouble="taken", message=message) if one.shows and one.field.key in keys else one
                for one in self.questions
            )
        )

    def reworded(self, reword: Callable[[str], str]) -> "Outcome":
        """The same with the labels and helps of what shows passed through a function."""
        return Outcome(
            tuple(
                replace(
                    one,
                    question=one.question.model_copy(update={"label": reword(one.label), "help": reword(one.help)}),
                )
                if one.shows
                else one
                for one in self.questions
            )
        )

    @property
    def to_store(self) -> dict[str, Value]:
        """Values by field key: of shown questions only; a blank answer stores nothing."""
        return {
            outcome.field.key: outcome.value
            for outcome in self.questions
            if outcome.shows and not outcome.trouble and outcome.value is not None
        }


class PreparedForm:
    """A form whose rules are compiled, ready to be evaluated many times."""

    def __init__(
        self,
        form: Form,
        fields: Mapping[int, Field],
        rules: Mapping[str, Program],
        order: tuple[Question, ...],
        derivation: Derivation,
    ) -> None:
        self.form = form
        self._fields = fields
        self._rules = rules
        self._order = order
        self._derivation = derivation
        self._patterns = {
            question.id: compile_pattern(question.check.pattern)
            for question in form.questions
            if isinstance(question.check, PatternCheck)
        }

    def evaluate(
        self,
        answers: Mapping[str, str],
        moment: Moment,
        stored: Mapping[str, Value] | None = None,
        shelf: Shelf | None = None,
    ) -> Outcome:
        """Work out the form for these answers, by question id, of a person with these stored values.

        `shelf` has the files that were sent so far; an answer names one by its token.

        A question that is hidden is not asked, not checked and not stored; in
        rules its field is then the stored value.
        """
        known: dict[str, Value] = dict(stored or {})
        outcomes: dict[str, QuestionOutcome] = {}
        for question in self._order:
            field = self._fields[question.field_id]
            field = shelf.known(field) if shelf else field
            rule = self._rules.get(question.id)
            verdict = True if rule is None else rule(self._derivation.row(known, moment), moment)
            outcome = self._one(
                question,
                field,
                verdict is True,
                answers.get(question.id, ""),
                bool(verdict) if verdict is not None else None,
                shelf,
            )
            outcomes[question.id] = outcome
            if outcome.shows and field.stores:
                known[field.key] = outcome.value
        return Outcome(tuple(outcomes[question.id] for question in self.form.questions if question.id in outcomes))

    def _one(
        self, question: Question, field: Field, shows: bool, raw: str, verdict: bool | None, shelf: Shelf | None
    ) -> QuestionOutcome:
        required = field.stores and (field.required if question.required is None else question.required)
        if not shows:
            return QuestionOutcome(question, field, verdict, raw, None, required)
        try:
            value = field.parse(raw, shelf)
            field.refuse_retired(value)
        except ValueError as trouble:
            return QuestionOutcome(question, field, verdict, raw, None, required, "unreadable", str(trouble))
        if value is None:
            missing = ("missing", _MISSING.get(field.type_key, "Please answer this.")) if required else ("", "")
            return QuestionOutcome(question, field, verdict, raw, None, required, *missing)  # type: ignore[arg-type]  # a pair of literals
        message = self._check_message(question, field, value)
        return QuestionOutcome(question, field, verdict, raw, value, required, "check" if message else "", message)

    def _check_message(self, question: Question, field: Field, value: Value) -> str:
        test = question.check
        if isinstance(test, RangeCheck) and isinstance(value, Decimal):
            low, high = test.low, test.high
            if (low is not None and value < low) or (high is not None and value > high):
                return test.message or f"This must be {say_range(test, field.unit)}."
        if (
            isinstance(test, PatternCheck)
            and isinstance(value, str)
            and not self._patterns[question.id].fullmatch(value)
        ):
            return test.message or "This does not have the form that is needed here."
        return ""


_MISSING: Final = {
    "choice": "Please choose one.",
    "progress": "Please choose one.",
    "record": "Please choose one.",
    "country": "Please choose a country.",
    "region": "Please choose a region.",
    "choices": "Please choose at least one.",
    "agreement": "Please tick this to go on.",
    "file": "Please choose a file.",
    "picture": "Please choose a picture.",
    "money": "Please give an amount.",
    "time": "Please give a time.",
    "datetime": "Please give a date and a time.",
    "day_of_year": "Please give a day.",
    "phone": "Please give your phone number.",
    "yes_no": "Please choose yes or no.",
    "date": "Please give a date.",
    "number": "Please give a number.",
    "email": "Please give your email address.",
}


def say_range(test: RangeCheck, unit: str = "") -> str:
    """The bounds in words: `between 0.5 and 60 m`, `at least 1`."""
    after = f" {unit}" if unit else ""
    low = None if test.low is None else plain_number(test.low)
    high = None if test.high is None else plain_number(test.high)
    if low is not None and high is not None:
        return f"between {low} and {high}{after}"
    return f"at least {low}{after}" if low is not None else f"at most {high}{after}"


def prepare(
    form: Form,
    fields: Mapping[int, Field],
    names: Mapping[str, Type] | World,
    zone: tzinfo,
    derivation: Derivation,
    hidden_groups: frozenset[int] = frozenset(),
) -> PreparedForm:
    """Compile a form. Questions of fields that are deleted, resting or private to staff are left out.

    `hidden_groups` are the groups whose fields only staff see.
    """
    rules: dict[str, Program] = {}
    needs: dict[str, frozenset[str]] = {}
    for question in form.questions:
        if question.show_when:
            typed = check(question.show_when, names, zone=zone, expect="yes_no").typed
            # A rule that lost its meaning after publishing is unknown, and what hangs on it does not show.
            rules[question.id] = compile_python(typed) if typed is not None else lambda _row, _moment: None
            needs[question.id] = typed.names if typed is not None else frozenset()
    asked = tuple(question for question in form.questions if can_ask(fields.get(question.field_id), hidden_groups))
    return PreparedForm(form, fields, rules, _in_order(asked, fields, needs, derivation), derivation)


def can_ask(field: Field | None, hidden_groups: frozenset[int] = frozenset()) -> bool:
    """Whether a public page asks a field: it is there, not derived, not resting, not private to staff."""
    if field is None or field.derived or field.about != PERSON:
        return False
    return not (field.settings.resting or field.settings.private or field.group_id in hidden_groups)


def _in_order(
    questions: tuple[Question, ...],
    fields: Mapping[int, Field],
    needs: Mapping[str, frozenset[str]],
    derivation: Derivation,
) -> tuple[Question, ...]:
    """The questions so that each comes after those its rule asks about."""
    asking = {fields[question.field_id].key: question for question in questions}
    ordered: dict[str, Question] = {}

    def place(question: Question) -> None:
        if question.id in ordered:
            return
        for key in sorted(derivation.ancestors(needs.get(question.id, frozenset()))):
            if key in asking and asking[key].id not in ordered:
                place(asking[key])
        ordered[question.id] = question

    for question in questions:
        place(question)
    return tuple(ordered.values())


def form_problems(
    form: Form,
    fields: Mapping[int, Field],
    names: Mapping[str, Type] | World,
    zone: tzinfo,
    derivation: Derivation,
    hidden_groups: frozenset[int] = frozenset(),
    gone: Mapping[int, str] | None = None,
) -> tuple[FormProblem, ...]:
    """All that keeps the form from being published. `gone` gives the labels of deleted fields by id."""
    found: list[FormProblem] = []
    if not form.questions:
        found.append(FormProblem("", "The form asks nothing yet; add a question."))
    asking: dict[str, Question] = {}
    needs: dict[str, frozenset[str]] = {}
    for question in form.questions:
        field = fields.get(question.field_id)
        if field is None or field.derived:
            label = (gone or {}).get(question.field_id)
            lost = f"The field “{label}” was deleted; bring it back, or" if label else "The field is gone;"
            found.append(FormProblem(question.id, f"{lost} remove the question."))
            continue
        if field.settings.private or field.group_id in hidden_groups:
            found.append(FormProblem(question.id, f"“{field.label}” is private to staff and cannot be asked here."))
        asking[field.key] = question
        if question.check is not None and not check_fits(question.check, field):
            found.append(
                FormProblem(question.id, f"This check does not fit a field of type {field.type.label.lower()}.")
            )
        if question.show_when:
            checked = check(question.show_when, names, zone=zone, expect="yes_no")
            if checked.problems:
                found.append(FormProblem(question.id, "The rule cannot be read.", checked.problems))
            elif checked.typed is not None:
                needs[question.id] = derivation.ancestors(checked.typed.names)
    circle = find_circle(
        {qid: frozenset(asking[key].id for key in keys if key in asking) for qid, keys in needs.items()}
    )
    if circle:
        labels = [_label(form, fields, question_id) for question_id in circle]
        found.append(FormProblem(circle[0], f"These rules wait for one another: {' → '.join(labels)}."))
    found += _email_problems(form, fields)
    return tuple(found)


def _email_problems(form: Form, fields: Mapping[int, Field]) -> list[FormProblem]:
    """A person is known by the built-in email, so a sign-up asks for it, always, and insists."""
    question = next((q for q in form.questions if q.field_id in fields and fields[q.field_id].key == "email"), None)
    if question is None:
        return [FormProblem("", "A sign-up must ask for the email; add that question.")]
    if question.show_when or question.required is False:
        return [FormProblem(question.id, "A person is known by the email: ask it always, and require it.")]
    return []


def _label(form: Form, fields: Mapping[int, Field], question_id: str) -> str:
    question = form.question(question_id)
    return question.label or fields[question.field_id].label if question else question_id


def check_fits(test: Check, field: Field) -> bool:
    """Whether this kind of check makes sense for the field: ranges for numbers, patterns for texts."""
    wanted = {"range": ("number", "money"), "pattern": ("short_text", "long_text", "email", "phone", "url")}[test.kind]
    return field.type_key in wanted
