"""The first page of a workspace, and the search over everything."""

import secrets
from urllib.parse import urlencode

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import Conflict, InvalidInput, NotFound
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import Entry, Section, page
from finesieve.services.chat.desk import waiting_at_desk
from finesieve.services.define.approval import read_approval
from finesieve.services.filling.decisions import KINDS, all_waiting, decide, reopen, who_waits
from finesieve.services.forms.forms import list_forms
from finesieve.services.people.bench import find_anything, read_bench
from finesieve.services.sift.segments import list_segments
from finesieve.web.posted import Posted, PostedForm, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.site import site_of

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}")


def _sections(desk: Desk) -> list[Section]:
    segments = [
        Entry(
            segment.name,
            desk.path(f"sift/{segment.id}"),
            segment.shown(desk.language),
        )
        for segment in list_segments(desk.scope)
    ]
    forms = [
        Entry(form.title, desk.path(f"collect/{form.id}"), f"version {form.published}" if form.published else "draft")
        for form in list_forms(desk.scope)
    ]
    return [
        Section("forms", forms, empty="No form yet"),
        Section("segments", segments, empty="No segment yet"),
    ]


@router.get("/")
def show_bench(request: Request, desk: DeskHere) -> Response:
    """What came in and what waits."""
    bench = read_bench(desk.scope)
    return page(
        request,
        desk,
        "office/bench/bench.html",
        stage="bench",
        title="Bench",
        sections=_sections(desk),
        bench=bench,
        talks=waiting_at_desk(desk.scope),
        kinds=KINDS,
    )


@router.get("/waiting")
def show_waiting(request: Request, desk: DeskHere, decided: int = 0) -> Response:
    """What waits for a decision, of everybody; what has just been `decided`, and what of it can be taken back."""
    back = [number for text in request.query_params.getlist("back")[:50] if (number := whole_number(text))]
    return _waiting(request, desk, decided, back)


def _waiting(
    request: Request, desk: Desk, decided: int, back: list[int], message: str = "", status: int = 200
) -> Response:
    return page(
        request, desk, "office/bench/waiting.html", stage="bench", title="Waiting", sections=_sections(desk),
        waiting=all_waiting(desk.scope), decided=decided, back=back, message=message, status=status,
    )  # fmt: skip


def _ticked(form: PostedForm) -> list[int]:
    return [number for text in form.texts("decision")[:50] if (number := whole_number(text))]


@router.post("/waiting")
def decide_many(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Approve or decline all that is ticked, one by one; what cannot be is said, and the rest is done."""
    kinds = {one.id: one.kind for _, _, one in all_waiting(desk.scope)}
    apply, wrong, done = form.text("do") == "apply", "", []
    for one in _ticked(form):
        try:
            decide(desk.scope, one, apply=apply)
            done.append(one)
        except (Conflict, NotFound) as problem:
            wrong = str(problem)
    back = [one for one in done if one in kinds and kinds[one].undo is not None]
    if wrong or not done:
        return _waiting(request, desk, len(done), back, wrong or "Tick what you decide.", 409 if wrong else 422)
    query = urlencode({"decided": len(done), "back": back}, doseq=True)
    return RedirectResponse(desk.path(f"waiting?{query}"), 303)


@router.post("/waiting/undo")
def undo_many(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Let what was decided wait again."""
    desk.scope.need("clerk")
    wrong = ""
    for one in _ticked(form):
        try:
            reopen(desk.scope, one)
        except (Conflict, NotFound) as problem:
            wrong = str(problem)
    return _waiting(request, desk, 0, [], wrong, 409) if wrong else RedirectResponse(desk.path("waiting"), 303)


@router.get("/waiting/{decision_id:int}/more")
def show_more(request: Request, desk: DeskHere, decision_id: int) -> Response:
    """A message that asks for more; who may not write it, sees what waits."""
    who = who_waits(desk.scope, decision_id)
    if not desk.may_correct:
        return RedirectResponse(desk.path("waiting"), 303)
    return _more(request, desk, who, read_approval(desk.scope).text("asked"), secrets.token_urlsafe(9))


def _more(
    request: Request, desk: Desk, who: str, text: str, once: str, message: str = "", status: int = 200
) -> Response:
    return page(
        request, desk, "office/bench/more.html", stage="bench", title=f"Ask {who} for more", sections=_sections(desk),
        who=who, text=text, once=once, message=message, status=status,
    )  # fmt: skip


@router.post("/waiting/{decision_id:int}/more")
def ask_for_more(request: Request, desk: DeskHere, decision_id: int, form: Posted) -> Response:
    """Send it."""
    try:
        site_of(request).public_forms.ask_more(desk.scope, decision_id, form.text("text"), form.text("once")[:40])
    except InvalidInput as problem:
        who, message = who_waits(desk.scope, decision_id), next(iter(problem.messages.values()))
        return _more(request, desk, who, form.text("text"), form.text("once"), message, 422)
    return RedirectResponse(desk.path("waiting"), 303)


@router.get("/find")
def find(request: Request, desk: DeskHere, q: str = "") -> Response:
    """Everything whose name has the words, as a page; the box in the band takes the list out of it."""
    words = q.replace("\x00", "")[:100]
    found = find_anything(desk.scope, words)
    places = {
        "person": "people",
        "field": "define/fields",
        "derived": "compute",
        "group": "define",
        "form": "collect",
        "segment": "sift",
        "order": "orders",
    }
    return page(
        request,
        desk,
        "office/bench/find.html",
        stage="bench",
        title="Find",
        sections=_sections(desk),
        found=found,
        words=words,
        places=places,
    )
