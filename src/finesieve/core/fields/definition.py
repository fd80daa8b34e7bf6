"""A field: one defined fact that can hold a value."""

import dataclasses
import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import date, datetime
from decimal import Decimal
from typing import Final

from finesieve.core.fields.about import PERSON
from finesieve.core.fields.built_in import KEPT_BY_ITSELF
from finesieve.core.fields.encoding import Json, from_json
from finesieve.core.fields.families.dates import write_instant
from finesieve.core.fields.families.places import all_regions, country_codes, country_names, country_of, named_regions
from finesieve.core.fields.manner import PLAIN, Manner, Titles, write_figure
from finesieve.core.fields.options import Option
from finesieve.core.fields.settings import FieldSettings
from finesieve.core.fields.types import TYPES, FieldType
from finesieve.core.phrases import phrase
from finesieve.core.values import DayOfYear, Kind, StoredFile, Type, Value

__all__ = ["Field", "Shelf", "base_of", "say_value", "show_value", "with_titles"]

PLAIN_SETTINGS: Final = FieldSettings()
_LONG: Final = 10_000
_KIND_TYPES: Final[Mapping[Kind, str]] = {
    "number": "number",
    "money": "money",
    "yes_no": "yes_no",
    "choice": "choice",
    "choices": "choices",
    "date": "date",
    "time": "time",
    "datetime": "datetime",
    "day_of_year": "day_of_year",
    "text_list": "text_list",
    "structured": "structured",
}
"""By what type a derived value of each kind is shown."""
_FULL_DATE: Final = re.compile("[0-9]{4}-[0-9]{2}-[0-9]{2}")
"""What is read the same on every day."""
_DATED: Final[frozenset[Kind]] = frozenset(("date", "datetime", "day_of_year"))


@dataclass(frozen=True, slots=True)
class Shelf:
    """What answers may point at: files that were sent and wait to be kept, by the token of their upload.

    `sent_for` says for which field each was sent, by its id: it is taken for no other.
    `titles` are those of records by id, by record type, for choices among records.
    """

    files: Mapping[str, StoredFile]
    titles: Mapping[int, Titles] = dataclasses.field(default_factory=dict)
    sent_for: Mapping[str, int] = dataclasses.field(default_factory=dict)

    def with_titles_in(self, one: "Field") -> "Field":
        """The field; a choice among records knows their titles."""
        return (
            with_titles(one, self.titles.get(one.settings.record_type or 0, Titles()))
            if one.type_key == "record"
            else one
        )


_OF_OPTIONS: Final = ("choice", "choices")
"""Kinds of which not every text is a value."""
_BARE: Final = {type_.kind: Type(type_.kind) for type_ in TYPES.values()}


