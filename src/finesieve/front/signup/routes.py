"""Opening a sign-up form, answering it question by question, sending it."""

from collections.abc import Mapping
from dataclasses import dataclass, replace

from fastapi import APIRouter, Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.forms.outcome import QuestionOutcome
from finesieve.services.signup import OpenForm
from finesieve.web.posted import Posted, PostedForm, takes_files
from finesieve.web.site import site_of
from finesieve.web.templating import render

__all__ = ["router"]

router = APIRouter(prefix="/join/{workspace}/{form_slug}")


@dataclass(frozen=True, slots=True)
class Shown:
    """A question as the page draws it; its trouble is said only once it was left, or the form was sent."""

    outcome: QuestionOutcome
    message: str

    @property
    def name(self) -> str:
        return self.outcome.question.id


def _shown(opened: OpenForm, touched: set[str], everything: bool) -> list[Shown]:
    return [Shown(question, _message(question, opened, touched, everything)) for question in opened.outcome.showing]


def _message(question: QuestionOutcome, opened: OpenForm, touched: set[str], everything: bool) -> str:
    """What is said of a question: nothing before it was left, nor while it was not even asked."""
    if question.question.id in opened.unasked:
        return ""
    return question.message if everything or question.question.id in touched else ""


def _answers(form: PostedForm) -> dict[str, str]:
    return form.values("a_")


def _with_files(
    request: Request, workspace: str, form_slug: str, form: PostedForm
) -> tuple[dict[str, str], dict[str, str]]:
    """The answers, files that came with them taken and named by their tokens; and what is wrong with a file."""
    answers, refused = _answers(form), {}
    for name, (file_name, data) in form.files.items():
        question_id = name.removeprefix("f_")
        try:
            public = site_of(request).public_forms
            answers[question_id] = public.take_file(workspace, form_slug, question_id, file_name, data)
        except ValueError as problem:
            refused[question_id] = str(problem)
    return answers, refused


@router.get("")
def show_form(request: Request, workspace: str, form_slug: str) -> Response:
    """The form, empty."""
    opened = site_of(request).public_forms.open(workspace, form_slug)
    return _page(request, opened, [])


def _page(
    request: Request,
    opened: OpenForm,
    touched: list[str],
    *,
    everything: bool = False,
    refused: Mapping[str, str] | None = None,
    status: int = 200,
) -> Response:
    questions = _shown(opened, set(touched), everything)
    questions = [replace(shown, message=(refused or {}).get(shown.name, shown.message)) for shown in questions]
    wrong = [question for question in questions if question.message] if everything else []
    context = {"opened": opened, "questions": questions, "touched": " ".join(touched), "wrong": wrong}
    return render(request, "front/signup/form.html", context, status)


@router.post("/answers")
@takes_files
def answer(request: Request, workspace: str, form_slug: str, form: Posted) -> Response:
    """The questions that follow from the answers so far; a part of the page. Stores nothing."""
    opened = site_of(request).public_forms.answer(workspace, form_slug, form.one("token"), _answers(form))
    touched = form.one("touched").split()[:500]
    context = {"opened": opened, "questions": _shown(opened, set(touched), False), "touched": " ".join(touched)}
    return render(request, "front/signup/_questions.html", context)


@router.post("")
@takes_files
def send(request: Request, workspace: str, form_slug: str, form: Posted) -> Response:
    """Send the form; where something does not fit, all is shown again as it was typed."""
    asked = frozenset(form.all("asked"))
    answers, refused = _with_files(request, workspace, form_slug, form)
    public = site_of(request).public_forms
    if refused:
        opened = public.answer(workspace, form_slug, form.one("token"), answers)
        return _page(request, opened, form.one("touched").split()[:500], everything=True, refused=refused, status=422)
    opened = public.send(workspace, form_slug, form.one("token"), answers, asked)
    if not opened.sent:
        return _page(request, opened, form.one("touched").split()[:500], everything=True, status=422)
    return RedirectResponse(f"/join/{workspace}/{form_slug}/thanks", 303)


@router.get("/thanks")
def show_thanks(request: Request, workspace: str, form_slug: str) -> Response:
    """After sending."""
    opened = site_of(request).public_forms.open(workspace, form_slug)
    return render(request, "front/signup/thanks.html", {"opened": opened})
