"""The Python meaning of functions over a collection of records."""

from collections.abc import Callable, Iterator, Mapping
from decimal import Decimal
from typing import Any, Final

from finesieve.core import values
from finesieve.core.language.program import Moment, Program
from finesieve.core.language.typed import Typed
from finesieve.core.values import Value

__all__ = ["FINISHERS", "Inside", "collect"]


class Inside(Mapping[str, Value]):
    """A member of a collection, with all that is around it in reach."""

    def __init__(self, around: Mapping[str, Value], prefix: str, member: Mapping[str, Value]) -> None:
        self._around = around
        self._prefix = prefix
        self._member = member

    def __getitem__(self, key: str) -> Value:
        if key.startswith(self._prefix):
            return self._member.get(key[len(self._prefix) :])
        return self._around.get(key)

    def __iter__(self) -> Iterator[str]:
        return iter(self._around)

    def __len__(self) -> int:
        return len(self._around)


def collect(typed: Typed, parts: tuple[Program, ...]) -> Program:
    """A function over the members of a collection."""
    part = dict(zip(typed.roles, parts, strict=True))
    condition, column, by = part.get("where"), part.get("column"), part.get("by")
    finish, key, prefix = FINISHERS[typed.name], typed.key, f"{typed.inner}:"
    three_valued = typed.name in ("any", "all")

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        members: Any = row.get(key) or ()
        found: list[tuple[Any, Any]] = []
        for member in members:
            inside = Inside(row, prefix, member)
            verdict = True if condition is None else condition(inside, moment)
            if three_valued:
                found.append((verdict, None))
            elif verdict is True:
                found.append((column(inside, moment) if column else True, by(inside, moment) if by else None))
        return finish(found, by is not None)

    return run


_Found = list[tuple[Any, Any]]


def _filled(found: _Found) -> list[Any]:
    return [value for value, _ in found if value is not None]


def _average(found: _Found, _ordered: bool) -> Value:
    filled = _filled(found)
    return values.mean(filled) if filled else None


def _any(found: _Found, _ordered: bool) -> Value:
    verdicts = [verdict for verdict, _ in found]
    return True if True in verdicts else None if None in verdicts else False


def _all(found: _Found, _ordered: bool) -> Value:
    verdicts = [verdict for verdict, _ in found]
    return False if False in verdicts else None if None in verdicts else True


def _picked(last: bool) -> Callable[[_Found, bool], Value]:
    def pick(found: _Found, ordered: bool) -> Value:
        ranked = [(order if ordered else 0, place) for place, (_, order) in enumerate(found)]
        ranked = [pair for pair in ranked if pair[0] is not None]
        if not ranked:
            return None
        value: Value = found[(max if last else min)(ranked)[1]][0]
        return value

    return pick


FINISHERS: Final[dict[str, Callable[[_Found, bool], Value]]] = {
    "count": lambda found, _: Decimal(len(found)),
    "count_filled": lambda found, _: Decimal(len(_filled(found))),
    "sum": lambda found, _: values.exact_sum(_filled(found)),
    "average": _average,
    "min": lambda found, _: min(_filled(found), default=None),
    "max": lambda found, _: max(_filled(found), default=None),
    "any": _any,
    "all": _all,
    "latest": _picked(last=True),
    "first": _picked(last=False),
}
