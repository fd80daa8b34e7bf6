"""A setup as JSON Schema, draft 2020-12, with extension keywords that begin with `x-sieve-`.

What standard keywords can say is said with them, so that a stock validator checks
real answers; the extension keywords hold the rest, so that nothing is lost.
"""

import json
from collections.abc import Mapping
from typing import Any, Final

from pydantic import ValidationError

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.options import option_from_json, option_to_json
from finesieve.core.fields.types import TYPES
from finesieve.core.setup.conditions import Unsaid, as_number
from finesieve.core.setup.document import FieldPart, FormPart, Setup
from finesieve.core.setup.formschema import CONDITIONS, apply_conditions, form_schema, read_form_schema
from finesieve.core.setup.plain import plain_parts
from finesieve.core.setup.standard import read_values, unsaid_settings, values_schema
from finesieve.core.values import Type

__all__ = ["DIALECT", "KEYWORDS", "as_instance", "dump", "read_schema", "to_schema"]

DIALECT: Final = "https://json-schema.org/draft/2020-12/schema"
FORMAT: Final = 1

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
    "x-sieve-scripts": "the chat scripts, line by line",
    "x-sieve-segments": "the segments",
    "x-sieve-personal-links": "the kinds of personal links, each with the form that it opens",
    "x-sieve-house-values": "the values of the house, in a starter set",
    "x-sieve-level-values": "the values of levels, in a starter set",
    "x-sieve-shop": "what the shop sells, its taxes, and the ways of delivery and payment",
    "x-sieve-type": "the type of a field",
    "x-sieve-group": "the group that a field stands in",
    "x-sieve-options": "the options of a choice, with labels, scores, prices and whether they are retired",
    "x-sieve-unit": "the unit of a number",
    "x-sieve-settings": "the settings of a field that differ from the defaults and that no standard keyword says",
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
        defs[f"form-{form.slug}"] = form_schema(form, {field.key: field for field in by_about.get("person", ())})
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
        ("scripts", setup.scripts),
        ("segments", setup.segments),
        ("personal-links", setup.personal_links),
    ):
        if parts:
            schema[f"x-sieve-{keyword}"] = [part.model_dump(mode="json", exclude_defaults=True) for part in parts]
    if setup.house_values:
        schema["x-sieve-house-values"] = setup.house_values
    if setup.level_values:
        schema["x-sieve-level-values"] = setup.level_values
    if setup.shop is not None:
        schema["x-sieve-shop"] = setup.shop.model_dump(mode="json", exclude_defaults=True)
    if defs:
        schema["$defs"] = defs
    return schema


def _name(about: str) -> str:
    return about.replace(":", "-")


def _object(fields: list[FieldPart]) -> dict[str, Any]:
    properties = {field.key: _property(field) for field in fields}
    required = [field.key for field in fields if field.required and _answered(field.formula, field.type)]
    found: dict[str, Any] = {"type": "object", "properties": properties}
    return found | ({"required": required} if required else {})


def _answered(formula: str, type_key: str) -> bool:
    """Whether the standard keywords say if a field must be there."""
    return not formula and TYPES[type_key].stores


def _property(field: FieldPart) -> dict[str, Any]:
    """The schema of one field's values, and all that the product knows of it."""
    schema: dict[str, Any] = {"title": field.label}
    if field.help:
        schema["description"] = field.help
    if field.formula:
        schema["readOnly"] = True
    else:
        schema |= values_schema(field)
    schema |= {"x-sieve-type": field.type, "x-sieve-group": field.group}
    for keyword, value in (
        ("options", [dict(option) for option in field.options]),
        ("unit", field.unit),
        ("settings", unsaid_settings(field)),
        ("formula", field.formula),
        ("built-in", field.built_in),
    ):
        if value:
            schema[f"x-sieve-{keyword}"] = value
    return schema


# Reading --------------------------------------------------------------------------------------


