"""The list of people: columns, filter, order, views; correcting in place; changing many at once."""

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal
from urllib.parse import urlencode

from fastapi import Request
from markupsafe import Markup
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, Overtaken
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.model.catalogue import Catalogue
from finesieve.office.people.routes import people_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.office.shared.rules import RuleEditor, posted_rule, stored_rule
from finesieve.office.shared.sentences import words_of_segments
from finesieve.services.define.groups import read_catalogue
from finesieve.services.kernel.inputs import read_input
from finesieve.services.people.bulk import BulkInput, Chosen, change_in_bulk, plan_bulk
from finesieve.services.people.listing import (
    MOST_COLUMNS,
    UNSORTED,
    Listing,
    list_people,
    read_view,
    remove_view,
    save_view,
)
from finesieve.services.people.profiles import read_line, set_values
from finesieve.web.posted import Posted, PostedForm, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.templating import render

__all__ = ["address_of_list", "chosen_people", "router"]

router = PrefixRouter(prefix="/w/{slug}/people")


def _query(request: Request) -> PostedForm:
    return PostedForm([(name, text.replace("\x00", "")) for name, text in request.query_params.multi_items()])


def _listing(desk: Desk, given: PostedForm, catalogue: Catalogue) -> tuple[Listing, RuleEditor, int]:
    """How the list is looked at, the editor of its filter, and the kept view that it began with, 0 for none."""
    view_id = whole_number(given.text("view")) or 0
    kept = read_view(desk.scope, view_id).listing if view_id else Listing()
    words = words_of_segments(catalogue)
    if "where" in given or "where_clauses" in given:
        rule = posted_rule(given, "where", "Filter", words)
    else:
        rule = stored_rule("where", "Filter", kept.where, words, as_text=False)
    if given.text("action") == "flip:where":
        rule = rule.flipped()
    data = {
        "columns": _columns(given, kept),
        "where": rule.text[:4_000],
        "search": given.text("q", kept.search)[:100],
        "sort": given.text("sort", kept.sort)[:60],
        "down": given.text("down", "yes" if kept.down else "") == "yes",
    }
    return read_input(Listing, data), rule, view_id


def _columns(given: PostedForm, kept: Listing) -> tuple[str, ...]:
    """The columns in the order in which they were chosen: as far as they are ticked still, then new ones."""
    if "columns" not in given:
        return kept.columns
    before = [key for key in given.text("columns").split(",") if key]
    if given.text("ticked") != "yes":
        return tuple(before[:MOST_COLUMNS])
    ticked = [key for key in given.texts("column") if key]
    return tuple(dict.fromkeys([key for key in before if key in ticked] + ticked))[:MOST_COLUMNS]


def address_of_list(desk: Desk, listing: Listing, view_id: int, **more: str) -> str:
    """The address of the list looked at in this way."""
    parts = {
        "view": str(view_id or ""),
        "columns": ",".join(listing.columns),
        "where": listing.where,
        "q": listing.search,
        "sort": listing.sort,
        "down": "yes" if listing.down else "",
        **more,
    }
    kept = {"columns", "where", "q", "sort", "down"} if view_id else set()
    query = urlencode({name: text for name, text in parts.items() if text or name in kept})
    return desk.path("people") + (f"?{query}" if query else "")


@router.get("")
def show_people(request: Request, desk: DeskHere, before: int | None = None, after: str = "") -> Response:
    """People, newest first or in another order, as a view shows them."""
    given = _query(request)
    listing, rule, view_id = _listing(desk, given, read_catalogue(desk.scope))
    return _people_page(request, desk, listing, rule, view_id, before=before, after=after[:2_000])


def _people_page(
    request: Request,
    desk: Desk,
    listing: Listing,
    rule: RuleEditor,
    view_id: int,
    *,
    before: int | None = None,
    after: str = "",
    messages: Mapping[str, str] | None = None,
    status: int = 200,
) -> Response:
    catalogue = read_catalogue(desk.scope)
    people = list_people(desk.scope, listing, before_id=before, after=after)
    view = read_view(desk.scope, view_id) if view_id else None
    shown = [field.key for field in people.columns]
    settable = [field for field in catalogue.stored if _settable(field)]
    return page(
        request,
        desk,
        "office/people/list.html",
        stage="people",
        title=view.name if view else "People",
        sections=people_sections(desk, view_id),
        people=people,
        listing=listing,
        rule=rule.with_problems(people.problems),
        view=view,
        changed=view is not None and listing != view.listing,
        shown=shown,
        choices=_choices(desk, catalogue),
        address=lambda **more: address_of_list(desk, listing, view_id, **more),
        heads=[_head(desk, field, listing, view_id) for field in people.columns],
        panel=request.query_params.get("panel", ""),
        to_set=tuple((f"set:{field.id}", f"Set {field.label}") for field in settable),
        to_clear=tuple((f"clear:{field.id}", f"Clear {field.label}") for field in settable),
        catalogue=catalogue,
        messages=messages or {},
        status=status,
    )


