"""A member page, for whoever may read it."""

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from finesieve.core.forms.wording import wording_without_form
from finesieve.web.languages import accepted_languages
from finesieve.web.members import member_of
from finesieve.web.pages import block_html
from finesieve.web.routing import PrefixRouter
from finesieve.web.site import site_of
from finesieve.web.sound import sound_address
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter(prefix="/pages/{workspace}")


class _Head:
    """What the layout needs of a page."""

    def __init__(self, house: str, language: str) -> None:
        self.house, self.language = house, language


@router.get("/{page}/pictures/{key}")
def show_picture(request: Request, workspace: str, page: str, key: str) -> Response:
    """A picture of the house on a page, for whoever may read that."""
    member = member_of(request, workspace)
    person = member.person_id if member is not None else 0
    opened = site_of(request).public_pages.picture(workspace, page, key[:80], person)
    headers = {"Cache-Control": "private, max-age=300", "Content-Disposition": "inline"}
    return Response(opened.data, media_type=opened.file.media_type, headers=headers)


@router.get("/{page}")
def show_page(request: Request, workspace: str, page: str) -> Response:
    """A page; the way in for whoever is not signed in and would have to be."""
    member = member_of(request, workspace)
    opened = site_of(request).public_pages.open(workspace, page, member.person_id if member is not None else 0)
    say = wording_without_form(*accepted_languages(request.headers.get("accept-language", "")))
    if opened is None and member is None:
        return RedirectResponse(f"/account/{workspace}", 303)
    context = {
        "say": say, "workspace": workspace, "page": opened, "member": member,
        "opened": _Head(opened.house, opened.language) if opened is not None else _Head(workspace, "en_GB"),
        "blocks": [
            (block_html(one), one.button, sound_address(one.to), one) for one in (opened.blocks if opened else ())
        ],
        "page_slug": page,
        "more": site_of(request).public_pages.for_whom(workspace, member.person_id) if member is not None else (),
    }  # fmt: skip
    return render(request, "front/pages/page.html", context, 200 if opened is not None else 403)