def read_schema(text: str) -> Setup:
    """The setup in a file, one of ours or a plain schema. Raises InvalidInput, with a sentence that names the place.

    The standard keywords are the truth; ours add what they cannot say. Where both speak and differ, and where they
    say what no field or question can hold, that is among the misfits of the setup, with its place.
    """
    try:
        schema = json.loads(text)
    except (ValueError, RecursionError):
        raise InvalidInput({"file": "This file is not JSON."}) from None
    if not isinstance(schema, dict) or schema.get("x-sieve-format", FORMAT) != FORMAT:
        raise InvalidInput({"file": "This is no definition of fields that can be read here."})
    try:
        return Setup.model_validate(_parts(schema) if "x-sieve-format" in schema else plain_parts(schema))
    except Unsaid as problem:
        raise InvalidInput({"file": _at(problem)}) from None
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(step) for step in first["loc"])
        raise InvalidInput({"file": f"At {place}: {first['msg']}."}) from None
    except (TypeError, KeyError, AttributeError, ValueError, RecursionError):
        raise InvalidInput({"file": "The keywords in this file do not fit together."}) from None


def _at(problem: Unsaid) -> str:
    return f"At {'.'.join(str(step) for step in problem.place)}: {problem}"


def _parts(schema: dict[str, Any]) -> dict[str, Any]:
    types = schema.get("x-sieve-record-types", [])
    abouts = {"order": "order", "level": "level", "house": "house"}
    abouts |= {f"record-{one['key']}": f"record:{one['key']}" for one in types}
    misfits: list[dict[str, Any]] = []
    fields = _fields(schema, "person", (), misfits)
    for name, inner in schema.get("$defs", {}).items():
        if name in abouts:
            fields += _fields(inner, abouts[name], ("$defs", name), misfits)
    forms = _forms(schema, fields, misfits)
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
        "forms": forms,
        "scripts": schema.get("x-sieve-scripts", []),
        "segments": schema.get("x-sieve-segments", []),
        "personal_links": schema.get("x-sieve-personal-links", []),
        "house_values": schema.get("x-sieve-house-values", {}),
        "level_values": schema.get("x-sieve-level-values", {}),
        "shop": schema.get("x-sieve-shop"),
        "misfits": misfits,
    }


def _fields(
    schema: dict[str, Any], about: str, place: tuple[str, ...], misfits: list[dict[str, Any]]
) -> list[dict[str, Any]]:
    """The fields of an object. Those that do not fit are among the misfits, and as our own keywords have them."""
    found, required = [], schema.get("required", [])
    for key in required:
        if key not in schema.get("properties", {}):
            raise Unsaid(f"There is no property “{key}” here.", *place, "required")
    for key, one in schema.get("properties", {}).items():
        part, where = _field(key, one, about), (*place, "properties", key)
        try:
            _read_required(part, one, key in required, where)
            read_values(part, one, where)
        except Unsaid as problem:
            misfits.append({"what": "field", "identity": (about, key), "label": part["label"], "why": _at(problem)})
        found.append(part)
    return found


def _read_required(part: dict[str, Any], schema: dict[str, Any], required: bool, place: tuple[str, ...]) -> None:
    if not _answered(part["formula"], part["type"]):
        if required:
            raise Unsaid("Nobody is asked for this, so it cannot be required.", *place)
        return
    if schema.get("x-sieve-required", required) != required:
        raise Unsaid("x-sieve-required and the list “required” differ.", *place, "x-sieve-required")
    part["required"] = required


def _forms(schema: dict[str, Any], fields: list[dict[str, Any]], misfits: list[dict[str, Any]]) -> list[Any]:
    """The forms, with what their schemas, and the conditions of the whole, say beyond them."""
    person = {}
    for field in fields:
        if field["about"] == "person":
            person[field["key"]] = FieldPart.model_validate(field)
    found = []
    for form in schema.get("x-sieve-forms", []):
        part = FormPart.model_validate(form).model_dump(mode="json")
        name = f"form-{part['slug']}"
        try:
            if name in schema.get("$defs", {}):
                read_form_schema(part, schema["$defs"][name], person, ("$defs", name))
        except Unsaid as problem:
            what = {"what": "form", "identity": (part["slug"],), "label": part["slug"], "why": _at(problem)}
            misfits.append(what)
            part = dict(form)
        found.append(part)
    apply_conditions(
        found, {word: schema[word] for word in CONDITIONS if word in schema}, {key: key for key in person}, ()
    )
    return found


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
        "settings": dict(schema.get("x-sieve-settings", {})),
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
            found[key] = as_number(value) if numeric else value
    return found
