"""The documents of all forms: their drafts, and the versions in force where those differ."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from sqlmodel import col, select

from finesieve.core.forms.definition import Form
from finesieve.services.kernel.scope import Unit
from finesieve.store.connection.database import remembered
from finesieve.store.tables import FormRow, FormVersion

__all__ = ["FormDocument", "Standing", "documents_of_forms", "rows_of_forms"]

Standing = Literal["", "draft", "in force"]


@dataclass(frozen=True, slots=True)
class FormDocument:
    """What a form asks. `standing`: in its draft only, in force only, or "" for both."""

    id: int
    title: str
    document: Form
    standing: Standing

    @property
    def name(self) -> str:
        """The title, saying which of the two it is where they differ: `Join us (in force)`."""
        return f"{self.title} ({self.standing})" if self.standing else self.title


def rows_of_forms(unit: Unit) -> Sequence[tuple[FormRow, FormVersion | None]]:
    """All forms in the order they were made, each with the version in force."""

    def read() -> Sequence[tuple[FormRow, FormVersion | None]]:
        in_force = (col(FormVersion.form_id) == col(FormRow.id)) & (col(FormVersion.number) == col(FormRow.published))
        query = select(FormRow, FormVersion).outerjoin(FormVersion, in_force).order_by(col(FormRow.id))
        return unit.session.exec(query).all()

    return remembered(unit.session, "forms", read)


def documents_of_forms(unit: Unit) -> Iterator[FormDocument]:
    """All forms in order; one whose draft differs from what is in force comes twice, under the title of its draft."""
    for row, version in rows_of_forms(unit):
        draft = Form.model_validate(row.draft)
        same = version is not None and version.document == row.draft
        yield FormDocument(row.id or 0, draft.title, draft, "" if same else "draft")
        if version is not None and not same:
            yield FormDocument(row.id or 0, draft.title, Form.model_validate(version.document), "in force")
