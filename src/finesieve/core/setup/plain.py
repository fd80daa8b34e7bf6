"""A plain JSON Schema of another program as fields, and as a form where it has conditions or checks."""

import re
from collections.abc import Mapping
from decimal import Decimal
from typing import Any, Final

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.keys import key_from_label
from finesieve.core.limits import LABEL, NAME, SLUG
from finesieve.core.setup.conditions import Unsaid
from finesieve.core.setup.formschema import CONDITIONS, apply_conditions, checks_from
from finesieve.core.setup.standard import guessed_type, read_values
from finesieve.core.values import plain_number, write_json

__all__ = ["plain_parts"]

_FROM_A_FILE: Final = "From a file"
_ROOT: Final = frozenset(
    ("type", "properties", "required", "title", "description", "additionalProperties", "$defs", "definitions",
     "$schema", "$id", "$comment", "examples", *CONDITIONS)
)  # fmt: skip
_DEEPEST: Final = 10


def plain_parts(schema: dict[str, Any]) -> dict[str, Any]:
    """The parts of a setup: a group with a field a property; and a form, where there are conditions or checks.

    Raises Unsaid, with the place, and InvalidInput for a schema that is not about an object.
    """
    properties = schema.get("properties")
    if schema.get("type", "object") != "object" or not isinstance(properties, dict) or not properties:
        raise InvalidInput({"file": "This is no definition of fields: it has no “properties”."})
    for keyword in schema.keys() - _ROOT:
        raise Unsaid(f"Fields cannot say “{keyword}”.", keyword)
    title = str(schema.get("title", ""))[:NAME] or _FROM_A_FILE
    group = {"name": title, "about": "person", "description": str(schema.get("description", ""))[:300]}
    fields: list[dict[str, Any]] = []
    checks: dict[str, list[dict[str, Any]]] = {}
    misfits: list[dict[str, Any]] = []
    names = _keys(properties)
    required = schema.get("required", [])
    for name in required:
        if name not in names:
            raise Unsaid(f"There is no property “{name}” here.", "required")
    for name, one in properties.items():
        part: dict[str, Any] = {"key": names[name], "about": "person", "group": title, "label": _label(name, one)}
        part |= {"type": "short_text", "required": name in required, "options": [], "settings": {}, "formula": ""}
        try:
            checks[names[name]] = _read(part, one, schema, ("properties", name))
        except Unsaid as problem:
            why = f"At {'.'.join(str(step) for step in problem.place)}: {problem}"
            misfits.append({"what": "field", "identity": ("person", names[name]), "label": part["label"], "why": why})
        fields.append(part)
    conditions: dict[str, Any] = {keyword: schema[keyword] for keyword in CONDITIONS if keyword in schema}
    odd = {one["identity"][1] for one in misfits}
    asked = [field for field in fields if field["key"] not in odd]
    forms = [_form(title, asked, checks, conditions, names)] if conditions or any(checks.values()) else []
    return {"part": "group", "title": title, "groups": [group], "fields": fields, "forms": forms, "misfits": misfits}


def _keys(properties: Mapping[str, Any]) -> dict[str, str]:
    """A key for each name: `firstName` and `first-name` give `first_name`."""
    found: dict[str, str] = {}
    for name in properties:
        found[name] = key_from_label(_apart(name), set(found.values()))
    return found


def _apart(name: str) -> str:
    return re.sub(r"(?<=[a-z0-9])(?=[A-Z])", " ", name)


def _label(name: str, schema: Any) -> str:
    """The title, or the name as words: `firstName` gives `First name`."""
    title = schema.get("title", "") if isinstance(schema, dict) else ""
    words = re.sub(r"[_\-\s]+", " ", _apart(name)).strip().lower()
    return str(title or words[:1].upper() + words[1:])[:LABEL]


