"""Collecting: the forms there are, what keeps one from being published, its versions."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property

from sqlmodel import col, func, select

from finesieve.core.commerce.shop import sold_in
from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.core.fields.definition import Field
from finesieve.core.forms.compare import FormDifference, compare_forms
from finesieve.core.forms.definition import AMONG, Channel, Form, Question, Repeat, Section
from finesieve.core.forms.later import why_not_later
from finesieve.core.forms.prepare import asked_about, can_ask
from finesieve.core.forms.problems import FormProblem, form_problems, text_problems
from finesieve.core.limits import TITLE
from finesieve.core.model.catalogue import LEVEL_QUESTION, Catalogue, hidden_groups
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.slugs import free_slug
from finesieve.services.usage.awaiting import awaited_in
from finesieve.services.usage.documents import rows_of_forms
from finesieve.store.definitions.catalogue import touch
from finesieve.store.reading.submissions import sent_by_version
from finesieve.store.tables import FormRow, FormVersion

__all__ = [
    "Draft",
    "FormEntry",
    "FormView",
    "VersionLine",
    "create_form",
    "document_problems",
    "form_of",
    "form_versions",
    "known_phrases",
    "list_forms",
    "publish_form",
    "read_draft",
    "read_form",
    "return_to_version",
    "unpublished_differences",
]


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
class Draft:
    """What a form's draft says, in its how manieth revision."""

    revision: int
    document: Form


@dataclass(frozen=True)
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
    def sold(self) -> dict[str, dict[str, str]]:
        """What the shop sells, by which lines of a cart can be meant; see `sold_in`."""
        return sold_in(self.catalogue.shop) if self.catalogue.shop is not None else {}

    def meant_by(self, repeat: Repeat) -> list[str]:
        """What of the cart a section is asked for, in words; nothing for all of it."""
        sold = self.sold
        return [sold[what].get(key, key) for what in AMONG if sold for key in getattr(repeat.among, what)]

    @cached_property
    def _asked(self) -> frozenset[int]:
        return frozenset(question.field_id for question in self.document.questions)

    def unasked_in(self, section: Section) -> tuple[Field, ...]:
        """Fields that a section could still ask."""
        hidden = hidden_groups(self.catalogue)
        level = self.catalogue.by_id.get(LEVEL_QUESTION)
        own = (level,) if level is not None and level.id not in self._asked and not section.repeat else ()
        return own + tuple(
            one
            for about in asked_about(self.document, section)
            for one in self.catalogue.fields_about(about)
            if one.id not in self._asked and not one.by_itself and can_ask(one, hidden, about)
        )

    @property
    def unasked(self) -> tuple[Field, ...]:
        """Fields of a person that could still be asked."""
        return self.unasked_in(Section(id="s0"))


def list_forms(scope: Scope) -> list[FormEntry]:
    """All forms, in the order they were made."""
    with scope.reading("reader") as unit:
        return [_entry(row, version) for row, version in rows_of_forms(unit)]


def _entry(row: FormRow, version: FormVersion | None) -> FormEntry:
    title = str(row.draft.get("title", ""))
    questions = sum(len(section.get("items", ())) for section in row.draft.get("sections", ()))
    questions += len(row.draft.get("questions", ()))
    return FormEntry(
        row.id or 0, row.slug, title, questions, row.published, version is None or version.document != row.draft
    )


def _differs(unit: Unit, row: FormRow) -> bool:
    version = unit.session.get(FormVersion, (row.id, row.published)) if row.published else None
    return version is None or version.document != row.draft


def form_of(unit: Unit, form_id: int, *, lock: bool = False) -> FormRow:
    """The row of a form. Raises NotFound."""
    row = unit.session.get(FormRow, form_id, with_for_update=True if lock else None)
    if row is None:
        raise NotFound("There is no such form.")
    return row


def create_form(scope: Scope, title: str, channel: Channel = "sign-up") -> int:
    """Make a form that asks for the email first; gives its id.

    Raises InvalidInput for an empty title, and for a checkout where there is no shop.
    """
    with scope.transaction("editor") as unit:
        if channel == "checkout" and unit.catalogue.shop is None:
            raise InvalidInput({"channel": "There is no shop for a checkout here."})
        title = title.strip()
        if not title or len(title) > TITLE:
            raise InvalidInput({"title": "Give the form a title of at most 200 characters."})
        touch(unit.session, unit.workspace_id)  # whoever makes one at the same time waits here
        slug = free_slug(title, set(unit.session.exec(select(FormRow.slug)).all()))
        first = Question(id="q1", field_id=unit.catalogue.by_key["email"].id)
        language = unit.manner.language.partition("_")[0]
        label = {"checkout": "Order and pay", "account": "Save"}.get(channel, "Send")
        section = Section(id="s1", items=(first,))
        document = Form(title=title, channel=channel, send_label=label, languages=(language,), sections=(section,))
        draft = document.model_dump(mode="json")
        row = FormRow(workspace_id=unit.workspace_id, slug=slug, channel=channel, draft=draft)
        unit.session.add(row)
        unit.session.flush()
        return row.id or 0


