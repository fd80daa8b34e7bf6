"""Built-in fields: what comes with the product, and taking parts of it into use."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import Response

from finesieve.core.errors import InvalidInput
from finesieve.office.define.contents import sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.define.built_ins import built_in_parts, use_part
from finesieve.services.define.groups import read_catalogue
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/define/built-in")


@router.get("")
def show_parts(request: Request, desk: DeskHere, part: str = "") -> Response:
    """The parts of the built-in fields; the one named is opened."""
    return _parts_page(request, desk, part, {})


def _parts_page(request: Request, desk: Desk, chosen: str, messages: Mapping[str, str], status: int = 200) -> Response:
    catalogue = read_catalogue(desk.scope)
    return page(
        request,
        desk,
        "office/define/built_in.html",
        stage="define",
        title="Built-in fields",
        sections=sections(desk, catalogue, "built-in"),
        parts=built_in_parts(catalogue),
        chosen=chosen,
        messages=messages,
        status=status,
    )


@router.post("")
def take_into_use(request: Request, desk: DeskHere, form: Posted) -> Response:
    """Take a part into use."""
    part = form.text("part")
    try:
        group_id, change = use_part(desk.scope, part)
    except InvalidInput as problem:
        return _parts_page(request, desk, part, problem.messages, 422)
    return back_with(desk.path(f"define/{group_id}"), change)
