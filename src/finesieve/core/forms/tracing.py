"""Why a question shows or not, and what a check saw: the parts of a rule that decided, with what they read."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Final

from finesieve.core.forms.prepare import Rule
from finesieve.core.language.explain import Explained, explain
from finesieve.core.language.program import Moment
from finesieve.core.language.typed import Typed
from finesieve.core.values import Type, Value

__all__ = ["Reason", "reasons"]

_JOINING: Final = frozenset(("and", "or", "not"))


@dataclass(frozen=True, slots=True)
class Reason:
    """One condition that decided: its text, its verdict, and the fields it read, as (key, type, value)."""

    text: str
    verdict: bool | None
    read: tuple[tuple[str, Type, Value], ...]


def reasons(rule: Rule, row: Mapping[str, Value], moment: Moment) -> tuple[Reason, ...]:
    """The conditions that a rule's verdict rests on; () for one that has lost its meaning."""
    if rule.typed is None:
        return ()
    return tuple(_deciding(rule.typed, explain(rule.typed, row, moment), rule.text, row))


def _deciding(typed: Typed, part: Explained, text: str, row: Mapping[str, Value]) -> Iterator[Reason]:
    if part.operation in _JOINING:
        for below, explained in zip(typed.parts, part.parts, strict=True):
            if explained.decided:
                yield from _deciding(below, explained, text, row)
        return
    read = {one.key: (one.name, one.type, row.get(one.key)) for one in _names(typed)}
    verdict = part.value if isinstance(part.value, bool) else None
    yield Reason(text[part.span.start : part.span.end], verdict, tuple(read.values()))


def _names(typed: Typed) -> Iterator[Typed]:
    """The fields that are read; not those of the members of a collection, which have a value each."""
    if typed.operation == "name":
        yield typed
    for part in typed.parts if typed.operation != "collect" else ():
        yield from _names(part)
