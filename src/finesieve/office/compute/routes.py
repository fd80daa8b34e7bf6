"""Derived fields: list, write a formula, try it out, save."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, Overtaken, TookTooLong, TooOften, Unavailable
from finesieve.core.fields.about import PERSON
from finesieve.core.language.checker import say_kind
from finesieve.core.language.functions import FUNCTIONS
from finesieve.core.language.problems import FIXABLE
from finesieve.core.language.tables import bands_from, points_from
from finesieve.core.model.catalogue import Catalogue
from finesieve.office.compute.index import compute_sections
from finesieve.office.compute.marks import marked_text
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.compute.derived import (
    DerivedInput,
    DerivedView,
    Preview,
    TriedOn,
    change_derived,
    create_derived,
    preview_formula,
    read_derived,
)
from finesieve.services.compute.keeping import cost_of, halt_keeping, keep_field, read_keeping, stop_keeping
from finesieve.services.define.groups import read_catalogue
from finesieve.services.kernel.changes import last_change
from finesieve.services.kernel.inputs import read_input
from finesieve.services.sift.effect import Effect, effect_of
from finesieve.web.posted import Posted, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.security import style_nonce
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/compute")


@router.get("")
def show_compute(desk: DeskHere) -> Response:
    """To the first derived field, or to making one."""
    derived = read_catalogue(desk.scope).derived
    return RedirectResponse(desk.path(f"compute/{derived[0].id}" if derived else "compute/new"), 303)


_NEW = {"label": "", "help": "", "unit": "", "formula": "", "key": "", "group_id": ""}


@router.get("/new")
def new_derived(request: Request, desk: DeskHere, about: str = PERSON, formula: str = "", label: str = "") -> Response:
    """The editor for a new derived field; a formula begun before a field was made in passing comes back."""
    groups = read_catalogue(desk.scope).groups_about(about)
    typed = {**_NEW, "formula": formula[:4_000], "label": label[:120]}
    return _editor(
        request, desk, None, {**typed, "group_id": str(groups[0].id) if groups and about != PERSON else ""}, {}
    )


def _editor(
    request: Request,
    desk: Desk,
    view: DerivedView | None,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
    overtaken: Overtaken | None = None,
) -> Response:
    key = view.field.key if view else ""
    catalogue = read_catalogue(desk.scope)
    about = view.field.about if view else _about(catalogue, typed.get("group_id", ""))
    formula = typed["formula"]
    preview = _tried(desk, formula, key, typed["unit"], about) if formula else None
    return page(
        request,
        desk,
        "office/compute/editor.html",
        stage="compute",
        title=view.field.label if view else "New derived field",
        sections=compute_sections(desk, view.field.id if view else 0),
        view=view,
        seen=last_change(desk.scope, "field", view.field.id) if view else 0,
        overtaken=overtaken,
        typed=typed,
        messages=messages,
        preview=preview,
        catalogue=catalogue,
        about=about,
        world=catalogue.world(about),
        functions=FUNCTIONS.values(),
        say_kind=say_kind,
        fixable=FIXABLE,
        marks=marked_text(typed["formula"], preview.problems if preview else ()),
        table=_table_of(formula) if about == PERSON else "",
        nonce=style_nonce(request),
        keeping=read_keeping(desk.scope, view.field.id) if view and about == PERSON and not view.broken else None,
        zone=str(catalogue.zone),
        status=status,
    )


def _table_of(formula: str) -> str:
    """The table that a formula can be changed in, "" for none."""
    return "bands" if bands_from(formula) else "points" if points_from(formula) else ""


def _about(catalogue: Catalogue, group_id: str) -> str:
    """What a formula in this group is about."""
    group = catalogue.groups_by_id.get(whole_number(group_id[:9]) or 0)
    return group.about if group else PERSON


@router.post("/new")
def make_derived(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Save a new derived field."""
    try:
        field_id = create_derived(desk.scope, _read(form.data))
    except InvalidInput as problem:
        return _editor(request, desk, None, {**_NEW, **form.data}, problem.messages, 422)
    return RedirectResponse(desk.path(f"compute/{field_id}"), 303)


def _read(data: Mapping[str, str]) -> DerivedInput:
    return read_input(DerivedInput, {**data, "group_id": whole_number(data.get("group_id", "")[:9]) or 0})


def _tried(
    desk: Desk,
    formula: str,
    key: str,
    unit: str,
    about: str,
    tried_on: TriedOn = TriedOn(),  # noqa: B008 - frozen
) -> Preview:
    """What a formula would give; where it is not one's turn, or too much goes on, that is said in its place."""
    try:
        return preview_formula(desk.scope, formula, key, unit, about, tried_on)
    except (TooOften, Unavailable) as why:
        return Preview((), failure=str(why))


