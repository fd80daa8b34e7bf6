"""The composer: a form as it will look, the settings of what is chosen in the Margin."""

from collections.abc import Mapping
from typing import Any, Literal

from fastapi import Request
from starlette.responses import Response

from finesieve.core.errors import InvalidExpression, InvalidInput, NotFound, Overtaken
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.built_in import twin_of
from finesieve.core.fields.definition import Field
from finesieve.core.fields.types import TYPES
from finesieve.core.forms.definition import TIDYINGS, Question, Remark, Section
from finesieve.core.forms.joining import say_effect
from finesieve.core.model.catalogue import LEVEL_QUESTION
from finesieve.core.model.checks import CHECK_KINDS, kinds_for, say_check
from finesieve.office.collect.contents import pages_of
from finesieve.office.collect.typed import (
    TypedPart,
    input_of,
    posted_question,
    posted_remark,
    posted_section,
    question_input,
    remark_input,
    section_input,
    stored_part,
    vocabulary,
)
from finesieve.office.shared.collect import OFFERED_LANGUAGES, collect_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.office.shared.sentences import SentenceDraft, draft_from_text
from finesieve.services.define.fields import FieldInput
from finesieve.services.forms.composing import (
    FormSettings,
    FormTexts,
    add_questions,
    add_remark,
    add_section,
    arrange,
    ask_new_field,
    change_form_settings,
    change_form_texts,
    change_question,
    change_remark,
    change_section,
    copy_item,
    duplicate_section,
    remove_part,
)
from finesieve.services.forms.forms import FormView, list_forms, read_form
from finesieve.services.kernel.changes import redoable_change, undo_change, undoable_change
from finesieve.services.kernel.inputs import read_input
from finesieve.services.upkeep.form_findings import findings_of_form
from finesieve.web.posted import Posted, PostedForm, whole_number
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/collect/{form_id:int}")

Part = Section | Question | Remark


@router.get("")
def show_form(request: Request, desk: DeskHere, form_id: int) -> Response:
    """The composer."""
    return composer(request, desk, read_form(desk.scope, form_id))


def composer(
    request: Request,
    desk: Desk,
    view: FormView,
    *,
    chosen: str = "",
    typed: TypedPart | None = None,
    messages: Mapping[str, str] | None = None,
    texts: Mapping[str, str] | None = None,
    overtaken: str = "",
    asking: PostedForm | None = None,
    status: int = 200,
) -> Response:
    """The page; `typed` is what was typed into the chosen part and is not saved, `asking` what was to be asked more."""
    place = chosen or request.query_params.get("q", "")
    part: Part | None = view.document.section(place) or view.document.item(place)
    stored = stored_part(view, part, _as_text(request)) if part else None
    return page(
        request,
        desk,
        "office/collect/composer.html",
        stage="collect",
        title=view.document.title,
        sections=collect_sections(desk, view.id),
        view=view,
        tabs=pages_of(view.document),
        part=part,
        typed=typed or stored,
        stored=stored if typed and overtaken else None,
        overtaken=overtaken,
        said=_sentences(view),
        messages=messages or {},
        texts=texts or {},
        checks=_check_words(view),
        say_effect=say_effect,
        types=[one for one in TYPES.values() if one.stores],
        asking=asking,
        check_kinds=_kinds(view, part),
        languages=OFFERED_LANGUAGES,
        tidyings=TIDYINGS,
        others=_others(desk, view, part),
        editing_texts=request.query_params.get("texts") == "1",
        trouble={problem.place: problem for problem in reversed(view.problems)},
        findings=findings_of_form(desk.scope, view.id, part.id) if part else (),
        undo_last=undoable_change(desk.scope, "form", view.id) if desk.may_edit else None,
        redo_last=redoable_change(desk.scope, "form", view.id) if desk.may_edit else None,
        status=status,
    )


def _sentences(view: FormView) -> dict[str, SentenceDraft]:
    """The show-when of every part, as sentences."""
    found = {}
    for section in view.document.sections:
        words = vocabulary(view, section)
        if section.show_when:
            found[section.id] = draft_from_text(section.show_when, vocabulary(view, None))
        for item in section.items:
            if item.show_when:
                found[item.id] = draft_from_text(item.show_when, words)
    return found


def _check_words(view: FormView) -> dict[str, list[str]]:
    names = {one.id: one.name for one in view.catalogue.checks.values()}
    found = {}
    for question in view.document.questions:
        known = view.field_of(question)
        unit = known.unit if known else ""
        found[question.id] = [f"must {say_check(check, unit, names)}" for check in question.checks]
    return found


def _kinds(view: FormView, part: Part | None) -> dict[str, str]:
    """The kinds of check that the chosen question can have, with their words."""
    known = view.field_of(part) if isinstance(part, Question) else None
    if known is None or not known.type.stores:
        return {}
    library = {one.check.kind for one in view.catalogue.checks.values()}
    kinds = kinds_for(known.value_type.kind)
    return {kind: CHECK_KINDS[kind] for kind in kinds if kind != "named" or library & set(kinds)}


