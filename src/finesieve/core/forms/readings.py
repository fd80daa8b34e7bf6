"""What answers were read as: a round trip of a page changes one of them, and the others are not read again."""

from datetime import date
from typing import Final

from finesieve.core.fields.definition import Field, Shelf
from finesieve.core.forms.prepare import CompiledQuestion
from finesieve.core.values import Value

__all__ = ["Readings"]

_MOST: Final = 2_000
_LONGEST: Final = 80
"""So many, and so long at most: about a megabyte a form."""
_NOT_KEPT: Final = ("file", "secret")


class Readings:
    """The readings of one form, by question, text and day; secrets and files are never kept."""

    def __init__(self) -> None:
        self._kept: dict[tuple[str, str, date], tuple[Value, tuple[object, ...] | None]] = {}

    def read(self, one: CompiledQuestion, field: Field, raw: str, shelf: Shelf | None, today: date) -> Value:
        """An answer as its field reads it. `field` is that of the question, or what became of it here; then it is read
        anew. Raises ValueError with a plain sentence."""
        if field is not one.field or field.type.kind in _NOT_KEPT or len(raw) > _LONGEST:
            return field.parse(raw, shelf, today)
        found = self._kept.get((one.id, raw, today))
        if found is None:
            try:
                found = (field.parse(raw, shelf, today), None)
            except ValueError as problem:
                found = (None, problem.args)
            if len(self._kept) >= _MOST:
                self._kept.clear()
            self._kept[one.id, raw, today] = found
        if found[1] is not None:
            raise ValueError(*found[1])
        return found[0]
