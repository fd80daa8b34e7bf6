"""Where fields are used: questions, rules, formulas, segments."""

from dataclasses import dataclass
from typing import Literal

from sqlmodel import col, select

from finesieve.core.forms.definition import Form
from finesieve.core.language.parser import parse
from finesieve.core.language.tree import names_in
from finesieve.services.scope import Unit
from finesieve.store.tables import FormRow, Segment

__all__ = ["Use", "uses_of"]


@dataclass(frozen=True, slots=True)
class Use:
    """One place that uses a field; `expression` is empty for a question that asks it."""

    kind: Literal["question", "rule", "formula", "segment"]
    id: int
    name: str
    expression: str = ""


def uses_of(unit: Unit) -> dict[str, tuple[Use, ...]]:
    """All uses by the key of the field used."""
    found: dict[str, list[Use]] = {}

    def note(use: Use) -> None:
        tree = parse(use.expression).tree
        for key in sorted(names_in(tree)) if tree else ():
            found.setdefault(key, []).append(use)

    for field in unit.catalogue.derived:
        note(Use("formula", field.id, field.label, field.formula))
    for form in unit.session.exec(select(FormRow).order_by(col(FormRow.id))).all():
        document = Form.model_validate(form.draft)
        for question in document.questions:
            asked = unit.catalogue.by_id.get(question.field_id)
            if asked is not None:
                found.setdefault(asked.key, []).append(Use("question", form.id or 0, document.title))
            if question.show_when:
                note(Use("rule", form.id or 0, document.title, question.show_when))
    for segment in unit.session.exec(select(Segment).order_by(col(Segment.position), col(Segment.id))).all():
        if segment.expression:
            note(Use("segment", segment.id or 0, segment.name, segment.expression))
    return {key: tuple(uses) for key, uses in found.items()}
