"""Who is asked what: a form's questions against the options of a choice, as a sowing plan."""

from collections.abc import Mapping
from typing import Any, Final, get_args

from fastapi import Request
from starlette.responses import Response

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.definition import Field
from finesieve.core.forms.page import SLOTS, slot_of
from finesieve.core.forms.sowing import NOBODY, Asked, asked_of, must_ask
from finesieve.office.collect.contents import pages_of
from finesieve.office.collect.sown import Cell, Row
from finesieve.office.shared.collect import collect_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.forms.forms import FormView, read_form
from finesieve.services.forms.sowing import choices_to_sow_by, set_asked
from finesieve.services.kernel.changes import redoable_change, undo_change, undoable_change
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/collect/{form_id:int}/asked")
_SIGNS: Final[Mapping[str, str]] = {"required": "full", "optional": "open", "not asked": "bare"}
_AFTER: Final[Mapping[str, str]] = {"required": "optional", "optional": "not asked", "not asked": "required"}


@router.get("")
def show_sowing(request: Request, desk: DeskHere, form_id: int, by: int = 0) -> Response:
    """The questions against the options of a choice, the role where none is named."""
    return _plan(request, desk, form_id, by, {})


def _plan(
    request: Request, desk: Desk, form_id: int, by: int, messages: Mapping[str, str], status: int = 200
) -> Response:
    view = read_form(desk.scope, form_id)
    choices = choices_to_sow_by(view.catalogue, view.document)
    field = next((one for one in choices if one.id == by), None) or next(iter(choices), None)
    if by and (field is None or field.id != by):
        raise NotFound("There is no such choice.")
    context: dict[str, Any] = {"sown": [], "columns": []}
    if field is not None:
        states = _states(view, field)
        context = {"sown": _sown(desk, view, states), "columns": _columns(view, field, states)}
    return page(
        request, desk, "office/collect/sowing.html", stage="collect",
        title=f"Who is asked: {view.document.title}", sections=collect_sections(desk, form_id), status=status,
        view=view, tabs=pages_of(view.document), choices=choices, by=field, messages=messages, **context,
        undo_last=undoable_change(desk.scope, "form", form_id) if desk.may_edit else None,
        redo_last=redoable_change(desk.scope, "form", form_id) if desk.may_edit else None,
    )  # fmt: skip


def _states(view: FormView, by: Field) -> dict[str, dict[str, Asked] | None]:
    """How each question is asked of whom, by its id; None for one with rules of its own."""
    found = {}
    for section in view.document.sections:
        for question in section.questions:
            known = view.field_of(question)
            if known is not None and known.id != by.id and not section.repeat:
                found[question.id] = asked_of(question, known, by, view.document, view.catalogue)
    return found


def _next(states: list[str]) -> str:
    """What a whole row or column becomes: what comes after what all of it is, else required."""
    return _AFTER[states[0]] if states and len(set(states)) == 1 else "required"


def _columns(view: FormView, by: Field, states: Mapping[str, Mapping[str, str] | None]) -> list[tuple[str, str, str]]:
    named = [(option.stored_value, option.label) for option in by.offered]
    fields = {question.id: view.field_of(question) for question in view.document.questions}
    fixed = {key for key, known in fields.items() if known and must_ask(known, view.document)}
    turning = [asked for key, asked in states.items() if asked and key not in fixed]
    made = []
    for column, label in (*named, (NOBODY, "None chosen")):
        turn = _next([one[column] for one in turning])
        made.append((column or "none", label, f"*:{turn}:{column}"))
    return made


def _sown(desk: Desk, view: FormView, states: Mapping[str, Mapping[str, Asked] | None]) -> list[tuple[str, list[Row]]]:
    here = desk.path(f"collect/{view.id}?q=")
    found = []
    for number, section in enumerate(view.document.sections, 1):
        rows = []
        for question in section.questions:
            known = view.field_of(question)
            if known is None or question.id not in states:
                continue
            asked = states[question.id]
            cells, posts = {}, ""
            if asked is None:
                columns = [option for one in states.values() if one for option in one] or [NOBODY]
                opens = Cell("full", "by a rule of its own", opens=f"{here}{question.id}")
                cells = {column or "none": opens for column in columns}
            else:
                posts = f"{question.id}:{_next(list(asked.values()))}:*"
                for column, how in asked.items():
                    cells[column or "none"] = Cell(_SIGNS[how], how, f"{question.id}:{_AFTER[how]}:{column}")
            note = "hidden" if question.hidden else ""
            rows.append(Row(question.id, question.label or known.label, cells, posts, note))
        if rows:
            lies = SLOTS[slot_of(section.slot)].label if view.document.channel == "checkout" else f"Section {number}"
            found.append((section.title or lies, rows))
    return found


@router.post("")
def change(request: Request, desk: DeskHere, form_id: int, form: Posted, by: int = 0) -> Response:
    """Let a question be asked otherwise of somebody; a whole row or column at once."""
    question, _, rest = form.text("sow").partition(":")
    how, _, column = rest.partition(":")
    wanted = next((one for one in get_args(Asked) if one == how), None)
    view = read_form(desk.scope, form_id)
    field = next((one for one in choices_to_sow_by(view.catalogue, view.document) if one.id == by), None)
    if field is None or wanted is None:
        raise NotFound("There is no such choice.")
    columns = [*(one.stored_value for one in field.offered), NOBODY] if column == "*" else [column]
    questions = [one.id for one in view.document.questions] if question == "*" else [question]
    try:
        change = set_asked(desk.scope, form_id, form.number("revision"), by, questions, columns, wanted)
    except InvalidInput as problem:
        return _plan(request, desk, form_id, by, problem.messages, 422)
    return back_with(desk.path(f"collect/{form_id}/asked?by={by}"), change)


@router.post("/undo")
def undo(desk: DeskHere, form_id: int, form: Posted, by: int = 0) -> Response:
    """Take back the last change of the form, or bring it back."""
    undo_change(desk.scope, form.number("change"), again=form.text("again") == "1")
    return back_with(desk.path(f"collect/{form_id}/asked" + (f"?by={by}" if by else "")), 0)
