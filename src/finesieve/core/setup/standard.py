"""The values of a field in the standard keywords of JSON Schema, in both directions.

What the keywords can say is said by them alone: a file has no second place for it.
"""

import json
from collections.abc import Mapping
from decimal import Decimal
from typing import Any, Final

from finesieve.core.fields.families.data import MEDIA
from finesieve.core.fields.families.places import country_codes
from finesieve.core.fields.options import option_from_json
from finesieve.core.fields.types import TYPES
from finesieve.core.setup.conditions import Unsaid, as_number
from finesieve.core.setup.document import FieldPart
from finesieve.core.values import plain_number, write_json

__all__ = ["guessed_type", "read_values", "unsaid_settings", "values_schema"]

ANNOTATIONS: Final = frozenset(
    ("title", "description", "readOnly", "writeOnly", "default", "examples", "deprecated", "$comment")
)
"""Keywords that say nothing about which values are taken."""


# Writing ----------------------------------------------------------------------------------------


def values_schema(field: FieldPart) -> dict[str, Any]:
    """What standard keywords can say of the values."""
    kind, settings = TYPES[field.type].kind, field.settings
    offered = [option["value"] for option in field.options]
    if kind in ("number", "money"):
        return _numeric(settings)
    if kind == "yes_no":
        return {"const": True} if field.type == "agreement" else {"type": "boolean"}
    if kind == "choices":
        found: dict[str, Any] = {"type": "array", "items": _choice(offered), "uniqueItems": True}
        return found | _counts(settings)
    if kind == "text_list":
        return {"type": "array", "items": {"type": "string", "minLength": 1}} | _counts(settings)
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


def _counts(settings: Mapping[str, Any]) -> dict[str, Any]:
    most = {"maxItems": settings["most"]} if "most" in settings else {}
    return {"minItems": settings.get("fewest", 1), **most}


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
    for setting, keyword in (("low", "minimum"), ("high", "maximum")):
        if setting in settings:
            found[keyword] = as_number(settings[setting])
    step = settings.get("step")
    if step and as_number(settings.get("low", 0)) == 0 and float(as_number(step)).is_integer():
        found["multipleOf"] = as_number(step)
    return found


def unsaid_settings(field: FieldPart) -> dict[str, Any]:
    """The settings that the keywords do not say, or not digit for digit."""
    said = _said_settings(field.type, values_schema(field), ())
    return {name: value for name, value in field.settings.items() if name not in said or said[name] != value}


# Reading ----------------------------------------------------------------------------------------


def read_values(part: dict[str, Any], schema: Mapping[str, Any], place: tuple[object, ...]) -> None:
    """Let a field's options and settings, as our own keywords have them, say what the standard keywords say.

    Raises Unsaid where both speak and differ, and for a keyword that no field can hold.
    """
    given = {keyword: value for keyword, value in schema.items() if keyword not in ANNOTATIONS}
    given = {keyword: value for keyword, value in given.items() if not keyword.startswith("x-sieve-")}
    if part["formula"] or not given or not TYPES[part["type"]].stores:
        return
    _read_options(part, given, place)
    said, settings = _said_settings(part["type"], given, place), part["settings"]
    for name, value in said.items():
        if name in settings and settings[name] != value and not _same(name, settings[name], value):
            keyword = f"x-sieve-settings say {settings[name]}, and the standard keywords {value}"
            raise Unsaid(f"For {name.replace('_', ' ')}, {keyword}.", *place)
        settings.setdefault(name, value)
    meant = values_schema(FieldPart.model_validate({**part, "label": part["label"] or part["key"]}))
    for keyword, value in given.items():
        if keyword in meant and not _agrees(value, meant[keyword]):
            raise Unsaid(
                f"It says {_short(value)}, where a field of this type has {_short(meant[keyword])}.", *place, keyword
            )
        if keyword not in meant and not (keyword == "type" and _type_fits(part["type"], value)):
            raise Unsaid(f"A field of the type {part['type']} cannot say “{keyword}”.", *place, keyword)


