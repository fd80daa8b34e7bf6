"""Documents of earlier makes of the product, brought to the present one when they are read."""

from collections.abc import Mapping
from typing import Any

__all__ = ["upgraded"]


def upgraded(document: Mapping[str, Any], *, terse: bool = False) -> dict[str, Any]:
    """A form's document: questions without sections become one section, one check becomes a list of one.

    In the `terse` way of files, a question does not say that it is one.
    """
    found = dict(document)
    if "questions" in found:
        questions = found.pop("questions") or []
        found.setdefault("sections", [{"id": "s1", "items": questions}] if questions else [])
    if isinstance(found.get("sections"), list | tuple):
        found["sections"] = [_section(section, terse) for section in found["sections"]]
    return found


def _section(section: Any, terse: bool) -> Any:
    if not isinstance(section, Mapping) or not isinstance(section.get("items"), list | tuple):
        return section
    return {**section, "items": [_item(item, terse) for item in section["items"]]}


def _item(item: Any, terse: bool) -> Any:
    """An item; one that asks a field is a question even where it does not say so."""
    if not isinstance(item, Mapping) or item.get("kind", "question") != "question":
        return item
    found = {name: value for name, value in item.items() if name != "kind"}
    if not terse:
        found = {"kind": "question", **found}
    if "check" not in found:
        return found
    check = found.pop("check")
    found.setdefault("checks", [check] if check else [])
    return found
