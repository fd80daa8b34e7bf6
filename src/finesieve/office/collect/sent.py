"""What was sent with a form."""

from typing import Any
from urllib.parse import urlencode

from fastapi import Request
from starlette.responses import Response, StreamingResponse

from finesieve.core.errors import InvalidInput, TookTooLong
from finesieve.office.collect.contents import pages_of
from finesieve.office.shared.collect import collect_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import page
from finesieve.services.forms.forms import read_form
from finesieve.services.forms.sendings import SendingsPage, SentQuery, list_sendings, read_sending, sendings_as_csv
from finesieve.services.kernel.inputs import read_input
from finesieve.services.kernel.ledger import read_manner
from finesieve.web.posted import whole_number
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/collect/{form_id:int}/sent")


def _asked(request: Request) -> dict[str, str]:
    names = ("version", "state", "since", "until", "search")
    given = {name: request.query_params.get(name, "").replace("\x00", "")[:100] for name in names}
    return {name: text for name, text in given.items() if text}


@router.get("")
def show_sent(request: Request, desk: DeskHere, form_id: int) -> Response:
    """Every sending, the newest first; `before` continues the list."""
    typed = _asked(request)
    before = whole_number(request.query_params.get("before", "")) or None
    messages: dict[str, str] = {}
    try:
        found = list_sendings(desk.scope, form_id, read_input(SentQuery, typed), before)
    except InvalidInput as problem:
        found, messages = list_sendings(desk.scope, form_id, SentQuery()), problem.messages
    except TookTooLong:
        found = SendingsPage((), None, ())
        messages = {"search": "The search takes too long. Choose fewer days, or a version."}
    more = urlencode({**typed, "before": str(found.before)}) if found.before else ""
    return _page(request, desk, form_id, "office/collect/sent.html", 422 if messages else 200,
                 found=found, typed=typed, messages=messages, more=more, query=urlencode(typed))  # fmt: skip


def _page(request: Request, desk: Desk, form_id: int, template: str, status: int = 200, **context: Any) -> Response:
    view = read_form(desk.scope, form_id)
    return page(
        request,
        desk,
        template,
        stage="collect",
        title=f"Submissions of {view.document.title}",
        sections=collect_sections(desk, form_id),
        view=view,
        tabs=pages_of(view.document),
        money=read_manner(desk.scope).money,
        status=status,
        **context,
    )


@router.get("/all.csv")
def export_sent(request: Request, desk: DeskHere, form_id: int) -> Response:
    """All of them, as far as the filter goes, as CSV."""
    slug, lines = sendings_as_csv(desk.scope, form_id, read_input(SentQuery, _asked(request)))
    headers = {"Content-Disposition": f'attachment; filename="{slug}-sent.csv"'}
    return StreamingResponse(lines, media_type="text/csv; charset=utf-8", headers=headers)


@router.get("/{sending_id:int}")
def show_sending(request: Request, desk: DeskHere, form_id: int, sending_id: int) -> Response:
    """One sending, with all its answers."""
    detail = read_sending(desk.scope, form_id, sending_id)
    return _page(request, desk, form_id, "office/collect/sending.html", detail=detail)
