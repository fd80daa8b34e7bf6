"""What of a file could not be loaded, told before it is tried: what is malformed, or leans on what is not there."""

from collections.abc import Callable
from typing import Any, Final

from finesieve.core.catalogue import Catalogue
from finesieve.core.fields.about import HOUSE, LEVEL, ORDER, PERSON, record_type_of
from finesieve.core.fields.groups import GroupSettings
from finesieve.core.fields.options import option_from_json
from finesieve.core.fields.settings import FieldSettings
from finesieve.core.forms.definition import Form
from finesieve.core.setup.document import FieldPart, FormPart, GroupPart, LinkPart, OptionListPart, Setup
from finesieve.services.loading import Loader

__all__ = ["about_key", "unfit"]


def about_key(catalogue: Catalogue, about: str) -> str:
    """What something is about, as files say it: a record type by its key."""
    known = catalogue.record_types_by_id.get(record_type_of(about))
    return f"record:{known.key}" if known else about


def unfit(catalogue: Catalogue, setup: Setup, part: Any) -> str:
    """Why a part of a file cannot be, in a sentence; "" where it can.

    Raises ValueError, TypeError, KeyError or AttributeError for a malformed one.
    """
    judge = _JUDGES.get(type(part))
    return judge(catalogue, setup, part) if judge else ""


def _field(catalogue: Catalogue, _setup: Setup, part: FieldPart) -> str:
    for option in part.options:
        option_from_json(option)
    FieldSettings.model_validate({key: value for key, value in part.settings.items() if key not in Loader.POINTING})
    for field in catalogue.deleted:
        if field.key == part.key and about_key(catalogue, field.about) == part.about:
            return f"The key belongs to a deleted field, {field.label}; bring that back first."
    return ""


def _group(_catalogue: Catalogue, setup: Setup, part: GroupPart) -> str:
    GroupSettings.model_validate(part.settings)
    known = {PERSON, ORDER, LEVEL, HOUSE, *(f"record:{one.key}" for one in setup.record_types)}
    return "" if part.about in known else f"There is nothing called “{part.about}” in the file."


def _options(_catalogue: Catalogue, _setup: Setup, part: OptionListPart) -> str:
    for option in part.options:
        option_from_json(option)
    return ""


def _form(catalogue: Catalogue, setup: Setup, part: FormPart) -> str:
    questions = part.document.get("questions", ())
    known = {*catalogue.by_key, *(field.key for field in setup.fields if field.about == PERSON)}
    missing = next((question["field"] for question in questions if question["field"] not in known), "")
    if missing:
        return f"It asks for {missing}, which is not there."
    plain = [
        {key: value for key, value in question.items() if key != "field"} | {"field_id": place}
        for place, question in enumerate(questions)
    ]
    Form.model_validate({**part.document, "questions": plain})
    return ""


def _link(_catalogue: Catalogue, setup: Setup, part: LinkPart) -> str:
    known = {one.key for one in setup.record_types}
    return "" if part.record_type in known else f"The record type “{part.record_type}” is not in the file."


_JUDGES: Final[dict[type, Callable[[Catalogue, Setup, Any], str]]] = {
    FieldPart: _field,
    GroupPart: _group,
    OptionListPart: _options,
    FormPart: _form,
    LinkPart: _link,
}
