"""The column types that hold values of each kind, and what they make of them in Python."""

from typing import Any, Final

from sqlalchemy import Boolean, Date, DateTime, Numeric, Text, Time
from sqlalchemy.dialects.postgresql import ARRAY, JSONB
from sqlalchemy.types import TypeDecorator, TypeEngine

from finesieve.core.fields.encoding import from_json, to_json
from finesieve.core.values import DayOfYear, Kind, Secret, StoredFile, Structured, Type, Value, write_json

__all__ = ["SQL_TYPES", "to_driver"]


class _Days(TypeDecorator[Any]):
    """A day of the year as its text, `02-29`."""

    impl = Text
    cache_ok = True

    def process_bind_param(self, value: Any, _dialect: Any) -> str | None:
        return None if value is None else str(value)

    def process_result_value(self, value: Any, _dialect: Any) -> DayOfYear | None:
        return None if value is None else DayOfYear(*map(int, value.split("-")))


class _Texts(TypeDecorator[Any]):
    """Several texts; a tuple in Python."""

    impl = ARRAY(Text)
    cache_ok = True

    def process_bind_param(self, value: Any, _dialect: Any) -> list[str] | None:
        return None if value is None else list(value)

    def process_result_value(self, value: Any, _dialect: Any) -> tuple[str, ...] | None:
        return None if value is None else tuple(value)


class _Json(TypeDecorator[Any]):
    """Structured data, or what is known of a stored file."""

    impl = JSONB
    cache_ok = True

    def __init__(self, kind: Kind) -> None:
        super().__init__(none_as_null=True)
        self.kind = kind

    def process_bind_param(self, value: Any, _dialect: Any) -> Any:
        return to_json(value)

    def process_result_value(self, value: Any, _dialect: Any) -> Value:
        return from_json(value, Type(self.kind))


class _Hashes(TypeDecorator[Any]):
    """The hash of a secret; nothing else of it is ever kept."""

    impl = Text
    cache_ok = True

    def process_bind_param(self, value: Any, _dialect: Any) -> str | None:
        if value is None:
            return None
        if not isinstance(value, Secret) or not value.hashed:
            raise ValueError("a secret is kept as its hash only")
        return value.text

    def process_result_value(self, value: Any, _dialect: Any) -> Secret | None:
        return None if value is None else Secret(value, hashed=True)


SQL_TYPES: Final[dict[Kind, TypeEngine[Any]]] = {
    "text": Text(),
    "number": Numeric(),
    "money": Numeric(),
    "yes_no": Boolean(),
    "choice": Text(),
    "choices": _Texts(),
    "date": Date(),
    "time": Time(),
    "datetime": DateTime(timezone=True),
    "day_of_year": _Days(),
    "text_list": _Texts(),
    "structured": _Json("structured"),
    "file": _Json("file"),
    "secret": _Hashes(),
}
"""The column type that holds values of each kind."""


def to_driver(value: Value) -> Any:
    """A value as COPY wants it."""
    if isinstance(value, DayOfYear):
        return str(value)
    if isinstance(value, tuple):
        return list(value)
    if isinstance(value, Secret):
        return _Hashes().process_bind_param(value, None)
    if isinstance(value, Structured | StoredFile):
        return write_json(to_json(value))
    return value
