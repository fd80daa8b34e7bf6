"""Writing chat scripts: the play, one line opened in place, settings, publishing, versions."""

from typing import Any, Final
from urllib.parse import urlencode

from fastapi import Request
from starlette.responses import RedirectResponse, Response, StreamingResponse

from finesieve.core.chat.script import ADDRESS_NAMES, PASSING_TYPES, VERBS
from finesieve.core.errors import InvalidInput, NotFound, Overtaken, TookTooLong
from finesieve.core.fields.about import HOUSE, PERSON
from finesieve.core.fields.built_in import address_keys
from finesieve.core.fields.types import TYPES
from finesieve.office.chat.play import play_of, threads_of
from finesieve.office.chat.typed import line_parts, passing_parts, script_parts
from finesieve.office.shared.collect import OFFERED_LANGUAGES, collect_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.chat.desk import list_conversations
from finesieve.services.chat.from_form import script_from_form
from finesieve.services.chat.scripts import (
    ScriptView,
    create_script,
    delete_script,
    list_scripts,
    publish_script,
    read_script,
    return_to_version,
    script_versions,
    withdraw_script,
)
from finesieve.services.chat.sent import TalkQuery, talks_as_csv
from finesieve.services.chat.trying import (
    Trial,
    TrialInput,
    delete_script_case,
    keep_script_case,
    list_script_cases,
    run_script_cases,
    try_script,
)
from finesieve.services.chat.writing import (
    KINDS,
    add_line,
    change_line,
    change_script_settings,
    indent_line,
    move_line,
    remove_line,
    set_passing,
    set_script_phrases,
)
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.forms.forms import list_forms
from finesieve.services.kernel.changes import redoable_change, undo_change, undoable_change
from finesieve.services.kernel.inputs import read_input
from finesieve.web.posted import Posted, PostedForm, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/collect/chat")
_NEW_TYPES: Final = ("short_text", "number", "yes_no", "date", "email", "phone", "money", "choice")


# The list, and making one


@router.get("")
def show_chat(desk: DeskHere) -> Response:
    """To the first script, or to making one."""
    scripts = list_scripts(desk.scope)
    return RedirectResponse(desk.path(f"collect/chat/{scripts[0].id}" if scripts else "collect/chat/new"), 303)


@router.get("/new")
def new_script(request: Request, desk: DeskHere) -> Response:
    """The page that makes a script."""
    return _new_page(request, desk, "", "")


def _new_page(request: Request, desk: Desk, title: str, message: str, status: int = 200) -> Response:
    return page(
        request, desk, "office/chat/new.html", stage="collect", title="New chat script",
        sections=collect_sections(desk), typed=title, message=message, status=status,
        forms=[(one.id, one.title) for one in list_forms(desk.scope)],
    )  # fmt: skip


