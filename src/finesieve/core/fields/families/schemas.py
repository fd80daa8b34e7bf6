"""JSON Schema, followed within bounds: by patterns that cannot run away, to places that exist, in so many steps.

Draft 2020-12 through the library `jsonschema`; the keywords that could run away, or that lose digits, are our own.
"""

from collections.abc import Callable, Iterator, Mapping
from contextvars import ContextVar
from decimal import Context, Decimal
from functools import lru_cache
from typing import Any, Final

from jsonschema import Draft202012Validator, TypeChecker, validators
from jsonschema.exceptions import SchemaError, ValidationError, best_match

from finesieve.core.patterns import compile_pattern
from finesieve.core.phrases import phrase
from finesieve.core.values import read_json, write_json

__all__ = ["misfit", "schema_problem"]

MOST_STEPS: Final = 60_000
MOST_PARTS: Final = 2_000
_OF_MANY: Final = ("properties", "patternProperties", "$defs", "definitions", "dependentSchemas")
_OF_LIST: Final = ("allOf", "anyOf", "oneOf", "prefixItems")
_OF_ONE: Final = (
    "items contains not if then else additionalProperties propertyNames unevaluatedItems unevaluatedProperties".split()
)
_UNFOLLOWED: Final = ("$id", "$anchor", "$dynamicRef", "$dynamicAnchor", "$recursiveRef", "$recursiveAnchor")
_DIGITS: Final = Context(prec=1_500)


class _TooMuch(ValueError):
    """The budget of steps is spent."""


_left: ContextVar[list[int]] = ContextVar("steps left")


def _spend(value: object, instance: object) -> None:
    left = _left.get()
    left[0] -= 1 + sum(len(one) for one in (value, instance) if isinstance(one, list | dict))
    if left[0] < 0:
        raise _TooMuch


_Keyword = Callable[[Any, Any, Any, Mapping[str, Any]], Iterator[ValidationError] | None]


def _counted(keyword: _Keyword) -> _Keyword:
    def run(validator: Any, value: Any, instance: Any, schema: Mapping[str, Any]) -> Iterator[ValidationError]:
        _spend(value, instance)
        yield from keyword(validator, value, instance, schema) or ()

    return run


def _pattern(_validator: Any, pattern: str, instance: Any, _schema: object) -> Iterator[ValidationError]:
    if isinstance(instance, str) and not compile_pattern(pattern).search(instance):
        yield ValidationError("pattern")


def _pattern_properties(
    validator: Any, patterns: Mapping[str, Any], instance: Any, _schema: object
) -> Iterator[ValidationError]:
    for pattern, below in patterns.items() if isinstance(instance, dict) else ():
        for name, value in instance.items():
            if compile_pattern(pattern).search(name):
                yield from validator.descend(value, below, path=name, schema_path=pattern)


def _additional(validator: Any, below: Any, instance: Any, schema: Mapping[str, Any]) -> Iterator[ValidationError]:
    if not isinstance(instance, dict):
        return
    patterns = [compile_pattern(pattern) for pattern in schema.get("patternProperties", ())]
    for name, value in instance.items():
        if name in schema.get("properties", {}) or any(pattern.search(name) for pattern in patterns):
            continue
        if below is False:
            yield ValidationError(name)
        else:
            yield from validator.descend(value, below, path=name)


def _multiple_of(_validator: Any, step: Any, instance: Any, _schema: object) -> Iterator[ValidationError]:
    if _is_number(None, instance) and _DIGITS.remainder(Decimal(instance), Decimal(step)):
        yield ValidationError("multipleOf")


def _unique(_validator: Any, wanted: bool, instance: Any, _schema: object) -> Iterator[ValidationError]:
    if wanted and isinstance(instance, list) and len(set(map(_same, instance))) < len(instance):
        yield ValidationError("uniqueItems")


def _same(data: Any) -> Any:
    """Equal for data that JSON Schema finds equal, and for no other."""
    if isinstance(data, bool) or data is None or isinstance(data, str):
        return type(data).__name__, data
    if isinstance(data, list):
        return "list", tuple(_same(item) for item in data)
    if isinstance(data, dict):
        return "dict", frozenset((key, _same(value)) for key, value in data.items())
    return "number", Decimal(data)


