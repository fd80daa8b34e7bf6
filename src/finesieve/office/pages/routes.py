"""Member pages: the list, the editor, publishing, and looking at one as any person."""

from collections.abc import Mapping
from typing import Any, Final, get_args

from fastapi import APIRouter, Request
from markupsafe import Markup, escape
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, Overtaken
from finesieve.core.language.placeholders import Piece
from finesieve.core.pages.definition import AUDIENCES, Audience
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import Entry, Section, back_with, page
from finesieve.services.pages.editing import (
    PageView,
    create_page,
    delete_page,
    list_pages,
    publish_page,
    read_page_as,
    read_page_view,
    save_page,
    withdraw_page,
)
from finesieve.web.pages import block_html, sound_address
from finesieve.web.posted import Posted, PostedForm, whole_number

__all__ = ["router"]

router = APIRouter(prefix="/w/{slug}/follow-up/pages")
_MOST: Final = 60


def _sections(desk: Desk, active: int = 0) -> list[Section]:
    pages = [
        Entry(one.title, desk.path(f"follow-up/pages/{one.id}"), f"v{one.published}" if one.published else "draft",
              one.id == active)
        for one in list_pages(desk.scope)
    ]  # fmt: skip
    return [
        Section("messages", [Entry("Outbox", desk.path("follow-up/outbox"))]),
        Section("pages", pages, desk.path("follow-up/pages"), "New page", empty="No page yet"),
    ]


@router.get("")
def show_pages(request: Request, desk: DeskHere) -> Response:
    """All pages, and a new one."""
    return _list(request, desk, "", "")


def _list(request: Request, desk: Desk, title: str, message: str, status: int = 200) -> Response:
    return page(
        request, desk, "office/pages/list.html", stage="follow-up", title="Pages", sections=_sections(desk),
        pages=list_pages(desk.scope), typed=title, message=message, status=status,
    )  # fmt: skip


@router.post("")
def make_page(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a page."""
    try:
        return RedirectResponse(desk.path(f"follow-up/pages/{create_page(desk.scope, form.text('title'))}"), 303)
    except InvalidInput as problem:
        return _list(request, desk, form.text("title"), next(iter(problem.messages.values())), 422)


@router.get("/{page_id:int}")
def show_page(request: Request, desk: DeskHere, page_id: int) -> Response:
    """The editor, with the page beside it as somebody reads it."""
    view = read_page_view(desk.scope, page_id)
    return _editor(request, desk, view, view.document.model_dump(), {})


def _editor(
    request: Request,
    desk: Desk,
    view: PageView,
    typed: Mapping[str, Any],
    messages: Mapping[str, str],
    status: int = 200,
) -> Response:
    who = request.query_params.get("who", "")[:80].replace("\x00", "")
    person = whole_number(request.query_params.get("person", "")) or 0
    seen = read_page_as(desk.scope, view.id, who, person)
    told = _teller(view)
    return page(
        request, desk, "office/pages/editor.html", stage="follow-up", title=view.document.title,
        sections=_sections(desk, view.id), view=view, typed=typed, messages=messages, audiences=AUDIENCES, who=who,
        seen=seen, drawn=[(block_html(one, told), one.button, sound_address(one.to)) for one in seen.blocks],
        problems={(one.block, one.part): one.message for one in view.problems}, status=status,
    )  # fmt: skip


def _teller(view: PageView) -> Any:
    """Draws what came of a placeholder, with where it comes from."""

    def told(piece: Piece) -> Markup:
        typed = view.catalogue.check(piece.expression).typed
        fields = (
            [view.catalogue.by_key[name] for name in sorted(typed.names) if name in view.catalogue.by_key]
            if typed
            else []
        )
        comes = ", ".join(f"{one.label}{', worked out' if one.derived else ''}" for one in fields) or piece.expression
        shown = escape(piece.text) if piece.text else Markup("<i>blank</i>")
        return Markup('<mark class="filled" title="{}" tabindex="0">{}</mark>').format(f"From: {comes}", shown)

    return told


def _blocks(form: PostedForm) -> list[dict[str, str]]:
    names = list(form.values("text_"))[:_MOST]
    return [
        {part: form.text(f"{part}_{name}") for part in ("text", "show_when", "button", "to")} for name in names
    ]  # fmt: skip


def _document(form: PostedForm) -> dict[str, Any]:
    """The page as posted, a button of the editor done: a block more, one less, one further up or down."""
    blocks, action = _blocks(form), form.text("action")
    what, _, place = action.partition(":")
    number = whole_number(place)
    if what == "add" and len(blocks) < _MOST:
        blocks.append({"text": "", "show_when": "", "button": "", "to": ""})
    elif number is not None and number < len(blocks):
        if what == "remove":
            del blocks[number]
        elif what in ("up", "down"):
            other = number + (1 if what == "down" else -1)
            if 0 <= other < len(blocks):
                blocks[number], blocks[other] = blocks[other], blocks[number]
    audience: Audience = next((one for one in get_args(Audience) if one == form.text("audience")), "signed_in")
    levels = tuple(number for text in form.texts("level") if (number := whole_number(text)) is not None)
    return {
        "title": form.text("title").strip(), "audience": audience, "levels": levels,
        "segment": whole_number(form.text("segment")) or 0, "blocks": blocks,
    }  # fmt: skip


@router.post("/{page_id:int}")
def save(request: Request, desk: DeskHere, page_id: int, form: Posted) -> Response:
    """Keep the draft, or publish it."""
    document = _document(form)
    here = desk.path(f"follow-up/pages/{page_id}")
    try:
        change = save_page(desk.scope, page_id, form.number("revision"), document)
        if form.text("action") == "publish":
            publish_page(desk.scope, page_id)
            return RedirectResponse(here, 303)
        return back_with(here, change)
    except InvalidInput as problem:
        return _editor(request, desk, read_page_view(desk.scope, page_id), document, problem.messages, 422)
    except Overtaken as clash:
        return _editor(request, desk, read_page_view(desk.scope, page_id), document, {"": str(clash)}, 409)


@router.post("/{page_id:int}/withdraw")
def withdraw(desk: DeskHere, page_id: int) -> Response:
    """Nobody sees it any more."""
    withdraw_page(desk.scope, page_id)
    return RedirectResponse(desk.path(f"follow-up/pages/{page_id}"), 303)


@router.post("/{page_id:int}/remove")
def remove(request: Request, desk: DeskHere, page_id: int) -> Response:
    """Remove it."""
    try:
        delete_page(desk.scope, page_id)
    except InvalidInput as problem:
        view = read_page_view(desk.scope, page_id)
        return _editor(request, desk, view, view.document.model_dump(), problem.messages, 422)
    return RedirectResponse(desk.path("follow-up/pages"), 303)