@router.post("/new")
def make_script(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a script."""
    left: tuple[str, ...] = ()
    try:
        if form_id := whole_number(form.text("form")):
            made, left = script_from_form(desk.scope, form_id, form.text("title"))
        else:
            made = create_script(desk.scope, form.text("title"))
    except InvalidInput as problem:
        return _new_page(request, desk, form.text("title"), next(iter(problem.messages.values())), 422)
    if left:
        return _play(request, desk, made, left_out=left)
    return RedirectResponse(desk.path(f"collect/chat/{made}"), 303)


# Writing


@router.get("/{script_id:int}")
def show_script(request: Request, desk: DeskHere, script_id: int) -> Response:
    """The play, with the line of the address opened."""
    query = request.query_params
    return _play(request, desk, script_id, query.get("l", "")[:10], settings="settings" in query)


def _play(
    request: Request,
    desk: Desk,
    script_id: int,
    opened: str = "",
    *,
    settings: bool = False,
    messages: dict[str, str] | None = None,
    typed: PostedForm | None = None,
    status: int = 200,
    clash: Overtaken | None = None,
    asked: TrialInput | None = None,
    said_of_trial: str = "",
    left_out: tuple[str, ...] = (),
) -> Response:
    view = read_script(desk.scope, script_id)
    step = view.prepared.flow.by_id.get(opened)
    trial = try_script(desk.scope, script_id, asked or TrialInput())
    return page(
        request, desk, "office/chat/script.html", stage="collect", title=view.document.title,
        sections=collect_sections(desk, script=script_id), view=view, lines=play_of(view), opened=step,
        threads=threads_of(view.prepared.flow), settings=settings, messages=messages or {}, typed=typed, trial=trial,
        said_of_trial=said_of_trial, left_out=left_out,
        origin=f"{request.url.scheme}://{request.url.netloc}",
        cases=list_script_cases(desk.scope, script_id), status=status, clash=clash, **_choices(view, opened),
        undo_last=undoable_change(desk.scope, "script", script_id) if desk.may_edit else None,
        redo_last=redoable_change(desk.scope, "script", script_id) if desk.may_edit else None,
    )  # fmt: skip


def _choices(view: ScriptView, opened: str) -> dict[str, Any]:
    """What the menus of a line's editor offer: fields of the person, and among lines about a record its own first."""
    catalogue, prepared = view.catalogue, view.prepared.at(opened)
    about = prepared.record_about
    stored = (*(catalogue.stored_about(about) if about else ()), *catalogue.stored_about(PERSON))
    people = [one for one in stored if not one.by_itself and prepared.can_ask(one)]
    changed = [one for one in stored if not one.by_itself and one.type.kind not in ("file", "secret")]
    groups = {one.id: one.name for one in catalogue.all_groups}
    return {
        "kinds": KINDS, "verbs": VERBS, "askable": people, "changeable": changed, "groups": groups,
        "house_fields": [one for one in catalogue.stored_about(HOUSE) if one.type.kind not in ("file", "secret")],
        "pictures": [one for one in catalogue.fields_about(HOUSE) if one.type_key == "picture"],
        "passing_types": {key: TYPES[key].label for key in PASSING_TYPES},
        "new_types": {key: TYPES[key].label for key in _NEW_TYPES},
        "own_groups": [*(catalogue.groups_about(about) if about else ()), *catalogue.groups],
        "collections": tuple(prepared.links.values()),
        "addresses": {
            key: words
            for key, words in ADDRESS_NAMES.items()
            if (street := catalogue.by_key.get(address_keys(key)["street"])) is not None and street.built_in
        },
    }  # fmt: skip


def _here(desk: Desk, script_id: int, line: str = "") -> str:
    return desk.path(f"collect/chat/{script_id}") + (f"?l={line}" if line else "")


@router.post("/{script_id:int}/lines")
def put_line(request: Request, desk: DeskHere, script_id: int, form: Posted) -> Response:
    """Put a line in."""
    try:
        _, line = add_line(
            desk.scope, script_id, form.number("revision"), form.text("kind") or "say", form.text("after")[:10],
            form.text("under")[:10],
        )  # fmt: skip
    except InvalidInput as problem:
        return _play(request, desk, script_id, form.text("after"), messages=problem.messages, status=422)
    return RedirectResponse(_here(desk, script_id, line) + "#open", 303)


@router.post("/{script_id:int}/lines/{line}")
def save_line(request: Request, desk: DeskHere, script_id: int, line: str, form: Posted) -> Response:
    """Save a line, with what one of its buttons does: a line below, up, down, in, out, away, a reply more or less."""
    view = read_script(desk.scope, script_id)
    revision, action = form.number("revision"), form.text("action")
    what, _, which = action.partition(":")
    if view.document.step(line) is None:
        raise NotFound("There is no such line.")
    try:
        if what == "remove":
            done = remove_line(desk.scope, script_id, revision, line)
            return back_with(_here(desk, script_id), done)
        with desk.scope.transaction("editor"):
            parts = line_parts(form, view.document, line) | _field_in_passing(desk, form)
            changed = change_line(desk.scope, script_id, revision, line, parts)
            after = _moved(desk, script_id, revision + (1 if changed else 0), line, what, which)
    except InvalidInput as problem:
        return _play(request, desk, script_id, line, messages=problem.messages, typed=form, status=422)
    except Overtaken as clash:
        return _play(request, desk, script_id, line, typed=form, status=409, clash=clash)
    return RedirectResponse(_here(desk, script_id, after) + ("#open" if after else ""), 303)


def _moved(desk: Desk, script_id: int, revision: int, line: str, what: str, which: str) -> str:
    """Do what a button asks besides saving; gives the line that is open afterwards."""
    if what == "below":
        return add_line(desk.scope, script_id, revision, which or "say", line)[1]
    if what == "inside":
        return add_line(desk.scope, script_id, revision, "say", "", which)[1]
    if what in ("up", "down"):
        move_line(desk.scope, script_id, revision, line, -1 if what == "up" else 1)
    elif what == "indent":
        indent_line(desk.scope, script_id, revision, line, which)
    elif what == "outdent":
        indent_line(desk.scope, script_id, revision, line, "")
    return "" if what == "close" else line


def _field_in_passing(desk: Desk, form: PostedForm) -> dict[str, Any]:
    """A field that is made while a line is written."""
    label = form.text("new_label").strip()
    if not label or form.text("subject") != "new":
        return {}
    group = whole_number(form.text("new_group")) or 0
    options = "\n".join(one.strip() for one in form.text("new_options").split(",") if one.strip())
    unit = form.text("new_unit").strip()
    asked = FieldInput(label=label, type_key=form.text("new_type") or "short_text", options=options, unit=unit)
    return {"field_id": create_field(desk.scope, group, asked), "passing": ""}


@router.post("/{script_id:int}/settings")
def save_settings(request: Request, desk: DeskHere, script_id: int, form: Posted) -> Response:
    """Save what the script is besides its lines."""
    try:
        done = change_script_settings(desk.scope, script_id, form.number("revision"), script_parts(form))
    except InvalidInput as problem:
        return _play(request, desk, script_id, settings=True, messages=problem.messages, typed=form, status=422)
    except Overtaken as clash:
        return _play(request, desk, script_id, settings=True, typed=form, status=409, clash=clash)
    return back_with(_here(desk, script_id), done)


@router.post("/{script_id:int}/passing")
def save_passing(request: Request, desk: DeskHere, script_id: int, form: Posted) -> Response:
    """Save the passing values."""
    view = read_script(desk.scope, script_id)
    try:
        done = set_passing(desk.scope, script_id, form.number("revision"), passing_parts(form, view.document))
    except InvalidInput as problem:
        return _play(request, desk, script_id, settings=True, messages=problem.messages, typed=form, status=422)
    return back_with(_here(desk, script_id) + "?settings=1", done)


@router.post("/{script_id:int}/undo")
def undo(desk: DeskHere, script_id: int, form: Posted) -> Response:
    """Take back the last change of the script, or bring it back."""
    undo_change(desk.scope, form.number("change"), again=form.text("again") == "1")
    return back_with(_here(desk, script_id), 0)


@router.post("/{script_id:int}/remove")
def remove(request: Request, desk: DeskHere, script_id: int) -> Response:
    """Remove the script."""
    try:
        delete_script(desk.scope, script_id)
    except InvalidInput as problem:
        return _play(request, desk, script_id, settings=True, messages=problem.messages, status=422)
    return RedirectResponse(desk.path("collect/chat"), 303)


# Trying


def _asked(form: PostedForm) -> TrialInput:
    """The trial as it was posted, with what was just said or pressed, or one step back."""
    replies = [one for one in form.texts("said") if one]
    action = form.text("try")
    if action == "back":
        replies = replies[:-1]
    elif action == "again":
        replies = []
    elif form.text("press"):
        replies.append(f"press:{form.text('press')[:80]}")
    elif form.text("reply").strip():
        replies.append(form.text("reply").strip()[:2_000])
    channel = "text" if form.text("channel") == "text" else "web"
    return TrialInput(
        tuple(replies), form.text("who")[:80], whole_number(form.text("person")) or 0, channel,  # type: ignore[arg-type]
        form.text("language")[:3], form.text("at")[:10], form.text("values")[:2_000],
    )  # fmt: skip


@router.post("/{script_id:int}/try")
def try_it(request: Request, desk: DeskHere, script_id: int, form: Posted) -> Response:
    """The trial after a reply: the part beside the text; the whole page without scripts."""
    asked = _asked(form)
    message = ""
    if form.text("try") == "keep":
        try:
            keep_script_case(desk.scope, script_id, form.text("case"), asked)
            message = "Kept. It is run again before the script is published."
        except InvalidInput as problem:
            message = next(iter(problem.messages.values()))
    if not request.headers.get("hx-request"):
        return _play(request, desk, script_id, asked=asked, said_of_trial=message)
    trial: Trial = try_script(desk.scope, script_id, asked)
    context = {
        "desk": desk, "csrf": desk.staff.csrf, "trial": trial, "view": read_script(desk.scope, script_id),
        "cases": list_script_cases(desk.scope, script_id), "said_of_trial": message,
    }  # fmt: skip
    return render(request, "office/chat/_trial.html", context)


@router.post("/{script_id:int}/cases/{case_id:int}/remove")
def remove_case(desk: DeskHere, script_id: int, case_id: int) -> Response:
    """Remove a case."""
    delete_script_case(desk.scope, script_id, case_id)
    return RedirectResponse(_here(desk, script_id) + "/publish", 303)


# Languages


@router.get("/{script_id:int}/languages")
def show_languages(request: Request, desk: DeskHere, script_id: int) -> Response:
    """Every text that people read, beside its translation."""
    return _languages(request, desk, script_id)


def _languages(request: Request, desk: Desk, script_id: int, status: int = 200, **standing: Any) -> Response:
    view = read_script(desk.scope, script_id)
    others = view.document.languages[1:]
    language = request.query_params.get("to", "") or (others[0] if others else "")
    if language and language not in others:
        raise NotFound("The script has no such language.")
    return page(
        request, desk, "office/chat/languages.html", stage="collect", title=f"Languages of {view.document.title}",
        sections=collect_sections(desk, script=script_id), view=view, language=language, names=OFFERED_LANGUAGES,
        texts=view.prepared.texts_to_say() if language else (), status=status,
        **{"typed": {}, "clash": None, "message": "", **standing},
    )  # fmt: skip


@router.post("/{script_id:int}/languages")
def save_languages(request: Request, desk: DeskHere, script_id: int, form: Posted) -> Response:
    """Keep the translations; or speak one language more, or one less."""
    view = read_script(desk.scope, script_id)
    action, _, code = form.text("action").partition(":")
    languages = [one for one in view.document.languages if one != code]
    phrases = dict(zip(form.texts("source"), form.texts("text"), strict=False))
    here = _here(desk, script_id) + "/languages"
    try:
        if action == "add" and form.text("new") in OFFERED_LANGUAGES:
            parts = {"languages": list(dict.fromkeys([*view.document.languages, form.text("new")]))}
            done = change_script_settings(desk.scope, script_id, form.number("revision"), parts)
            return back_with(f"{here}?to={form.text('new')}", done)
        if action == "remove" and code != view.document.languages[0]:
            done = change_script_settings(desk.scope, script_id, form.number("revision"), {"languages": languages})
            return back_with(here, done)
        language = form.text("language")[:3]
        done = set_script_phrases(desk.scope, script_id, form.number("revision"), language, phrases)
        return back_with(f"{here}?to={language}", done)
    except Overtaken as clash:
        return _languages(request, desk, script_id, 409, typed=phrases, clash=clash)
    except InvalidInput as problem:
        return _languages(request, desk, script_id, 422, typed=phrases, message=next(iter(problem.messages.values())))


# Publishing, versions, conversations


@router.get("/{script_id:int}/publish")
def show_publish(request: Request, desk: DeskHere, script_id: int) -> Response:
    """What keeps the script from being published, what was found, and what the cases say."""
    return _publish_page(request, desk, script_id, "")


def _publish_page(request: Request, desk: Desk, script_id: int, message: str, status: int = 200) -> Response:
    view = read_script(desk.scope, script_id)
    return page(
        request, desk, "office/chat/publish.html", stage="collect", title=f"Publish: {view.document.title}",
        sections=collect_sections(desk, script=script_id), view=view, cases=run_script_cases(desk.scope, script_id),
        message=message, status=status, versions=script_versions(desk.scope, script_id),
    )  # fmt: skip


@router.post("/{script_id:int}/publish")
def publish(request: Request, desk: DeskHere, script_id: int) -> Response:
    """Put the draft into force."""
    try:
        publish_script(desk.scope, script_id)
    except InvalidInput as problem:
        return _publish_page(request, desk, script_id, next(iter(problem.messages.values())), 422)
    return RedirectResponse(_here(desk, script_id) + "/publish", 303)


@router.post("/{script_id:int}/withdraw")
def withdraw(desk: DeskHere, script_id: int) -> Response:
    """Let nobody begin it any more."""
    withdraw_script(desk.scope, script_id)
    return RedirectResponse(_here(desk, script_id) + "/publish", 303)


@router.post("/{script_id:int}/return")
def to_version(desk: DeskHere, script_id: int, form: Posted) -> Response:
    """Make an earlier version the draft."""
    return back_with(_here(desk, script_id), return_to_version(desk.scope, script_id, form.number("version")))


@router.get("/{script_id:int}/talks")
def show_talks(request: Request, desk: DeskHere, script_id: int, before: str = "") -> Response:
    """What was answered in the conversations held by the script, the newest first."""
    view, typed = read_script(desk.scope, script_id), _asked_talks(request)
    messages: dict[str, str] = {}
    try:
        found = list_conversations(desk.scope, script_id, whole_number(before), read_input(TalkQuery, typed))
    except InvalidInput as problem:
        found, messages = list_conversations(desk.scope, script_id), problem.messages
    except TookTooLong:
        found, messages = ([], None), {"search": "The search takes too long. Choose fewer days."}
    talks, more = found
    return page(
        request, desk, "office/chat/talks.html", stage="collect", title=f"Answers sent: {view.document.title}",
        sections=collect_sections(desk, script=script_id), view=view, talks=talks, messages=messages, typed=typed,
        more=urlencode({**typed, "before": str(more)}) if more else "", query=urlencode(typed),
        status=422 if messages else 200,
    )  # fmt: skip


def _asked_talks(request: Request) -> dict[str, str]:
    names = ("state", "since", "until", "search")
    given = {name: request.query_params.get(name, "").replace("\x00", "")[:100] for name in names}
    return {name: text for name, text in given.items() if text}


@router.get("/{script_id:int}/talks/all.csv")
def export_talks(request: Request, desk: DeskHere, script_id: int) -> Response:
    """All of them, as far as the filter goes, as CSV."""
    slug, lines = talks_as_csv(desk.scope, script_id, read_input(TalkQuery, _asked_talks(request)))
    headers = {"Content-Disposition": f'attachment; filename="{slug}-sent.csv"'}
    return StreamingResponse(lines, media_type="text/csv; charset=utf-8", headers=headers)
