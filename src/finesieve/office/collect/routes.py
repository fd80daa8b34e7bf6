"""Forms: list, compose, publish."""

from collections.abc import Mapping

from fastapi import APIRouter, Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.catalogue import Catalogue
from finesieve.core.errors import InvalidExpression, InvalidInput
from finesieve.core.fields.definition import Field
from finesieve.core.forms.definition import Question, RangeCheck
from finesieve.core.forms.outcome import say_range
from finesieve.core.values import plain_number
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import Entry, Section, back_with, page
from finesieve.office.shared.order import new_order
from finesieve.office.shared.sentences import SentenceDraft, draft_from_text, read_sentence
from finesieve.services.collect import (
    FormTexts,
    FormView,
    QuestionInput,
    add_question,
    change_form_texts,
    change_question,
    create_form,
    list_forms,
    publish_form,
    read_form,
    remove_question,
    reorder_questions,
)
from finesieve.services.inputs import read_input
from finesieve.web.posted import Posted

__all__ = ["router"]

router = APIRouter(prefix="/w/{slug}/collect")


def _sections(desk: Desk, active: int = 0) -> list[Section]:
    entries = [
        Entry(form.title, desk.path(f"collect/{form.id}"), _state(form.published, form.unpublished), form.id == active)
        for form in list_forms(desk.scope)
    ]
    return [Section("sign-up", entries, desk.path("collect/new"), "New form", empty="No form yet")]


def _state(published: int, unpublished: bool) -> str:
    if not published:
        return "draft"
    return f"v{published} + draft" if unpublished else f"v{published}"


@router.get("")
def show_collect(request: Request, desk: DeskHere) -> Response:
    """To the first form, or to making one."""
    forms = list_forms(desk.scope)
    if forms:
        return RedirectResponse(desk.path(f"collect/{forms[0].id}"), 303)
    return _new_page(request, desk, "", "")


@router.get("/new")
def new_form(request: Request, desk: DeskHere) -> Response:
    """The page that makes a form."""
    return _new_page(request, desk, "", "")


def _new_page(request: Request, desk: Desk, title: str, message: str, status: int = 200) -> Response:
    return page(
        request,
        desk,
        "office/collect/new.html",
        stage="collect",
        title="New form",
        sections=_sections(desk),
        typed=title,
        message=message,
        status=status,
    )


