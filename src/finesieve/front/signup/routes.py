"""Opening a sign-up form, answering it question by question, sending it; the link in the letter."""

from collections.abc import Callable, Container, Iterable, Mapping
from dataclasses import dataclass
from functools import wraps
from typing import Any, Final, ParamSpec
from urllib.parse import urlencode

from babel import Locale
from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput, LinkEnded, NotFound, Unavailable
from finesieve.core.forms.outcome import QuestionOutcome, SectionOutcome
from finesieve.core.forms.wording import Wording, wording_without_form
from finesieve.services.accounts.members import MemberView
from finesieve.services.filling.open_form import OpenForm, Step, Visit
from finesieve.services.filling.situation import SEARCHED
from finesieve.web.addresses import address_of
from finesieve.web.carts import cart_of_browser
from finesieve.web.fillings import fillings_after
from finesieve.web.languages import accepted_languages
from finesieve.web.members import member_of
from finesieve.web.posted import Posted, PostedForm, takes_files, whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.security import framed_by
from finesieve.web.site import site_of
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter(prefix="/join/{workspace}/{form_slug}")
_MOST_TOUCHED: Final = 500


@dataclass(frozen=True, slots=True)
class _Page:
    """What of an open form is on the page: in a form of steps one of them, else all."""

    opened: OpenForm
    step: int
    asked: frozenset[str] = frozenset()

    @property
    def stepped(self) -> bool:
        return self.opened.form.stepped and len(self.opened.steps) > 1

    @property
    def steps(self) -> tuple[Step, ...]:
        steps = self.opened.steps
        return steps[self.step : self.step + 1] if self.stepped else steps

    @property
    def sections(self) -> tuple[SectionOutcome, ...]:
        return tuple(section for step in self.steps for section in step.sections)

    @property
    def parts(self) -> frozenset[str]:
        """What is shown here besides questions: the parts of a checkout, or what a level costs."""
        own = frozenset(place.station.key for step in self.steps for place in step.places if place.station.own)
        at_end = not self.stepped or self.step + 1 == len(self.opened.steps)
        fee_alone = self.opened.sells and not self.opened.is_checkout
        return own | {"payment", "totals"} if fee_alone and at_end else own

    @property
    def unchosen(self) -> dict[str, str]:
        """What is said of the ways of delivery and payment to be chosen here."""
        return {part: words for part, words in self.opened.unchosen.items() if part in self.parts}

    @property
    def here(self) -> dict[str, QuestionOutcome]:
        """The questions on the page, by the name of their inputs."""
        return {one.id: one for section in self.sections for one in _questions(section) if one.shows}

    @property
    def carried(self) -> list[tuple[str, str]]:
        """Answers that are not on the page, of other steps or to questions that do not show now: nothing is lost."""
        here = self.here.keys() | {section.section.id for section in self.sections}
        return [(name, value) for name, value in self.opened.given.items() if name not in here]


def _questions(section: SectionOutcome) -> Iterable[QuestionOutcome]:
    return (one for filling in section.fillings for one in filling.questions)


def _step_within(opened: OpenForm, step: int) -> int:
    return min(max(step, 0), max(len(opened.steps) - 1, 0))


def _step_of(opened: OpenForm, question_id: str) -> int:
    for number, step in enumerate(opened.steps):
        if any(one.id == question_id for section in step.sections for one in _questions(section)):
            return number
        if any(place.station.key == question_id for place in step.places):
            return number
    return _step_within(opened, 999) if question_id in opened.unchosen else 0


def _methods(form: PostedForm) -> dict[str, str]:
    """The ways of delivery and payment that have been chosen."""
    return {part: form.text(part) for part in ("delivery", "payment") if form.text(part)}


def _languages(request: Request, opened_in: str = "") -> tuple[str, ...]:
    """The languages wished for, the most wished first: that of the address, or the browser’s."""
    wished = request.query_params.get("lang", "") or opened_in
    return (wished[:3],) if wished else accepted_languages(request.headers.get("accept-language", ""))


def _answers(form: PostedForm) -> dict[str, str]:
    """The answers, and what is searched for among the records of a choice."""
    return form.values("a_") | {SEARCHED + name: words for name, words in form.values("find_").items()}


def _with_files(
    request: Request, workspace: str, form_slug: str, form: PostedForm
) -> tuple[dict[str, str], dict[str, str]]:
    """The answers, files that came with them taken and named by their tokens; and what is wrong with a file."""
    answers, refused = _answers(form), {}
    for name, (file_name, data) in form.files.items():
        question_id = name.removeprefix("f_")
        try:
            public = site_of(request).public_forms
            answers[question_id] = public.take_file(
                workspace, form_slug, question_id, file_name, data, address_of(request)
            )
        except ValueError as problem:
            refused[question_id] = str(problem)
    return answers, refused


