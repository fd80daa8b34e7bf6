"""A setup as JSON Schema, draft 2020-12, with extension keywords that begin with `x-sieve-`.

What standard keywords can say is said with them, so that a stock validator checks
real answers; the extension keywords hold the rest, so that nothing is lost.
"""

import json
from collections.abc import Iterator, Mapping
from typing import Any, Final

from pydantic import ValidationError

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.families.choices import country_codes
from finesieve.core.fields.families.data import MEDIA
from finesieve.core.fields.options import option_from_json, option_to_json
from finesieve.core.fields.types import TYPES
from finesieve.core.forms.earlier import upgraded
from finesieve.core.language import tree
from finesieve.core.language.parser import parse
from finesieve.core.setup.document import FieldPart, FormPart, Setup
from finesieve.core.values import Type

__all__ = ["KEYWORDS", "as_instance", "dump", "read_schema", "to_schema"]

DIALECT: Final = "https://json-schema.org/draft/2020-12/schema"
FORMAT: Final = 1
_DECIMAL: Final = 15

KEYWORDS: Final[dict[str, str]] = {
    "x-sieve-format": "the version of these keywords: 1",
    "x-sieve-part": "“group” or “field”, where the file holds one of these only",
    "x-sieve-groups": "the groups in order, with what they are about and their settings",
    "x-sieve-record-types": "the record types in order",
    "x-sieve-links": "the links of record types",
    "x-sieve-lists": "the lists of people",
    "x-sieve-levels": "the membership levels, from the lowest",
    "x-sieve-option-lists": "options that several fields share",
    "x-sieve-forms": "the forms, with their rules and checks",
    "x-sieve-segments": "the segments",
    "x-sieve-house-values": "the values of the house, in a starter set",
    "x-sieve-level-values": "the values of levels, in a starter set",
    "x-sieve-type": "the type of a field",
    "x-sieve-group": "the group that a field stands in",
    "x-sieve-options": "the options of a choice, with labels, scores, prices and whether they are retired",
    "x-sieve-unit": "the unit of a number",
    "x-sieve-required": "whether forms insist on an answer",
    "x-sieve-settings": "the settings of a field that differ from the defaults",
    "x-sieve-formula": "the formula of a derived field",
    "x-sieve-built-in": "whether the field comes with the product",
}
"""Every extension keyword and what it holds; docs print it."""


def dump(schema: Mapping[str, Any]) -> str:
    """The text of a file: the same for the same setup, one thing a line, so that differences read well."""
    return json.dumps(schema, indent=2, ensure_ascii=False) + "\n"


# Writing --------------------------------------------------------------------------------------


def to_schema(setup: Setup) -> dict[str, Any]:
    """The setup as a schema: a person at its root, everything else among its definitions."""
    by_about: dict[str, list[FieldPart]] = {}
    for field in setup.fields:
        by_about.setdefault(field.about, []).append(field)
    defs = {_name(about): _object(fields) for about, fields in by_about.items() if about != "person"}
    for form in setup.forms:
        defs[f"form-{form.slug}"] = _form(form, {field.key: field for field in by_about.get("person", ())})
    schema: dict[str, Any] = {"$schema": DIALECT, "x-sieve-format": FORMAT}
    heads = {"x-sieve-part": setup.part, "title": setup.title, "description": setup.description}
    schema |= {keyword: text for keyword, text in heads.items() if text}
    schema |= _object(by_about.get("person", []))
    for keyword, parts in (
        ("groups", setup.groups),
        ("record-types", setup.record_types),
        ("links", setup.links),
        ("lists", setup.lists),
        ("levels", setup.levels),
        ("option-lists", setup.option_lists),
        ("forms", setup.forms),
        ("segments", setup.segments),
    ):
        if parts:
            schema[f"x-sieve-{keyword}"] = [part.model_dump(mode="json", exclude_defaults=True) for part in parts]
    if setup.house_values:
        schema["x-sieve-house-values"] = setup.house_values
    if setup.level_values:
        schema["x-sieve-level-values"] = setup.level_values
    if defs:
        schema["$defs"] = defs
    return schema


def _name(about: str) -> str:
    return about.replace(":", "-")


def _object(fields: list[FieldPart]) -> dict[str, Any]:
    properties = {field.key: _property(field) for field in fields}
    required = [field.key for field in fields if field.required and not field.formula and TYPES[field.type].stores]
    found: dict[str, Any] = {"type": "object", "properties": properties}
    return found | ({"required": required} if required else {})


