"""Collecting: composing a sign-up form and publishing it."""

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Literal

from pydantic import Field as Bounds
from pydantic import ValidationError, field_validator
from sqlmodel import col, func, select

from finesieve.core.catalogue import Catalogue, hidden_groups
from finesieve.core.errors import Conflict, InvalidExpression, InvalidInput, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.forms.definition import Form, PatternCheck, Question, RangeCheck
from finesieve.core.forms.outcome import FormProblem, can_ask, form_problems
from finesieve.core.language.placeholders import placeholder_problems
from finesieve.services.accounts import slug_from_name
from finesieve.services.awaiting import awaited_in
from finesieve.services.changes import foreign_changes, record_change, snapshot
from finesieve.services.inputs import Input, explain_errors
from finesieve.services.scope import Scope, Unit
from finesieve.store.catalogue import touch
from finesieve.store.tables import FormRow, FormVersion, Submission

__all__ = [
    "FormEntry",
    "FormTexts",
    "FormView",
    "QuestionInput",
    "add_question",
    "change_form_texts",
    "change_question",
    "create_form",
    "document_problems",
    "list_forms",
    "publish_form",
    "read_form",
    "remove_question",
    "reorder_questions",
]


class FormTexts(Input):
    """The texts of a form as typed."""

    title: str = Bounds(min_length=1, max_length=200)
    intro: str = Bounds(default="", max_length=2_000)
    send_label: str = Bounds(min_length=1, max_length=60, default="Send")
    thanks: str = Bounds(default="", max_length=2_000)


class QuestionInput(Input):
    """A question as typed. An empty label, help or `required` falls back to the field's."""

    label: str = Bounds(default="", max_length=200)
    help: str = Bounds(default="", max_length=500)
    required: Literal["", "yes", "no"] = ""
    show_when: str = Bounds(default="", max_length=4_000)
    check_kind: Literal["", "range", "pattern"] = ""
    low: Decimal | None = None
    high: Decimal | None = None
    pattern: str = Bounds(default="", max_length=500)
    message: str = Bounds(default="", max_length=300)

    @field_validator("low", "high", mode="before")
    @classmethod
    def _empty_is_open(cls, value: object) -> object:
        return None if value == "" else value

    def read_check(self) -> RangeCheck | PatternCheck | None:
        """The check, if one was chosen. Raises InvalidInput at the input concerned."""
        try:
            if self.check_kind == "range":
                return RangeCheck(low=self.low, high=self.high, message=self.message)
            if self.check_kind == "pattern":
                return PatternCheck(pattern=self.pattern, message=self.message)
        except ValidationError as error:
            place = "low" if self.check_kind == "range" else "pattern"
            messages = explain_errors(error)
            raise InvalidInput({place: messages.get("") or next(iter(messages.values()))}) from None
        return None


@dataclass(frozen=True, slots=True)
class FormEntry:
    """A form in a list. `unpublished` is whether the draft differs from what is in force."""

    id: int
    slug: str
    title: str
    questions: int
    published: int
    unpublished: bool


@dataclass(frozen=True, slots=True)
class FormView:
    """A form as its composer sees it."""

    id: int
    slug: str
    document: Form
    revision: int
    published: int
    unpublished: bool
    problems: tuple[FormProblem, ...]
    catalogue: Catalogue
    submissions: int
    awaited: tuple[Field, ...]

    def field_of(self, question: Question) -> Field | None:
        """The field a question asks for, or None where it is gone."""
        return self.catalogue.by_id.get(question.field_id)

    @property
    def unasked(self) -> tuple[Field, ...]:
        """Fields that could still be asked."""
        asked = {question.field_id for question in self.document.questions}
        return tuple(
            field
            for field in self.catalogue.fields
            if field.id not in asked and field.key != "signed_up_on" and can_ask(field)
        )


def list_forms(scope: Scope) -> list[FormEntry]:
    """All forms, in the order they were made."""
    with scope.transaction("reader") as unit:
        rows = unit.session.exec(select(FormRow).order_by(col(FormRow.id))).all()
        return [_entry(unit, row) for row in rows]


def _entry(unit: Unit, row: FormRow) -> FormEntry:
    document = Form.model_validate(row.draft)
    return FormEntry(row.id or 0, row.slug, document.title, len(document.questions), row.published, _differs(unit, row))


