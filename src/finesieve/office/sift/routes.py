"""Segments: the sieve, its meshes, its people, and CSV."""

from collections.abc import Iterator, Mapping, Sequence
from typing import Final
from urllib.parse import urlencode

from fastapi import Request
from starlette.responses import FileResponse, RedirectResponse, Response, StreamingResponse

from finesieve.core.errors import InvalidExpression, InvalidInput, Overtaken
from finesieve.core.language.parser import has_comments
from finesieve.core.language.problems import FIXABLE
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.office.shared.sentences import PartDraft, SentenceDraft, draft_of, read_sentence, words_of_segments
from finesieve.office.sift.index import sift_sections
from finesieve.office.sift.picture import draw_sieve
from finesieve.office.sift.trays import looked_without
from finesieve.services.kernel.inputs import read_input
from finesieve.services.kernel.slugs import slug_from_name
from finesieve.services.sift.alike import alike_of
from finesieve.services.sift.export import (
    MOST_CELLS,
    ExportInput,
    columns_to_export,
    export_segment,
    workbook_of_segment,
)
from finesieve.services.sift.prepared import open_prepared, prepare_export
from finesieve.services.sift.segments import (
    Mesh,
    SegmentInput,
    SegmentView,
    change_segment,
    create_segment,
    list_segments,
    name_of_segment,
    read_segment,
    remove_segment,
)
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter
from finesieve.web.security import style_nonce
from finesieve.web.site import site_of

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/sift")


@router.get("")
def show_sift(request: Request, desk: DeskHere) -> Response:
    """To the first segment, or to making one."""
    segments = list_segments(desk.scope)
    return RedirectResponse(desk.path(f"sift/{segments[0].id}" if segments else "sift/new"), 303)


@router.get("/new")
def new_segment(request: Request, desk: DeskHere) -> Response:
    """The page that makes a segment."""
    return _new_page(request, desk, "", "")


def _new_page(request: Request, desk: Desk, typed: str, message: str, status: int = 200) -> Response:
    return page(
        request,
        desk,
        "office/sift/new.html",
        stage="sift",
        title="New segment",
        sections=sift_sections(desk),
        typed=typed,
        message=message,
        status=status,
    )


