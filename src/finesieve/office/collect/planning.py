"""The page plan of a checkout: its page drawn to scale, the sections lying in its slots."""

from dataclasses import dataclass
from typing import Any, get_args

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.forms.definition import Section
from finesieve.core.forms.lacking import lacking
from finesieve.core.forms.page import STEPS, Place, Slot, places
from finesieve.office.collect.contents import pages_of
from finesieve.office.shared.collect import collect_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.commerce.in_force import checkout_in_use, use_checkout
from finesieve.services.forms.composing import add_section, lay_out, set_steps
from finesieve.services.forms.forms import FormView, read_form
from finesieve.services.kernel.changes import redoable_change, undo_change, undoable_change
from finesieve.web.posted import Posted, PostedForm
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/collect/{form_id:int}/plan")


@dataclass(frozen=True, slots=True)
class _Step:
    """A step of the checkout, or a stretch of its one page: the places that belong to it."""

    number: int
    title: str
    places: tuple[Place[Section], ...]


@router.get("")
def show_plan(request: Request, desk: DeskHere, form_id: int) -> Response:
    """The page of a checkout with its slots; of another form, its questions."""
    if read_form(desk.scope, form_id).document.channel != "checkout":
        return RedirectResponse(desk.path(f"collect/{form_id}"), 303)
    return _plan(request, desk, form_id, {})


def _plan(request: Request, desk: Desk, form_id: int, messages: dict[str, str], status: int = 200) -> Response:
    view = read_form(desk.scope, form_id)
    whole = places((section.slot, section) for section in view.document.sections)
    steps = [
        _Step(number, title, tuple(one for one in whole if one.station.step == key))
        for number, (key, title) in enumerate(STEPS.items(), 1)
    ]
    shop = view.catalogue.shop
    context: dict[str, Any] = {
        "view": view,
        "tabs": pages_of(view.document),
        "steps": steps,
        "chosen": view.document.section(request.query_params.get("s", "")),
        "ways": {"delivery": shop.delivery if shop else (), "payment": shop.payment if shop else ()},
        "undo_last": undoable_change(desk.scope, "form", form_id) if desk.may_edit else None,
        "redo_last": redoable_change(desk.scope, "form", form_id) if desk.may_edit else None,
        "messages": messages,
        "in_use": checkout_in_use(desk.scope),
        "lacking": lacking(view.document, view.catalogue),
    }
    return page(
        request, desk, "office/collect/plan.html", stage="collect", title=f"Page plan of {view.document.title}",
        sections=collect_sections(desk, form_id), status=status, **context,
    )  # fmt: skip


@router.post("")
def move(request: Request, desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Lay the sections out as dragged (`order`), or move one by an arrow or into a slot (`move`)."""
    view = read_form(desk.scope, form_id)
    try:
        order = _new_order(form, view)
        change = lay_out(desk.scope, form_id, form.number("revision"), order)
    except InvalidInput as problem:
        return _plan(request, desk, form_id, problem.messages, 422)
    return back_with(_here(desk, form_id, form.text("s")), change)


def _here(desk: Desk, form_id: int, section: str = "") -> str:
    return desk.path(f"collect/{form_id}/plan") + (f"?s={section}" if section.isalnum() else "")


def _new_order(form: PostedForm, view: FormView) -> list[str]:
    if form.text("order"):
        return [one for one in form.text("order").split(",") if one]
    whole = places((section.slot, section) for section in view.document.sections)
    flat = [
        one for place in whole if not place.station.own for one in (place.station.key, *(s.id for s in place.sections))
    ]
    section, _, where = form.text("move").partition(":")
    moved = view.document.section(section)
    if moved is None:
        raise InvalidInput({"move": "What was to be moved is not here any more."})
    slots = [one for one in get_args(Slot) if one and (one != "by_line" or (moved.repeat and moved.repeat.per))]
    flat = [one for one in flat if one in slots or one not in get_args(Slot)]
    here = flat.index(section)
    flat.remove(section)
    if where in slots:
        after = next((n for n in range(flat.index(where) + 1, len(flat)) if flat[n] in slots), len(flat))
        return [*flat[:after], section, *flat[after:]]
    step = {"up": -1, "down": 1}.get(where)
    if step is None:
        raise InvalidInput({"move": "There is no such place."})
    flat.insert(min(max(here + step, 1), len(flat)), section)
    return flat


@router.post("/steps")
def change_steps(desk: DeskHere, form_id: int, form: Posted) -> Response:
    """One page, or step by step."""
    change = set_steps(desk.scope, form_id, form.number("revision"), stepped=form.text("stepped") == "yes")
    return back_with(_here(desk, form_id), change)


@router.post("/use")
def use(request: Request, desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Let the shop use this checkout."""
    try:
        return back_with(_here(desk, form_id), use_checkout(desk.scope, form_id))
    except InvalidInput as problem:
        return _plan(request, desk, form_id, problem.messages, 422)


@router.post("/sections")
def add(desk: DeskHere, form_id: int, form: Posted) -> Response:
    """A new section in a slot, chosen, to be named and filled in the composer."""
    before = {one.id for one in read_form(desk.scope, form_id).document.sections}
    slot = form.text("slot")
    if slot not in get_args(Slot):
        raise NotFound("There is no such place.")
    change = add_section(desk.scope, form_id, form.number("revision"), slot=slot)  # type: ignore[arg-type]
    made = next((one.id for one in read_form(desk.scope, form_id).document.sections if one.id not in before), "")
    return back_with(_here(desk, form_id, made), change)


@router.post("/undo")
def undo(desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Take back the last change of the form, or bring it back."""
    undo_change(desk.scope, form.number("change"), again=form.text("again") == "1")
    return back_with(_here(desk, form_id), 0)