def _read(part: dict[str, Any], schema: Any, root: dict[str, Any], place: tuple[object, ...]) -> list[dict[str, Any]]:
    """Let the part say what a property's schema says; gives what only a question can: checks. Raises Unsaid."""
    given = _simplified(_resolved(schema, root, place, 0), place)
    labels = given.pop("x-sieve-labels", {})
    part["help"] = str(given.pop("description", ""))[:1_000]
    part["type"] = guessed_type(given)
    if part["type"] == "structured":
        read_values(part, {"allOf": [{**given, **_definitions(given, root)}]}, place)
        return []
    if "const" in given and part["type"] != "agreement":
        given["enum"] = [given.pop("const")]
        part["type"] = "choice"
    given.pop("format", None)
    if part["type"] in ("choice", "yes_no", "agreement"):
        given.pop("type", None)
    if part["type"] == "choices":
        given["items"] = {"enum": given["items"]["enum"]}
    own: dict[str, Any] = {
        word: given.pop(word) for word in ("pattern", "minLength") if word in given and part["type"] != "choice"
    }
    if own.get("minLength") in (0, 1):
        del own["minLength"]
    conditions = _beyond(part["key"], given, place)
    read_values(part, given, place)
    part["options"] = [{**one, "label": labels.get(one["value"], one["label"])} for one in part["options"]]
    checks, left = checks_from(own, place)
    for keyword in left:
        raise Unsaid(f"A question cannot say “{keyword}”.", *place, keyword)
    return checks + conditions


def _beyond(key: str, given: dict[str, Any], place: tuple[object, ...]) -> list[dict[str, Any]]:
    """Bounds that are not reached themselves, as conditions over the form."""
    found = []
    for keyword, sign in (("exclusiveMinimum", ">"), ("exclusiveMaximum", "<")):
        if keyword in given:
            bound = given.pop(keyword)
            if isinstance(bound, bool) or not isinstance(bound, int | float):
                raise Unsaid("This is not a number.", *place, keyword)
            found.append({"kind": "condition", "expression": f"{key} {sign} {plain_number(Decimal(str(bound)))}"})
    return found


def _resolved(schema: Any, root: dict[str, Any], place: tuple[object, ...], depth: int) -> dict[str, Any]:
    """A schema with what it refers to in this file. Raises Unsaid."""
    if not isinstance(schema, dict):
        raise Unsaid("This says nothing of what is taken.", *place)
    if "$ref" not in schema:
        return dict(schema)
    steps = str(schema["$ref"]).split("/")
    target: Any = root
    for step in steps[1:]:
        target = target.get(step) if isinstance(target, dict) else None
    if steps[0] != "#" or not isinstance(target, dict) or depth > _DEEPEST:
        raise Unsaid("This refers to what is not in this file.", *place, "$ref")
    rest = {keyword: value for keyword, value in schema.items() if keyword != "$ref"}
    return {**_resolved(target, root, place, depth + 1), **rest}


def _definitions(schema: dict[str, Any], root: dict[str, Any]) -> dict[str, Any]:
    """The definitions that a nested schema may refer to."""
    if '"$ref"' not in write_json(schema):
        return {}
    return {word: root[word] for word in ("$defs", "definitions") if word in root}


def _simplified(given: dict[str, Any], place: tuple[object, ...]) -> dict[str, Any]:
    """Without `null` among the types, which is a blank here; and choices with titles as an enum."""
    if isinstance(given.get("type"), list):
        kinds = [kind for kind in given["type"] if kind != "null"]
        if len(kinds) != 1:
            raise Unsaid("A field has values of one type.", *place, "type")
        given["type"] = kinds[0]
    for word in ("oneOf", "anyOf"):
        several = given.get(word)
        if isinstance(several, list) and all(isinstance(one, dict) and "const" in one for one in several):
            labels = {one["const"]: str(one.get("title", one["const"])) for one in several}
            del given[word]
            given["enum"] = list(labels)
            given["x-sieve-labels"] = labels
    return given


def _form(
    title: str,
    fields: list[dict[str, Any]],
    checks: Mapping[str, list[dict[str, Any]]],
    conditions: Mapping[str, Any],
    names: Mapping[str, str],
) -> dict[str, Any]:
    """A form that asks every field, with the checks and the rules."""
    keys = [field["key"] for field in fields]
    items: list[dict[str, Any]] = [{"field": key} for key in (keys if "email" in keys else ["email", *keys])]
    for place, item in enumerate(items):
        found = checks.get(item["field"], [])
        item |= {"id": f"q{place + 1}", **({"checks": found} if found else {})}
    slug = re.sub(r"[^a-z0-9]+", "-", key_from_label(title).replace("_", "-")).strip("-")[:SLUG]
    form = {"slug": slug or "form", "document": {"title": title, "sections": [{"id": "s1", "items": items}]}}
    apply_conditions([form], conditions, names, ())
    return form