def _agrees(value: Any, meant: Any) -> bool:
    """Whether a keyword says what we say, or, of the items of a list, a part of it."""
    if isinstance(value, dict) and isinstance(meant, dict):
        return all(key in meant and meant[key] == one for key, one in value.items())
    return bool(value == meant)


def _same(name: str, ours: Any, standard: Any) -> bool:
    """Whether a setting, written more exactly or otherwise, means what the keyword says."""
    try:
        if name == "json_schema":
            return bool(json.loads(ours) == json.loads(standard))
        return as_number(ours) == as_number(standard)
    except ValueError:
        return False


def _type_fits(type_key: str, value: Any) -> bool:
    wanted = {"yes_no": "boolean", "choice": "string", "structured": "object"}
    return bool(value == wanted.get(TYPES[type_key].kind, ""))


def _short(value: Any) -> str:
    text = json.dumps(value, ensure_ascii=False)
    return text if len(text) < 60 else f"{text[:57]}…"


def _read_options(part: dict[str, Any], given: Mapping[str, Any], place: tuple[object, ...]) -> None:
    """The enum says which options there are and in which order; ours add labels and what else is known of them."""
    kind = TYPES[part["type"]].kind
    within = given.get("items", {}) if kind == "choices" else given
    if not TYPES[part["type"]].has_options or not isinstance(within, Mapping) or "enum" not in within:
        return
    if not isinstance(within["enum"], list) or not all(isinstance(one, str) for one in within["enum"]):
        raise Unsaid("Only texts can be options.", *place, "enum")
    if part["settings"].get("option_list"):
        raise Unsaid("Its options are shared ones, and stand there.", *place, "enum")
    for one in part["options"]:
        try:
            option_from_json(one)
        except ValueError as problem:
            raise Unsaid(str(problem), *place, "x-sieve-options") from None
    known = {one["value"]: one for one in part["options"]}
    part["options"] = [known.get(value, {"label": value, "value": value}) for value in within["enum"]]


def _said_settings(type_key: str, schema: Mapping[str, Any], place: tuple[object, ...]) -> dict[str, Any]:
    """The settings that the keywords say, as they are stored."""
    kind, found = TYPES[type_key].kind, {}
    if kind in ("number", "money"):
        for name, keyword in (("low", "minimum"), ("high", "maximum"), ("step", "multipleOf")):
            if keyword in schema:
                found[name] = _plain(schema[keyword], (*place, keyword))
        return found | ({"decimals": 0} if schema.get("type") == "integer" and type_key == "number" else {})
    if kind in ("choices", "text_list"):
        fewest = {"fewest": schema["minItems"]} if schema.get("minItems", 1) != 1 else {}
        return fewest | ({"most": schema["maxItems"]} if "maxItems" in schema else {})
    if kind == "structured":
        inner = schema.get("allOf")
        return {"json_schema": write_json(inner[0])} if isinstance(inner, list) and len(inner) == 1 else {}
    return {"longest": schema["maxLength"]} if kind == "text" and "maxLength" in schema else {}


def _plain(value: Any, place: tuple[object, ...]) -> str:
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise Unsaid("This is not a number.", *place)
    return plain_number(Decimal(str(value)))


# Plain schemas ----------------------------------------------------------------------------------


_FORMATS: Final = {
    "email": "email", "uri": "url", "url": "url", "date": "date", "date-time": "datetime", "time": "time",
}  # fmt: skip
LONG: Final = 300
"""A text that may be longer than this is typed in a box of several lines."""


def guessed_type(schema: Mapping[str, Any]) -> str:
    """The type of field that a property of a plain schema asks for."""
    if schema.get("const") is True:
        return "agreement"
    kind = schema.get("type")
    if "enum" in schema:
        return "choice"
    if kind == "array":
        items = schema.get("items")
        items = items if isinstance(items, dict) else {}
        if "enum" in items:
            return "choices"
        return "text_list" if items.get("type") == "string" else "structured"
    if kind == "string":
        longest = schema.get("maxLength", 0)
        long = isinstance(longest, int) and longest > LONG
        return _FORMATS.get(str(schema.get("format")), "long_text" if long else "short_text")
    return {"integer": "number", "number": "number", "boolean": "yes_no"}.get(str(kind), "structured")