def _differs(unit: Unit, row: FormRow) -> bool:
    version = unit.session.get(FormVersion, (row.id, row.published)) if row.published else None
    return version is None or version.document != row.draft


def create_form(scope: Scope, title: str) -> int:
    """Make a sign-up form that asks for the email first; gives its id. Raises InvalidInput for an empty title."""
    with scope.transaction("editor") as unit:
        title = title.strip()
        if not title or len(title) > 200:
            raise InvalidInput({"title": "Give the form a title of at most 200 characters."})
        taken = set(unit.session.exec(select(FormRow.slug)).all())
        base, number = slug_from_name(title), 1
        slug = base
        while slug in taken:
            number += 1
            slug = f"{base}-{number}"
        first = Question(id="q1", field_id=unit.catalogue.by_key["email"].id)
        document = Form(title=title, questions=(first,))
        row = FormRow(workspace_id=unit.workspace_id, slug=slug, draft=document.model_dump(mode="json"))
        unit.session.add(row)
        unit.session.flush()
        return row.id or 0


def read_form(scope: Scope, form_id: int) -> FormView:
    """A form's draft with all that keeps it from being published. Raises NotFound."""
    with scope.transaction("reader") as unit:
        row = unit.session.get(FormRow, form_id)
        if row is None:
            raise NotFound("There is no such form.")
        sent = unit.session.exec(
            select(func.count()).select_from(Submission).where(col(Submission.form_id) == form_id)
        ).one()
        document = Form.model_validate(row.draft)
        return FormView(
            form_id,
            row.slug,
            document,
            row.revision,
            row.published,
            _differs(unit, row),
            document_problems(unit, document),
            unit.catalogue,
            sent,
            _awaited(unit, document),
        )


def _awaited(unit: Unit, document: Form) -> tuple[Field, ...]:
    """House values without a value that the form's texts and rules name."""
    texts = [document.title, document.intro, document.send_label, document.thanks]
    for question in document.questions:
        field = unit.catalogue.by_id.get(question.field_id)
        texts += [question.label, question.help or (field.help if field else "")]
    return awaited_in(unit, [question.show_when for question in document.questions], texts)


def document_problems(unit: Unit, document: Form) -> tuple[FormProblem, ...]:
    """All that keeps a form from being published."""
    catalogue = unit.catalogue
    gone = {field.id: field.label for field in catalogue.deleted}
    world = catalogue.world(PERSON)
    found = form_problems(
        document, catalogue.by_id, world, catalogue.zone, catalogue.derivation, hidden_groups(catalogue), gone
    )
    for text in (document.title, document.intro, document.send_label, document.thanks):
        problems = placeholder_problems(text, catalogue.check)
        if problems:
            found += (FormProblem("", f"In “{text[:60]}”: {problems[0].message}", problems),)
    return found


def _change(unit: Unit, form_id: int, revision: int, label: str, changes: dict[str, Any]) -> int:
    """Change parts of the draft; gives the id for undoing.

    Raises NotFound, Conflict where the draft is at another revision, and
    InvalidInput where the document would not do.
    """
    row = unit.session.get(FormRow, form_id, with_for_update=True)
    if row is None:
        raise NotFound("There is no such form.")
    if row.revision != revision and foreign_changes(unit, "form", form_id, abs(row.revision - revision)):
        raise Conflict("Somebody else has changed this form meanwhile. Load it again; your change was not made.")
    before = snapshot(unit, "form", form_id)
    try:
        document = Form.model_validate(Form.model_validate(row.draft).model_dump() | changes)
    except ValidationError as error:
        raise InvalidInput(explain_errors(error)) from None
    row.draft = document.model_dump(mode="json")
    unit.session.add(row)
    change_id = record_change(unit, "form", form_id, label, before)
    row.revision += 1 if change_id else 0
    return change_id


def _draft(unit: Unit, form_id: int) -> Form:
    row = unit.session.get(FormRow, form_id)
    if row is None:
        raise NotFound("There is no such form.")
    return Form.model_validate(row.draft)


