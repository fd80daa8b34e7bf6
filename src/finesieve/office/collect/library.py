"""The library of checks."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import Response

from finesieve.core.errors import Conflict, InvalidInput
from finesieve.core.model.checks import CHECK_KINDS, say_check
from finesieve.office.collect.typed import check_from_typed, typed_check
from finesieve.office.shared.collect import collect_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.define.named_checks import change_check, create_check, list_checks, remove_check
from finesieve.web.posted import Posted, whole_number
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/collect/checks")
KINDS = ("pattern", "range", "length", "count", "date")


@router.get("")
def show_checks(request: Request, desk: DeskHere) -> Response:
    """All checks of the library; one of them to change."""
    return _page(request, desk)


def _page(
    request: Request,
    desk: Desk,
    *,
    typed: Mapping[str, str] | None = None,
    messages: Mapping[str, str] | None = None,
    chosen: int = 0,
    status: int = 200,
) -> Response:
    checks = list_checks(desk.scope)
    chosen = chosen or whole_number(request.query_params.get("check", "")) or 0
    one = next((use.check for use in checks if use.check.id == chosen), None)
    kind = request.query_params.get("kind", "")
    stored = {"name": one.name, **typed_check(one.check)} if one else {"kind": kind if kind in KINDS else "pattern"}
    return page(
        request,
        desk,
        "office/collect/checks.html",
        stage="collect",
        title="Checks",
        sections=collect_sections(desk, library=True),
        checks=checks,
        one=one,
        typed=typed or stored,
        kinds={kind: CHECK_KINDS[kind] for kind in KINDS},
        say=say_check,
        messages=messages or {},
        status=status,
    )


@router.post("")
def save_check(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a check, or change one."""
    typed = {name: form.text(name) for name in form.lists()}
    given = check_from_typed(form.values("check_"))
    check_id = form.number("id") if form.text("id") else 0
    try:
        if not check_id:
            create_check(desk.scope, form.text("name"), given)
            return back_with(desk.path("collect/checks"))
        return back_with(desk.path("collect/checks"), change_check(desk.scope, check_id, form.text("name"), given))
    except InvalidInput as problem:
        shown = {"name": typed.get("name", ""), **form.values("check_")}
        return _page(request, desk, typed=shown, messages=problem.messages, chosen=check_id, status=422)


@router.post("/{check_id:int}/remove")
def drop_check(request: Request, desk: DeskHere, check_id: int) -> Response:
    """Take a check out, unless a form uses it."""
    try:
        return back_with(desk.path("collect/checks"), remove_check(desk.scope, check_id))
    except Conflict as problem:
        return _page(request, desk, messages={"": str(problem)}, chosen=check_id, status=409)
