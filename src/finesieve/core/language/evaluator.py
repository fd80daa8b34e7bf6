"""The Python back end: checked form to a function of one person's values."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, tzinfo
from decimal import Decimal
from typing import Any, Final

from finesieve.core import values
from finesieve.core.language.library import AT_A_MOMENT, LIBRARY
from finesieve.core.language.typed import Typed
from finesieve.core.values import Value

__all__ = ["HANDLED", "Moment", "Program", "compile_python"]


@dataclass(frozen=True, slots=True)
class Moment:
    """When an expression is worked out, and where: `now` is aware, `zone` the workspace's.

    `house` gives the house values as they stand at that moment, by key.
    """

    now: datetime
    zone: tzinfo
    house: Mapping[str, Value] = field(default_factory=dict, compare=False)

    @property
    def today(self) -> date:
        return self.now.astimezone(self.zone).date()


Program = Callable[[Mapping[str, Value], Moment], Value]
"""Values by key and the moment, to the result. Never raises for values of the right types."""

_Maker = Callable[[Typed, tuple[Program, ...]], Program]


def compile_python(typed: Typed) -> Program:
    """Compile a checked expression once, to be run for many people."""
    parts = tuple(compile_python(part) for part in typed.parts)
    return _MAKERS[typed.operation](typed, parts)


def _const(typed: Typed, _parts: tuple[Program, ...]) -> Program:
    value = typed.value
    return lambda row, moment: value


def _name(typed: Typed, _parts: tuple[Program, ...]) -> Program:
    key = typed.key
    return lambda row, moment: row.get(key)


def _today(_typed: Typed, _parts: tuple[Program, ...]) -> Program:
    return lambda row, moment: moment.today


def _all_filled(operation: Callable[..., Value]) -> _Maker:
    """An operation that gives blank as soon as one part is blank."""

    def one(parts: tuple[Program, ...]) -> Program:
        (operand,) = parts

        def run(row: Mapping[str, Value], moment: Moment) -> Value:
            a = operand(row, moment)
            return None if a is None else operation(a)

        return run

    def two(parts: tuple[Program, ...]) -> Program:
        left, right = parts

        def run(row: Mapping[str, Value], moment: Moment) -> Value:
            a = left(row, moment)
            if a is None:
                return None
            b = right(row, moment)
            return None if b is None else operation(a, b)

        return run

    def make(_typed: Typed, parts: tuple[Program, ...]) -> Program:
        return one(parts) if len(parts) == 1 else two(parts)

    return make


def _plain(name: str) -> _Maker:
    """A function of the library: blank as soon as one argument is, else its meaning."""
    meaning, moment_part = LIBRARY[name][1], AT_A_MOMENT.get(name)

    def make(_typed: Typed, parts: tuple[Program, ...]) -> Program:
        def run(row: Mapping[str, Value], moment: Moment) -> Value:
            arguments: list[Any] = []
            for part in parts:
                value = part(row, moment)
                if value is None:
                    return None
                arguments.append(value)
            if moment_part:
                arguments.append(moment.today if moment_part == "today" else moment.now)
            return meaning(*arguments)

        return run

    return make


def _date_of(_typed: Typed, parts: tuple[Program, ...]) -> Program:
    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        numbers: list[Any] = [part(row, moment) for part in parts]
        return None if None in numbers else values.date_of(*numbers)

    return run


def _and(_typed: Typed, parts: tuple[Program, ...]) -> Program:
    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        result: bool | None = True
        for part in parts:
            verdict = part(row, moment)
            if verdict is False:
                return False
            if verdict is None:
                result = None
        return result

    return run


def _or(_typed: Typed, parts: tuple[Program, ...]) -> Program:
    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        result: bool | None = False
        for part in parts:
            verdict = part(row, moment)
            if verdict is True:
                return True
            if verdict is None:
                result = None
        return result

    return run


def _between(_typed: Typed, parts: tuple[Program, ...]) -> Program:
    operand, low, high = parts

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        x: Any = operand(row, moment)
        a: Any = low(row, moment)
        b: Any = high(row, moment)
        if x is None:
            return None
        above = None if a is None else x >= a
        below = None if b is None else x <= b
        if above is False or below is False:
            return False
        return None if above is None or below is None else True

    return run


def _in(typed: Typed, parts: tuple[Program, ...]) -> Program:
    (operand,) = parts
    items = frozenset(typed.items)

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        value = operand(row, moment)
        return None if value is None else value in items

    return run


def _house(typed: Typed, _parts: tuple[Program, ...]) -> Program:
    key = typed.name
    return lambda row, moment: moment.house.get(key)


def _holds(test: Callable[[frozenset[Any], frozenset[Any]], bool]) -> _Maker:
    def make(typed: Typed, parts: tuple[Program, ...]) -> Program:
        (operand,) = parts
        items, known = frozenset(typed.items), typed.parts[0].type.known

        def run(row: Mapping[str, Value], moment: Moment) -> Value:
            held: Any = operand(row, moment)
            if held is None and not known:
                return None
            return test(items, frozenset(held or ()))

        return run

    return make


def _step_of(typed: Typed, parts: tuple[Program, ...]) -> Program:
    (operand,) = parts
    places = {step: Decimal(place) for place, step in enumerate(typed.items, 1)}
    return lambda row, moment: places.get(operand(row, moment))


class _Inside(Mapping[str, Value]):
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


def _collect(typed: Typed, parts: tuple[Program, ...]) -> Program:
    part = dict(zip(typed.roles, parts, strict=True))
    condition, column, by = part.get("where"), part.get("column"), part.get("by")
    finish, key, prefix = _FINISHERS[typed.name], typed.key, f"{typed.level + 1}:"
    three_valued = typed.name in ("any", "all")

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        members: Any = row.get(key) or ()
        found: list[tuple[Any, Any]] = []
        for member in members:
            inside = _Inside(row, prefix, member)
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


_FINISHERS: Final[dict[str, Callable[[_Found, bool], Value]]] = {
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


def _is_blank(typed: Typed, parts: tuple[Program, ...]) -> Program:
    (operand,) = parts
    if typed.parts[0].type.known:
        return lambda row, moment: not operand(row, moment)
    return lambda row, moment: operand(row, moment) is None


def _is_filled(typed: Typed, parts: tuple[Program, ...]) -> Program:
    (operand,) = parts
    if typed.parts[0].type.known:
        return lambda row, moment: bool(operand(row, moment))
    return lambda row, moment: operand(row, moment) is not None


def _else(_typed: Typed, parts: tuple[Program, ...]) -> Program:
    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        for part in parts:
            value = part(row, moment)
            if value is not None:
                return value
        return None

    return run


def _if(_typed: Typed, parts: tuple[Program, ...]) -> Program:
    pairs = tuple(zip(parts[0:-1:2], parts[1:-1:2], strict=True))
    otherwise = parts[-1]

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        for condition, branch in pairs:
            verdict = condition(row, moment)
            if verdict is True:
                return branch(row, moment)
            if verdict is None:
                return None
        return otherwise(row, moment)

    return run


def _to_date(_typed: Typed, parts: tuple[Program, ...]) -> Program:
    (operand,) = parts

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        instant = operand(row, moment)
        return instant.astimezone(moment.zone).date() if isinstance(instant, datetime) else None

    return run


def _age(_typed: Typed, parts: tuple[Program, ...]) -> Program:
    (operand,) = parts

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        born = operand(row, moment)
        return Decimal(values.years_between(born, moment.today)) if isinstance(born, date) else None

    return run


def _round(_typed: Typed, parts: tuple[Program, ...]) -> Program:
    if len(parts) == 1:
        return _all_filled(lambda number: values.round_to(number, Decimal(0)))(_typed, parts)
    return _all_filled(values.round_to)(_typed, parts)


def _skipping_blanks(operation: Callable[[list[Any]], Value]) -> _Maker:
    def make(_typed: Typed, parts: tuple[Program, ...]) -> Program:
        def run(row: Mapping[str, Value], moment: Moment) -> Value:
            filled = [value for part in parts if (value := part(row, moment)) is not None]
            return operation(filled)

        return run

    return make


_MAKERS: Final[dict[str, _Maker]] = {
    "const": _const,
    "name": _name,
    "not": _all_filled(lambda a: not a),
    "and": _and,
    "or": _or,
    "=": _all_filled(lambda a, b: a == b),
    "!=": _all_filled(lambda a, b: a != b),
    "<": _all_filled(lambda a, b: a < b),
    "<=": _all_filled(lambda a, b: a <= b),
    ">": _all_filled(lambda a, b: a > b),
    ">=": _all_filled(lambda a, b: a >= b),
    "between": _between,
    "in": _in,
    "contains": _all_filled(lambda a, b: values.fold(b) in values.fold(a)),
    "starts_with": _all_filled(lambda a, b: values.fold(a).startswith(values.fold(b))),
    "ends_with": _all_filled(lambda a, b: values.fold(a).endswith(values.fold(b))),
    "house": _house,
    "holds_any": _holds(lambda items, held: not items.isdisjoint(held)),
    "holds_every": _holds(lambda items, held: items <= held),
    "holds_no": _holds(lambda items, held: items.isdisjoint(held)),
    "count_items": lambda _typed, parts: lambda row, moment: Decimal(len(parts[0](row, moment) or ())),  # type: ignore[arg-type]  # a tuple
    "step_of": _step_of,
    "collect": _collect,
    "is_blank": _is_blank,
    "is_filled": _is_filled,
    "add": _all_filled(values.add),
    "subtract": _all_filled(values.subtract),
    "multiply": _all_filled(values.multiply),
    "divide": _all_filled(values.divide),
    "negate": _all_filled(lambda a: values.subtract(Decimal(0), a)),
    "date_plus": _all_filled(values.date_plus),
    "date_minus": _all_filled(lambda a, b: Decimal((a - b).days)),
    "to_date": _to_date,
    "if": _if,
    "else": _else,
    "round": _round,
    "sum": _skipping_blanks(values.exact_sum),
    "min": _skipping_blanks(lambda filled: min(filled) if filled else None),
    "max": _skipping_blanks(lambda filled: max(filled) if filled else None),
    "mean": _skipping_blanks(lambda filled: values.mean(filled) if filled else None),
    "count_values": _skipping_blanks(lambda filled: Decimal(len([value for value in filled if value != ()]))),
    "date_of": _date_of,
    **{name: _plain(name) for name in LIBRARY},
    "years_between": _all_filled(lambda a, b: Decimal(values.years_between(a, b))),
    "age": _age,
    "today": _today,
}
HANDLED: Final = frozenset(_MAKERS)
"""The operations that Python can run; a test compares them with all there are."""
