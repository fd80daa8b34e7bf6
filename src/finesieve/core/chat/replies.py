"""What a reply means: by a button, a name, a number, a word that steers, or read as its field reads it."""

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Final, Literal

from finesieve.core.chat.words import edits_within, fold_reply
from finesieve.core.fields.definition import Field, Shelf
from finesieve.core.phrases import phrase
from finesieve.core.values import Value

__all__ = [
    "Offer",
    "Reading",
    "Several",
    "by_name",
    "by_number",
    "near_names",
    "read_several",
    "read_value",
    "typed_so",
]

_FREE: Final = ("text", "text_list", "structured")
_THOUSANDS: Final = re.compile(r"[+-]?[0-9]{1,3}[,.][0-9]{3}")


@dataclass(frozen=True, slots=True)
class Offer:
    """A reply that is offered. `raw` is what it would be typed as; a link, a call or a message has a `target`.

    What is `apart` leads to a page where something is given that cannot be typed; whoever shows it says where that is.
    """

    id: str
    label: str
    raw: str = ""
    kind: Literal["reply", "link", "call", "write", "apart"] = "reply"
    target: str = ""
    chosen: bool = False


@dataclass(frozen=True, slots=True)
class Reading:
    """A value that was read; `near` where it was not typed exactly."""

    value: Value
    near: bool = False


@dataclass(frozen=True, slots=True)
class Several:
    """A reply that can mean several things: each as it is shown, and as it would be typed."""

    ways: tuple[tuple[str, str], ...]


def by_name(text: str, offers: Sequence[Offer]) -> Offer | None:
    """The offer of exactly this name."""
    said = fold_reply(text)
    return next((one for one in offers if one.kind == "reply" and fold_reply(one.label) == said), None)


def by_number(text: str, offers: Sequence[Offer]) -> Offer | None:
    """The offer of this number, counted from 1."""
    said = text.strip().rstrip(".)")
    if not said.isascii() or not said.isdigit() or len(said) > 3:
        return None
    place = int(said) - 1
    return offers[place] if 0 <= place < len(offers) and offers[place].kind == "reply" else None


def near_names(text: str, offers: Sequence[Offer]) -> tuple[Offer, ...]:
    """The offers whose names are near: within one edit from 5 letters on, two from 9 on; or that begin so."""
    said = fold_reply(text)
    if len(said) < 3:
        return ()
    found = []
    for one in offers:
        name = fold_reply(one.label)
        most = 2 if len(name) >= 9 else 1 if len(name) >= 5 else 0
        if one.kind == "reply" and most and edits_within(said, name, most):
            found.append(one)
    return tuple(found)


def read_value(field: Field, text: str, today: date, shelf: Shelf | None = None) -> Reading | Several:
    """A reply as its field reads it. Raises ValueError with a plain sentence.

    What could be one of two things is given as both: a day without a year, a figure whose sign may part thousands.
    """
    try:
        return Reading(field.parse(text, shelf, today))
    except ValueError:
        ways = tuple(_ways(field, text, today))
        if len(ways) < 2:
            raise
        return Several(ways)


def _ways(field: Field, text: str, today: date) -> Iterator[tuple[str, str]]:
    kind = field.type.kind
    if kind == "date" and len(text) < 40:
        for year in (today.year - 1, today.year, today.year + 1):
            try:
                found = field.parse(f"{text.strip()} {year}", None, today)
            except ValueError:
                continue
            if isinstance(found, date) and abs((found - today).days) < 366:
                yield field.show(found), found.isoformat()
    elif kind in ("number", "money") and _THOUSANDS.fullmatch(text.strip()):
        whole = re.sub(r"[,.]", "", text.strip())
        point = field.manner.point
        for raw in (whole, re.sub(r"[,.]", point, text.strip())):
            try:
                yield field.show(field.parse(raw)), raw
            except ValueError:
                continue


_PARTED: Final = re.compile(r"\s*(?:[,;\n&+/]|\band\b|\bund\b)\s*", re.IGNORECASE)


def read_several(text: str, offers: Sequence[Offer]) -> tuple[Offer, ...]:
    """Several of the offers by number or name, `1, 3` or `clay and loam`. Raises ValueError for one that is none."""
    found: dict[str, Offer] = {}
    for part in filter(None, _PARTED.split(text.strip()[:2_000])):
        near = near_names(part, offers)
        one = by_name(part, offers) or by_number(part, offers) or (near[0] if len(near) == 1 else None)
        if one is None:
            raise ValueError(phrase("“{part}” is none of these.", part=part[:60]))
        found[one.id] = one
    if not found:
        raise ValueError("Choose among the options offered.")
    return tuple(found.values())


def typed_so(field: Field, text: str, value: Value) -> bool:
    """Whether a value was typed just as it is shown, so that it need not be said back."""
    if field.type.kind in (*_FREE, "secret", "file", "yes_no"):
        return True
    shown = field.show(value)
    said = fold_reply(text)
    ways = {fold_reply(one) for one in (shown, field.raw(value), f"{field.raw(value)}{field.unit}")}
    return said in ways or fold_reply(shown.removesuffix(field.unit)) == said
