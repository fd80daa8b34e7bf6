"""How a form's draft is changed: one revision after the other, nobody's change overwritten unseen."""

from collections.abc import Callable
from typing import Any

from pydantic import BaseModel, ValidationError
from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotFound, Overtaken
from finesieve.core.forms.definition import Form, Question, Remark, Section
from finesieve.services.forms.forms import form_of
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.inputs import explain_errors
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.store.tables import DefinitionChange, FormRow

__all__ = ["change_draft", "item_added", "section_named", "sections_changed", "with_item"]


def change_draft(
    scope: Scope,
    form_id: int,
    revision: int,
    change: Callable[[Unit, Form], tuple[str, dict[str, Any]]],
    place: str | None = None,
) -> int:
    """Change parts of the draft; gives the id for undoing.

    `change` gives the words for what was done and the new parts. Raises NotFound,
    InvalidInput where the document would not do, and Overtaken where somebody
    else has changed the same place since the page of this revision was made;
    with no place, where they have changed anything.
    """
    with scope.transaction("editor") as unit:
        row = form_of(unit, form_id, lock=True)
        if row.revision != revision:
            _refuse_overtaking(unit, row, row.revision - revision, place)
        before = snapshot(unit, "form", form_id)
        draft = Form.model_validate(row.draft)
        label, changes = change(unit, draft)
        try:
            document = Form.model_validate(draft.model_dump() | changes)
        except ValidationError as error:
            raise InvalidInput(explain_errors(error)) from None
        row.draft = document.model_dump(mode="json")
        unit.session.add(row)
        change_id = record_change(unit, "form", form_id, label, before)
        row.revision += 1 if change_id else 0
        return change_id


def _refuse_overtaking(unit: Unit, row: FormRow, behind: int, place: str | None) -> None:
    """Raise Overtaken where one of the last changes was somebody else's and touched the same place."""
    last = (
        select(DefinitionChange)
        .where(col(DefinitionChange.entity) == "form", col(DefinitionChange.entity_id) == row.id)
        .order_by(col(DefinitionChange.id).desc())
        .limit(abs(behind))
    )
    for change in unit.session.exec(last).all():
        if change.actor != unit.actor and _touched(change, place):
            raise Overtaken(change.actor)


def _touched(change: DefinitionChange, place: str | None) -> bool:
    if place is None:
        return True
    before, after = (Form.model_validate(document) for document in (change.before, change.after))
    if place:
        return _own(before, place) != _own(after, place)
    return before.model_copy(update={"sections": ()}) != after.model_copy(update={"sections": ()})


def _own(form: Form, place: str) -> BaseModel | None:
    """A part without what stands in it."""
    section = form.section(place)
    return section.model_copy(update={"items": ()}) if section else form.item(place)


def sections_changed(form: Form, change: Callable[[Section], Section]) -> dict[str, Any]:
    """The new sections, each passed through a function."""
    return {"sections": [change(section) for section in form.sections]}


def with_item(form: Form, item_id: str, new: Question | Remark) -> dict[str, Any]:
    """The new sections, one item replaced."""

    def one(section: Section) -> Section:
        items = tuple(new if item.id == item_id else item for item in section.items)
        return section.model_copy(update={"items": items})

    return sections_changed(form, one)


def item_added(form: Form, item: Question | Remark, section_id: str, after: str = "") -> dict[str, Any]:
    """The new sections, one item more at the end of a section, or after one of it."""

    def one(section: Section) -> Section:
        if section.id != section_id:
            return section
        items = list(section.items)
        place = next((place + 1 for place, known in enumerate(items) if known.id == after), len(items))
        items.insert(place, item)
        return section.model_copy(update={"items": tuple(items)})

    return sections_changed(form, one)


def section_named(form: Form, section_id: str) -> Section:
    """A section by its id, the last one for "". Raises NotFound."""
    found = form.section(section_id) if section_id else next(iter(form.sections[-1:]), None)
    if found is None:
        raise NotFound("There is no such section.")
    return found