def _with_text(desk: Desk, form_id: int, place: str, names: frozenset[str]) -> str:
    """The address of a part with these rules shown as text."""
    text = f"&text={','.join(sorted(names))}" if names else ""
    return desk.path(f"collect/{form_id}?q={place}{text}")


def _as_text(request: Request) -> frozenset[str]:
    """The rules that the address wants as text; names of inputs only."""
    asked = request.query_params.get("text", "")[:400].split(",")
    return frozenset(name for name in asked if name.replace("_", "").isalnum() and name.isascii())


def _others(desk: Desk, view: FormView, part: Part | None) -> dict[str, Any]:
    """Where the chosen item could be copied: other forms; and fields that a duplicate could ask."""
    if part is None or isinstance(part, Section):
        return {}
    forms = [entry for entry in list_forms(desk.scope) if entry.id != view.id]
    section = view.document.section_of(part.id)
    fields: tuple[Field, ...] = view.unasked_in(section) if section and isinstance(part, Question) else ()
    return {"forms": forms, "fields": fields}


# Changes ------------------------------------------------------------------------------------------


def _back(desk: Desk, form_id: int, change: int, place: str = "") -> Response:
    return back_with(desk.path(f"collect/{form_id}" + (f"?q={place}" if place else "")), change)


@router.post("/texts")
def save_texts(request: Request, desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Change title, introduction, button and thanks."""
    try:
        asked = read_input(FormTexts, form.data)
        return _back(desk, form_id, change_form_texts(desk.scope, form_id, form.number("revision"), asked))
    except (InvalidInput, Overtaken) as problem:
        messages = problem.messages if isinstance(problem, InvalidInput) else {}
        return composer(
            request,
            desk,
            read_form(desk.scope, form_id),
            texts=form.data,
            messages={"texts": "yes", **messages},
            overtaken=str(problem) if isinstance(problem, Overtaken) else "",
            status=409 if isinstance(problem, Overtaken) else 422,
        )


@router.post("/settings")
def save_settings(desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Change steps, challenge, the lists joined by sending it, languages, and whether it opens an account."""
    given = {
        "stepped": form.text("stepped") == "true",
        "challenge": form.text("challenge") == "true",
        "joins": tuple(number for text in form.texts("join") if (number := whole_number(text)) is not None),
        "languages": tuple(one for one in form.texts("language") if one in OFFERED_LANGUAGES),
        "account": form.text("account"),
    }
    asked = read_input(FormSettings, given)
    return _back(desk, form_id, change_form_settings(desk.scope, form_id, form.number("revision"), asked))


@router.post("/questions")
def ask_fields(request: Request, desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Ask more fields in a section: those that are ticked, or a new one of the name that was written."""
    before = {question.id for question in read_form(desk.scope, form_id).document.questions}
    revision, section = form.number("revision"), form.text("section")
    try:
        if form.text("action") == "new":
            change = ask_new_field(desk.scope, form_id, revision, _new_field(form), section)
        else:
            wanted = [number for text in form.texts("field") if (number := _field_id(text)) is not None]
            change = add_questions(desk.scope, form_id, revision, wanted, section)
    except InvalidInput as problem:
        view = read_form(desk.scope, form_id)
        return composer(request, desk, view, chosen=section, messages=problem.messages, asking=form, status=422)
    added = [question.id for question in read_form(desk.scope, form_id).document.questions if question.id not in before]
    return _back(desk, form_id, change, added[0] if added else "")


def _field_id(text: str) -> int | None:
    """The id of a field that can be asked; the level has one that is no plain number."""
    return LEVEL_QUESTION if text == str(LEVEL_QUESTION) else whole_number(text)


def _new_field(form: PostedForm) -> FieldInput:
    """A field to be made in passing. One that would repeat a built-in one is refused, unless that was said."""
    twin = twin_of(form.text("label"))
    if twin is not None and form.text("twin") != "yes" and form.text("about") == PERSON:
        raise InvalidInput({"twin": twin[0].objection})
    given = {name: form.text(name) for name in ("label", "type_key", "options")}
    record = whole_number(form.text("record_type"))
    return read_input(FieldInput, given | {"settings": {"record_type": record} if record else {}})


@router.post("/remarks")
def add_words(desk: DeskHere, form_id: int, form: Posted) -> Response:
    """A heading or a note at the end of a section."""
    kind: Literal["heading", "note"] = "heading" if form.text("kind") == "heading" else "note"
    place = read_form(desk.scope, form_id).document.next_id("t")
    return _back(
        desk, form_id, add_remark(desk.scope, form_id, form.number("revision"), kind, form.text("section")), place
    )


@router.post("/sections")
def new_section(desk: DeskHere, form_id: int, form: Posted) -> Response:
    """One more section."""
    place = read_form(desk.scope, form_id).document.next_id("s")
    return _back(desk, form_id, add_section(desk.scope, form_id, form.number("revision"), form.text("title")), place)


@router.post("/order")
def order_parts(request: Request, desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Put sections and their items in another order."""
    view = read_form(desk.scope, form_id)
    present = [(section.id, [item.id for item in section.items]) for section in view.document.sections]
    try:
        order = _new_order(form, present)
        return _back(desk, form_id, arrange(desk.scope, form_id, form.number("revision"), order))
    except InvalidInput as problem:
        return composer(request, desk, view, messages=problem.messages, status=422)


def _new_order(form: PostedForm, present: list[tuple[str, list[str]]]) -> list[str]:
    """The order that a drag (`order`) or an arrow (`move`: an id and `up` or `down`) asks for."""
    if form.text("order"):
        return [one for one in form.text("order").split(",") if one]
    place, _, direction = form.text("move").rpartition(":")
    step = {"up": -1, "down": 1}.get(direction)
    flat = [one for section, items in present for one in (section, *items)]
    if step is None or place not in flat:
        raise InvalidInput({"move": "What was to be moved is not here any more."})
    if place[0] == "s":
        sections = [section for section, _ in present]
        here = sections.index(place)
        there = min(max(here + step, 0), len(sections) - 1)
        present.insert(there, present.pop(here))
        return [one for section, items in present for one in (section, *items)]
    here = flat.index(place)
    there = min(max(here + step, 1), len(flat) - 1)
    flat.insert(there, flat.pop(here))
    return flat


@router.post("/parts/{place}")
def save_part(request: Request, desk: DeskHere, form_id: int, place: str, form: Posted) -> Response:
    """Change a section, question or remark; what lacks a word yet is kept in the page and saved when it is whole."""
    view = read_form(desk.scope, form_id)
    part = view.document.section(place) or view.document.item(place)
    if part is None:
        raise NotFound("There is no such question.")
    typed = _posted(view, part, form)
    try:
        change = _save(desk, view, part, typed, form.number("revision"))
    except (InvalidInput, Overtaken) as problem:
        wrong = problem.messages if isinstance(problem, InvalidInput) else {}
        messages = {input_of(path, typed.options): words for path, words in wrong.items()}
        if isinstance(problem, InvalidExpression):
            for name in messages:
                typed = typed.with_problems(name, problem.problems)
        return composer(
            request,
            desk,
            read_form(desk.scope, form_id),
            chosen=place,
            typed=typed,
            messages=messages,
            overtaken=str(problem) if isinstance(problem, Overtaken) else "",
            status=409 if isinstance(problem, Overtaken) else 422,
        )
    flipped = form.text("action").removeprefix("flip:") if form.text("action").startswith("flip:") else ""
    if typed.pending:
        typed = typed.flipped(flipped)
        return composer(request, desk, read_form(desk.scope, form_id), chosen=place, typed=typed)
    names = _as_text(request) ^ ({flipped} if flipped in typed.rules else set())
    return back_with(_with_text(desk, form_id, place, names), change)


def _posted(view: FormView, part: Part, form: PostedForm) -> TypedPart:
    if isinstance(part, Section):
        return posted_section(view, form)
    return posted_question(view, part, form) if isinstance(part, Question) else posted_remark(view, part, form)


def _save(desk: Desk, view: FormView, part: Part, typed: TypedPart, revision: int) -> int:
    if isinstance(part, Section):
        return change_section(desk.scope, view.id, revision, part.id, section_input(typed))
    if isinstance(part, Question):
        return change_question(desk.scope, view.id, revision, part.id, question_input(typed))
    return change_remark(desk.scope, view.id, revision, part.id, remark_input(typed))


@router.post("/parts/{place}/remove")
def drop_part(desk: DeskHere, form_id: int, place: str, form: Posted) -> Response:
    """Take a section, question or remark out."""
    return _back(desk, form_id, remove_part(desk.scope, form_id, form.number("revision"), place))


@router.post("/parts/{place}/copy")
def copy_part(request: Request, desk: DeskHere, form_id: int, place: str, form: Posted) -> Response:
    """Copy an item after itself, or to the end of another form; a section after itself."""
    if place[:1] == "s":
        return _back(desk, form_id, duplicate_section(desk.scope, form_id, form.number("revision"), place))
    other = form.number("form") if form.text("form") else 0
    try:
        if other:
            revision = read_form(desk.scope, other).revision
            return _back(desk, other, copy_item(desk.scope, other, revision, place, from_form=form_id))
        field_id = form.number("field") if form.text("field") else 0
        return _back(desk, form_id, copy_item(desk.scope, form_id, form.number("revision"), place, field_id))
    except InvalidInput as problem:
        view = read_form(desk.scope, form_id)
        return composer(request, desk, view, chosen=place, messages=problem.messages, status=422)


@router.post("/undo")
def undo_last(desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Take back the change that the page named as the last, or bring back the last one taken back."""
    undo_change(desk.scope, form.number("change"), again=bool(form.text("again")))
    place = form.text("q")
    return _back(desk, form_id, 0, place if place.isalnum() else "")
