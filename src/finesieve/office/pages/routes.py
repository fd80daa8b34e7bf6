"""Member pages: the list, the editor, publishing, and looking at one as any person."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, Final, get_args

from fastapi import Request
from markupsafe import Markup, escape
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, Overtaken
from finesieve.core.fields.about import HOUSE
from finesieve.core.language.placeholders import Piece
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.pages.definition import AUDIENCES, Audience
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.follow_up import follow_up_sections
from finesieve.office.shared.frame import back_with, page
from finesieve.office.shared.rules import RuleEditor, posted_rule, stored_rule
from finesieve.office.shared.sentences import Vocabulary, words_about_people
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
from finesieve.web.pages import block_html
from finesieve.web.posted import Posted, PostedForm, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.sound import sound_address

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/follow-up/pages")
_MOST: Final = 60


@router.get("")
def show_pages(request: Request, desk: DeskHere) -> Response:
    """All pages, and a new one."""
    return _list(request, desk, "", "")


def _list(request: Request, desk: Desk, title: str, message: str, status: int = 200) -> Response:
    return page(
        request, desk, "office/pages/list.html", stage="follow-up", title="Pages",
        sections=follow_up_sections(desk, "pages"), pages=list_pages(desk.scope), typed=title, message=message,
        status=status,
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
    return _editor(request, desk, view, _as_stored(view), {})


def _as_stored(view: PageView) -> dict[str, Any]:
    """The draft as the editor shows it, each rule as a sentence."""
    words = _words(view.catalogue)
    rules = [
        stored_rule(f"show_{number}", "Shows when", block.show_when, words, as_text=False)
        for number, block in enumerate(view.document.blocks)
    ]
    return {**view.document.model_dump(), "rules": rules}


def _words(catalogue: Catalogue) -> Vocabulary:
    return replace(words_about_people(catalogue), where="about=message")


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
        sections=follow_up_sections(desk, "pages", view.id), view=view, typed=typed, messages=messages,
        audiences=AUDIENCES, who=who,
        seen=seen, drawn=[(block_html(one, told), one.button, sound_address(one.to), one) for one in seen.blocks],
        pictures={one.key: one for one in view.catalogue.fields_about(HOUSE) if one.type_key == "picture"},
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


def _names(form: PostedForm) -> list[str]:
    """What the inputs of each block are called by."""
    return list(form.values("text_"))[:_MOST]


def _blocks(form: PostedForm, rules: Sequence[RuleEditor]) -> list[dict[str, str]]:
    parts = ("text", "button", "to", "picture", "shows")
    return [
        {"show_when": rule.text, **{part: form.text(f"{part}_{name}") for part in parts}}
        for name, rule in zip(_names(form), rules, strict=True)
    ]


def _rules(form: PostedForm, words: Vocabulary) -> list[RuleEditor]:
    """The rules of the blocks as posted, a button of one of them done."""
    rules = [posted_rule(form, f"show_{name}", "Shows when", words) for name in _names(form)]
    flipped = form.text("action").removeprefix("flip:")
    return [one.flipped() if one.name == flipped else one for one in rules]


def _document(form: PostedForm, rules: Sequence[RuleEditor]) -> dict[str, Any]:
    """The page as posted, a button of the editor done: a block more, one less, one further up or down."""
    blocks, action = _blocks(form, rules), form.text("action")
    what, _, place = action.partition(":")
    number = whole_number(place)
    if what == "add" and len(blocks) < _MOST:
        blocks.append({"text": ""})
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
    desk.scope.need("editor")
    view = read_page_view(desk.scope, page_id)
    rules = _rules(form, _words(view.catalogue))
    document, here = _document(form, rules), desk.path(f"follow-up/pages/{page_id}")
    typed = {**document, "rules": rules}
    if form.text("action").startswith(("flip:", "show_")) or not form.text("action"):
        return _editor(request, desk, view, {**typed, "revision": form.number("revision")}, {})
    if not all(rule.complete for rule in rules):
        words = {"": "A condition is not complete yet. Finish it, or remove it; nothing was saved."}
        return _editor(request, desk, view, {**typed, "revision": form.number("revision")}, words, 422)
    try:
        change = save_page(desk.scope, page_id, form.number("revision"), document)
        if form.text("action") == "publish":
            publish_page(desk.scope, page_id)
            return RedirectResponse(here, 303)
        return back_with(here, change)
    except InvalidInput as problem:
        return _editor(request, desk, read_page_view(desk.scope, page_id), typed, problem.messages, 422)
    except Overtaken as clash:
        return _editor(request, desk, read_page_view(desk.scope, page_id), typed, {"": str(clash)}, 409)


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
        return _editor(request, desk, view, _as_stored(view), problem.messages, 422)
    return RedirectResponse(desk.path("follow-up/pages"), 303)