@router.get("")
def show_form(request: Request, workspace: str, form_slug: str) -> Response:
    """The form, empty, or begun with what the address and a personal link bring."""
    page = {name: value for name, value in request.query_params.items() if name not in ("lang", "me", "cart")}
    link, cart = request.query_params.get("me", ""), request.query_params.get("cart", "")
    own = bool(cart) and cart == cart_of_browser(request, workspace)
    member = member_of(request, workspace)
    person, until = (member.person_id, member.ends) if member is not None else (0, 0)
    visit = Visit(page, _languages(request), link, cart, own, person, until)
    try:
        opened = site_of(request).public_forms.open(workspace, form_slug, visit)
    except LinkEnded as ended:
        context = {"why": str(ended), "say": _say(request), "without": request.url.path}
        return render(request, "front/signup/ended.html", context, 404)
    except NotFound:
        if member is None and _is_account(request, workspace, form_slug):
            return RedirectResponse(f"/account/{workspace}", 303)
        raise
    return _show(request, _Page(opened, 0), [])


def _is_account(request: Request, workspace: str, form_slug: str) -> bool:
    """Whether a form is the account page of a workspace, for which one has to sign in."""
    try:
        return site_of(request).members.form_of(workspace)[2] == form_slug
    except NotFound:
        return False


def _person(request: Request, workspace: str) -> int:
    """Who is signed in, 0 for nobody."""
    member = member_of(request, workspace)
    return member.person_id if member is not None else 0


def _show(
    request: Request,
    shown: _Page,
    touched: list[str],
    *,
    everything: Iterable[str] = (),
    refused: Mapping[str, str] | None = None,
    notice: str = "",
    status: int = 200,
) -> Response:
    """The whole page. `everything` names the questions whose trouble is said even if they were never left."""
    typed = {name for name, answer in shown.opened.given.items() if answer}
    context = _context(shown, touched, set(everything), refused or {}, typed | (refused or {}).keys())
    summed_up = {*everything, *(refused or {})}
    context["wrong"] = [one for name, one in shown.here.items() if name in summed_up and context["messages"].get(name)]
    context["first_wrong"] = context["wrong"][0].id if context["wrong"] else ""
    context["unchosen"] = shown.unchosen if status == 422 else {}
    context["unasked"] = [one for name, one in shown.here.items() if name in shown.opened.unasked]
    framed_by(request, shown.opened.form.embed_on)
    context["embedded"] = "embed" in request.query_params
    context["notice"] = notice or request.query_params.get("saved", "")
    context["member"] = _around(request, shown.opened)
    workspace, person = request.path_params["workspace"], shown.opened.person_id
    context["pages"] = site_of(request).public_pages.for_whom(workspace, person) if context["member"] else ()
    return render(request, "front/signup/form.html", context, status)


def _around(request: Request, opened: OpenForm) -> MemberView | None:
    """What stands around the form of an account, for whoever is signed in."""
    workspace = request.path_params["workspace"]
    member = member_of(request, workspace) if opened.form.channel == "account" else None
    if member is None or member.person_id != opened.person_id:
        return None
    return site_of(request).members.view(workspace, member, opened.say)


def _context(
    shown: _Page,
    touched: list[str],
    everything: set[str],
    refused: Mapping[str, str],
    retype: Container[str] = (),
    *,
    wishes: bool = False,
) -> dict[str, Any]:
    opened = shown.opened
    said = (everything | set(touched)) - opened.unasked
    messages = {name: one.message for name, one in shown.here.items() if name in said and one.message}
    return {
        "opened": opened,
        "member": None,
        "notice": "",
        "wishes_account": wishes,
        "places": [place for step in shown.steps for place in step.places],
        "parts": shown.parts,
        "on_page": shown.here.keys(),
        "step_title": shown.steps[0].title if shown.stepped and shown.steps else "",
        "unchosen": {},
        "step": shown.step,
        "steps": len(opened.steps),
        "stepped": shown.stepped,
        "carried": shown.carried,
        "asked_before": sorted(shown.asked - shown.here.keys()),
        "touched": " ".join(touched),
        "first_wrong": "",
        "messages": {**messages, **{name: opened.say(words) for name, words in refused.items()}},
        "languages": {code: Locale.parse(code).get_display_name() for code in opened.form.languages},
        "retype": [name for name, one in shown.here.items() if one.field.type.kind == "secret" and name in retype],
        "takes_files": any(one.field.type.kind == "file" for one in opened.outcome.walk()),
    }


def _touched(form: PostedForm) -> list[str]:
    return form.text("touched").split()[:_MOST_TOUCHED]