@router.post("/new")
def make_form(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Make a form."""
    try:
        form_id = create_form(desk.scope, form.one("title"))
    except InvalidInput as problem:
        return _new_page(request, desk, form.one("title"), problem.messages["title"], 422)
    return RedirectResponse(desk.path(f"collect/{form_id}"), 303)


@router.get("/{form_id:int}")
def show_form(request: Request, desk: DeskHere, form_id: int) -> Response:
    """The composer: the questions as they will look, the settings of the chosen one in the Margin."""
    return _composer(request, desk, read_form(desk.scope, form_id))


def _composer(
    request: Request,
    desk: Desk,
    view: FormView,
    *,
    chosen: str = "",
    typed: Mapping[str, str] | None = None,
    rule: SentenceDraft | None = None,
    messages: Mapping[str, str] | None = None,
    problems: object = (),
    status: int = 200,
) -> Response:
    question = view.document.question(chosen or request.query_params.get("q", ""))
    as_text = request.query_params.get("rule") == "text"
    catalogue = view.catalogue
    rules = {q.id: draft_from_text(q.show_when, catalogue) for q in view.document.questions if q.show_when}
    if question is not None and rule is None:
        rule = rules.get(question.id) or SentenceDraft("and", ())
    return page(
        request,
        desk,
        "office/collect/composer.html",
        stage="collect",
        title=view.document.title,
        sections=_sections(desk, view.id),
        view=view,
        question=question,
        rules=rules,
        rule=rule,
        as_text=as_text,
        typed={**_typed(question), **(typed or {})},
        messages=messages or {},
        rule_problems=problems,
        askable=_askable(catalogue, question),
        say_check=_say_check,
        editing_texts=request.query_params.get("texts") == "1",
        trouble={problem.question_id: problem for problem in reversed(view.problems)},
        status=status,
    )


def _askable(catalogue: Catalogue, question: Question | None) -> list[Field]:
    """Fields a rule may ask about: all but the question's own."""
    own = question.field_id if question else 0
    return [field for field in catalogue.fields if field.id != own and field.key not in catalogue.broken]


def _say_check(question: Question, field: Field) -> str:
    """The check in words: `must be between 0.5 and 60 m`."""
    if isinstance(question.check, RangeCheck):
        return f"must be {say_range(question.check, field.unit)}"
    return f"must match {question.check.pattern}" if question.check else ""


def _typed(question: Question | None) -> dict[str, str]:
    if question is None:
        return {}
    typed = {
        "label": question.label,
        "help": question.help,
        "show_when": question.show_when,
        "check_kind": "",
        "low": "",
        "high": "",
        "pattern": "",
        "message": "",
        "required": {None: "", True: "yes", False: "no"}[question.required],
    }
    check = question.check
    if isinstance(check, RangeCheck):
        bounds = {"low": check.low, "high": check.high}
        typed |= {name: "" if bound is None else plain_number(bound) for name, bound in bounds.items()}
    elif check is not None:
        typed["pattern"] = check.pattern
    if check is not None:
        typed |= {"check_kind": check.kind, "message": check.message}
    return typed


@router.post("/{form_id:int}/texts")
def save_texts(request: Request, desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Change title, introduction, button and thanks."""
    try:
        change = change_form_texts(desk.scope, form_id, form.number("revision"), read_input(FormTexts, form.data))
    except InvalidInput as problem:
        view = read_form(desk.scope, form_id)
        return _composer(
            request, desk, view, typed=form.data, messages={"texts": "yes", **problem.messages}, status=422
        )
    return back_with(desk.path(f"collect/{form_id}"), change)


@router.post("/{form_id:int}/questions")
def ask_field(desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Ask one more field."""
    change = add_question(desk.scope, form_id, form.number("revision"), form.number("field"))
    question = read_form(desk.scope, form_id).document.questions[-1]
    return back_with(desk.path(f"collect/{form_id}?q={question.id}"), change)


@router.post("/{form_id:int}/order")
def order_questions(desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Put the questions in another order."""
    present = [question.id for question in read_form(desk.scope, form_id).document.questions]
    change = reorder_questions(desk.scope, form_id, form.number("revision"), new_order(form, present))
    return back_with(desk.path(f"collect/{form_id}"), change)


@router.post("/{form_id:int}/questions/{question_id}")
def save_question(request: Request, desk: DeskHere, form_id: int, question_id: str, form: Posted) -> Response:
    """Change a question; a rule that lacks a word yet is kept in the page and saved when it is whole."""
    view = read_form(desk.scope, form_id)
    question = view.document.question(question_id)
    rule = None
    data = dict(form.data)
    if "clauses" in form:
        rule = read_sentence(form, view.catalogue, _askable(view.catalogue, question))
        data["show_when"] = rule.expression(view.catalogue)
    try:
        change = change_question(
            desk.scope, form_id, form.number("revision"), question_id, read_input(QuestionInput, data)
        )
    except InvalidInput as problem:
        problems = problem.problems if isinstance(problem, InvalidExpression) else ()
        return _composer(
            request,
            desk,
            view,
            chosen=question_id,
            typed=data,
            rule=rule,
            messages=problem.messages,
            problems=problems,
            status=422,
        )
    if rule is not None and not rule.complete:
        return _composer(request, desk, read_form(desk.scope, form_id), chosen=question_id, typed=data, rule=rule)
    text = "&rule=text" if request.query_params.get("rule") == "text" else ""
    return back_with(desk.path(f"collect/{form_id}?q={question_id}{text}"), change)


@router.post("/{form_id:int}/questions/{question_id}/remove")
def drop_question(desk: DeskHere, form_id: int, question_id: str, form: Posted) -> Response:
    """Ask no longer."""
    change = remove_question(desk.scope, form_id, form.number("revision"), question_id)
    return back_with(desk.path(f"collect/{form_id}"), change)


@router.post("/{form_id:int}/publish")
def publish(request: Request, desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Put the draft in force."""
    try:
        publish_form(desk.scope, form_id, form.number("revision"))
    except InvalidInput as problem:
        view = read_form(desk.scope, form_id)
        return _composer(request, desk, view, messages={"publish": next(iter(problem.messages.values()))}, status=422)
    return RedirectResponse(desk.path(f"collect/{form_id}?published=1"), 303)
