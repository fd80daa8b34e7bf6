"""Records: the list of a type, one record, a new one; and the files kept with values."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, Overtaken
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import Entry, Section, page
from finesieve.services.define.groups import read_catalogue
from finesieve.services.people.records import (
    add_record,
    archive_record,
    blank_record,
    change_record,
    find_titles,
    link_record,
    list_records,
    people_like,
    read_record,
    unlink_record,
)
from finesieve.services.values.files import open_file, open_thumbnail, read_shelf, take_files
from finesieve.web.downloads import as_download
from finesieve.web.posted import Posted, PostedForm, takes_files, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.site import site_of
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}")


def _sections(desk: Desk, active: int = 0) -> list[Section]:
    entries = [
        Entry(f"{known.symbol} {known.plural}".strip(), desk.path(f"records/{known.id}"), "", known.id == active)
        for known in read_catalogue(desk.scope).record_types
    ]
    return [
        Section("people", [Entry("Everybody", desk.path("people"))]),
        Section("things people have", entries, empty="Nothing yet"),
    ]


@router.get("/records")
def show_types(request: Request, desk: DeskHere) -> Response:
    """To the first record type."""
    types = read_catalogue(desk.scope).record_types
    return RedirectResponse(desk.path(f"records/{types[0].id}" if types else "define/records/new"), 303)


@router.get("/records/{type_id:int}")
def show_records(
    request: Request, desk: DeskHere, type_id: int, q: str = "", before: int | None = None, away: str = ""
) -> Response:
    """The records of a type, newest first; those that have the words searched for."""
    words = q.replace("\x00", "")[:100]
    records = list_records(desk.scope, type_id, search=words, before_id=before, archived=away == "yes")
    return page(
        request,
        desk,
        "office/records/list.html",
        stage="people",
        title=records.record_type.plural,
        sections=_sections(desk, type_id),
        records=records,
        known=records.record_type,
        away=away == "yes",
        words=words,
    )


@router.get("/records/{type_id:int}/new")
def new_record(request: Request, desk: DeskHere, type_id: int, person: str = "", link: str = "") -> Response:
    """The form for a new record, perhaps of a person."""
    return _new_page(request, desk, type_id, whole_number(person) or 0, whole_number(link) or 0, {}, {})


def _new_page(
    request: Request,
    desk: Desk,
    type_id: int,
    person_id: int,
    link_id: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
) -> Response:
    blank = blank_record(desk.scope, type_id, person_id, link_id)
    return page(
        request,
        desk,
        "office/records/new.html",
        stage="people",
        title=f"New {blank.record_type.singular.lower()}",
        sections=_sections(desk, type_id),
        blank=blank,
        typed=typed,
        messages=messages,
        status=status,
    )


def _files(request: Request, desk: Desk, form: PostedForm, about: str, typed: dict[str, str]) -> list[str]:
    """Take the files that came with values; their tokens stand in `typed` afterwards."""
    sent = {name[2:]: file for name, file in form.files.items() if name.startswith("v_")}
    if not sent:
        return []
    fields = read_catalogue(desk.scope).keys_of(about)
    tokens = take_files(desk.scope, site_of(request).files, sent, fields)
    typed.update(tokens)
    return list(tokens.values())


@router.post("/records/{type_id:int}/new")
@takes_files
def make_record(request: Request, desk: DeskHere, type_id: int, form: Posted) -> Response:
    """Add a record."""
    typed = form.values("v_")
    person_id, link_id = whole_number(form.text("person")) or 0, whole_number(form.text("link")) or 0
    try:
        tokens = _files(request, desk, form, f"record:{type_id}", typed)
        linked = {link_id: [person_id]} if person_id and link_id else {}
        record_id = add_record(desk.scope, type_id, typed, linked, read_shelf(desk.scope, tokens))
    except InvalidInput as problem:
        return _new_page(request, desk, type_id, person_id, link_id, typed, problem.messages, 422)
    back = f"people/{person_id}" if person_id else f"records/{type_id}/{record_id}"
    return RedirectResponse(desk.path(back), 303)


@router.get("/records/{type_id:int}/{record_id:int}")
def show_record(request: Request, desk: DeskHere, type_id: int, record_id: int, find: str = "") -> Response:
    """One record."""
    return _record_page(request, desk, type_id, record_id, {}, {}, find.replace("\x00", "")[:80])


def _record_page(
    request: Request,
    desk: Desk,
    type_id: int,
    record_id: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    find: str = "",
    status: int = 200,
    **standing: object,
) -> Response:
    view = read_record(desk.scope, type_id, record_id)
    return page(
        request,
        desk,
        "office/records/record.html",
        stage="people",
        title=view.title,
        sections=_sections(desk, type_id),
        view=view,
        known=view.record_type,
        typed=typed,
        messages=messages,
        **standing,
        editing=bool(messages or typed) or request.query_params.get("edit") == "1",
        find=find,
        hits=people_like(desk.scope, find) if find else (),
        status=status,
    )


@router.get("/records/{type_id:int}/titles")
def show_titles(request: Request, desk: DeskHere, type_id: int, words: str = "") -> Response:
    """The choices of a menu of records, for what was searched."""
    return render(request, "office/records/_titles.html", {"titles": find_titles(desk.scope, type_id, words)})


@router.post("/records/{type_id:int}/{record_id:int}")
@takes_files
def save_record(request: Request, desk: DeskHere, type_id: int, record_id: int, form: Posted) -> Response:
    """Correct values of a record."""
    typed = form.values("v_")
    try:
        tokens = _files(request, desk, form, f"record:{type_id}", typed)
        was = {name.removeprefix("v_"): text for name, text in form.was.items() if name.startswith("v_")}
        changed = change_record(desk.scope, type_id, record_id, typed, read_shelf(desk.scope, tokens), was)
    except InvalidInput as problem:
        return _record_page(request, desk, type_id, record_id, typed, problem.messages, status=422, was=form.was)
    except Overtaken as clash:
        mine = {key: text for key, text in typed.items() if form.was.get(f"v_{key}") != text}
        return _record_page(request, desk, type_id, record_id, mine, {}, status=409, clash=clash)
    return RedirectResponse(desk.path(f"records/{type_id}/{record_id}?changed={changed}"), 303)


@router.post("/records/{type_id:int}/{record_id:int}/archive")
def archive(desk: DeskHere, type_id: int, record_id: int, form: Posted) -> Response:
    """Put a record away, or take it out again."""
    archive_record(desk.scope, type_id, record_id, archived=form.text("archived") == "yes")
    return RedirectResponse(desk.path(f"records/{type_id}/{record_id}"), 303)


@router.post("/records/{type_id:int}/{record_id:int}/link")
def link(request: Request, desk: DeskHere, type_id: int, record_id: int, form: Posted) -> Response:
    """Link a record with one more, or take one away."""
    link_id, target = form.number("link"), form.number("target")
    try:
        if form.text("remove"):
            unlink_record(desk.scope, type_id, record_id, link_id, target)
        else:
            link_record(desk.scope, type_id, record_id, link_id, target)
    except InvalidInput as problem:
        return _record_page(request, desk, type_id, record_id, {}, problem.messages, status=422)
    return RedirectResponse(desk.path(f"records/{type_id}/{record_id}"), 303)


@router.get("/files/{field_id:int}/{row_id:int}")
def download(request: Request, desk: DeskHere, field_id: int, row_id: int) -> Response:
    """A file kept with a value, as a download."""
    return as_download(open_file(desk.scope, site_of(request).files, field_id, row_id))


@router.get("/files/{field_id:int}/{row_id:int}/small")
def thumbnail(request: Request, desk: DeskHere, field_id: int, row_id: int) -> Response:
    """A small picture of it."""
    data = open_thumbnail(desk.scope, site_of(request).files, field_id, row_id)
    return Response(data, media_type="image/webp", headers={"Cache-Control": "private, max-age=60"})