def change_form_texts(scope: Scope, form_id: int, revision: int, asked: FormTexts) -> int:
    """Change title, introduction, button and thanks; gives the id for undoing."""
    with scope.transaction("editor") as unit:
        return _change(unit, form_id, revision, f"Changed the texts of {asked.title}", asked.model_dump())


def add_question(scope: Scope, form_id: int, revision: int, field_id: int) -> int:
    """Ask one more field, at the end; gives the id for undoing. Raises NotFound for no such field."""
    with scope.transaction("editor") as unit:
        field = unit.catalogue.by_id.get(field_id)
        if field is None or field.derived:
            raise NotFound("There is no such field to ask.")
        draft = _draft(unit, form_id)
        question = Question(id=draft.next_id(), field_id=field_id)
        questions = [*draft.questions, question]
        return _change(unit, form_id, revision, f"Added the question {field.label}", {"questions": questions})


def _label(unit: Unit, question: Question) -> str:
    field = unit.catalogue.by_id.get(question.field_id)
    return question.label or (field.label if field else question.id)


def change_question(scope: Scope, form_id: int, revision: int, question_id: str, asked: QuestionInput) -> int:
    """Change a question, its rule and its check; gives the id for undoing.

    Raises InvalidExpression for a rule with problems, InvalidInput for a check
    that will not do.
    """
    with scope.transaction("editor") as unit:
        draft = _draft(unit, form_id)
        old = draft.question(question_id)
        if old is None:
            raise NotFound("There is no such question.")
        if asked.show_when:
            problems = unit.catalogue.check(asked.show_when, expect="yes_no").problems
            if problems:
                raise InvalidExpression(problems, "show_when")
        new = Question(
            id=question_id,
            field_id=old.field_id,
            label=asked.label,
            help=asked.help,
            required={"": None, "yes": True, "no": False}[asked.required],
            show_when=asked.show_when,
            check=asked.read_check(),
        )
        questions = [new if question.id == question_id else question for question in draft.questions]
        return _change(unit, form_id, revision, f"Changed the question {_label(unit, new)}", {"questions": questions})


def remove_question(scope: Scope, form_id: int, revision: int, question_id: str) -> int:
    """Ask no longer; what was stored stays. Gives the id for undoing. Raises NotFound."""
    with scope.transaction("editor") as unit:
        draft = _draft(unit, form_id)
        old = draft.question(question_id)
        if old is None:
            raise NotFound("There is no such question.")
        questions = [question for question in draft.questions if question.id != question_id]
        return _change(unit, form_id, revision, f"Removed the question {_label(unit, old)}", {"questions": questions})


def reorder_questions(scope: Scope, form_id: int, revision: int, question_ids: Sequence[str]) -> int:
    """Put the questions in this order; gives the id for undoing. Raises Conflict unless all are named once."""
    with scope.transaction("editor") as unit:
        draft = _draft(unit, form_id)
        by_id = {question.id: question for question in draft.questions}
        if sorted(question_ids) != sorted(by_id):
            raise Conflict("The questions have changed meanwhile; look at the form again.")
        questions = [by_id[question_id] for question_id in question_ids]
        return _change(unit, form_id, revision, f"Reordered {draft.title}", {"questions": questions})


def publish_form(scope: Scope, form_id: int, revision: int) -> int:
    """Put the draft in force as a new version; gives its number.

    People who are filling in an earlier version finish with that one. Raises
    InvalidInput where the form has problems, Conflict where the draft has
    changed meanwhile.
    """
    with scope.transaction("editor") as unit:
        row = unit.session.get(FormRow, form_id, with_for_update=True)
        if row is None:
            raise NotFound("There is no such form.")
        if row.revision != revision:
            raise Conflict("Somebody else has changed this form meanwhile. Look at it before publishing.")
        problems = document_problems(unit, Form.model_validate(row.draft))
        if problems:
            raise InvalidInput({problem.question_id: problem.message for problem in reversed(problems)})
        if not _differs(unit, row):
            return row.published
        row.published += 1
        version = FormVersion(
            form_id=form_id,
            number=row.published,
            workspace_id=unit.workspace_id,
            document=row.draft,
            published_by=unit.actor,
            published_at=unit.moment.now,
        )
        unit.session.add(row)
        unit.session.add(version)
        touch(unit.session, unit.workspace_id)
        return row.published
