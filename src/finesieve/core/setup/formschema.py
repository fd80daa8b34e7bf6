"""Forms in the standard keywords of JSON Schema, in both directions.

What cannot be said: rules and conditions that compute or look at dates, dates relative to today, whether somebody
else has given the same, the same as another answer, options that show by a rule, and sections asked again and again.
"""

from collections.abc import Iterator, Mapping
from typing import Any, Final

from finesieve.core.fields.types import TYPES
from finesieve.core.forms.earlier import upgraded
from finesieve.core.language.parser import parse
from finesieve.core.patterns import compile_pattern
from finesieve.core.setup.conditions import Unsaid, as_number, condition_schema, expression_of, opposite, where_false
from finesieve.core.setup.document import FieldPart, FormPart

__all__ = ["CONDITIONS", "apply_conditions", "checks_from", "form_schema", "read_form_schema"]

CONDITIONS: Final = ("allOf", "if", "then", "else", "dependentRequired", "dependentSchemas")
"""The keywords from which rules of a form are made."""


# Writing ----------------------------------------------------------------------------------------


def form_schema(form: FormPart, fields: Mapping[str, FieldPart]) -> dict[str, Any]:
    """What sending a form stores: its questions, their checks and rules, as far as the keywords can say them."""
    properties: dict[str, Any] = {}
    required: list[str] = []
    conditions: list[dict[str, Any]] = []
    for question in _questions(form.document):
        key = question["field"]
        field = fields.get(key)
        if field is None or not TYPES[field.type].stores:
            continue
        properties[key] = {"$ref": f"#/properties/{key}", **_bounds(question)}
        conditions += [{"not": broken} for broken in _broken_by(question, fields)]
        insists = field.required if question.get("required") is None else question["required"]
        show = _rules(question, fields)
        if show is None:
            continue
        needed = question.get("required_when", "")
        when = condition_schema(needed, fields) if needed and not insists else None
        if not show:
            required += [key] if insists else []
            conditions += [{"if": when, "then": {"required": [key]}}] if when else []
            continue
        shown = show[0] if len(show) == 1 else {"allOf": show}
        then = {"then": {"required": [key]}} if insists else {}
        conditions.append({"if": shown, **then, "else": {"properties": {key: False}}})
        if when:
            conditions.append({"if": {"allOf": [shown, when]}, "then": {"required": [key]}})
    found: dict[str, Any] = {"type": "object", "properties": properties, "additionalProperties": False}
    if required:
        found["required"] = required
    if conditions:
        found["allOf"] = conditions
    return found


def _questions(document: Mapping[str, Any]) -> Iterator[dict[str, Any]]:
    """The questions about the person; one of a section with a rule has that rule too."""
    for section in upgraded(document).get("sections", ()):
        if section.get("repeat"):
            continue
        for item in section.get("items", ()):
            if "field" in item and "about" not in item:
                rules = [rule for rule in (section.get("show_when"), item.get("show_when")) if rule]
                yield {**item, "rules": rules}


def _rules(question: Mapping[str, Any], fields: Mapping[str, FieldPart]) -> list[dict[str, Any]] | None:
    """The rules that must hold for a question to show; None where one cannot be said."""
    found = [condition_schema(rule, fields) for rule in question["rules"]]
    return None if any(one is None for one in found) else [one for one in found if one is not None]


_KEYWORDS: Final = {
    "range": ("minimum", "maximum"), "length": ("minLength", "maxLength"), "count": ("minItems", "maxItems"),
}  # fmt: skip


def _bounds(question: Mapping[str, Any]) -> dict[str, Any]:
    """The checks of a question as bounds; of two of a kind, the narrower counts."""
    found: dict[str, Any] = {}
    for check in question.get("checks", ()):
        for side, keyword in zip(("low", "high"), _KEYWORDS.get(check["kind"], ()), strict=False):
            if check.get(side) is not None:
                narrower = max if side == "low" else min
                bound = as_number(check[side])
                found[keyword] = narrower(bound, found.get(keyword, bound))
        if check["kind"] == "pattern" and "pattern" not in found and _everywhere(check["pattern"]):
            found["pattern"] = f"^(?:{check['pattern']})$"
    return found


def _everywhere(pattern: str) -> bool:
    """Whether a pattern means the same to every validator: it is written with the plainest signs only."""
    plain = all(sign.isascii() and sign.isprintable() and sign not in "\\$^" for sign in pattern)
    return plain and not any(sign in pattern for sign in ("(?", "[:", "{,"))


