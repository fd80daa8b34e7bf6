"""Creating a field in passing: going on where it was wanted."""

import re
from contextlib import suppress

from finesieve.core.errors import FineSieveError
from finesieve.services.forms.composing import add_question
from finesieve.services.forms.forms import read_form
from finesieve.services.kernel.scope import Scope
from finesieve.services.sift.segments import ask_whether_filled

__all__ = ["go_on"]

_QUESTION = re.compile(r"question:([0-9]{1,9})(?::(s[0-9]{1,6}))?")
_MESH = re.compile(r"mesh:([0-9]{1,9})")
_PAGE = re.compile(r"(collect|compute|sift)(/[0-9]{1,9}|/new)?(\?[a-z_]+=[^\s]{0,4000})?")


def go_on(scope: Scope, then: str, field_id: int) -> str:
    """Do what the new field was made for; gives the page to go on with, below the workspace, "" for none.

    `then` is `question:7`, to ask the field in form 7, or `question:7:s2` in a section of it; `mesh:7`, to ask
    segment 7 whether it is filled; or a page to go back to. Where the form or the segment is gone, was changed
    meanwhile, or cannot ask such a field, the field is made all the same.
    """
    question = _QUESTION.fullmatch(then)
    if question:
        form_id = int(question[1])
        try:
            add_question(scope, form_id, read_form(scope, form_id).revision, field_id, question[2] or "")
        except FineSieveError:
            return ""
        return f"collect/{form_id}"
    mesh = _MESH.fullmatch(then)
    if mesh:
        with suppress(FineSieveError):
            ask_whether_filled(scope, int(mesh[1]), field_id)
        return f"sift/{mesh[1]}"
    return then if _PAGE.fullmatch(then) else ""