@dataclass(frozen=True, slots=True)
class _Head:
    """A column as it is drawn, worked out once for its many cells.

    `sort` is the address of the list sorted by it, empty where it cannot be; `pen` the button that corrects a value in
    its cell, the same in all.
    """

    key: str
    label: str
    short: str
    numeric: bool
    sort: str
    sorted: Literal["", "ascending", "descending"]
    css: str
    pen: Markup


_PEN = Markup('<button type="button" class="edit-cell" data-key="{}" aria-label="Correct {}">✎</button>')


def _head(desk: Desk, field: Field, listing: Listing, view_id: int) -> _Head:
    kind = field.value_type.kind
    numeric = kind in ("number", "money")
    correct = desk.may_correct and field.stores and kind not in ("file", "secret")
    return _Head(
        field.key,
        field.label,
        field.short,
        numeric,
        "" if kind in UNSORTED else _sorted_by(desk, listing, view_id, field.key),
        "" if listing.sort != field.key else "descending" if listing.down else "ascending",
        "n mono cell" if numeric else "soft cell",
        _PEN.format(field.key, field.label) if correct else Markup(),
    )


def _choices(desk: Desk, catalogue: Catalogue) -> list[tuple[str, list[Field]]]:
    """The fields that can be columns, by group."""
    found = []
    for group in catalogue.groups_about(PERSON):
        fields = [field for field in catalogue.of_group(group.id) if field.stores or field.derived]
        seen = [field for field in fields if desk.may_edit or (PERSON, field.key) not in catalogue.for_editors]
        if seen:
            found.append((group.name, seen))
    return found


def _settable(field: Field) -> bool:
    return not (field.settings.unique or field.key == "email" or field.type.kind in ("secret", "file"))


def _sorted_by(desk: Desk, listing: Listing, view_id: int, key: str) -> str:
    """The address of the list sorted by a column: up, then down, then the newest first again."""
    if listing.sort != key:
        wanted = listing.model_copy(update={"sort": key, "down": False})
    elif not listing.down:
        wanted = listing.model_copy(update={"down": True})
    else:
        wanted = listing.model_copy(update={"sort": "", "down": False})
    return address_of_list(desk, wanted, view_id)


