"""The Python back end: checked form to a function of one person's values."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from datetime import date, datetime
from decimal import Decimal
from typing import Any, Final

from finesieve.core import values
from finesieve.core.fields.definition import show_value
from finesieve.core.language.gathering import collect
from finesieve.core.language.history import OF_PAST
from finesieve.core.language.library import AT_A_MOMENT, LIBRARY, MOST_CHARACTERS, payment, replaced
from finesieve.core.language.program import Maker, Moment, Program
from finesieve.core.language.typed import Typed
from finesieve.core.patterns import compile_pattern
from finesieve.core.values import Value

__all__ = ["HANDLED", "Moment", "Program", "compile_python", "from_results"]


def compile_python(typed: Typed) -> Program:
    """Compile a checked expression once, to be run for many people."""
    parts = tuple(compile_python(part) for part in typed.parts)
    return _MAKERS[typed.operation](typed, parts)


def from_results(typed: Typed, results: Sequence[Value], row: Mapping[str, Value], moment: Moment) -> Value:
    """The value of one operation whose parts are worked out already."""
    parts = tuple(_already(result) for result in results)
    return _MAKERS[typed.operation](typed, parts)(row, moment)


def _already(value: Value) -> Program:
    return lambda row, moment: value


def _const(typed: Typed, _parts: tuple[Program, ...]) -> Program:
    value = typed.value
    return lambda row, moment: value


def _name(typed: Typed, _parts: tuple[Program, ...]) -> Program:
    key = typed.key
    return lambda row, moment: row.get(key)


def _today(_typed: Typed, _parts: tuple[Program, ...]) -> Program:
    return lambda row, moment: moment.today


def _all_filled(operation: Callable[..., Value]) -> Maker:
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


def _plain(name: str) -> Maker:
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


def _label(typed: Typed, parts: tuple[Program, ...]) -> Program:
    (operand,) = parts
    type_ = typed.parts[0].type
    words = dict(zip(type_.options, type_.words, strict=True))

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        value = operand(row, moment)
        return words.get(value, value) if isinstance(value, str) else None

    return run


def _score(typed: Typed, parts: tuple[Program, ...]) -> Program:
    (operand,) = parts
    type_ = typed.parts[0].type
    points = dict(zip(type_.options, type_.points, strict=True))

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        held: Any = operand(row, moment)
        if held is None:
            return None
        chosen = held if isinstance(held, tuple) else (held,)
        return values.exact_sum(points.get(value, Decimal(0)) for value in chosen)

    return run


def _join(typed: Typed, parts: tuple[Program, ...]) -> Program:
    operand, separator = parts
    type_ = typed.parts[0].type
    words = tuple(zip(type_.options, type_.words, strict=True))

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        held: Any = operand(row, moment) or ()
        between: Any = separator(row, moment) or ""
        items = [word for option, word in words if option in held] if words else held
        return between.join(items)[:MOST_CHARACTERS] or None

    return run


def _replace(_typed: Typed, parts: tuple[Program, ...]) -> Program:
    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        text, old, new = (part(row, moment) for part in parts)
        return None if text is None or old is None else replaced(str(text), str(old), str(new or ""))

    return run


def _concat(_typed: Typed, parts: tuple[Program, ...]) -> Program:
    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        texts: list[Any] = [part(row, moment) for part in parts]
        return "".join(text for text in texts if text is not None)[:MOST_CHARACTERS] or None

    return run


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


def _matches(typed: Typed, parts: tuple[Program, ...]) -> Program:
    (operand,) = parts
    whole = compile_pattern(str(typed.items[0])).fullmatch

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        text: Any = operand(row, moment)
        return None if text is None else whole(text) is not None

    return run


def _text(typed: Typed, parts: tuple[Program, ...]) -> Program:
    (operand,) = parts
    inner = typed.parts[0]
    type_ = inner.type if inner.operation in ("name", "house") else replace(inner.type, unit="")

    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        value = operand(row, moment)
        return None if value is None else show_value(type_, value, moment.manner)[:MOST_CHARACTERS] or None

    return run


def _payment(_typed: Typed, parts: tuple[Program, ...]) -> Program:
    def run(row: Mapping[str, Value], moment: Moment) -> Value:
        arguments: list[Any] = [part(row, moment) for part in parts]
        return None if None in arguments else payment(*arguments)

    return run


def _house(typed: Typed, _parts: tuple[Program, ...]) -> Program:
    key = typed.name
    return lambda row, moment: moment.house.get(key)


def _holds(test: Callable[[frozenset[Any], frozenset[Any]], bool]) -> Maker:
    def make(typed: Typed, parts: tuple[Program, ...]) -> Program:
        (operand,) = parts
        items, known = frozenset(typed.items), typed.parts[0].type.never_blank

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


def _is_blank(typed: Typed, parts: tuple[Program, ...]) -> Program:
    (operand,) = parts
    if typed.parts[0].type.never_blank:
        return lambda row, moment: not operand(row, moment)
    return lambda row, moment: operand(row, moment) is None


def _is_filled(typed: Typed, parts: tuple[Program, ...]) -> Program:
    (operand,) = parts
    if typed.parts[0].type.never_blank:
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
        return values.local_date(instant, moment.zone) if isinstance(instant, datetime) else None

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


def _skipping_blanks(operation: Callable[[list[Any]], Value]) -> Maker:
    def make(_typed: Typed, parts: tuple[Program, ...]) -> Program:
        def run(row: Mapping[str, Value], moment: Moment) -> Value:
            filled = [value for part in parts if (value := part(row, moment)) is not None]
            return operation(filled)

        return run

    return make


_MAKERS: Final[dict[str, Maker]] = {
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
    "matches": _matches,
    "text": _text,
    "payment": _payment,
    "holds_any": _holds(lambda items, held: not items.isdisjoint(held)),
    "holds_every": _holds(lambda items, held: items <= held),
    "holds_no": _holds(lambda items, held: items.isdisjoint(held)),
    "count_items": lambda _typed, parts: lambda row, moment: Decimal(len(parts[0](row, moment) or ())),  # type: ignore[arg-type]  # a tuple
    "step_of": _step_of,
    "collect": collect,
    **OF_PAST,
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
    "label": _label,
    "score": _score,
    "join": _join,
    "concat": _concat,
    "replace": _replace,
    **{name: _plain(name) for name in LIBRARY},
    "years_between": _all_filled(lambda a, b: Decimal(values.years_between(a, b))),
    "age": _age,
    "today": _today,
}
HANDLED: Final = frozenset(_MAKERS)
"""The operations that Python can run; a test compares them with all there are."""