@router.post("/new")
def make_segment(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a segment that admits everyone so far."""
    try:
        segment_id = create_segment(desk.scope, form.text("name"))
    except InvalidInput as problem:
        return _new_page(request, desk, form.text("name"), problem.messages["name"], 422)
    return RedirectResponse(desk.path(f"sift/{segment_id}"), 303)


@router.get("/{segment_id:int}")
def show_segment(request: Request, desk: DeskHere, segment_id: int) -> Response:
    """A segment as a sieve."""
    return _segment_page(
        request, desk, read_segment(desk.scope, segment_id, off=looked_without(request.query_params.get("off", "")))
    )


def _paired(view: SegmentView, drafts: Sequence[PartDraft]) -> Iterator[tuple[PartDraft, Mesh | None]]:
    """Each condition of the editor with its mesh; one that lacks a word yet has none."""
    meshes = iter(view.meshes)
    for draft in drafts:
        yield draft, next(meshes, None) if draft.complete else None


def _renamed(typed: Mapping[str, str] | None, view: SegmentView) -> bool:
    """Whether what was typed differs in name, folder or description, and not in the condition."""
    stored = (view.name, view.description, view.folder)
    return typed is not None and (typed["name"], typed["description"], typed.get("folder", view.folder)) != stored


def _segment_page(
    request: Request,
    desk: Desk,
    view: SegmentView,
    *,
    sentence: SentenceDraft | None = None,
    typed: Mapping[str, str] | None = None,
    problems: object = (),
    messages: Mapping[str, str] | None = None,
    overtaken: Overtaken | None = None,
    status: int = 200,
) -> Response:
    words = words_of_segments(view.catalogue, view.key)
    drafts = sentence.drafts if sentence else [draft_of(mesh.clause, words) for mesh in view.meshes]
    as_text = request.query_params.get("as") == "text" or bool(problems or overtaken or not view.counted)
    stored = {"name": view.name, "description": view.description, "expression": view.expression, "folder": view.folder}
    return page(
        request,
        desk,
        "office/sift/segment.html",
        stage="sift",
        title=view.name,
        sections=sift_sections(desk, view.id),
        view=view,
        alike=alike_of(desk.scope, view.id) if view.counted else (),
        rows=list(_paired(view, drafts)),
        picture=draw_sieve(view.everyone, [mesh.tray for mesh in view.meshes], desk.language),
        as_text=as_text,
        nonce=style_nonce(request) if as_text else "",
        typed=typed or stored,
        loses_comments=not as_text and has_comments(view.expression),
        overtaken=overtaken,
        problems=problems or view.problems,
        messages=messages or {},
        fixable=FIXABLE,
        today=desk.scope.clock().astimezone(view.catalogue.zone).date(),
        vocabulary=words,
        folders=sorted({one.folder for one in list_segments(desk.scope) if one.folder}),
        editing=request.query_params.get("edit") == "1" or bool(overtaken and _renamed(typed, view)),
        status=status,
    )


@router.post("/{segment_id:int}/meshes")
def save_meshes(request: Request, desk: DeskHere, segment_id: int, form: Posted) -> Response:
    """Change the conditions; those that lack a word yet are kept in the page and not counted."""
    view = read_segment(desk.scope, segment_id)
    words = words_of_segments(view.catalogue, view.key)
    sentence = read_sentence(form, words)
    expression = sentence.expression(words)
    asked = SegmentInput(name=view.name, description=view.description, expression=expression, folder=view.folder)
    try:
        change = change_segment(desk.scope, segment_id, form.number("revision"), asked)
    except Overtaken as problem:
        return _segment_page(
            request,
            desk,
            read_segment(desk.scope, segment_id),
            typed=asked.model_dump(),
            overtaken=problem,
            status=409,
        )
    if sentence.complete:
        return back_with(desk.path(f"sift/{segment_id}"), change)
    return _segment_page(request, desk, read_segment(desk.scope, segment_id), sentence=sentence)


@router.post("/{segment_id:int}")
def save_segment(request: Request, desk: DeskHere, segment_id: int, form: Posted) -> Response:
    """Change name and description, or the condition as text."""
    view = read_segment(desk.scope, segment_id)
    stored = {"name": view.name, "description": view.description, "expression": view.expression, "folder": view.folder}
    data = stored | dict(form.data)
    try:
        change = change_segment(desk.scope, segment_id, form.number("revision"), read_input(SegmentInput, data))
    except Overtaken as problem:
        view = read_segment(desk.scope, segment_id)
        return _segment_page(request, desk, view, typed=data, overtaken=problem, status=409)
    except InvalidInput as problem:
        problems = problem.problems if isinstance(problem, InvalidExpression) else ()
        return _segment_page(request, desk, view, typed=data, problems=problems, messages=problem.messages, status=422)
    text = "?as=text" if request.query_params.get("as") == "text" else ""
    return back_with(desk.path(f"sift/{segment_id}{text}"), change)


@router.post("/{segment_id:int}/remove")
def drop_segment(request: Request, desk: DeskHere, segment_id: int) -> Response:
    """Remove a segment, never its people; one that others are made of stays."""
    try:
        return back_with(desk.path("sift/removed"), remove_segment(desk.scope, segment_id))
    except InvalidInput as problem:
        view = read_segment(desk.scope, segment_id)
        return _segment_page(request, desk, view, messages=problem.messages, status=422)


@router.get("/removed")
def show_removed(request: Request, desk: DeskHere) -> Response:
    """After a removal, with the offer to undo it."""
    return page(request, desk, "office/sift/removed.html", stage="sift", title="Removed", sections=sift_sections(desk))


@router.get("/{segment_id:int}/export")
def choose_export(request: Request, desk: DeskHere, segment_id: int) -> Response:
    """What to take along, and as what."""
    return _export_page(request, desk, segment_id, {}, {})


def _export_page(
    request: Request,
    desk: Desk,
    segment_id: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
) -> Response:
    view = read_segment(desk.scope, segment_id)
    return page(
        request, desk, "office/sift/export.html", stage="sift", title=view.name,
        sections=sift_sections(desk, segment_id), view=view, columns=columns_to_export(desk.scope), typed=typed,
        chosen=request.query_params.getlist("columns"), messages=messages, most=MOST_CELLS, status=status,
    )  # fmt: skip


@router.get("/{segment_id:int}/export.csv")
@router.get("/{segment_id:int}/export.jsonl")
@router.get("/{segment_id:int}/export.xlsx")
def export(request: Request, desk: DeskHere, segment_id: int) -> Response:
    """The people who pass: CSV, JSON Lines, or a workbook."""
    kind, query = request.url.path.rpartition(".")[2], request.query_params
    typed = {"sample": query.get("sample", "").strip() or "0", "seed": query.get("seed", "")[:60]}
    try:
        asked = read_input(ExportInput, {**typed, "kind": kind, "columns": tuple(query.getlist("columns")[:400])})
        write = workbook_of_segment if kind == "xlsx" else export_segment
        name, found = write(desk.scope, segment_id, asked)
    except InvalidExpression:
        raise
    except InvalidInput as problem:
        return _export_page(request, desk, segment_id, typed, problem.messages, 422)
    headers = {"Content-Disposition": f'attachment; filename="{slug_from_name(name)}.{kind}"'}
    if isinstance(found, bytes):
        return Response(found, media_type=_MEDIA[kind], headers=headers)
    return StreamingResponse(found, media_type=_MEDIA[kind], headers=headers)


_MEDIA: Final = {
    "csv": "text/csv; charset=utf-8", "jsonl": "application/jsonl; charset=utf-8",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}  # fmt: skip


@router.post("/{segment_id:int}/prepare")
def prepare(request: Request, desk: DeskHere, segment_id: int, form: Posted) -> Response:
    """Have the file written by a worker, and to the page that follows it."""
    typed = {
        "kind": form.text("kind") or "csv",
        "sample": form.text("sample").strip() or "0",
        "seed": form.text("seed"),
    }
    try:
        asked = read_input(ExportInput, {**typed, "columns": tuple(form.texts("columns")[:400])})
        task = prepare_export(desk.scope, segment_id, asked)
    except InvalidExpression:
        raise
    except InvalidInput as problem:
        return _export_page(request, desk, segment_id, typed, problem.messages, 422)
    return RedirectResponse(desk.path(f"define/tasks/{task}"), 303)


@router.get("/prepared/{task_id:int}")
def take_prepared(request: Request, desk: DeskHere, task_id: int) -> Response:
    """A file that a worker has written."""
    found = open_prepared(desk.scope, site_of(request).files, task_id)
    return FileResponse(found.path, media_type=_MEDIA[found.kind], filename=found.name)


@router.get("/{segment_id:int}/take")
def take_export(request: Request, desk: DeskHere, segment_id: int) -> Response:
    """From what was chosen to the file."""
    name_of_segment(desk.scope, segment_id)
    query = [(name, value) for name, value in request.query_params.multi_items() if name != "kind" and value]
    kind = request.query_params.get("kind", "csv")
    kind = kind if kind in _MEDIA else "csv"
    return RedirectResponse(desk.path(f"sift/{segment_id}/export.{kind}") + f"?{urlencode(query)}", 303)
