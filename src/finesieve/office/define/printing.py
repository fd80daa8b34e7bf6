"""How addresses are printed: a page of the group that an address stands in."""

from collections.abc import Mapping

from fastapi import Request
from pydantic import ValidationError
from starlette.responses import RedirectResponse, Response

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.families.places import country_codes, country_names
from finesieve.core.fields.groups import PRINTED_PLACES, PrintedLine
from finesieve.office.define.contents import sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.define.groups import read_catalogue
from finesieve.services.define.printing import change_printing, read_printing
from finesieve.web.posted import Posted, PostedForm
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/define/{group_id:int}/printed")
_MOST = 12


@router.get("")
def show_printing(request: Request, desk: DeskHere, group_id: int) -> Response:
    """The lines that are added, and the address as it is printed; who may not change it, sees the group."""
    if not desk.may_edit:
        return RedirectResponse(desk.path(f"define/{group_id}"), 303)
    return _page(request, desk, group_id, None, {})


def _page(
    request: Request,
    desk: Desk,
    group_id: int,
    typed: list[Mapping[str, str]] | None,
    messages: Mapping[str, str],
    status: int = 200,
) -> Response:
    catalogue = read_catalogue(desk.scope)
    found = read_printing(desk.scope, group_id)
    lines: list[Mapping[str, str]] = typed if typed is not None else [one.model_dump() for one in found.lines]
    return page(
        request, desk, "office/define/printed.html", stage="define", title=f"{found.group.name}, printed",
        sections=sections(desk, catalogue, str(group_id)), found=found, messages=messages, status=status,
        lines=[*lines, *([{"text": "", "country": "", "place": "last"}] if len(lines) < _MOST else [])],
        places=PRINTED_PLACES,
        countries=sorted(zip(country_codes(), country_names(catalogue.manner.language), strict=True), key=_by_name),
    )  # fmt: skip


def _by_name(country: tuple[str, str]) -> str:
    return country[1]


def _typed(form: PostedForm) -> list[Mapping[str, str]]:
    texts = form.values("text_")
    return [
        {"text": text.strip(), "country": form.text(f"country_{name}"), "place": form.text(f"place_{name}")}
        for name, text in texts.items()
        if text.strip()
    ]


@router.post("")
def save_printing(request: Request, desk: DeskHere, group_id: int, form: Posted) -> Response:
    """Set them."""
    typed = _typed(form)
    try:
        lines = [PrintedLine.model_validate(one) for one in typed]
        change = change_printing(desk.scope, group_id, lines)
    except ValidationError:
        words = "A line is a text of at most 200 characters, with a country and a place out of the lists."
        return _page(request, desk, group_id, typed, {"": words}, 422)
    except InvalidInput as problem:
        return _page(request, desk, group_id, typed, problem.messages, 422)
    return back_with(desk.path(f"define/{group_id}/printed"), change)