def _step(form: PostedForm) -> int:
    text = form.text("step")
    return int(text) if text.isascii() and text.isdigit() and len(text) < 4 else 0


@router.post("/answers")
@takes_files
def answer(request: Request, workspace: str, form_slug: str, form: Posted) -> Response:
    """The questions that follow from the answers so far; a part of the page. Nothing is stored but with a cart."""
    public = site_of(request).public_forms
    opened = public.answer(
        workspace, form_slug, form.text("token"), _answers(form), form.text("lang"), _methods(form),
        _person(request, workspace),
    )  # fmt: skip
    shown = _Page(opened, _step_within(opened, _step(form)), frozenset(form.texts("asked")))
    wishes = form.text("account") == "yes"
    context = _context(shown, _touched(form), set(), {}, form.texts("retype"), wishes=wishes)
    return render(request, "front/signup/_questions.html", context)


@router.post("")
@takes_files
def send(request: Request, workspace: str, form_slug: str, form: Posted) -> Response:
    """A step on or back, another language, one filling more or less; or sending.

    Where something does not fit, all is shown again as it was typed; and where the database is away, all that was
    typed stays in the page, to be sent again.
    """
    try:
        return _sent(request, workspace, form_slug, form)
    except Unavailable:
        return _again(request, form)


def _again(request: Request, form: PostedForm) -> Response:
    """The page that holds what was typed until it can be sent."""
    kept = [(name, text) for name, texts in form.lists().items() for text in texts]
    say = wording_without_form(form.text("lang"))
    return render(request, "front/signup/again.html", {"kept": kept, "say": say, "files": bool(form.files)}, 503)


def _sent(request: Request, workspace: str, form_slug: str, form: PostedForm) -> Response:
    answers, refused = _with_files(request, workspace, form_slug, form)
    action = form.text("action") or "send"
    public, token = site_of(request).public_forms, form.text("token")
    language = action.partition(":")[2][:3] if action.startswith("lang:") else form.text("lang")
    asked, touched = frozenset(form.texts("asked")), _touched(form)
    if form.text("website"):
        # Only a robot fills what nobody sees; it is thanked, and nothing is kept.
        return _thanks(workspace, form_slug, language)
    for name in form.texts("retype"):
        # A secret is never put back into its box; one that was typed before an error must be typed again.
        if name in asked and not answers.get(name):
            refused.setdefault(name, "Type this again; it is not kept between pages.")
    person = _person(request, workspace)
    if action.partition(":")[0] in ("ask", "retire"):
        return _of_account(request, workspace, form_slug, form, person)
    if action == "send" and not refused:
        opened = public.send(
            workspace,
            form_slug,
            token,
            answers,
            asked,
            language=language,
            challenge=(form.text("challenge"), form.text("person")),
            came_from=address_of(request),
            total=form.text("total"),
            methods=_methods(form),
            person=person,
            account=form.text("account") == "yes",
        )
        if opened.sent:
            framed_by(request, opened.form.embed_on)
            return _after_sending(workspace, form_slug, language, opened, embedded="embed" in request.query_params)
        amiss = (
            [one.id for one in opened.outcome.troubles if one.shows] or sorted(opened.unasked) or list(opened.unchosen)
        )
        first = amiss[0] if amiss else ""
        shown = _Page(opened, _step_of(opened, first) if first else _step_within(opened, 999), asked)
        return _show(request, shown, touched, everything=shown.here, status=422)
    answers = fillings_after(answers, action)
    opened = public.answer(workspace, form_slug, token, answers, language, _methods(form), person)
    step = _step_within(opened, _step(form))
    shown = _Page(opened, step, asked)
    stopped = action == "next" and (refused or shown.unchosen or any(one.trouble for one in shown.here.values()))
    if refused or stopped:
        return _show(request, shown, touched, everything=shown.here, refused=refused, status=422)
    moved = _Page(opened, _step_within(opened, step + {"next": 1, "back": -1}.get(action, 0)), asked)
    return _show(request, moved, touched)


def _after_sending(workspace: str, form_slug: str, language: str, opened: OpenForm, *, embedded: bool) -> Response:
    """Where what was sent leads: to the account, the order as staff or as its customer see it, or a word of thanks."""
    if opened.corrects is not None:
        return RedirectResponse(f"/w/{workspace}/orders/{opened.corrects.order_id}", 303)
    if opened.order:
        return RedirectResponse(f"/shop/{workspace}/order/{opened.order}", 303)
    if opened.form.channel == "account":
        return RedirectResponse(f"/join/{workspace}/{form_slug}?saved=1", 303)
    return _thanks(workspace, form_slug, language, opened.receipt, embedded=embedded)


