"""Who waits for approval: the rule, the texts, who is told."""

from collections.abc import Collection, Mapping

from fastapi import Request
from starlette.responses import Response

from finesieve.core.errors import InvalidExpression, InvalidInput
from finesieve.core.model.catalogue import LEVEL_QUESTION, Catalogue
from finesieve.office.define.contents import sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.office.shared.rules import RuleEditor, posted_rule, stored_rule
from finesieve.office.shared.sentences import Vocabulary, being_chosen, words_about_people
from finesieve.services.define.approval import TOLD, change_approval, could_be_held, read_approval
from finesieve.services.define.groups import read_catalogue
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/define/approval")
_LABELS: Mapping[str, str] = {
    "waiting": "While they wait",
    "asked": "When you ask for more",
    "approved": "Approved",
    "declined": "Declined",
    "staff": "To you, when somebody waits",
}


def _words(catalogue: Catalogue) -> Vocabulary:
    """A person as they would be, and the level and the role that they ask for."""
    words = words_about_people(catalogue)
    held = (catalogue.by_id.get(LEVEL_QUESTION), catalogue.by_key.get("role"))
    return Vocabulary(
        being_chosen(words.fields, [one for one in held if one is not None]), words.where, words.records, words.groups
    )


@router.get("")
def show_approval(request: Request, desk: DeskHere) -> Response:
    """The rule and the texts."""
    found = read_approval(desk.scope)
    rule = stored_rule("waits_when", "Waits when", found.waits_when, _words(read_catalogue(desk.scope)), as_text=False)
    return _page(request, desk, rule, found.texts, found.tell, found.holds, {})


def _page(
    request: Request,
    desk: Desk,
    rule: RuleEditor,
    texts: Mapping[str, str],
    tell: str,
    holds: Collection[str],
    messages: Mapping[str, str],
    status: int = 200,
) -> Response:
    catalogue = read_catalogue(desk.scope)
    return page(
        request, desk, "office/define/approval.html", stage="define", title="Approval",
        sections=sections(desk, catalogue, "approval"), rule=rule, texts=texts, tell=tell, messages=messages,
        usual=TOLD, labels=_LABELS, status=status, levels=catalogue.levels, holds=holds,
        could_be_held=could_be_held(catalogue) if catalogue.shop is not None else {},
    )  # fmt: skip


@router.post("")
def save_approval(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Set them."""
    desk.scope.need("editor")
    rule = posted_rule(form, "waits_when", "Waits when", _words(read_catalogue(desk.scope)))
    texts, tell, holds = form.values("text_"), form.text("tell"), form.texts("holds")
    if form.text("action").startswith("flip:"):
        return _page(request, desk, rule.flipped(), texts, tell, holds, {})
    if form.text("action") != "save":
        return _page(request, desk, rule, texts, tell, holds, {})
    if not rule.complete:
        return _page(
            request, desk, rule, texts, tell, holds, {"waits_when": "Finish this condition, or remove it."}, 422
        )
    try:
        change = change_approval(desk.scope, rule.text, texts, tell, holds)
    except InvalidExpression as wrong:
        return _page(request, desk, rule.with_problems(wrong.problems), texts, tell, holds, {}, 422)
    except InvalidInput as problem:
        return _page(request, desk, rule, texts, tell, holds, problem.messages, 422)
    return back_with(desk.path("define/approval"), change)
