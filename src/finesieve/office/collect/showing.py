"""Where the answers of a checkout show: its questions against the places, as a sowing plan."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput
from finesieve.core.forms.page import SLOTS, slot_of
from finesieve.core.forms.showing import SHOWN_AT
from finesieve.office.collect.contents import pages_of
from finesieve.office.collect.sown import Cell, Row
from finesieve.office.shared.collect import collect_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.forms.forms import FormView, read_form
from finesieve.services.forms.showing import set_shown_at, shown_at, tell_of_orders
from finesieve.services.kernel.changes import redoable_change, undo_change, undoable_change
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/collect/{form_id:int}/answers")


@router.get("")
def show_places(request: Request, desk: DeskHere, form_id: int) -> Response:
    """The questions against the places; of a form that is no checkout, its questions."""
    if read_form(desk.scope, form_id).document.channel != "checkout":
        return RedirectResponse(desk.path(f"collect/{form_id}"), 303)
    return _plan(request, desk, form_id, {})


def _plan(
    request: Request, desk: Desk, form_id: int, messages: Mapping[str, str], tell: str = "", status: int = 200
) -> Response:
    view = read_form(desk.scope, form_id)
    shows = {one.id: shown_at(one, view.catalogue) for one in view.document.questions}
    columns = [
        (place, words, f"*:{place}:{_turn([cells[place] for cells in shows.values() if place in cells])}")
        for place, words in SHOWN_AT.items()
    ]
    return page(
        request, desk, "office/collect/showing.html", stage="collect",
        title=f"Where answers show: {view.document.title}", sections=collect_sections(desk, form_id), status=status,
        view=view, tabs=pages_of(view.document), columns=columns, sown=_sown(view, shows), messages=messages, tell=tell,
        undo_last=undoable_change(desk.scope, "form", form_id) if desk.may_edit else None,
        redo_last=redoable_change(desk.scope, "form", form_id) if desk.may_edit else None,
    )  # fmt: skip


def _turn(shows: list[bool]) -> str:
    """What a whole row or column becomes: all on, or all off where all are on."""
    return "off" if shows and all(shows) else "on"


def _sown(view: FormView, shows: Mapping[str, Mapping[str, bool]]) -> list[tuple[str, list[Row]]]:
    found = []
    for section in view.document.sections:
        rows = []
        for question in section.questions:
            known, cells = view.field_of(question), shows[question.id]
            if known is not None and cells:
                made = {
                    place: Cell("full", "shows", f"{question.id}:{place}:off")
                    if on
                    else Cell("bare", "does not show", f"{question.id}:{place}:on")
                    for place, on in cells.items()
                }
                whole = f"{question.id}:*:{_turn(list(cells.values()))}"
                rows.append(Row(question.id, question.label or known.label, made, whole))
        if rows:
            found.append((section.title or SLOTS[slot_of(section.slot)].label, rows))
    return found


@router.post("")
def change(desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Let an answer show at a place or not; a whole row or column at once."""
    question, _, rest = form.text("show").partition(":")
    place, _, turn = rest.partition(":")
    ids = [one.id for one in read_form(desk.scope, form_id).document.questions]
    places = list(SHOWN_AT) if place == "*" else [place]
    questions = ids if question == "*" else [question]
    change = set_shown_at(desk.scope, form_id, form.number("revision"), questions, places, on=turn == "on")
    return back_with(desk.path(f"collect/{form_id}/answers"), change)


@router.post("/tell")
def change_address(request: Request, desk: DeskHere, form_id: int, form: Posted) -> Response:
    """The address that is told of each order."""
    try:
        change = tell_of_orders(desk.scope, form_id, form.number("revision"), form.text("tell"))
    except InvalidInput as problem:
        return _plan(request, desk, form_id, problem.messages, form.text("tell"), 422)
    return back_with(desk.path(f"collect/{form_id}/answers"), change)


@router.post("/undo")
def undo(desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Take back the last change of the form, or bring it back."""
    undo_change(desk.scope, form.number("change"), again=form.text("again") == "1")
    return back_with(desk.path(f"collect/{form_id}/answers"), 0)
