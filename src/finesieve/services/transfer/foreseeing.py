"""What of a file could not be loaded, told before it is tried: what is malformed, or leans on what is not there."""

import itertools
from collections.abc import Callable, Mapping
from typing import Any, Final

from finesieve.core.fields.about import HOUSE, LEVEL, ORDER, PERSON, record_type_of
from finesieve.core.fields.groups import GroupSettings
from finesieve.core.fields.options import option_from_json
from finesieve.core.fields.settings import FieldSettings
from finesieve.core.forms.definition import Form
from finesieve.core.forms.earlier import upgraded
from finesieve.core.forms.portable import asked_fields
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.setup.document import FieldPart, FormPart, GroupPart, LinkPart, OptionListPart, Setup
from finesieve.core.setup.workspace import POINTING

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
    FieldSettings.model_validate({key: value for key, value in part.settings.items() if key not in POINTING})
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
    known = {(about_key(catalogue, one.about), one.key) for one in catalogue.all_fields}
    known |= {(one.about, one.key) for one in setup.fields}
    for about, key in asked_fields(part.document):
        if (about, key) not in known:
            return f"It asks for {key}, which is not there."
    Form.model_validate(_numbered(part.document))
    return ""


def _numbered(document: Mapping[str, Any]) -> dict[str, Any]:
    """A portable document with made-up ids, to see whether it is well formed."""
    found = upgraded(document)
    numbers = itertools.count(1)
    sections = []
    for section in found.get("sections", ()):
        repeat = section.get("repeat")
        items = [
            {key: value for key, value in item.items() if key not in ("field", "about")}
            | ({"field_id": next(numbers)} if "field" in item else {})
            for item in section.get("items", ())
        ]
        sections.append(
            {**section, "items": items, **({"repeat": {**repeat, "record_type": 1, "link": 0}} if repeat else {})}
        )
    return {**found, "sections": sections}


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