@router.post("/preview")
def preview(request: Request, desk: DeskHere, form: Posted) -> Response:
    """What the formula would give, as it is typed; a part of the page."""
    formula = form.text("formula")
    catalogue = read_catalogue(desk.scope)
    about = form.text("about")[:30]
    if not catalogue.groups_about(about):
        about = _about(catalogue, form.text("group_id"))
    found = None
    if formula.strip():
        tried_on = TriedOn(form.text("who")[:80], form.text("as_if")[:400])
        found = _tried(desk, formula, form.text("own_key")[:60], form.text("unit")[:20], about, tried_on)
    context = {
        "preview": found,
        "desk": desk,
        "say_kind": say_kind,
        "fixable": FIXABLE,
        "typed": form.data,
        "about": about,
    }
    return render(
        request,
        "office/compute/_preview.html",
        {**context, "marks": marked_text(formula, found.problems if found else ()), "as_part": True},
    )


@router.post("/effect")
def effect(request: Request, desk: DeskHere, form: Posted) -> Response:
    """What the formula would do to everybody; a part of the page, asked for once the formula stands still."""
    formula, key = form.text("formula"), form.text("own_key")[:60]
    found: Effect | None = None
    try:
        found = effect_of(desk.scope, formula, key, form.text("unit")[:20]) if formula.strip() else None
    except (TooOften, Unavailable) as why:
        found = Effect(failure=str(why))
    return render(request, "office/compute/_effect.html", {"effect": found, "desk": desk})


@router.get("/{field_id:int}")
def show_derived(request: Request, desk: DeskHere, field_id: int, formula: str = "") -> Response:
    """A derived field in its editor; with a formula that a table wrote, unsaved."""
    view = read_derived(desk.scope, field_id)
    field = view.field
    typed = {"label": field.label, "help": field.help, "unit": field.unit, "formula": formula[:4_000] or field.formula}
    return _editor(request, desk, view, typed, {})


@router.get("/{field_id:int}/keeping")
def show_keeping(request: Request, desk: DeskHere, field_id: int) -> Response:
    """How the values of a derived field are kept; a part of its page."""
    zone = str(read_catalogue(desk.scope).zone)
    context = {"keeping": read_keeping(desk.scope, field_id), "field_id": field_id, "desk": desk, "zone": zone}
    return render(request, "office/compute/_keeping.html", {**context, "csrf": desk.staff.csrf})


@router.get("/{field_id:int}/cost")
def show_cost(request: Request, desk: DeskHere, field_id: int) -> Response:
    """What reading a derived field takes, as it is and kept; a part of its page."""
    cost, failure = None, ""
    try:
        cost = cost_of(desk.scope, field_id)
    except TookTooLong:
        failure = "It takes more than two seconds to work out."
    except (InvalidInput, TooOften, Unavailable) as why:
        failure = str(why)
    return render(request, "office/compute/_cost.html", {"cost": cost, "failure": failure})


@router.post("/{field_id:int}/keep")
def keep(desk: DeskHere, field_id: int) -> Response:
    """Keep the values of a derived field, or go on with it."""
    keep_field(desk.scope, field_id)
    return RedirectResponse(desk.path(f"compute/{field_id}#keeping"), 303)


@router.post("/{field_id:int}/keep/halt")
def halt(desk: DeskHere, field_id: int) -> Response:
    """Stop building kept values; what is there is gone on with later."""
    halt_keeping(desk.scope, field_id)
    return RedirectResponse(desk.path(f"compute/{field_id}#keeping"), 303)


@router.post("/{field_id:int}/keep/stop")
def give_up_keeping(desk: DeskHere, field_id: int) -> Response:
    """Work a derived field out whenever it is read again."""
    stop_keeping(desk.scope, field_id)
    return RedirectResponse(desk.path(f"compute/{field_id}#keeping"), 303)


@router.post("/{field_id:int}")
def save_derived(request: Request, desk: DeskHere, field_id: int, form: Posted) -> Response:
    """Save a changed derived field."""
    try:
        change = change_derived(desk.scope, field_id, _read(form.data), whole_number(form.text("seen")))
    except (InvalidInput, Overtaken) as problem:
        view = read_derived(desk.scope, field_id)
        if isinstance(problem, Overtaken):
            return _editor(request, desk, view, {**_NEW, **form.data}, {}, 409, problem)
        return _editor(request, desk, view, {**_NEW, **form.data}, problem.messages, 422)
    return back_with(desk.path(f"compute/{field_id}"), change)
