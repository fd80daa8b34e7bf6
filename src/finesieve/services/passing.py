"""Creating a field in passing: going on where it was wanted."""

import re

from finesieve.core.errors import FineSieveError
from finesieve.core.language.parser import parse
from finesieve.core.language.tree import Chain
from finesieve.services.collect import read_form
from finesieve.services.compose import add_question
from finesieve.services.define import read_catalogue
from finesieve.services.scope import Scope
from finesieve.services.sift import SegmentInput, change_segment, read_segment

__all__ = ["settle"]

_QUESTION = re.compile(r"question:([0-9]{1,9})(?::(s[0-9]{1,6}))?")
_MESH = re.compile(r"mesh:([0-9]{1,9})")
_PAGE = re.compile(r"(collect|compute|sift)(/[0-9]{1,9}|/new)?(\?[a-z_]+=[^\s]{0,4000})?")


def settle(scope: Scope, then: str, field_id: int) -> str:
    """Do what the new field was made for; gives the page to go on with, below the workspace, "" for none.

    `then` is `question:7`, to ask the field in form 7, or `question:7:s2` in a section of it; `mesh:7`, to ask
    segment 7 whether it is filled; or a page to go back to.
    """
    question = _QUESTION.fullmatch(then)
    if question:
        form_id = int(question[1])
        try:
            add_question(scope, form_id, read_form(scope, form_id).revision, field_id, question[2] or "")
        except FineSieveError:
            return ""  # the form is gone, or cannot ask such a field; the field is made all the same
        return f"collect/{form_id}"
    mesh = _MESH.fullmatch(then)
    if mesh:
        _add_mesh(scope, int(mesh[1]), field_id)
        return f"sift/{mesh[1]}"
    return then if _PAGE.fullmatch(then) else ""


def _add_mesh(scope: Scope, segment_id: int, field_id: int) -> None:
    try:
        field, segment = read_catalogue(scope).by_id[field_id], read_segment(scope, segment_id)
        tree = parse(segment.expression).tree
        if isinstance(tree, Chain) and tree.word == "or":
            return  # one condition more is no narrowing there; the specialist says how it joins
        condition = f"{field.key} is filled"
        asked = SegmentInput(
            name=segment.name,
            description=segment.description,
            expression=f"{segment.expression}\nand {condition}" if segment.expression.strip() else condition,
        )
        change_segment(scope, segment_id, segment.revision, asked)
    except FineSieveError:
        return  # the segment is gone, or was changed meanwhile; the field is made all the same
