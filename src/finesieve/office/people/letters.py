"""A letter to those who are listed, or ticked: written, read as the first of them reads it, and sent by a task."""

import secrets
from collections.abc import Mapping

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput
from finesieve.core.limits import EXPRESSION
from finesieve.office.people.listing import address_of_list, chosen_people
from finesieve.office.people.routes import people_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import page
from finesieve.services.define.groups import read_catalogue
from finesieve.services.kernel.inputs import read_input
from finesieve.services.people.bulk import Chosen
from finesieve.services.people.letters import (
    LetterInput,
    LetterPlan,
    asking_for,
    asks_consent,
    plan_letter,
    write_to_many,
)
from finesieve.services.people.listing import Listing
from finesieve.web.posted import Posted, PostedForm
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/people/write")


@router.get("")
def begin_letter(request: Request, desk: DeskHere, where: str = "", ask: str = "") -> Response:
    """A letter to all of whom a condition holds; one that asks for the answers to fields, by their keys."""
    desk.scope.need("editor")
    listing = Listing(where=where[:EXPRESSION].replace("\x00", ""))
    asked = asking_for(desk.scope, ask.split(",")[:12]) if ask else LetterInput()
    return _letter_page(request, desk, Chosen(listing=listing), listing, 0, asked)


@router.post("")
def look_at_letter(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Who would get it, and as the first of them reads it; nothing is sent yet."""
    desk.scope.need("editor")
    chosen, listing, view_id = chosen_people(desk, form)
    if not chosen.ids and chosen.listing is None:
        return RedirectResponse(address_of_list(desk, listing, view_id, nobody="1"), 303)
    if "text" not in form:
        return _letter_page(request, desk, chosen, listing, view_id, LetterInput())
    try:
        asked = _read(form)
        plan = plan_letter(desk.scope, chosen, asked)
    except InvalidInput as problem:
        return _letter_page(request, desk, chosen, listing, view_id, _typed(form), messages=problem.messages)
    return _letter_page(request, desk, chosen, listing, view_id, asked, plan)


def _read(form: PostedForm) -> LetterInput:
    given = {"subject": form.text("subject"), "text": form.text("text"), "agreed": form.text("all") != "yes"}
    return read_input(LetterInput, given)


def _typed(form: PostedForm) -> LetterInput:
    """What was typed, as it is shown again, however long it is."""
    return LetterInput.model_construct(
        subject=form.text("subject"), text=form.text("text"), agreed=form.text("all") != "yes"
    )


def _letter_page(
    request: Request,
    desk: Desk,
    chosen: Chosen,
    listing: Listing,
    view_id: int,
    asked: LetterInput,
    plan: LetterPlan | None = None,
    messages: Mapping[str, str] | None = None,
) -> Response:
    catalogue = read_catalogue(desk.scope)
    return page(
        request,
        desk,
        "office/people/letter.html",
        stage="people",
        title="Write to many",
        sections=people_sections(desk, view_id),
        chosen=chosen,
        listing=listing,
        view_id=view_id,
        back=address_of_list(desk, listing, view_id),
        asked=asked,
        plan=plan,
        asks_consent=asks_consent(catalogue),
        has_links=bool(catalogue.personal_links),
        once=secrets.token_urlsafe(12),
        messages=messages or {},
        status=422 if messages else 200,
    )


@router.post("/do")
def send_letters(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Have them written."""
    chosen, listing, view_id = chosen_people(desk, form)
    try:
        task = write_to_many(desk.scope, chosen, _read(form), form.text("once")[:40])
    except InvalidInput as problem:
        return _letter_page(request, desk, chosen, listing, view_id, _typed(form), messages=problem.messages)
    return RedirectResponse(desk.path(f"define/tasks/{task}"), 303)