@dataclass(frozen=True, slots=True)
class Field:
    """One fact.

    `about` says what it belongs to. `result` is the type of a derived field,
    which has a `formula` and is never asked; the others have a type of the
    catalogue. `generation` counts the columns that it has had, one for each
    change of type. `deleted_at` is set for one that can still be brought back.
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
    about: str = PERSON
    settings: FieldSettings = PLAIN_SETTINGS
    manner: Manner = PLAIN
    generation: int = 0
    deleted_at: datetime | None = None

    @property
    def derived(self) -> bool:
        return bool(self.formula)

    @property
    def name(self) -> str:
        """The name by which expressions call it: the key, unless it was named otherwise later."""
        return self.settings.called[0] if self.settings.called else self.key

    @property
    def names(self) -> tuple[str, ...]:
        """All names by which expressions may call it, the present one first: what was written once stays right."""
        return tuple(dict.fromkeys((self.name, self.key, *self.settings.called)))

    @property
    def as_called(self) -> "Field":
        """The same under its present name, for what is written as an expression."""
        return self if self.name == self.key else replace(self, key=self.name)

    @property
    def stores(self) -> bool:
        """Whether it has values of its own: not worked out, not for layout only."""
        return not self.formula and self.type.stores

    @property
    def by_itself(self) -> bool:
        """Whether the product keeps its values when something happens, and no form asks it."""
        return (self.built_in and self.key in KEPT_BY_ITSELF) or (
            self.type_key == "date" and self.settings.joined_list is not None
        )

    @property
    def type(self) -> FieldType:
        if self.result is not None:
            return TYPES[_KIND_TYPES.get(self.result.kind, "short_text")]
        return TYPES[self.type_key]

    @property
    def short(self) -> str:
        """The name for columns and lists."""
        return self.settings.short_name or self.label

    @property
    def offered(self) -> tuple[Option, ...]:
        """The options that a form offers: those not retired."""
        return tuple(option for option in self.options if not option.retired)

    @property
    def is_held(self) -> bool:
        """Whether people hold it, as a level or a role: in rules its bare name is what is held, not what is chosen."""
        return self.built_in and self.key in ("level", "role")

    @property
    def value_type(self) -> Type:
        """The type of its values in expressions."""
        if self.result is not None:
            return replace(self.result, unit=self.unit)
        options = self._stored_options()
        source = self.key if self.type.kind in ("choice", "choices") else ""
        return Type(
            self.type.kind,
            options,
            source,
            ordered=self.type_key == "progress",
            labels=self._labels(),
            scores=tuple(option.score or Decimal(0) for option in self.options),
            unit=self.unit,
        )

    def _labels(self) -> tuple[str, ...]:
        if self.type_key == "country":
            return country_names(self.manner.language)
        if self.type_key == "region":
            return self._regions()[1]
        return tuple(option.label for option in self.options)

    def _stored_options(self) -> tuple[str, ...]:
        if self.type_key == "country":
            return country_codes()
        if self.type_key == "region":
            return self._regions()[0]
        return tuple(option.stored_value for option in self.options)

    def _regions(self) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """Codes and names that its values may have: of every country, where it follows the one answered beside it."""
        return all_regions() if self.settings.country_from else named_regions(country_of(self))

    def beside(self, values: Mapping[str, Value]) -> "Field":
        """The field as it is asked beside these values: a region or a postcode follows the country among them."""
        country = values.get(self.settings.country_from) if self.settings.country_from else None
        if not isinstance(country, str):
            return self
        return replace(self, manner=replace(self.manner, country_beside=country))

    @property
    def options_renamed(self) -> Mapping[str, str]:
        """What stored options are called now that were called otherwise once."""
        return self.settings.renamed if self.type.has_options else {}

    def from_kept(self, data: Json) -> Value:
        """A value that was kept as JSON, its options under the names that they have now.

        Raises ValueError for what the field does not hold any more.
        """
        if data is None:
            return None
        kind = self.type.kind
        renamed = self.options_renamed if kind in _OF_OPTIONS else {}
        if renamed and isinstance(data, str):
            data = renamed.get(data, data)
        elif renamed and isinstance(data, list):
            data = [renamed.get(one, one) if isinstance(one, str) else one for one in data]
        return from_json(data, self.value_type if kind in _OF_OPTIONS else _BARE[kind])

    def refuse_retired(self, value: Value, before: Value = None) -> None:
        """Raise ValueError where a retired option is newly chosen; who holds one may keep it."""
        held = before if isinstance(before, tuple) else (before,)
        chosen = value if isinstance(value, tuple) else (value,)
        for option in self.options:
            if option.retired and option.stored_value in chosen and option.stored_value not in held:
                raise ValueError(
                    phrase("“{option}” is not offered any more. Choose one of the options.", option=option.label)
                )

    @property
    def column(self) -> str:
        """The column that holds its values; made from the id, never from a user's text."""
        return f"f{self.id}_{self.generation}" if self.generation else f"f{self.id}"

    def label_of(self, stored_value: str) -> str:
        """The label of a stored option value; the value itself where the option is gone."""
        stored_value = self.settings.renamed.get(stored_value, stored_value)
        for option in self.options:
            if option.stored_value == stored_value:
                return option.label
        return stored_value

    def parse(self, raw: str, shelf: Shelf | None = None, today: date | None = None) -> Value:
        """Read an answer; an empty one is blank. Raises ValueError with a plain sentence.

        `today` is the day it is, for answers such as tomorrow.
        """
        if self.type.kind == "file" and raw:
            found = shelf.files.get(raw) if shelf else None
            if found is None or shelf is None or shelf.sent_for.get(raw) != self.id:
                raise ValueError("Choose the file again.")
            return found
        if today is None or self.type.kind not in _DATED or _FULL_DATE.fullmatch(raw):
            return self.type.parse(raw, self)
        return self.type.parse(raw, replace(self, manner=replace(self.manner, today=today)))

    def show(self, value: Value) -> str:
        """The value as people read it; "" where it is blank."""
        if value is None:
            return ""
        if self.options and isinstance(value, str):
            return self.label_of(value)
        if self.options and isinstance(value, tuple):
            return ", ".join(self.label_of(item) for item in value)
        shown = self.type.show(value, self)
        return f"{shown} {self.unit}" if self.unit and isinstance(value, Decimal) else shown

    def say(self, value: Value) -> str:
        """The value as running text says it: as people read it, with figures in groups.

        But for a bare figure of four digits, which may be a year.
        """
        if self.type.kind != "number" or not isinstance(value, Decimal) or (abs(value) < _LONG and not self.unit):
            return self.show(value)
        return f"{write_figure(value, self.manner.language)} {self.unit}".strip()

    def plain(self, value: Value) -> str:
        """As `raw`, the same in every language: for files that programs read. Texts, phone numbers among them, are
        written as they are kept, moments with the offset of their local time."""
        if isinstance(value, DayOfYear):
            return str(value)
        if isinstance(value, datetime):
            return write_instant(value, self.manner.zone)
        if isinstance(value, str):
            return value
        return self._in_no_language.raw(value)

    @property
    def _in_no_language(self) -> "Field":
        if self.manner.language == PLAIN.language:
            return self
        return replace(self, manner=replace(self.manner, language=PLAIN.language))

    def raw(self, value: Value) -> str:
        """The value as it stands in an input."""
        return self.type.raw(value, self)


def base_of(known: Field, value: Value) -> Decimal:
    """From what a number counts when something is added to it: what it is, where it is blank its default, else 0."""
    if value is None and known.settings.default:
        try:
            value = known.parse(known.settings.default)
        except ValueError:
            value = None
    return value if isinstance(value, Decimal) else Decimal(0)


def show_value(type_: Type, value: Value, manner: Manner) -> str:
    """A value of this type as people read it; options by their labels, with the unit of the type."""
    return _of_type(type_, manner).show(value)


def say_value(type_: Type, value: Value, manner: Manner) -> str:
    """A value of this type as running text says it."""
    return _of_type(type_, manner).say(value)


def _of_type(type_: Type, manner: Manner) -> Field:
    options = tuple(Option(label, stored) for stored, label in zip(type_.options, type_.words, strict=True))
    return Field(0, "", "", "short_text", 0, unit=type_.unit, options=options, result=type_, manner=manner)


def with_titles(field: Field, titles: Titles) -> Field:
    """The field, knowing the titles of the records it chooses among."""
    return replace(field, manner=replace(field.manner, titles=titles))
