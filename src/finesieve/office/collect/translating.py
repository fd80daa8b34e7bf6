"""Languages: a form's texts beside their translations, and what is untranslated."""

from collections.abc import Mapping

from fastapi import Request
from starlette.responses import Response

from finesieve.core.errors import InvalidInput, NotFound, Overtaken
from finesieve.core.forms.wording import texts_to_say, untranslated, wording_of
from finesieve.office.collect.contents import pages_of
from finesieve.office.shared.collect import OFFERED_LANGUAGES, collect_sections
from finesieve.office.shared.desk import Desk, DeskHere
from finesieve.office.shared.frame import back_with, page
from finesieve.services.forms.composing import set_phrases
from finesieve.services.forms.forms import known_phrases, read_form
from finesieve.web.posted import Posted
from finesieve.web.routing import PrefixRouter

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/collect/{form_id:int}/languages")


@router.get("")
def show_languages(request: Request, desk: DeskHere, form_id: int) -> Response:
    """The texts of a form in one of its other languages."""
    return _languages_page(request, desk, form_id, {})


def _languages_page(
    request: Request, desk: Desk, form_id: int, typed: Mapping[str, str], status: int = 200, **standing: object
) -> Response:
    view = read_form(desk.scope, form_id)
    document = view.document
    others = document.languages[1:]
    language = request.query_params.get("to", "") or (others[0] if others else "")
    if language and language not in others:
        raise NotFound("The form has no such language.")
    missing = {one: untranslated(document, view.catalogue, one) for one in others}
    shown = texts_to_say(document, view.catalogue) if language else ()
    built_in = tuple(text for text in missing.get(language, ()) if not text.own)
    return page(
        request,
        desk,
        "office/collect/languages.html",
        stage="collect",
        title=f"Languages of {document.title}",
        sections=collect_sections(desk, form_id),
        view=view,
        tabs=pages_of(view.document),
        language=language,
        names=OFFERED_LANGUAGES,
        missing={one: len(texts) for one, texts in missing.items()},
        lines=(*shown, *built_in),
        said=wording_of(document, language).phrases if language else {},
        elsewhere=known_phrases(desk.scope, form_id, language),
        typed=typed,
        status=status,
        **{"messages": {}, **standing},
    )


@router.post("")
def save_phrases(request: Request, desk: DeskHere, form_id: int, form: Posted) -> Response:
    """Keep what was typed; what is left empty stays untranslated."""
    sources, texts = form.texts("source"), form.texts("text")
    phrases = dict(zip(sources, texts, strict=False))
    shown = dict(zip(sources, form.texts("shown"), strict=False)) if "shown" in form else None
    try:
        change = set_phrases(desk.scope, form_id, form.number("revision"), form.text("language"), phrases, shown)
    except Overtaken as clash:
        mine = {text: said for text, said in phrases.items() if (shown or {}).get(text) != said}
        return _languages_page(request, desk, form_id, mine, 409, clash=clash)
    except InvalidInput as problem:
        return _languages_page(request, desk, form_id, phrases, 422, messages=problem.messages)
    return back_with(desk.path(f"collect/{form_id}/languages?to={form.text('language')}"), change)