def _broken_by(question: Mapping[str, Any], fields: Mapping[str, FieldPart]) -> Iterator[dict[str, Any]]:
    """Where a condition fails: where it is false, and the question is answered."""
    for check in question.get("checks", ()):
        if check["kind"] == "condition":
            false = where_false(check["expression"], fields)
            if false is not None:
                yield {"allOf": [{"required": [question["field"]]}, false]}


# Reading ----------------------------------------------------------------------------------------


def read_form_schema(
    part: dict[str, Any], given: Any, fields: Mapping[str, FieldPart], place: tuple[object, ...]
) -> None:
    """Let a form's document say what its schema says beyond it. Raises Unsaid where both speak and differ."""
    if not isinstance(given, dict):
        raise Unsaid("This is not a schema.", *place)
    meant = form_schema(FormPart.model_validate(part), fields)
    if given == meant:
        return
    for keyword in given.keys() | meant.keys():
        if keyword not in ("properties", "required", *CONDITIONS) and given.get(keyword) != meant.get(keyword):
            raise Unsaid("The form in x-sieve-forms says otherwise.", *place, keyword)
    properties = given.get("properties", {})
    for key in meant["properties"].keys() ^ properties.keys():
        raise Unsaid("The form in x-sieve-forms asks for other fields.", *place, "properties", key)
    for key, ours in meant["properties"].items():
        _read_bounds(_question(part, key), ours, properties[key], (*place, "properties", key))
    _read_required(part, meant, given, place)
    meant_conditions = meant.get("allOf", [])
    for gone in [one for one in meant_conditions if one not in given.get("allOf", [])]:
        raise Unsaid("The form in x-sieve-forms still has this rule.", *place, "allOf", meant_conditions.index(gone))
    added = [one if one not in meant_conditions else {} for one in given.get("allOf", [])]
    rest = {keyword: given[keyword] for keyword in CONDITIONS if keyword in given and keyword != "allOf"}
    apply_conditions([part], {"allOf": added, **rest}, {key: key for key in properties}, place)


def _question(part: Mapping[str, Any], key: str) -> dict[str, Any]:
    for section in part["document"]["sections"]:
        for item in section.get("items", ()):
            if not section.get("repeat") and item.get("field") == key:
                return item  # type: ignore[no-any-return]  # JSON
    raise KeyError(key)


def _read_required(
    part: Mapping[str, Any], meant: Mapping[str, Any], given: Mapping[str, Any], place: tuple[object, ...]
) -> None:
    before, after = set(meant.get("required", ())), set(given.get("required", ()))
    for key in sorted(before ^ after):
        if key not in meant["properties"]:
            raise Unsaid(f"The form does not ask for “{key}”.", *place, "required")
        question = _question(part, key)
        if question.get("required") is not None:
            raise Unsaid(f"The form in x-sieve-forms says otherwise of {key}.", *place, "required")
        question["required"] = key in after


def _read_bounds(question: dict[str, Any], ours: Mapping[str, Any], given: Any, place: tuple[object, ...]) -> None:
    if not isinstance(given, dict):
        raise Unsaid("This is not a schema of an answer.", *place)
    for keyword in ours:
        if given.get(keyword) != ours[keyword]:
            raise Unsaid("The form in x-sieve-forms says otherwise.", *place, keyword)
    added = {keyword: value for keyword, value in given.items() if keyword not in ours}
    checks, left = checks_from(added, place)
    for keyword in left:
        raise Unsaid(f"A question cannot say “{keyword}”.", *place, keyword)
    if checks:
        question["checks"] = [*question.get("checks", ()), *checks]


def checks_from(given: Mapping[str, Any], place: tuple[object, ...]) -> tuple[list[dict[str, Any]], dict[str, Any]]:
    """The checks that bounds and patterns stand for, and the keywords that are left. Raises Unsaid."""
    left, checks = dict(given), []
    for kind, keywords in _KEYWORDS.items():
        bounds = {
            side: left.pop(keyword) for side, keyword in zip(("low", "high"), keywords, strict=True) if keyword in left
        }
        for side, bound in bounds.items():
            if isinstance(bound, bool) or not isinstance(bound, int | float):
                raise Unsaid("This is not a number.", *place, keywords[side == "high"])
        if bounds:
            checks.append({"kind": kind, **{side: str(bound) for side, bound in bounds.items()}})
    if "pattern" in left:
        checks.append({"kind": "pattern", "pattern": _whole(left.pop("pattern"), (*place, "pattern"))})
    return checks, left


