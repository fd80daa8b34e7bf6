"""Definitions by file: export, dry run, load; starter sets; copying a field to another workspace."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.setup.schema import KEYWORDS
from finesieve.office.define.contents import sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import page
from finesieve.services.define.groups import read_catalogue
from finesieve.services.transfer.setups import (
    LoadPlan,
    export_field,
    export_setup,
    list_starters,
    load_setup,
    plan_setup,
    starter_text,
)
from finesieve.web.posted import Posted, takes_files, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.site import site_of

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/define")


@router.get("/file")
def show_file(request: Request, desk: DeskHere, field: str = "") -> Response:
    """Export and import."""
    return _file_page(request, desk, None, "", {}, field=whole_number(field) or 0)


def _file_page(
    request: Request,
    desk: Desk,
    plan: LoadPlan | None,
    text: str,
    messages: Mapping[str, str],
    *,
    field: int = 0,
    status: int = 200,
) -> Response:
    catalogue = read_catalogue(desk.scope)
    others = site_of(request).accounts.workspaces(desk.staff.staff_id)
    return page(
        request,
        desk,
        "office/define/file.html",
        stage="define",
        title="By file",
        sections=sections(desk, catalogue, "file"),
        groups=catalogue.all_groups,
        catalogue=catalogue,
        plan=plan,
        text=text,
        messages=messages,
        keywords=KEYWORDS,
        field=catalogue.by_id.get(field),
        others=[other for other in others if other.slug != desk.slug and other.role in ("editor", "owner")],
        loaded=request.query_params.get("loaded", ""),
        status=status,
    )


@router.get("/file/export")
def export(desk: DeskHere, group: str = "", values: str = "") -> Response:
    """The whole definition, or one group, as a file."""
    name, text = export_setup(desk.scope, whole_number(group) or 0, values=values == "yes")
    ascii_name = name.encode("ascii", "replace").decode().replace("?", "_").replace('"', "_").replace("/", "_")
    headers = {"Content-Disposition": f'attachment; filename="{ascii_name}"'}
    return Response(text, media_type="application/schema+json", headers=headers)


@router.post("/file")
@takes_files
def try_file(request: Request, desk: DeskHere, form: Posted) -> Response:
    """The dry run of a file, or loading it."""
    text = form.text("text")
    if "file" in form.files:
        try:
            text = form.files["file"][1].decode("utf-8-sig")
        except UnicodeDecodeError:
            return _file_page(request, desk, None, "", {"file": "This file is no text."}, status=422)
    try:
        if not text.strip():
            raise InvalidInput({"file": "Choose a file, or paste its text."})
        if form.text("load") == "yes":
            counts = load_setup(
                desk.scope,
                text,
                remove=form.text("remove") == "true",
                chosen=form.texts("take") if "choosing" in form else None,
            )
            summary = f"{counts['added']},{counts['changed']},{counts['removed']},{counts['conflicts']}"
            return RedirectResponse(desk.path(f"define/file?loaded={summary}"), 303)
        plan = plan_setup(desk.scope, text)
    except InvalidInput as problem:
        words = {"file": " ".join(problem.messages.values())}
        return _file_page(request, desk, None, text, words, status=422)
    return _file_page(request, desk, plan, text, {})


@router.post("/file/copy")
def copy_field(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Copy a field, with options and settings, to another workspace that one may edit: by its dry run there."""
    text = export_field(desk.scope, form.number("field"))
    opened = site_of(request).accounts.enter(form.text("to"), desk.staff)
    there = Desk(opened.slug, opened.name, opened.zone, opened.language, opened.scope, desk.staff)
    return _file_page(request, there, plan_setup(there.scope, text), text, {})


@router.get("/starters")
def show_starters(request: Request, desk: DeskHere) -> Response:
    """The starter sets that ship."""
    return page(
        request,
        desk,
        "office/define/starters.html",
        stage="define",
        title="Starter sets",
        sections=sections(desk, read_catalogue(desk.scope), "starters"),
        starters=list_starters(),
    )


@router.post("/starters")
def try_starter(request: Request, desk: DeskHere, form: Posted) -> Response:
    """The dry run of a starter set."""
    name = form.text("name")
    if not name.replace("-", "").isalnum():
        raise NotFound("There is no such starter set.")
    text = starter_text(name)
    return _file_page(request, desk, plan_setup(desk.scope, text), text, {})