def _of_account(request: Request, workspace: str, form_slug: str, form: PostedForm, person: int) -> Response:
    """A change that is asked for, or a record put away; what else was typed stays on the page."""
    public, token, language = site_of(request).public_forms, form.text("token"), form.text("lang")
    what, _, of = form.text("action").partition(":")
    answers, refused, notice = _answers(form), {}, "asked" if what == "ask" else "retired"
    try:
        if what == "ask":
            public.ask_change(workspace, form_slug, token, (of, answers.get(f"wish.{of}", "")), person, language)
        else:
            section, _, record = of.partition(":r")
            public.retire(workspace, form_slug, token, section, whole_number(record) or 0, person)
    except InvalidInput as problem:
        refused, notice = problem.messages, ""
    opened = public.answer(workspace, form_slug, token, answers, language, None, person)
    shown = _Page(opened, _step_within(opened, _step(form)), frozenset(form.texts("asked")))
    return _show(request, shown, _touched(form), refused=refused, notice=notice, status=422 if refused else 200)


def _thanks(workspace: str, form_slug: str, language: str, receipt: str = "", *, embedded: bool = False) -> Response:
    wished = {"lang": language} if language.isascii() and language.isalpha() else {}
    query = urlencode({**wished, **({"sent": receipt} if receipt else {})} | ({"embed": "1"} if embedded else {}))
    return RedirectResponse(f"/join/{workspace}/{form_slug}/thanks" + (f"?{query}" if query else ""), 303)


@router.get("/thanks")
def show_thanks(request: Request, workspace: str, form_slug: str, sent: str = "") -> Response:
    """After sending."""
    thanks = site_of(request).public_forms.thank(workspace, form_slug, sent, *_languages(request))
    framed_by(request, thanks.embed_on)
    return render(request, "front/signup/thanks.html", {"thanks": thanks, "embedded": "embed" in request.query_params})


def _say(request: Request, form: PostedForm | None = None) -> Wording:
    """The words of a page that a message leads to: in the language of the message, else in that of the browser."""
    return wording_without_form(*_languages(request, form.text("lang") if form else ""))


P = ParamSpec("P")


def ends_in_words(route: Callable[P, Response]) -> Callable[P, Response]:
    """A route that a message leads to: where its link is none, or has ended, it says so in that language."""

    @wraps(route)
    def run(*args: P.args, **kwargs: P.kwargs) -> Response:
        try:
            return route(*args, **kwargs)
        except NotFound as problem:
            request, form = kwargs["request"], kwargs.get("form")
            assert isinstance(request, Request) and (form is None or isinstance(form, PostedForm))
            return render(
                request,
                "front/signup/ended.html",
                {"why": str(problem), "say": _say(request, form), "without": ""},
                404,
            )

    return run


@router.get("/confirm")
@ends_in_words
def show_letter(request: Request, workspace: str, form_slug: str, letter: str = "") -> Response:
    """Where the link of a message leads: the answers that were sent, and two buttons. Nothing happens by looking."""
    found = site_of(request).public_forms.read_letter(workspace, form_slug, letter, *_languages(request))
    context = {"letter": found, "token": letter, "form_path": "", "say": _say(request)}
    return render(request, "front/signup/confirm.html", context)


@router.post("/confirm")
@ends_in_words
def decide(request: Request, workspace: str, form_slug: str, form: Posted) -> Response:
    """Let the answers count, or not."""
    public = site_of(request).public_forms
    languages, mine = _languages(request, form.text("lang")), form.text("mine") == "yes"
    found = public.confirm(workspace, form_slug, form.text("letter"), *languages, mine=mine)
    form_path = f"/join/{workspace}/{form_slug}"
    context = {"letter": found, "token": "", "form_path": form_path, "say": _say(request, form)}
    return render(request, "front/signup/confirm.html", context)


@router.get("/address")
@ends_in_words
def show_address(request: Request, workspace: str, form_slug: str, letter: str = "") -> Response:
    """Where the link of a message about a new address leads. Nothing happens by looking."""
    found = site_of(request).public_forms.read_address(workspace, form_slug, letter)
    context = {"change": found, "token": letter, "said": "", "say": _say(request)}
    return render(request, "front/signup/address.html", context)


@router.post("/address")
@ends_in_words
def decide_address(request: Request, workspace: str, form_slug: str, form: Posted) -> Response:
    """Say yes or no to a new address."""
    public, wanted = site_of(request).public_forms, form.text("wanted") == "yes"
    found = public.confirm_address(workspace, form_slug, form.text("letter"), wanted=wanted)
    context = {"change": found, "token": "", "said": "yes" if wanted else "no", "say": _say(request, form)}
    return render(request, "front/signup/address.html", context)
