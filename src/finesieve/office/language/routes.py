"""The reference of the language, whole and as help beside an editor; words for completion."""

from fastapi import Request
from starlette.responses import JSONResponse, Response

from finesieve.core.language.functions import FUNCTIONS
from finesieve.core.language.problems import CATALOGUE
from finesieve.core.language.reference import OPERATORS
from finesieve.core.limits import TEXT
from finesieve.office.shared.desk import DeskHere
from finesieve.office.shared.frame import Entry, Section, page
from finesieve.services.compute.language import text_as_read, what_is_held, words_here
from finesieve.web.posted import whole_number
from finesieve.web.routing import PrefixRouter
from finesieve.web.templating import render

__all__ = ["router"]

router = PrefixRouter(prefix="/w/{slug}/language")


@router.get("")
def show_reference(request: Request, desk: DeskHere) -> Response:
    """Operators, functions and problems."""
    here = desk.path("language")
    parts = (("operators", OPERATORS), ("functions", FUNCTIONS), ("problems", CATALOGUE))
    contents = [Entry(name.capitalize(), f"{here}#{name}", str(len(all_of_it))) for name, all_of_it in parts]
    return page(
        request,
        desk,
        "office/language/reference.html",
        stage="compute",
        title="The language",
        sections=[Section("The language", contents)],
        functions=FUNCTIONS.values(),
        operators=OPERATORS,
        problems=CATALOGUE,
    )


@router.get("/help")
def show_help(request: Request, desk: DeskHere) -> Response:
    """Operators and functions as help beside an editor; a part of a page."""
    context = {"desk": desk, "functions": FUNCTIONS.values(), "operators": OPERATORS}
    return render(request, "office/language/_help.html", context)


@router.get("/held")
def show_held(request: Request, desk: DeskHere, who: str = "", of: str = "level") -> Response:
    """Help beside a rule: what somebody holds, and what they are choosing; a part of a page."""
    found = what_is_held(desk.scope, who[:80].replace("\x00", ""), of.split()[:2])
    return render(request, "office/language/_held.html", {"desk": desk, "held": found})


@router.get("/words")
def list_words(request: Request, desk: DeskHere) -> Response:
    """What an expression may be made of where it stands: about a thing, or in a section of a form."""
    query = request.query_params
    form_id = whole_number(query.get("form", "")) or 0
    words = words_here(desk.scope, query.get("about", "person")[:40], form_id, query.get("section", "")[:10])
    answer = [{"text": one.text, "kind": one.kind, "help": one.help, "options": one.options} for one in words]
    return JSONResponse(answer)


@router.get("/reads")
def read_text(request: Request, desk: DeskHere, text: str = "", who: str = "") -> Response:
    """A text with placeholders as a person would read it, where it stands."""
    query = request.query_params
    about, form_id = query.get("about", "person")[:40], whole_number(query.get("form", "")) or 0
    read = text_as_read(desk.scope, text[:TEXT].replace("\x00", ""), who[:80].replace("\x00", ""), about, form_id)
    return JSONResponse({"person": read.person, "text": read.text, "problem": read.problem})
