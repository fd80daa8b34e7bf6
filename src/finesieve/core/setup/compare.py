"""What loading a setup would do to what is there: added, changed, removed, conflicts."""

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from hashlib import sha256
from typing import Any, Literal

from pydantic import BaseModel

from finesieve.core.fields.built_in import BUILT_IN_BY_KEY
from finesieve.core.fields.keys import key_problem
from finesieve.core.setup.document import FieldPart, Setup

__all__ = ["KINDS", "Difference", "compare", "identity_of"]

Change = Literal["added", "changed", "removed", "conflict"]


@dataclass(frozen=True, slots=True)
class Difference:
    """One thing that would be different.

    `what` says the kind of thing, `name` which, `identity` by what it is known again, `parts` what of it changes.
    """

    change: Change
    what: str
    name: str
    parts: tuple[tuple[str, str, str], ...] = ()
    why: str = ""
    identity: tuple[str, ...] = ()

    @property
    def handle(self) -> str:
        """What it is about, in a short text by which it is chosen on a page."""
        return sha256(json.dumps([self.what, *self.identity]).encode()).hexdigest()[:12]


def identity_of(part: BaseModel) -> tuple[str, ...]:
    """By what a part is known again."""
    for names in (("about", "key"), ("record_type", "back_key"), ("about", "name"), ("key",), ("slug",), ("name",)):
        if all(hasattr(part, name) for name in names):
            return tuple(str(getattr(part, name)) for name in names)
    raise TypeError(f"{type(part).__name__} has no name")


KINDS: Mapping[str, str] = {
    "record_types": "record type",
    "links": "link",
    "lists": "list",
    "levels": "level",
    "option_lists": "shared options",
    "groups": "group",
    "fields": "field",
    "forms": "form",
    "scripts": "chat script",
    "segments": "segment",
    "personal_links": "personal link",
}
"""The kinds of parts in the order in which they lean on one another, and what one of each is called."""


def compare(there: Setup, given: Setup) -> tuple[Difference, ...]:
    """The differences, in the order in which things lean on one another."""
    found: list[Difference] = []
    for name, what in KINDS.items():
        found += _compared(what, getattr(there, name), getattr(given, name), given)
    found = _with_misfits(found, given) + _of_shop(there, given)
    for key, value in given.house_values.items():
        if there.house_values.get(key) != value:
            parts = ((key, _say(there.house_values.get(key)), _say(value)),)
            found.append(Difference("changed", "house value", key, parts, identity=(key,)))
    return tuple(found)


def _of_shop(there: Setup, given: Setup) -> list[Difference]:
    """What the shop sells is taken as a whole."""
    if given.shop is None or given.shop == there.shop:
        return []
    old, new = ("" if shop is None else f"{len(shop.products)} products" for shop in (there.shop, given.shop))
    change: Change = "added" if there.shop is None else "changed"
    return [Difference(change, "shop", "what the shop sells", (("products", old, new),), identity=("shop",))]


def _with_misfits(found: list[Difference], given: Setup) -> list[Difference]:
    """What does not fit is a conflict, whether or not anything else of it differs."""
    misfits = {(one.what, one.identity) for one in given.misfits}
    kept = [one for one in found if (one.what, one.identity) not in misfits]
    told = [Difference("conflict", one.what, one.label, why=one.why, identity=one.identity) for one in given.misfits]
    return kept + told


def _compared(what: str, there: Iterable[BaseModel], given: Iterable[BaseModel], setup: Setup) -> list[Difference]:
    old = {identity_of(part): part for part in there}
    new = {identity_of(part): part for part in given}
    found = []
    for name, part in new.items():
        before = old.get(name)
        if before is None:
            why = _cannot_be(part, setup)
            found.append(Difference("conflict" if why else "added", what, _label(part), why=why, identity=name))
            continue
        parts = _parts(before, part)
        if not parts:
            continue
        why = _clash(before, part)
        found.append(Difference("conflict" if why else "changed", what, _label(part), tuple(parts), why, name))
    found += [
        Difference("removed", what, _label(part), identity=name)
        for name, part in old.items()
        if name not in new and setup.covers(part)
    ]
    return found


def _label(part: BaseModel) -> str:
    for name in ("label", "name", "plural", "slug"):
        if hasattr(part, name):
            return str(getattr(part, name))
    return str(part)


def _parts(before: BaseModel, after: BaseModel) -> list[tuple[str, str, str]]:
    old, new = before.model_dump(mode="json"), after.model_dump(mode="json")
    found = []
    left_out = {name for name in getattr(after, "may_be_left_out", ()) if not new[name]}
    for name in (one for one in old if one not in left_out):
        if isinstance(old[name], dict) and isinstance(new[name], dict):
            keys = dict.fromkeys((*old[name], *new[name]))
            pairs = [(key, old[name].get(key), new[name].get(key)) for key in keys]
            found += [(key, _say(was), _say(becomes)) for key, was, becomes in pairs if was != becomes]
        elif old[name] != new[name]:
            found.append((name, _say(old[name]), _say(new[name])))
    return found


def _say(value: Any) -> str:
    if value in (None, "", [], {}):
        return "–"
    text = ", ".join(
        str(item.get("label", item)) if isinstance(item, dict) else str(item)
        for item in (value if isinstance(value, list) else [value])
    )
    return text if len(text) < 160 else text[:157] + "…"


def _clash(before: BaseModel, after: BaseModel) -> str:
    """Why what is there cannot become what is given, in one sentence; "" where it can."""
    if not isinstance(before, FieldPart) or not isinstance(after, FieldPart):
        return ""
    if bool(before.formula) != bool(after.formula):
        return "One is computed and the other is not."
    if before.type != after.type and not before.formula:
        return f"The type is {before.type} here and {after.type} in the file; change it on its page, with a dry run."
    if before.built_in != after.built_in:
        return "One is built in and the other is not."
    return ""


def _cannot_be(part: BaseModel, setup: Setup) -> str:
    if isinstance(part, FieldPart):
        known = BUILT_IN_BY_KEY.get(part.key) if part.built_in else None
        if part.built_in and (known is None or known.type_key != part.type):
            return "There is no built-in field of this key and type."
        problem = "" if known else key_problem(part.key)
        if problem:
            return problem
        if not any(group.name == part.group and group.about == part.about for group in setup.groups):
            return f"Its group “{part.group}” is not in the file."
    return ""
