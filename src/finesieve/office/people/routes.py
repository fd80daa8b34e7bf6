"""One person's profile."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, Overtaken
from finesieve.core.values import day_written
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import Entry, Section, page
from finesieve.office.shared.sentences import draft_of, words_of_segments
from finesieve.services.commerce.orders import orders_of_person
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.memberships import set_lists, set_person_level, set_tags
from finesieve.services.filling.decisions import decide, waiting_for
from finesieve.services.forms.sendings import sendings_of_person
from finesieve.services.people.accounts import end_sessions_of, read_account, send_link_to
from finesieve.services.people.listing import list_views
from finesieve.services.people.personal_links import give_link, links_of_person, revoke_link
from finesieve.services.people.profiles import read_profile, set_values
from finesieve.services.people.records import person_records
from finesieve.services.sift.segments import list_segments
from finesieve.services.sift.why import segments_of_person
from finesieve.services.values.files import read_shelf, take_files
from finesieve.services.values.steps import open_beside, open_then, open_value
from finesieve.web.posted import Posted, PostedForm, takes_files, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.site import site_of
from finesieve.web.templating import render

__all__ = ["people_sections", "router"]

router = PrefixRouter(prefix="/w/{slug}/people")


def people_sections(desk: Desk, active: int = -1) -> list[Section]:
    """The Index of people: kept views, segments, and what people have; `active` is the view that is looked at."""
    catalogue = read_catalogue(desk.scope)
    entries = [
        Entry(segment.name, desk.path(f"sift/{segment.id}"), segment.shown(desk.language))
        for segment in list_segments(desk.scope)
    ]
    things = [
        Entry(f"{known.symbol} {known.plural}".strip(), desk.path(f"records/{known.id}"))
        for known in catalogue.record_types
    ]
    views = [
        Entry(view.name, desk.path(f"people?view={view.id}"), active=view.id == active)
        for view in list_views(desk.scope)
    ]
    found = [
        Section("views", [Entry("Everybody", desk.path("people"), active=active == 0), *views]),
        Section("segments", entries, empty="No segment yet"),
    ]
    if catalogue.shop is not None:
        things.append(Entry("Orders", desk.path("orders")))
    return [*found, Section("things people have", things)] if things else found


@router.get("/{person_id:int}")
def show_person(request: Request, desk: DeskHere, person_id: int) -> Response:
    """A profile."""
    return _profile_page(request, desk, person_id, {}, {})


def _profile_page(
    request: Request,
    desk: Desk,
    person_id: int,
    typed: Mapping[str, str],
    messages: Mapping[str, str],
    status: int = 200,
    **standing: object,
) -> Response:
    about = request.query_params.get("history", "")
    profile = read_profile(desk.scope, person_id, about)
    editing = request.query_params.get("edit", "")
    catalogue = read_catalogue(desk.scope)
    shop, words = catalogue.shop, words_of_segments(catalogue)
    return page(
        request,
        desk,
        "office/people/profile.html",
        stage="people",
        title=profile.name,
        sections=people_sections(desk),
        waiting=waiting_for(desk.scope, person_id),
        profile=profile,
        records=person_records(desk.scope, person_id),
        sendings=sendings_of_person(desk.scope, person_id),
        orders=orders_of_person(desk.scope, person_id) if shop is not None else (),
        shop=shop,
        segments=[
            (one, draft_of(one.clause, words) if one.clause else None)
            for one in segments_of_person(desk.scope, person_id)
        ],
        catalogue=read_catalogue(desk.scope),
        typed=typed,
        messages=messages,
        **standing,
        editing=whole_number(editing) or 0,
        about=next((line.field.label for _, lines in profile.groups for line in lines if line.field.key == about), ""),
        status=status,
    )


@router.get("/{person_id:int}/steps/{key}")
def show_steps(
    request: Request, desk: DeskHere, person_id: int, key: str, who: str = "", other: str = "", on: str = ""
) -> Response:
    """A derived value, step by step; beside that of somebody else, whom `who` finds, or of whom `other` is the id, or
    as it was `on` a day."""
    key, who = key[:80], who.strip()[:120]
    asked = whole_number(other) or who
    day = None if asked else day_written(on)
    if day is not None:
        beside = open_then(desk.scope, person_id, key, day)
    else:
        beside = open_beside(desk.scope, person_id, key, asked) if asked else None
    return page(
        request,
        desk,
        "office/people/steps.html",
        stage="people",
        title="Step by step",
        sections=people_sections(desk),
        person_id=person_id,
        opened=open_value(desk.scope, person_id, key),
        who=who,
        beside=beside,
        on=day,
    )


def _was(form: PostedForm) -> dict[str, str]:
    """What the page had shown of values, by field key."""
    return {name.removeprefix("v_"): text for name, text in form.was.items() if name.startswith("v_")}


@router.post("/{person_id:int}")
@takes_files
def save_person(request: Request, desk: DeskHere, person_id: int, form: Posted) -> Response:
    """Correct values of a group of fields."""
    typed = form.values("v_")
    try:
        sent = {name[2:]: file for name, file in form.files.items() if name.startswith("v_")}
        if sent:
            typed |= take_files(desk.scope, site_of(request).files, sent, read_catalogue(desk.scope).by_key)
        stored = read_shelf(desk.scope, [typed[key] for key in sent])
        changed = set_values(desk.scope, person_id, typed, stored, _was(form))
    except InvalidInput as problem:
        return _profile_page(request, desk, person_id, typed, problem.messages, 422, was=form.was)
    except Overtaken as clash:
        mine = {key: text for key, text in typed.items() if form.was.get(f"v_{key}") != text}
        return _profile_page(request, desk, person_id, mine, dict.fromkeys(mine, ""), 409, clash=clash)
    return RedirectResponse(desk.path(f"people/{person_id}?changed={changed}"), 303)


@router.get("/{person_id:int}/account")
def show_account(request: Request, desk: DeskHere, person_id: int) -> Response:
    """The account of a person: a part of their profile."""
    context = {
        "desk": desk, "here": desk.path(f"people/{person_id}"), "account": read_account(desk.scope, person_id),
        "csrf": desk.staff.csrf, "links": links_of_person(desk.scope, person_id),
        "kinds": read_catalogue(desk.scope).personal_links,
    }  # fmt: skip
    return render(request, "office/people/_account.html", context)


@router.post("/{person_id:int}/links")
def change_links(request: Request, desk: DeskHere, person_id: int, form: Posted) -> Response:
    """Take back a personal link of somebody, or make one to hand on, which is shown once."""
    here, revoked = desk.path(f"people/{person_id}"), whole_number(form.text("revoke"))
    if revoked is not None:
        revoke_link(desk.scope, person_id, revoked)
        return RedirectResponse(f"{here}#account", 303)
    name = read_profile(desk.scope, person_id).name
    address = f"{request.url.scheme}://{request.url.netloc}{give_link(desk.scope, person_id, form.text('key')[:80])}"
    return page(
        request, desk, "office/people/link.html", stage="people", title=f"A link for {name}", sections=[], here=here,
        name=name, address=address,
    )  # fmt: skip


@router.post("/{person_id:int}/account")
def change_account(desk: DeskHere, person_id: int, form: Posted) -> Response:
    """Send a link to sign in by, or sign them out everywhere."""
    if form.text("action") == "end":
        end_sessions_of(desk.scope, person_id)
    else:
        send_link_to(desk.scope, person_id)
    return RedirectResponse(desk.path(f"people/{person_id}#account"), 303)


@router.post("/{person_id:int}/memberships")
def save_memberships(request: Request, desk: DeskHere, person_id: int, form: Posted) -> Response:
    """Change the tags, lists and level of a person."""
    try:
        was = form.was
        changed = set_tags(desk.scope, person_id, form.text("tags"), was.get("tags"))
        held = was["lists"].split() if "lists" in was else None
        changed += set_lists(desk.scope, person_id, [key for key in form.texts("lists") if key], held)
        changed += set_person_level(desk.scope, person_id, form.text("level"), was.get("level"))
    except Overtaken as clash:
        return _profile_page(request, desk, person_id, {}, {}, 409, clash=clash)
    except InvalidInput as problem:
        return _profile_page(request, desk, person_id, {}, problem.messages, 422)
    return RedirectResponse(desk.path(f"people/{person_id}?changed={changed}"), 303)


@router.post("/decisions/{decision_id:int}")
def decide_one(desk: DeskHere, decision_id: int, form: Posted) -> Response:
    """Say yes or no to something that waits."""
    decision = form.text("decision")
    if decision not in ("apply", "refuse"):
        raise InvalidInput({"decision": "Choose whether to take it over or to discard it."})
    person_id = decide(desk.scope, decision_id, apply=decision == "apply")
    return RedirectResponse(desk.path(f"people/{person_id}"), 303)
