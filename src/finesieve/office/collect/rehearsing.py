"""Rehearsal: a form filled in as a person of a chosen kind, the reasons beside every question; cases; the grid."""

from collections.abc import Callable, Mapping
from typing import Any

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.commerce.amounts import in_currency
from finesieve.core.errors import InvalidInput
from finesieve.core.model.catalogue import Catalogue
from finesieve.office.collect.contents import pages_of
from finesieve.office.collect.notes import question_notes, section_note
from finesieve.office.shared.collect import OFFERED_LANGUAGES, collect_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import page
from finesieve.services.filling.situation import SEARCHED
from finesieve.services.forms.cases import keep_case, read_case, remove_case
from finesieve.services.forms.forms import read_form
from finesieve.services.forms.grid import make_grid
from finesieve.services.forms.rehearsing import Circumstances, Rehearsal, rehearse
from finesieve.services.kernel.inputs import read_input
from finesieve.services.people.records import people_like
from finesieve.services.upkeep.form_findings import findings_of_form
from finesieve.web.fillings import fillings_after
from finesieve.web.posted import Posted, PostedForm, whole_number
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/collect/{form_id:int}")


@router.get("/rehearse")
def show_rehearsal(request: Request, desk: DeskHere, form_id: int) -> Response:
    """A rehearsal as someone new; or a kept case, opened again."""
    case = whole_number(request.query_params.get("case", ""))
    if case is not None:
        name, circumstances, answers = read_case(desk.scope, form_id, case)
        return _page(request, desk, form_id, circumstances, answers, case=(case, name))
    circumstances = Circumstances(person=whole_number(request.query_params.get("person", "")) or 0)
    return _page(request, desk, form_id, circumstances, {})


def _page(
    request: Request,
    desk: Desk,
    form_id: int,
    circumstances: Circumstances,
    answers: Mapping[str, str],
    *,
    case: tuple[int, str] = (0, ""),
    messages: Mapping[str, str] | None = None,
    search: str = "",
    sent: bool = False,
    status: int = 200,
) -> Response:
    view = read_form(desk.scope, form_id)
    try:
        rehearsal = rehearse(desk.scope, form_id, circumstances, answers)
    except InvalidInput as problem:
        messages = {**problem.messages, **(messages or {})}
        circumstances = Circumstances()
        rehearsal = rehearse(desk.scope, form_id, circumstances, answers)
        status = 422
    return page(
        request,
        desk,
        "office/collect/rehearse.html",
        stage="collect",
        title=f"Rehearse {view.document.title}",
        sections=collect_sections(desk, form_id),
        view=view,
        tabs=pages_of(view.document),
        rehearsal=rehearsal,
        circumstances=circumstances,
        tried=dict(line.rsplit(":", 1) for line in circumstances.cart),
        smallest=_smallest(view.catalogue),
        notes=_notes(view.catalogue, rehearsal),
        names=OFFERED_LANGUAGES,
        found=people_like(desk.scope, search) if search and desk.may_correct else (),
        search=search,
        case_id=case[0],
        case_name=case[1],
        sent=sent,
        messages=messages or {},
        status=status,
    )


def _smallest(catalogue: Catalogue) -> Callable[[int], str]:
    """An amount in the smallest unit of the shop, as people read it."""
    decimals = catalogue.shop.currency_decimals if catalogue.shop is not None else 2
    return lambda amount: catalogue.manner.money(in_currency(amount, decimals))


def _notes(catalogue: Any, rehearsal: Rehearsal) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for section in rehearsal.outcome.sections:
        found[section.section.id] = section_note(catalogue, rehearsal, section)
        for filling in section.fillings:
            for one in filling.questions:
                found[one.id] = question_notes(catalogue, rehearsal, section, filling, one)
    return found


def _circumstances(form: PostedForm) -> Circumstances:
    given = {
        "person": form.text("as_person") or "0",
        "level": form.text("as_level"),
        "tags": tuple(one for one in form.texts("as_tag") if one),
        "lists": tuple(one for one in form.texts("as_list") if one),
        "language": form.text("as_language"),
        "day": form.text("as_day"),
        "page": form.text("as_page"),
        "cart": tuple(f"{ware}:{many}" for ware, many in form.values("as_cart_").items() if many.strip("0 ")),
        "delivery": form.text("as_delivery"),
        "payment": form.text("as_payment"),
    }
    return read_input(Circumstances, given)


@router.post("/rehearse")
def go_on(request: Request, desk: DeskHere, form_id: int, form: Posted) -> Response:
    """The rehearsal with these circumstances and answers; stores nothing."""
    action = form.text("action")
    answers = fillings_after(form.values("a_"), action)
    case = (form.number("case") if form.text("case") else 0, form.text("case_name"))
    try:
        circumstances = _circumstances(form)
    except InvalidInput as problem:
        return _page(request, desk, form_id, Circumstances(), answers, case=case, messages=problem.messages, status=422)
    if action == "keep":
        try:
            case_id = keep_case(desk.scope, form_id, form.text("case_name"), circumstances, answers)
        except InvalidInput as problem:
            return _page(
                request, desk, form_id, circumstances, answers, case=case, messages=problem.messages, status=422
            )
        return RedirectResponse(desk.path(f"collect/{form_id}/rehearse?case={case_id}"), 303)
    if action == "anew":
        answers = {}
    search = form.text("as_search") if action == "search" else ""
    answers |= {SEARCHED + name: words for name, words in form.values("find_").items()}
    return _page(request, desk, form_id, circumstances, answers, case=case, search=search, sent=action == "send")


@router.post("/cases/{case_id:int}/remove")
def drop_case(desk: DeskHere, form_id: int, case_id: int) -> Response:
    """Keep a case no longer."""
    remove_case(desk.scope, form_id, case_id)
    return RedirectResponse(desk.path(f"collect/{form_id}/rehearse"), 303)


@router.get("/grid")
def show_grid(request: Request, desk: DeskHere, form_id: int) -> Response:
    """Which questions show where, over all combinations of a few circumstances."""
    view = read_form(desk.scope, form_id)
    chosen = "axis" in request.query_params
    keys = [key for key in request.query_params.getlist("axis") if key][:4] if chosen else None
    grid = make_grid(desk.scope, form_id, keys)
    return page(
        request,
        desk,
        "office/collect/grid.html",
        stage="collect",
        title=f"Grid of {view.document.title}",
        sections=collect_sections(desk, form_id),
        view=view,
        tabs=pages_of(view.document),
        grid=grid,
        proven={
            row.place
            for row in grid.rows
            if row.never and any(one.kind == "never" for one in findings_of_form(desk.scope, form_id, row.place))
        },
    )
