"""Keeping it in order: findings, comparison, dependencies, changes, how the house writes, long work."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, Overtaken
from finesieve.core.fields.families.places import country_codes, country_name
from finesieve.core.fields.manner import locale_names
from finesieve.office.define.contents import sections
from finesieve.office.define.threads import draw
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.define.groups import read_catalogue
from finesieve.services.forms.forms import list_forms
from finesieve.services.kernel.inputs import read_input, read_shown
from finesieve.services.kernel.ledger import change_manner, list_changes, read_manner, return_to
from finesieve.services.kernel.manner import MannerInput
from finesieve.services.kernel.tasks import read_task, stop_task
from finesieve.services.upkeep.dismissing import ask_in, bring_back, count_open, dismiss, open_findings
from finesieve.services.upkeep.readings import compare_fields
from finesieve.web.posted import Posted, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/define")


@router.get("/findings")
def show_findings(request: Request, desk: DeskHere) -> Response:
    """What is wrong or wasteful in the setup."""
    return _findings_page(request, desk, {})


def _findings_page(request: Request, desk: Desk, messages: Mapping[str, str], status: int = 200) -> Response:
    catalogue = read_catalogue(desk.scope)
    return page(
        request,
        desk,
        "office/define/findings.html",
        stage="define",
        title="Findings",
        sections=sections(desk, catalogue, "findings"),
        found=open_findings(desk.scope),
        forms=list_forms(desk.scope),
        catalogue=catalogue,
        messages=messages,
        status=status,
    )


@router.get("/findings/count")
def count_findings(request: Request, desk: DeskHere) -> Response:
    """How many things there are to look at: a part of the bench, which does not wait for it."""
    return render(request, "office/define/_count.html", {"desk": desk, "number": count_open(desk.scope)})


@router.post("/findings/dismiss")
def dismiss_finding(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Dismiss a finding, with a reason."""
    try:
        done = dismiss(
            desk.scope,
            form.text("code"),
            whole_number(form.text("field")) or 0,
            form.text("place"),
            form.text("reason"),
        )
    except InvalidInput as problem:
        return _findings_page(request, desk, problem.messages, 422)
    return back_with(desk.path("define/findings"), done)


@router.post("/findings/{dismissed_id:int}/back")
def back_finding(desk: DeskHere, dismissed_id: int) -> Response:
    """Let a dismissed finding be found again."""
    return back_with(desk.path("define/findings"), bring_back(desk.scope, dismissed_id))


@router.post("/findings/ask")
def ask_several(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Ask several fields in one form."""
    wanted = [number for text in form.texts("field") if (number := whole_number(text))]
    try:
        _done, refused = ask_in(desk.scope, form.number("form"), wanted)
    except InvalidInput as problem:
        return _findings_page(request, desk, problem.messages, 422)
    if refused:
        return _findings_page(request, desk, {"ask": " ".join(refused)}, 422)
    return RedirectResponse(desk.path(f"collect/{form.number('form')}"), 303)


@router.get("/compare")
def show_compare(request: Request, desk: DeskHere, sort: str = "") -> Response:
    """All fields about people side by side."""
    lines, people = compare_fields(desk.scope)
    orders = {
        "filled": lambda line: line.filled,
        "distinct": lambda line: -(line.distinct or 0),
        "asked": lambda line: line.asked,
        "used": lambda line: line.used,
        "changed": lambda line: str(line.last_change or ""),
    }
    if sort in orders:
        lines = tuple(sorted(lines, key=orders[sort]))
    catalogue = read_catalogue(desk.scope)
    return page(
        request,
        desk,
        "office/define/compare.html",
        stage="define",
        title="All fields compared",
        sections=sections(desk, catalogue, "compare"),
        lines=lines,
        people=people,
        sort=sort,
    )


@router.get("/picture")
def show_picture(request: Request, desk: DeskHere, field: int = 0) -> Response:
    """What depends on what, with one field's ancestors and heirs dark."""
    catalogue = read_catalogue(desk.scope)
    return page(
        request,
        desk,
        "office/define/picture.html",
        stage="define",
        title="What depends on what",
        sections=sections(desk, catalogue, "picture"),
        picture=draw(catalogue, field),
        chosen=catalogue.by_id.get(field),
    )


@router.get("/history")
def show_history(
    request: Request, desk: DeskHere, entity: str = "", of: int = 0, before: int | None = None
) -> Response:
    """The changes of definitions, each with its difference."""
    lines, following = list_changes(desk.scope, entity[:40], of, before)
    return page(
        request,
        desk,
        "office/define/history.html",
        stage="define",
        title="Changes",
        sections=sections(desk, read_catalogue(desk.scope), "history"),
        lines=lines,
        following=following,
        entity=entity[:40],
        of=of,
    )


@router.post("/history/{change_id:int}/return")
def go_back(request: Request, desk: DeskHere, change_id: int, form: Posted) -> Response:
    """Return a thing to what it was before a change."""
    done = return_to(desk.scope, change_id)
    if done.task:
        return RedirectResponse(desk.path(f"define/tasks/{done.task}"), 303)
    return back_with(desk.path("define/history"), done.change)


@router.get("/manner")
def show_manner(request: Request, desk: DeskHere) -> Response:
    """How the house writes: language, zone, currency, country."""
    return _manner_page(request, desk, {}, {})


def _manner_page(
    request: Request,
    desk: Desk,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
    **standing: object,
) -> Response:
    manner = read_manner(desk.scope)
    countries = sorted(
        ((code, country_name(code, manner.language)) for code in country_codes()), key=lambda pair: pair[1]
    )
    return page(
        request,
        desk,
        "office/define/manner.html",
        stage="define",
        title="Language and formats",
        sections=sections(desk, read_catalogue(desk.scope), "manner"),
        manner=manner,
        languages=locale_names(),
        countries=countries,
        typed=typed,
        messages=messages,
        status=status,
        **standing,
    )


@router.post("/manner")
def save_manner(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Change how the house writes."""
    try:
        was = read_shown(MannerInput, form.was)
        change = change_manner(desk.scope, read_input(MannerInput, form.data), was)
    except InvalidInput as problem:
        return _manner_page(request, desk, form.data, problem.messages, 422, was=form.was)
    except Overtaken as clash:
        return _manner_page(request, desk, form.changed(), {}, 409, clash=clash)
    return back_with(desk.path("define/manner"), change)


@router.get("/tasks/{task_id:int}")
def show_task(request: Request, desk: DeskHere, task_id: int) -> Response:
    """How far long work has come."""
    return page(
        request,
        desk,
        "office/define/task.html",
        stage="define",
        title="Long work",
        sections=sections(desk, read_catalogue(desk.scope)),
        task=read_task(desk.scope, task_id),
    )


@router.post("/tasks/{task_id:int}/stop")
def stop(desk: DeskHere, task_id: int, form: Posted) -> Response:
    """Stop long work."""
    stop_task(desk.scope, task_id)
    return RedirectResponse(desk.path(f"define/tasks/{task_id}"), 303)
