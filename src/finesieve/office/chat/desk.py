"""The clerk's desk: conversations that want somebody, and one of them with its values in the Margin."""

import secrets

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import Conflict, InvalidInput
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.follow_up import follow_up_sections
from finesieve.office.shared.frame import page
from finesieve.services.chat.desk import (
    answer_as_clerk,
    close_conversation,
    list_conversations,
    read_conversation,
    return_to_script,
    take_conversation,
    waiting_at_desk,
)
from finesieve.web.posted import Posted, whole_number
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/follow-up/desk")


@router.get("")
def show_desk(request: Request, desk: DeskHere, before: str = "") -> Response:
    """Who waits for a clerk, the longest first; and all conversations, the newest first."""
    talks, more = list_conversations(desk.scope, 0, whole_number(before))
    return page(
        request, desk, "office/chat/desk.html", stage="follow-up", title="Clerk’s desk",
        sections=follow_up_sections(desk, "desk"), waiting=waiting_at_desk(desk.scope), talks=talks, more=more,
    )  # fmt: skip


@router.get("/{conversation:int}")
def show_conversation(request: Request, desk: DeskHere, conversation: int) -> Response:
    """One conversation."""
    return _one(request, desk, conversation, "", "")


def _one(request: Request, desk: Desk, conversation: int, typed: str, message: str, status: int = 200) -> Response:
    held = read_conversation(desk.scope, conversation)
    return page(
        request, desk, "office/chat/talk.html", stage="follow-up", title=f"Conversation with {held.entry.name}",
        sections=follow_up_sections(desk, "desk"), held=held, typed=typed, message=message, status=status,
        key=secrets.token_urlsafe(9),
    )  # fmt: skip


@router.post("/{conversation:int}")
def act(request: Request, desk: DeskHere, conversation: int, form: Posted) -> Response:
    """Write to the person, take the conversation or give it back, return it to its script, or end it."""
    action = form.text("action")
    try:
        if action in ("take", "give"):
            take_conversation(desk.scope, conversation, give_back=action == "give")
        elif action == "return":
            return_to_script(desk.scope, conversation, form.text("step")[:10])
        elif action == "close":
            close_conversation(desk.scope, conversation)
        else:
            answer_as_clerk(desk.scope, conversation, form.text("text"), form.text("key")[:60])
    except InvalidInput as problem:
        return _one(request, desk, conversation, form.text("text"), next(iter(problem.messages.values())), 422)
    except Conflict as problem:
        return _one(request, desk, conversation, form.text("text"), str(problem), 409)
    return RedirectResponse(desk.path(f"follow-up/desk/{conversation}"), 303)
