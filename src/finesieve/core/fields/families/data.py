"""Files, pictures and structured data."""

import json
from functools import lru_cache
from typing import Any, Final

from jsonschema import Draft202012Validator
from jsonschema.exceptions import SchemaError, best_match

from finesieve.core.fields.asked import Asked
from finesieve.core.fields.settings import Media
from finesieve.core.phrases import phrase
from finesieve.core.values import Structured, Value

__all__ = ["MEDIA", "read_sent_file", "read_structured", "schema_problem", "write_nothing", "write_structured"]

MEDIA: Final[dict[Media, tuple[str, ...]]] = {
    "pictures": ("image/jpeg", "image/png", "image/gif", "image/webp"),
    "pdf": ("application/pdf",),
    "documents": (
        "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
        "application/vnd.oasis.opendocument.text",
    ),
    "text": ("text/plain", "text/csv"),
    "sheets": (
        "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
        "application/vnd.oasis.opendocument.spreadsheet",
    ),
    "audio": ("audio/mpeg", "audio/wav", "audio/x-wav", "audio/ogg"),
}
"""The kinds of file that can be asked for, each with its media types."""
MOST_DATA: Final = 50_000


def read_sent_file(_text: str, _asked: Asked) -> Value:
    """A file comes by its upload, never by what is typed."""
    raise ValueError("Choose the file again.")


def write_nothing(_value: Value, _asked: Asked) -> str:
    """What cannot be put back into an input."""
    return ""


def read_structured(text: str, asked: Asked) -> Value:
    """JSON that the field's schema, if it has one, finds right."""
    if len(text) > MOST_DATA:
        raise ValueError(phrase("Write at most {high} characters.", high=str(MOST_DATA)))
    try:
        data = json.loads(text, parse_constant=_refuse)
        value = Structured.of(data)
    except RecursionError:
        raise ValueError("This is nested too deeply.") from None
    except ValueError as problem:
        place = f" (line {problem.lineno}, column {problem.colno})" if isinstance(problem, json.JSONDecodeError) else ""
        raise ValueError(phrase("This is not JSON{place}.", place=place)) from None
    if "\\u0000" in value.text or any("\ud800" <= sign <= "\udfff" for sign in value.text):
        raise ValueError("This holds a character that cannot be kept.")
    if asked.settings.json_schema:
        problem_ = best_match(_validator(asked.settings.json_schema).iter_errors(data))
        if problem_ is not None:
            where = ".".join(str(part) for part in problem_.absolute_path)
            raise ValueError(f"{where + ': ' if where else ''}{problem_.message[:200]}.")
    return None if data in (None, "", [], {}) else value


def _refuse(word: str) -> Any:
    raise ValueError(f"{word} is no JSON")


@lru_cache(maxsize=256)
def _validator(schema: str) -> Draft202012Validator:
    return Draft202012Validator(json.loads(schema))


def schema_problem(text: str) -> str:
    """Why a text cannot serve as a JSON Schema, in one sentence; "" where it can.

    A schema may not point outside itself: nothing is ever fetched.
    """
    try:
        schema = json.loads(text)
        Draft202012Validator.check_schema(schema)
    except ValueError:
        return "The schema is not JSON."
    except SchemaError as problem:
        return f"This is no JSON Schema: {problem.message[:200]}."
    except RecursionError:
        return "The schema is nested too deeply."
    outside = [ref for ref in _references(schema) if not ref.startswith("#")]
    return f"The schema points outside itself, to {outside[0]}; that is not followed." if outside else ""


def _references(node: Any) -> list[str]:
    found: list[str] = []
    waiting = [node]
    while waiting:
        current = waiting.pop()
        if isinstance(current, dict):
            found += [str(current[key]) for key in ("$ref", "$dynamicRef") if key in current]
            waiting.extend(current.values())
        elif isinstance(current, list):
            waiting.extend(current)
    return found


def write_structured(value: Value, _asked: Asked) -> str:
    """Indented JSON."""
    return json.dumps(value.data, indent=2, ensure_ascii=False) if isinstance(value, Structured) else ""