def _property(field: FieldPart) -> dict[str, Any]:
    """The schema of one field's values, and all that the product knows of it."""
    schema: dict[str, Any] = {"title": field.label}
    if field.help:
        schema["description"] = field.help
    if field.formula:
        schema["readOnly"] = True
    else:
        schema |= _values(field)
    schema |= {"x-sieve-type": field.type, "x-sieve-group": field.group}
    for keyword, value in (
        ("options", [dict(option) for option in field.options]),
        ("unit", field.unit),
        ("required", field.required),
        ("settings", field.settings),
        ("formula", field.formula),
        ("built-in", field.built_in),
    ):
        if value:
            schema[f"x-sieve-{keyword}"] = value
    return schema


def _number(text: object) -> int | float:
    number = float(str(text))
    return int(number) if number.is_integer() else number


def _values(field: FieldPart) -> dict[str, Any]:
    """What standard keywords can say of the values."""
    kind, settings = TYPES[field.type].kind, field.settings
    offered = [option["value"] for option in field.options]
    if kind in ("number", "money"):
        return _numeric(settings)
    if kind == "yes_no":
        return {"const": True} if field.type == "agreement" else {"type": "boolean"}
    if kind == "choices":
        found: dict[str, Any] = {"type": "array", "items": _choice(offered), "uniqueItems": True, "minItems": 1}
        found["minItems"] = settings.get("fewest", 1)
        return found | ({"maxItems": settings["most"]} if "most" in settings else {})
    if kind == "text_list":
        return {"type": "array", "items": {"type": "string", "minLength": 1}, "minItems": settings.get("fewest", 1)} | (
            {"maxItems": settings["most"]} if "most" in settings else {}
        )
    if kind == "structured":
        return {"allOf": [json.loads(settings["json_schema"])]} if settings.get("json_schema") else {}
    if kind == "file":
        return {"type": "object", "properties": {"media_type": {"enum": _media(settings)}}, "required": ["digest"]}
    if kind == "choice":
        return _choice(list(country_codes()) if field.type == "country" else offered)
    if kind == "secret":
        return {"type": "string", "writeOnly": True}
    return _TEXTS.get(field.type, {"type": "string", "minLength": 1}) | (
        {"maxLength": settings["longest"]} if "longest" in settings else {}
    )


def _media(settings: Mapping[str, Any]) -> list[str]:
    return [media for kind in settings.get("media") or MEDIA for media in MEDIA.get(kind, ())]


_TEXTS: Final[dict[str, dict[str, Any]]] = {
    "email": {"type": "string", "format": "email"},
    "url": {"type": "string", "format": "uri", "pattern": "^https?://"},
    "phone": {"type": "string", "pattern": r"^\+[0-9]{5,15}$"},
    "date": {"type": "string", "format": "date", "pattern": "^[0-9]{4}-[0-9]{2}-[0-9]{2}$"},
    "time": {"type": "string", "pattern": "^[0-9]{2}:[0-9]{2}:[0-9]{2}$"},
    "datetime": {"type": "string", "format": "date-time"},
    "day_of_year": {"type": "string", "pattern": "^[0-9]{2}-[0-9]{2}$"},
    "colour": {"type": "string", "pattern": "^#[0-9a-f]{6}$"},
    "heading": {},
    "note": {},
}


def _choice(offered: list[str]) -> dict[str, Any]:
    return {"enum": offered} if offered else {"type": "string"}


def _numeric(settings: Mapping[str, Any]) -> dict[str, Any]:
    found: dict[str, Any] = {"type": "integer" if settings.get("decimals") == 0 else "number"}
    if "low" in settings:
        found["minimum"] = _number(settings["low"])
    if "high" in settings:
        found["maximum"] = _number(settings["high"])
    if "step" in settings and _number(settings.get("low", 0)) == 0 and float(_number(settings["step"])).is_integer():
        found["multipleOf"] = _number(settings["step"])
    return found


def _form(form: FormPart, fields: Mapping[str, FieldPart]) -> dict[str, Any]:
    """What sending a form stores: its questions, and its rules as far as if/then can say them."""
    properties, required, conditions = {}, [], []
    for question in _questions(form.document):
        key = question["field"]
        field = fields.get(key)
        if field is None or not TYPES[field.type].stores:
            continue
        properties[key] = {"$ref": f"#/properties/{key}"}
        insists = field.required if question.get("required") is None else question["required"]
        rule = question.get("show_when", "")
        if not rule:
            required += [key] if insists else []
            continue
        condition = _condition(rule, fields)
        if condition is not None:
            then = {"then": {"required": [key]}} if insists else {}
            conditions.append({"if": condition, **then, "else": {"properties": {key: False}}})
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
            if "field" in item:
                rules = [rule for rule in (section.get("show_when"), item.get("show_when")) if rule]
                joined = rules[0] if len(rules) == 1 else " and ".join(f"({rule})" for rule in rules)
                yield {**item, "show_when": joined}