def read_draft(scope: Scope, form_id: int) -> Draft:
    """A form's draft alone. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = form_of(unit, form_id)
        return Draft(row.revision, Form.model_validate(row.draft))


def read_form(scope: Scope, form_id: int) -> FormView:
    """A form's draft with all that keeps it from being published. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = form_of(unit, form_id)
        sent = sum(sent_by_version(unit.session, unit.definitions, form_id).values())
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
    return awaited_in(unit, [text for _, _, text in document.walk_rules()], list(_texts(unit.catalogue, document)))


def _texts(catalogue: Catalogue, document: Form) -> Iterator[str]:
    """The texts that people read, the help of a field where a question has none of its own."""
    yield from document.walk_texts()
    for question in document.questions:
        known = catalogue.by_id.get(question.field_id)
        if known is not None and not question.help:
            yield known.help


def document_problems(unit: Unit, document: Form) -> tuple[FormProblem, ...]:
    """All that keeps a form from being published."""
    found = form_problems(document, unit.catalogue)
    for question in document.questions:
        why = why_not_later(question, document, unit.catalogue) if question.later else ""
        found += (FormProblem(question.id, why),) if why else ()
    # The labels of surcharges are looked at with their questions.
    for text in dict.fromkeys(text for _, section, text in document.walk_placed_texts() if section is None):
        problems = text_problems(text, document, unit.catalogue, None)
        if problems:
            found += (FormProblem("", f"In “{text[:60]}”: {problems[0].message}", problems),)
    return found


def publish_form(scope: Scope, form_id: int, revision: int) -> int:
    """Put the draft in force as a new version; gives its number.

    People who are filling in an earlier version finish with that one. Raises
    InvalidInput where the form has problems, Conflict where the draft has
    changed meanwhile.
    """
    with scope.transaction("editor") as unit:
        row = form_of(unit, form_id, lock=True)
        if row.revision != revision:
            raise Conflict("Somebody else has changed this form meanwhile. Look at it before publishing.")
        problems = document_problems(unit, Form.model_validate(row.draft))
        if problems:
            raise InvalidInput({problem.place: problem.message for problem in reversed(problems)})
        if not _differs(unit, row):
            return row.published
        last = unit.session.exec(select(func.max(FormVersion.number)).where(col(FormVersion.form_id) == form_id)).one()
        row.published = (last or 0) + 1
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


def known_phrases(scope: Scope, form_id: int, language: str) -> dict[str, str]:
    """How the other forms of the workspace say texts in a language."""
    with scope.reading("reader") as unit:
        found: dict[str, str] = {}
        for row in unit.session.exec(select(FormRow).where(col(FormRow.id) != form_id)).all():
            found |= row.draft.get("phrases", {}).get(language, {})
        return found


# Versions


@dataclass(frozen=True, slots=True)
class VersionLine:
    """A published version, and what it changed against the one before."""

    number: int
    by: str
    at: datetime
    submissions: int
    differences: tuple[FormDifference, ...]


def form_versions(scope: Scope, form_id: int) -> tuple[VersionLine, ...]:
    """The published versions, the latest first. Raises NotFound."""
    with scope.reading("reader") as unit:
        form_of(unit, form_id)
        query = select(FormVersion).where(col(FormVersion.form_id) == form_id).order_by(col(FormVersion.number))
        counts = sent_by_version(unit.session, unit.definitions, form_id)
        lines: list[VersionLine] = []
        before: Form | None = None
        for row in unit.session.exec(query).all():
            document = Form.model_validate(row.document)
            differences = compare_forms(before, document, unit.catalogue) if before else ()
            lines.append(
                VersionLine(row.number, row.published_by, row.published_at, counts.get(row.number, 0), differences)
            )
            before = document
        return tuple(reversed(lines))


def unpublished_differences(scope: Scope, form_id: int) -> tuple[FormDifference, ...]:
    """What the draft changes against the version in force; () where none is. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = form_of(unit, form_id)
        version = unit.session.get(FormVersion, (form_id, row.published)) if row.published else None
        if version is None:
            return ()
        return compare_forms(Form.model_validate(version.document), Form.model_validate(row.draft), unit.catalogue)


def return_to_version(scope: Scope, form_id: int, number: int) -> int:
    """Make an earlier version the draft; gives the id for undoing. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = form_of(unit, form_id, lock=True)
        version = unit.session.get(FormVersion, (form_id, number))
        if version is None:
            raise NotFound("There is no such version.")
        before = snapshot(unit, "form", form_id)
        row.draft = version.document
        unit.session.add(row)
        change_id = record_change(unit, "form", form_id, f"Returned to version {number}", before)
        row.revision += 1 if change_id else 0
        return change_id