@router.post("/views")
def keep_view(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Keep the list as it is looked at, as a new view or in place of the one that it began with."""
    listing, rule, view_id = _listing(desk, form, read_catalogue(desk.scope))
    replaced = view_id if form.text("over") == "yes" else 0
    name = form.text("name") or (read_view(desk.scope, view_id).name if replaced else "")
    try:
        kept, change = save_view(desk.scope, name, listing, replaced)
    except InvalidInput as problem:
        return _people_page(request, desk, listing, rule, view_id, messages=problem.messages, status=422)
    return back_with(desk.path(f"people?view={kept}"), change)


@router.post("/views/{view_id:int}/remove")
def drop_view(desk: DeskHere, view_id: int) -> Response:
    """Keep a view no longer."""
    return back_with(desk.path("people"), remove_view(desk.scope, view_id))


# Many at once ---------------------------------------------------------------------------------


def chosen_people(desk: Desk, form: PostedForm) -> tuple[Chosen, Listing, int]:
    listing, _rule, view_id = _listing(desk, form, read_catalogue(desk.scope))
    if form.text("everybody") == "yes":
        return Chosen(listing=listing), listing, view_id
    ids = [whole_number(text) for text in form.texts("who")[:1_000]]
    return Chosen(tuple(one for one in ids if one)), listing, view_id


def _asked(form: PostedForm) -> BulkInput:
    """The change: `what` is “set:12”, “clear:12”, or one of the others."""
    what, _, field = form.text("what").partition(":")
    value = "\n".join(text for text in form.texts("value") if text)
    return read_input(BulkInput, {"what": what, "field": whole_number(field) or 0, "value": value})


@router.post("/bulk")
def preview_bulk(request: Request, desk: DeskHere, form: Posted) -> Response:
    """What a change of many would do; nothing is done yet. A letter to them is written on a page of its own."""
    desk.scope.need("editor")
    if form.text("what") == "write":
        return RedirectResponse(desk.path("people/write"), 307)
    chosen, listing, view_id = chosen_people(desk, form)
    if not chosen.ids and chosen.listing is None:
        return RedirectResponse(address_of_list(desk, listing, view_id, nobody="1"), 303)
    return _bulk_page(request, desk, form, {})


def _bulk_page(request: Request, desk: Desk, form: PostedForm, messages: Mapping[str, str]) -> Response:
    chosen, listing, view_id = chosen_people(desk, form)
    catalogue = read_catalogue(desk.scope)
    what, _, field_id = form.text("what").partition(":")
    field = catalogue.by_id.get(whole_number(field_id) or 0)
    plan = None
    # What is to be cleared is known at once; for all else the value is asked for first.
    if not messages and (what == "clear" or form.text("shown") == "yes"):
        try:
            plan = plan_bulk(desk.scope, chosen, _asked(form))
        except InvalidInput as problem:
            messages = problem.messages
    return page(
        request,
        desk,
        "office/people/bulk.html",
        stage="people",
        title="Change many",
        sections=people_sections(desk, view_id),
        listing=listing,
        back=address_of_list(desk, listing, view_id),
        view_id=view_id,
        chosen=chosen,
        what=form.text("what"),
        kind=what,
        field=field,
        value="\n".join(text for text in form.texts("value") if text),
        plan=plan,
        once=secrets.token_urlsafe(12),
        catalogue=catalogue,
        messages=messages,
        status=422 if messages else 200,
    )


@router.post("/bulk/do")
def do_bulk(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Do it, and offer to undo it; for many, a task sees to it."""
    chosen, listing, view_id = chosen_people(desk, form)
    try:
        done = change_in_bulk(desk.scope, chosen, _asked(form), form.text("once")[:40])
    except InvalidInput as problem:
        return _bulk_page(request, desk, form, problem.messages)
    if done.task:
        return RedirectResponse(desk.path(f"define/tasks/{done.task}"), 303)
    return back_with(address_of_list(desk, listing, view_id, changed=str(done.people)), done.change)


# In place -------------------------------------------------------------------------------------


@router.get("/{person_id:int}/cell/{key}")
def edit_cell(request: Request, desk: DeskHere, person_id: int, key: str, shown: bool = False) -> Response:
    """The input of one value in its cell; the cell as it is where it cannot be changed here, or is only to be shown."""
    return _cell(request, desk, person_id, key, editing=not shown)


def _cell(
    request: Request,
    desk: Desk,
    person_id: int,
    key: str,
    *,
    editing: bool,
    typed: str | None = None,
    message: str = "",
) -> Response:
    line = read_line(desk.scope, person_id, key)
    context: dict[str, Any] = {
        "desk": desk, "csrf": desk.staff.csrf, "line": line, "person_id": person_id, "key": key, "message": message,
        "editing": editing and desk.may_correct, "raw": typed if typed is not None else (line.raw if line else ""),
        "was": {},
    }  # fmt: skip
    return render(request, "office/people/_cell.html", context, 422 if message else 200)


@router.post("/{person_id:int}/cell/{key}")
def save_cell(request: Request, desk: DeskHere, person_id: int, key: str, form: Posted) -> Response:
    """Correct one value in its cell."""
    typed = form.values("v_")
    was = {name.removeprefix("v_"): text for name, text in form.was.items() if name.startswith("v_")}
    try:
        set_values(desk.scope, person_id, {key: typed.get(key, "")}, None, was)
    except InvalidInput as problem:
        words = next(iter(problem.messages.values()))
        return _cell(request, desk, person_id, key, editing=True, typed=typed.get(key, ""), message=words)
    except Overtaken as clash:
        return _cell(request, desk, person_id, key, editing=True, typed=typed.get(key, ""), message=str(clash))
    return _cell(request, desk, person_id, key, editing=False)
