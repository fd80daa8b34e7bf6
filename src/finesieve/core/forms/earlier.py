"""Documents of earlier makes of the product, brought to the present one when they are read."""

from collections.abc import Mapping
from typing import Any

__all__ = ["upgraded"]


def upgraded(document: Mapping[str, Any]) -> dict[str, Any]:
    """A form's document: questions without sections become one section, one check becomes a list of one."""
    found = dict(document)
    if "questions" not in found:
        return found
    questions = [_question(question) for question in found.pop("questions") or ()]
    found.setdefault("sections", [{"id": "s1", "items": questions}] if questions else [])
    return found


def _question(question: Any) -> Any:
    if not isinstance(question, Mapping) or "check" not in question:
        return question
    found = dict(question)
    check = found.pop("check")
    found.setdefault("checks", [check] if check else [])
    return found
