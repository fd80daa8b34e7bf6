"""Parts of a setup: those that were chosen, and what they lean on."""

import re
from collections.abc import Collection, Iterator, Mapping
from typing import Any, Final

from pydantic import BaseModel

from finesieve.core.setup.compare import KINDS, identity_of
from finesieve.core.setup.document import (
    FieldPart,
    FormPart,
    GroupPart,
    LinkPart,
    PersonalLinkPart,
    RecordTypePart,
    SegmentPart,
    Setup,
)
from finesieve.core.setup.workspace import POINTING

__all__ = ["Known", "only"]

Known = tuple[str, ...]
"""What sort of part it is, as in `KINDS`, and by what it is known; or “house value” and its key."""

_WORD: Final = re.compile(r"[a-z_][a-z0-9_]*", re.IGNORECASE)
_PLACEHOLDER: Final = re.compile(r"\{[^{}]*\}")
_RULES: Final = frozenset(
    ("show_when", "required_when", "count", "options_when", "expression", "amount", "costs", "moving")
)
"""The parts of a form's document that hold expressions."""


def only(setup: Setup, wanted: Collection[Known], there: Setup) -> Setup:
    """The wanted parts of a setup, and with them what they lean on, as far as it is not there yet."""
    parts = _parts(setup)
    present = set(_parts(there))
    kept: dict[Known, None] = {}
    waiting = [one for one in parts if one in wanted]
    while waiting:
        one = waiting.pop()
        kept[one] = None
        waiting += [other for other in _leans_on(parts, one) if other not in kept and other not in present]
    chosen = {
        name: tuple(part for part in getattr(setup, name) if (what, *identity_of(part)) in kept)
        for name, what in KINDS.items()
    }
    values = {key: value for key, value in setup.house_values.items() if ("house value", key) in wanted}
    levels = {key: value for key, value in setup.level_values.items() if ("level", key) in kept}
    sells = (
        ("shop", "shop") in wanted
        or any(form.document.get("channel") == "checkout" for form in chosen["forms"])
        or any(level.fee is not None for level in chosen["levels"])
    )
    shop = setup.shop if sells else None
    return setup.model_copy(update={**chosen, "house_values": values, "level_values": levels, "shop": shop})


def _parts(setup: Setup) -> dict[Known, BaseModel]:
    parts = {(what, *identity_of(part)): part for name, what in KINDS.items() for part in getattr(setup, name)}
    return parts | {("house value", key): setup for key in setup.house_values}


def _leans_on(parts: Mapping[Known, BaseModel], one: Known) -> Iterator[Known]:
    """The parts that this one names."""
    part = parts[one]
    names: set[str | Known] = set(_names(part))
    if isinstance(part, FieldPart):
        names |= {("group", part.about, part.group), *_record_type(part.about)}
    elif isinstance(part, GroupPart):
        names |= set(_record_type(part.about))
    elif isinstance(part, LinkPart):
        names |= {("record type", part.record_type), *_record_type(part.target)}
    elif isinstance(part, PersonalLinkPart):
        names |= {("form", part.form), ("chat script", part.script)}
    elif isinstance(part, RecordTypePart):
        names |= {("field", f"record:{part.key}", part.title), *(one for one in parts if one[:2] == ("link", part.key))}
    elif one[0] == "house value":
        names.add(("field", "house", one[1]))
    yield from (known for known in parts if known in names or known[-1] in names)


def _record_type(about: str) -> Iterator[Known]:
    if about.startswith("record:"):
        yield "record type", about.removeprefix("record:")


def _names(part: BaseModel) -> Iterator[str]:
    """The keys and names that stand in formulas, rules, texts and settings."""
    if isinstance(part, FieldPart):
        yield from _WORD.findall(part.formula)
        for name in (*POINTING, "country_from"):
            found = part.settings.get(name, ())
            yield from [found] if isinstance(found, str) else found
    elif isinstance(part, SegmentPart):
        yield from _WORD.findall(part.expression)
    elif isinstance(part, FormPart):
        yield from part.sets.values()
        yield from _said(part.document)


def _said(node: Any, rule: bool = False) -> Iterator[str]:
    """The names in a form's document: fields, lists and record types, names in rules and in placeholders."""
    if isinstance(node, str):
        for text in [node] if rule else _PLACEHOLDER.findall(node):
            yield from _WORD.findall(text)
    elif isinstance(node, Mapping):
        yield from (str(node[name]) for name in ("field", "list", "record_type", "link") if name in node)
        yield from map(str, node.get("joins", ()))
        for name, inner in node.items():
            yield from _said(inner, rule or name in _RULES)
    elif isinstance(node, list | tuple):
        for inner in node:
            yield from _said(inner, rule)