def _one_of(_validator: Any, options: list[Any], instance: Any, _schema: object) -> Iterator[ValidationError]:
    same = _same(instance)
    if all(_same(option) != same for option in options):
        yield ValidationError("enum")


def _const(_validator: Any, wanted: Any, instance: Any, _schema: object) -> Iterator[ValidationError]:
    if _same(wanted) != _same(instance):
        yield ValidationError("const")


def _is_number(_checker: object, instance: object) -> bool:
    return isinstance(instance, int | Decimal) and not isinstance(instance, bool)


def _is_integer(_checker: object, instance: object) -> bool:
    return _is_number(None, instance) and Decimal(instance) == Decimal(instance).to_integral_value()  # type: ignore[arg-type]  # a number


_OURS: Final[dict[str, _Keyword]] = {
    "pattern": _pattern,
    "patternProperties": _pattern_properties,
    "additionalProperties": _additional,
    "multipleOf": _multiple_of,
    "uniqueItems": _unique,
    "enum": _one_of,
    "const": _const,
}
_types: TypeChecker = Draft202012Validator.TYPE_CHECKER.redefine_many({"number": _is_number, "integer": _is_integer})
_keywords = {name: _counted(_OURS.get(name, keyword)) for name, keyword in Draft202012Validator.VALIDATORS.items()}
_Validator: Final[Any] = validators.create(
    Draft202012Validator.META_SCHEMA, _keywords, type_checker=_types, id_of=Draft202012Validator.ID_OF
)


@lru_cache(maxsize=256)
def _validator(schema: str) -> Any:
    return _Validator(read_json(schema))


def misfit(schema: str, data: Any) -> str:
    """Why data does not fit a schema, in one sentence with the place; "" where it fits."""
    if known_problem(schema):
        return "What this has to look like is not clear any more; tell those who run this site."
    _left.set([MOST_STEPS])
    try:
        found = best_match(_validator(schema).iter_errors(data))
    except _TooMuch:
        return "This is too much to be checked; write less."
    if found is None:
        return ""
    sentence = _sentence(found)
    place = ".".join(str(part) for part in found.absolute_path)
    return phrase("{place}: {what}", place=place, what=sentence) if place else sentence


_TYPE_WORDS: Final = {
    "object": "an object, {…}",
    "array": "a list, […]",
    "string": "a text in quotes",
    "number": "a number",
    "integer": "a whole number",
    "boolean": "true or false",
    "null": "null",
}
_SENTENCES: Final = {
    "enum": "This must be one of {value}.",
    "const": "This must be {value}.",
    "minimum": "This must be at least {value}.",
    "maximum": "This must be at most {value}.",
    "exclusiveMinimum": "This must be more than {value}.",
    "exclusiveMaximum": "This must be less than {value}.",
    "multipleOf": "This must go in steps of {value}.",
    "minLength": "Write at least {value} characters.",
    "maxLength": "Write at most {value} characters.",
    "pattern": "This must match {value}.",
    "minItems": "At least {value} are needed here.",
    "maxItems": "At most {value} fit here.",
    "uniqueItems": "The same stands here twice.",
    "minProperties": "At least {value} names are needed here.",
    "maxProperties": "At most {value} names fit here.",
    "contains": "Something that is needed is missing from this list.",
    "anyOf": "This fits none of the forms that are allowed here.",
    "oneOf": "This must fit exactly one of the forms that are allowed here.",
    "not": "This is not allowed here.",
    "unevaluatedProperties": "Something here is not expected.",
    "unevaluatedItems": "Something here is not expected.",
}


def _sentence(found: ValidationError) -> str:
    keyword, value = str(found.validator), found.validator_value
    if keyword == "required":
        missing = [str(name) for name in value if name not in found.instance]
        return phrase("“{name}” is missing.", name=missing[0] if missing else "")
    if keyword == "dependentRequired":
        missing = [name for key, names in value.items() if key in found.instance for name in names]
        return phrase("“{name}” is missing.", name=next((one for one in missing if one not in found.instance), ""))
    if keyword == "additionalProperties":
        return phrase("“{name}” is not expected here.", name=found.message[:60])
    if keyword == "type":
        kinds = value if isinstance(value, list) else [value]
        return phrase("This must be {kind}.", kind=" / ".join(_TYPE_WORDS.get(str(kind), str(kind)) for kind in kinds))
    if keyword in _SENTENCES:
        return phrase(_SENTENCES[keyword], value=_shown(value))
    return "This does not have the form that is needed here."


