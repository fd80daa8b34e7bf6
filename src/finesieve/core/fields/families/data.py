"""Files, pictures and structured data."""

from typing import Final

from finesieve.core.fields.asked import Asked
from finesieve.core.fields.families.schemas import misfit
from finesieve.core.fields.settings import Media
from finesieve.core.phrases import phrase
from finesieve.core.values import Structured, Value, read_json, write_json

__all__ = ["MEDIA", "read_sent_file", "read_structured", "write_nothing", "write_structured"]

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
    data = read_json(text)
    value = Structured.of(data)
    if asked.settings.json_schema:
        problem = misfit(asked.settings.json_schema, data)
        if problem:
            raise ValueError(problem)
    return None if data in (None, "", [], {}) else value


def write_structured(value: Value, _asked: Asked) -> str:
    """Indented JSON."""
    return write_json(value.data, indent=2) if isinstance(value, Structured) else ""
