"""Creating a field in passing: going on where it was wanted."""

import re

from finesieve.core.errors import FineSieveError
from finesieve.services.collect import add_question, read_form
from finesieve.services.scope import Scope

__all__ = ["settle"]

_QUESTION = re.compile(r"question:([0-9]{1,9})")
_PAGE = re.compile(r"(collect|compute|sift)(/[0-9]{1,9}|/new)?(\?[a-z_]+=[^\s]{0,4000})?")


def settle(scope: Scope, then: str, field_id: int) -> str:
    """Do what the new field was made for; gives the page to go on with, below the workspace, "" for none.

    `then` is `question:7`, to ask the field in form 7, or a page to go back to.
    """
    question = _QUESTION.fullmatch(then)
    if question:
        form_id = int(question[1])
        try:
            add_question(scope, form_id, read_form(scope, form_id).revision, field_id)
        except FineSieveError:
            return ""  # the form is gone, or cannot ask such a field; the field is made all the same
        return f"collect/{form_id}"
    return then if _PAGE.fullmatch(then) else ""
