"""The catalogue of field types: how each is read from an answer, shown, and stamped."""

from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from typing import Final

from finesieve.core.fields.asked import Asked
from finesieve.core.fields.families import choices, colours, data, dates, numbers, places, texts
from finesieve.core.values import Kind, Value, plain_number, tidy_text

__all__ = ["LAYOUT", "TYPES", "FieldType"]


def _shown(value: Value, _asked: Asked) -> str:
    return str(value)


@dataclass(frozen=True, slots=True)
class FieldType:
    """One type of field.

    `read` takes the tidied, non-empty text of an answer and gives the value, or
    raises ValueError with a plain sentence. `shows` gives the value as people
    read it, `writes` as it stands in an input. `stamp` is the sign in lists. A
    type that `stores` nothing is for layout only. `widget` names the template of its
    inputs and of how it shows, in `web/widgets`.
    """

    key: str
    label: str
    example: str
    stamp: str
    kind: Kind
    read: Callable[[str, Asked], Value]
    shows: Callable[[Value, Asked], str] = _shown
    writes: Callable[[Value, Asked], str] = _shown
    stores: bool = True
    widget: str = "line"

    def parse(self, raw: str, asked: Asked) -> Value:
        """Read an answer; an empty one is blank. Raises ValueError with a plain sentence."""
        try:
            text = tidy_text(raw)
        except ValueError:
            raise ValueError("This holds a character that cannot be kept; type it anew.") from None
        return self.read(text, asked) if text else None

    def show(self, value: Value, asked: Asked) -> str:
        """The value as people read it; "" where it is blank."""
        if value is None:
            return ""
        if isinstance(value, Decimal) and self.kind not in ("number", "money"):
            return plain_number(value)
        return self.shows(value, asked)

    def raw(self, value: Value, asked: Asked) -> str:
        """The value as it stands in an input."""
        return "" if value is None else self.writes(value, asked)

    @property
    def has_options(self) -> bool:
        """Whether its owner lists the options."""
        return self.key in ("choice", "choices", "progress")


def _nothing(_text: str, _asked: Asked) -> Value:
    return None


TYPES: Final[dict[str, FieldType]] = {
    type_.key: type_
    for type_ in (
        FieldType("short_text", "Short text", "what they call their plot", "Txt", "text", texts.read_short_text),
        FieldType(
            "long_text",
            "Long text",
            "what they would like to learn",
            "Text",
            "text",
            texts.read_long_text,
            widget="lines",
        ),
        FieldType("email", "Email", "where messages are sent", "Mail", "text", texts.read_email),
        FieldType(
            "phone", "Phone", "where to ring them", "Tel", "text", texts.read_phone, texts.show_phone, texts.show_phone
        ),
        FieldType("url", "Web address", "their garden’s own page", "Web", "text", texts.read_url),
        FieldType(
            "secret",
            "Secret",
            "the word that opens the tool shed",
            "Key",
            "secret",
            texts.read_secret,
            texts.show_secret,
            data.write_nothing,
            widget="secret",
        ),
        FieldType(
            "number",
            "Number",
            "litres a day",
            "Num",
            "number",
            numbers.read_number,
            numbers.show_number,
            numbers.write_number,
        ),
        FieldType(
            "money",
            "Money",
            "what they pledge a year",
            "Mny",
            "money",
            numbers.read_money,
            numbers.show_money,
            numbers.write_number,
        ),
        FieldType(
            "yes_no",
            "Yes or no",
            "has a greenhouse",
            "Y/N",
            "yes_no",
            choices.read_yes_no,
            choices.show_yes_no,
            choices.write_yes_no,
            widget="yes_no",
        ),
        FieldType(
            "agreement",
            "Agreement",
            "accepts the garden rules",
            "Agr",
            "yes_no",
            choices.read_agreement,
            choices.show_agreement,
            choices.write_yes_no,
            widget="agreement",
        ),
        FieldType("choice", "One choice", "how they water", "1 of", "choice", choices.read_choice, widget="choice"),
        FieldType(
            "choices",
            "Several choices",
            "what they grow",
            "n of",
            "choices",
            choices.read_choices,
            texts.show_text_list,
            texts.write_lines,
            widget="choices",
        ),
        FieldType(
            "progress",
            "Progress",
            "how far the raised bed has come",
            "Step",
            "choice",
            choices.read_choice,
            widget="choice",
        ),
        FieldType("date", "Date", "when they were born", "Date", "date", dates.read_date, dates.show_date),
        FieldType(
            "time",
            "Time of day",
            "when they like to be rung",
            "Time",
            "time",
            dates.read_time,
            dates.show_time,
            dates.write_time,
        ),
        FieldType(
            "datetime",
            "Date and time",
            "when the soil was tested",
            "D+T",
            "datetime",
            dates.read_datetime,
            dates.show_datetime,
            dates.write_datetime,
            widget="moment",
        ),
        FieldType(
            "day_of_year",
            "Day of the year",
            "their birthday",
            "Day",
            "day_of_year",
            dates.read_day_of_year,
            dates.show_day_of_year,
            dates.show_day_of_year,
        ),
        FieldType("colour", "Colour", "the paint of the shed", "Col", "text", colours.read_colour, widget="colour"),
        FieldType(
            "file",
            "File",
            "a soil report",
            "File",
            "file",
            data.read_sent_file,
            writes=data.write_nothing,
            widget="file",
        ),
        FieldType(
            "picture",
            "Picture",
            "a photo of the plot",
            "Pic",
            "file",
            data.read_sent_file,
            writes=data.write_nothing,
            widget="file",
        ),
        FieldType(
            "country",
            "Country",
            "where their seeds come from",
            "Ctry",
            "choice",
            places.read_country,
            places.show_country,
            widget="country",
        ),
        FieldType(
            "region",
            "Region",
            "the county they garden in",
            "Regn",
            "choice",
            places.read_region,
            places.show_region,
            widget="region",
        ),
        FieldType("postcode", "Postcode", "where their parcels go", "Post", "text", places.read_postcode),
        FieldType(
            "text_list",
            "List of texts",
            "names of their beds",
            "List",
            "text_list",
            texts.read_text_list,
            texts.show_text_list,
            texts.write_lines,
            widget="lines",
        ),
        FieldType(
            "structured",
            "Structured data",
            "readings of the weather post",
            "JSON",
            "structured",
            data.read_structured,
            writes=data.write_structured,
            widget="lines",
        ),
        FieldType(
            "record",
            "One of the records",
            "the plot they would like",
            "Rec",
            "choice",
            choices.read_record,
            choices.show_record,
            widget="record",
        ),
        FieldType("heading", "Heading", "a title between questions", "Head", "text", _nothing, stores=False),
        FieldType("note", "Note", "a paragraph between questions", "Note", "text", _nothing, stores=False),
    )
}
LAYOUT: Final = frozenset(key for key, type_ in TYPES.items() if not type_.stores)
"""Types for layout only: they hold no value."""