def _whole(pattern: Any, place: tuple[object, ...]) -> str:
    """A pattern that is looked for anywhere, as one that the whole text must match."""
    if not isinstance(pattern, str):
        raise Unsaid("This is not a pattern.", *place)
    whole = pattern.startswith("^") and pattern.endswith("$") and not pattern.endswith("\\$") and "|" not in pattern
    found = pattern[1:-1] if whole else f"(?s:.*)(?:{pattern})(?s:.*)"
    try:
        compile_pattern(found)
    except ValueError as problem:
        raise Unsaid(str(problem), *place) from None
    return found


# Conditions -------------------------------------------------------------------------------------


def apply_conditions(
    forms: list[dict[str, Any]], given: Mapping[str, Any], names: Mapping[str, str], place: tuple[object, ...]
) -> None:
    """Let `if/then/else`, `dependentRequired` and `dependentSchemas` be rules of the questions they are about.

    Raises Unsaid, with the place, where that cannot be, and where a question has such a rule already.
    """
    for when, otherwise, branch, where in _branches(given, names, place):
        for keyword in branch.keys() - {"required", "properties", "$comment", "description", "title", "type"}:
            raise Unsaid(f"A rule cannot say “{keyword}” here.", *where, keyword)
        for name in branch.get("required", ()):
            _set_rule(forms, _key(name, names, (*where, "required")), "required_when", when, (*where, "required"))
        for name, values in branch.get("properties", {}).items():
            at = (*where, "properties", name)
            if values is not False:
                raise Unsaid("A rule says only whether it is asked and whether it is required.", *at)
            _set_rule(forms, _key(name, names, at), "show_when", otherwise, at)
    for form in forms:
        _tidy(form)


def _branches(
    given: Mapping[str, Any], names: Mapping[str, str], place: tuple[object, ...]
) -> Iterator[tuple[str, str, dict[str, Any], tuple[object, ...]]]:
    """Each branch with the condition under which it holds, the opposite of that, and its place."""
    if "if" in given:
        when = expression_of(given["if"], names, *place, "if")
        for keyword, holds, not_holds in (("then", when, opposite(when)), ("else", opposite(when), when)):
            if keyword in given:
                yield holds, not_holds, _branch(given[keyword], (*place, keyword)), (*place, keyword)
    elif "then" in given or "else" in given:
        raise Unsaid("There is no “if” to this.", *place, "then" if "then" in given else "else")
    for keyword in ("dependentRequired", "dependentSchemas"):
        for name, rest in given.get(keyword, {}).items():
            key = _key(name, names, (*place, keyword, name))
            branch = {"required": rest} if keyword == "dependentRequired" else rest
            where = (*place, keyword, name)
            yield f"{key} is filled", f"{key} is blank", _branch(branch, where), where
    for at, one in enumerate(given.get("allOf", ())):
        inner = _branch(one, (*place, "allOf", at))
        for keyword in inner.keys() - set(CONDITIONS):
            raise Unsaid(f"A rule cannot say “{keyword}” here.", *place, "allOf", at, keyword)
        yield from _branches(inner, names, (*place, "allOf", at))


def _branch(given: Any, place: tuple[object, ...]) -> dict[str, Any]:
    if not isinstance(given, dict):
        raise Unsaid("This is not a schema of an object.", *place)
    return given


def _key(name: Any, names: Mapping[str, str], place: tuple[object, ...]) -> str:
    if not isinstance(name, str) or name not in names:
        raise Unsaid(f"There is no property “{name}” here.", *place)
    return names[name]


def _set_rule(forms: list[dict[str, Any]], key: str, rule: str, text: str, place: tuple[object, ...]) -> None:
    asking = []
    for form in forms:
        try:
            asking.append((form, _question(form, key)))
        except KeyError:
            continue
    if not asking:
        raise Unsaid(
            f"No form of this file asks for {key}, so there is no question that this could be a rule of.", *place
        )
    for form, question in asking:
        made = form.setdefault("made", set())
        if question.get(rule) and (key, rule) not in made:
            raise Unsaid("The form in x-sieve-forms has another rule for this.", *place)
        word = " or " if rule == "required_when" else " and "
        question[rule] = f"({question[rule]}){word}({text})" if question.get(rule) else text
        made.add((key, rule))


def _tidy(form: dict[str, Any]) -> None:
    """What is required just where it shows is simply required."""
    for key, _ in form.pop("made", set()):
        question = _question(form, key)
        show, needed = question.get("show_when"), question.get("required_when")
        if show and needed and parse(show).tree == parse(needed).tree:
            question["required"] = True
            del question["required_when"]