def _condition(rule: str, fields: Mapping[str, FieldPart]) -> dict[str, Any] | None:
    """A rule in standard keywords: a field is yes, is or is one of some values, or is filled; several with `and`."""
    node = parse(rule).tree
    parts = node.parts if isinstance(node, tree.Chain) and node.word == "and" else (node,)
    said = [_said(part, fields) for part in parts if part is not None]
    if not said or any(one is None for one in said):
        return None
    return said[0] if len(said) == 1 else {"allOf": said}


def _said(node: tree.Node, fields: Mapping[str, FieldPart]) -> dict[str, Any] | None:
    key = ""
    allowed: dict[str, Any] | None = None
    match node:
        case tree.Name(path=(key,)):
            allowed = {"const": True}
        case tree.Compare(sign="=", left=tree.Name(path=(key,)), right=tree.Text(value=value)):
            allowed = {"const": value}
        case tree.In(operand=tree.Name(path=(key,)), items=items, negated=False) if all(
            isinstance(item, tree.Text) for item in items
        ):
            allowed = {"enum": [item.value for item in items if isinstance(item, tree.Text)]}
        case tree.IsBlank(operand=tree.Name(path=(key,)), filled=True):
            allowed = {}
    known = fields.get(key)
    if allowed is None or known is None or known.formula:
        return None
    return {"properties": {key: allowed}, "required": [key]} if allowed else {"required": [key]}


# Reading --------------------------------------------------------------------------------------


def read_schema(text: str) -> Setup:
    """The setup in a file. Raises InvalidInput, with a sentence that names the place, for a file that is none."""
    try:
        schema = json.loads(text)
    except (ValueError, RecursionError):
        raise InvalidInput({"file": "This file is not JSON."}) from None
    if not isinstance(schema, dict) or schema.get("x-sieve-format") != FORMAT:
        raise InvalidInput(
            {"file": "This is no definition of fields: “x-sieve-format” is missing, or of another version."}
        )
    try:
        return Setup.model_validate(_parts(schema))
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(step) for step in first["loc"])
        raise InvalidInput({"file": f"At {place}: {first['msg']}."}) from None
    except (TypeError, KeyError, AttributeError):
        raise InvalidInput({"file": "The keywords in this file do not fit together."}) from None


def _parts(schema: dict[str, Any]) -> dict[str, Any]:
    types = schema.get("x-sieve-record-types", [])
    abouts = {"order": "order", "level": "level", "house": "house"}
    abouts |= {f"record-{one['key']}": f"record:{one['key']}" for one in types}
    fields = [_field(key, one, "person") for key, one in schema.get("properties", {}).items()]
    for name, inner in schema.get("$defs", {}).items():
        if name in abouts:
            fields += [_field(key, one, abouts[name]) for key, one in inner.get("properties", {}).items()]
    return {
        "part": schema.get("x-sieve-part", ""),
        "title": schema.get("title", ""),
        "description": schema.get("description", ""),
        "record_types": types,
        "links": schema.get("x-sieve-links", []),
        "lists": schema.get("x-sieve-lists", []),
        "levels": schema.get("x-sieve-levels", []),
        "option_lists": schema.get("x-sieve-option-lists", []),
        "groups": schema.get("x-sieve-groups", []),
        "fields": fields,
        "forms": schema.get("x-sieve-forms", []),
        "segments": schema.get("x-sieve-segments", []),
        "house_values": schema.get("x-sieve-house-values", {}),
        "level_values": schema.get("x-sieve-level-values", {}),
    }


def _field(key: str, schema: dict[str, Any], about: str) -> dict[str, Any]:
    type_key = schema.get("x-sieve-type", "short_text")
    if type_key not in TYPES:
        raise InvalidInput({"file": f"The field {key} has the type “{type_key}”, which there is not."})
    return {
        "key": key,
        "about": about,
        "label": schema.get("title", key),
        "group": schema.get("x-sieve-group", "From a file"),
        "type": type_key,
        "help": schema.get("description", ""),
        "required": schema.get("x-sieve-required", False),
        "unit": schema.get("x-sieve-unit", ""),
        "options": _plain_options(schema.get("x-sieve-options", [])),
        "settings": schema.get("x-sieve-settings", {}),
        "formula": schema.get("x-sieve-formula", ""),
        "built_in": schema.get("x-sieve-built-in", False),
    }


def _plain_options(options: list[Any]) -> list[Any]:
    """Options as they are written, whether a score is a number or a text; what is no option stays, to be refused."""
    try:
        return [option_to_json(option_from_json(option)) for option in options]
    except ValueError:
        return options


# Answers ----------------------------------------------------------------------------------------


def as_instance(answers: Mapping[str, Any], types: Mapping[str, Type]) -> dict[str, Any]:
    """Stored answers as a validator wants them: numbers as numbers, blanks left out."""
    found: dict[str, Any] = {}
    for key, value in answers.items():
        numeric = key in types and types[key].kind in ("number", "money")
        if value is not None:
            found[key] = _number(value) if numeric else value
    return found
