"""A field: one defined fact that can hold a value."""

from dataclasses import dataclass
from decimal import Decimal
from typing import Final

from finesieve.core.fields.types import TYPES, FieldType
from finesieve.core.values import Type

__all__ = ["BUILT_IN", "BuiltIn", "Field", "Option", "options_from_lines"]


@dataclass(frozen=True, slots=True)
class Option:
    """One choice: its label for people, its stored value for everything else."""

    label: str
    stored_value: str


@dataclass(frozen=True, slots=True)
class Field:
    """One fact kept about a person.

    `result` is the type of a derived field, which has a `formula` and is never
    asked; the others have a type of the catalogue.
    """

    id: int
    key: str
    label: str
    type_key: str
    group_id: int
    help: str = ""
    required: bool = False
    unit: str = ""
    options: tuple[Option, ...] = ()
    built_in: bool = False
    formula: str = ""
    result: Type | None = None

    @property
    def derived(self) -> bool:
        return bool(self.formula)

    @property
    def type(self) -> FieldType:
        return TYPES[self.type_key]

    @property
    def value_type(self) -> Type:
        """The type of its values in expressions."""
        if self.result is not None:
            return self.result
        options = tuple(option.stored_value for option in self.options)
        return Type(self.type.kind, options, self.key if options else "")

    @property
    def column(self) -> str:
        """The column that holds its values; made from the id, never from a user's text."""
        return f"f{self.id}"

    def label_of(self, stored_value: str) -> str:
        """The label of a stored option value; the value itself where the option is gone."""
        for option in self.options:
            if option.stored_value == stored_value:
                return option.label
        return stored_value

    def show(self, value: object) -> str:
        """The value as people read it; "" where it is blank."""
        if value is None:
            return ""
        if isinstance(value, str) and self.options:
            return self.label_of(value)
        shown = self.type.show(value)
        return f"{shown} {self.unit}" if self.unit and isinstance(value, Decimal) else shown


@dataclass(frozen=True, slots=True)
class BuiltIn:
    """A field that every workspace has from the start."""

    key: str
    label: str
    type_key: str
    required: bool
    help: str


BUILT_IN: Final = (
    BuiltIn("email", "Email", "email", True, ""),
    BuiltIn("first_name", "First name", "short_text", False, ""),
    BuiltIn("last_name", "Last name", "short_text", False, ""),
    BuiltIn("signed_up_on", "Signed up on", "date", False, "The day they first sent a form; set by the house."),
)


def options_from_lines(text: str) -> tuple[Option, ...]:
    """Options from pasted lines, `Label` or `Label = stored value` each.

    Raises ValueError, with a sentence, where two stored values are the same or
    none is left.
    """
    options: list[Option] = []
    seen: set[str] = set()
    for line in text.splitlines():
        label, _, stored = (part.strip() for part in line.partition("="))
        if not label:
            continue
        stored = stored or label.lower()
        if stored in seen:
            raise ValueError(f"Two options have the stored value “{stored}”.")
        if len(label) > 200 or len(stored) > 200:
            raise ValueError("An option has at most 200 characters.")
        seen.add(stored)
        options.append(Option(label, stored))
    if not options:
        raise ValueError("A choice needs at least one option, one a line.")
    if len(options) > 200:
        raise ValueError("A choice has at most 200 options.")
    return tuple(options)