def _shown(value: Any) -> str:
    items = value if isinstance(value, list) else [value]
    shown = ", ".join(item if isinstance(item, str) else write_json(item) for item in items)
    return shown if len(shown) <= 120 else f"{shown[:119]}…"


# Whether a schema can serve


@lru_cache(maxsize=256)
def known_problem(text: str) -> str:
    """See `schema_problem`; what was looked at lately is remembered."""
    return schema_problem(text)


def schema_problem(text: str) -> str:
    """Why a text cannot serve as a JSON Schema, in one sentence; "" where it can.

    A schema points only at places within itself, never back round to where it came from; nothing is ever fetched.
    """
    try:
        schema = read_json(text)
    except ValueError as problem:
        return f"The schema cannot be read: {problem}"
    try:
        Draft202012Validator.check_schema(schema)
    except SchemaError as problem:
        place = ".".join(str(part) for part in problem.absolute_path)
        return f"This is no JSON Schema{f' at {place}' if place else ''}: {problem.message[:200]}."
    parts = dict(_parts(schema))
    for pointer, part in parts.items():
        problem_ = _unsafe(part, parts)
        if problem_:
            return f"{pointer or 'The schema'}: {problem_}"
    try:
        size = _size("", parts, {}, ())
    except RecursionError:
        return "The schema points back into itself; that is not followed."
    return (
        "" if size <= MOST_PARTS else f"The schema repeats itself too often; at most {MOST_PARTS:,} parts, written out."
    )


def _parts(schema: Any) -> Iterator[tuple[str, Any]]:
    """Every schema within a schema, with the pointer that leads to it."""
    waiting = [("", schema)]
    while waiting:
        pointer, part = waiting.pop()
        yield pointer, part
        if isinstance(part, dict):
            waiting += _below(pointer, part)


def _below(pointer: str, part: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
    for word in _OF_MANY:
        for name, below in part.get(word, {}).items():
            yield f"{pointer}/{word}/{name.replace('~', '~0').replace('/', '~1')}", below
    for word in _OF_LIST:
        for place, below in enumerate(part.get(word, ())):
            yield f"{pointer}/{word}/{place}", below
    for word in _OF_ONE:
        if word in part:
            yield f"{pointer}/{word}", part[word]


def _unsafe(part: Any, parts: Mapping[str, Any]) -> str:
    """What a part says that is not followed, in a sentence; "" for nothing."""
    if not isinstance(part, dict):
        return ""
    for word in _UNFOLLOWED:
        if word in part:
            return f"{word} is not followed; point with $ref to a place such as #/$defs/name."
    target = part.get("$ref")
    if target is not None and not str(target).startswith("#"):
        return f"It points outside itself, to {target}; that is not followed."
    if target is not None and _pointer(target) not in parts:
        return f"$ref leads to {target}, where no schema stands."
    patterns = [part["pattern"]] if "pattern" in part else []
    for pattern in (*patterns, *part.get("patternProperties", ())):
        try:
            compile_pattern(pattern)
        except ValueError as problem:
            return str(problem)
    return ""


def _pointer(target: str) -> str:
    from urllib.parse import unquote

    return unquote(target.removeprefix("#"))


def _size(pointer: str, parts: Mapping[str, Any], known: dict[str, int], above: tuple[str, ...]) -> int:
    """How many parts a schema has with everything that it points at written out. Raises RecursionError for a circle."""
    if pointer in above:
        raise RecursionError
    if pointer not in known:
        part = parts[pointer]
        size = 1
        if isinstance(part, dict):
            below = [
                name
                for name, _ in _below(pointer, part)
                if not name.startswith((f"{pointer}/$defs/", f"{pointer}/definitions/"))
            ]
            below += [_pointer(part["$ref"])] if "$ref" in part else []
            size += sum(_size(name, parts, known, (*above, pointer)) for name in below)
        known[pointer] = size
    return known[pointer]
