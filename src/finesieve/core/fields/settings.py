"""The settings of a field beyond its label and type, and which types take which."""

import json
from dataclasses import dataclass
from decimal import Decimal
from typing import Annotated, Any, Final, Literal, Self

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, PlainSerializer, model_validator

from finesieve.core.fields.options import read_decimal
from finesieve.core.limits import KEY
from finesieve.core.values import plain_number

__all__ = ["SETTINGS", "FieldSettings", "Media", "Setting"]

Changer = Literal["group", "anyone", "staff", "once", "levels"]
Width = Literal["full", "half", "third"]
Media = Literal["pictures", "pdf", "documents", "text", "sheets", "audio"]
Number = Annotated[
    Decimal | None,
    BeforeValidator(lambda text: text if isinstance(text, Decimal) else read_decimal(text, "number")),
    PlainSerializer(lambda number: None if number is None else plain_number(number)),
]


class FieldSettings(BaseModel):
    """What a field's owner may set. Everything has a plain default, and only what differs is stored."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    short_name: str = Field(default="", max_length=40)
    sample_text: str = Field(default="", max_length=200)
    purpose: str = Field(default="", max_length=1_000)
    default: str = Field(default="", max_length=2_000)
    fallback: str = Field(default="", max_length=500)
    unique: bool = False
    width: Width = "full"
    style_class: str = Field(
        default="", max_length=60, pattern=r"^([A-Za-z][A-Za-z0-9_-]*( [A-Za-z][A-Za-z0-9_-]*)*)?$"
    )
    private: bool = False
    searchable: bool = False
    lists: tuple[int, ...] = ()
    change_by: Changer = "group"
    change_levels: tuple[int, ...] = ()
    resting: bool = False
    widget: Literal["", "menu", "buttons", "ticks", "list"] = ""
    low: Number = None
    high: Number = None
    step: Number = None
    decimals: int | None = Field(default=None, ge=0, le=10)
    currency: str = Field(default="", pattern=r"^([A-Z]{3})?$")
    longest: int | None = Field(default=None, ge=1, le=20_000)
    fewest: int | None = Field(default=None, ge=1, le=500)
    most: int | None = Field(default=None, ge=1, le=500)
    country: str = Field(default="", pattern=r"^([A-Z]{2})?$")
    country_from: str = Field(default="", max_length=60)
    media: tuple[Media, ...] = ()
    most_kilobytes: int | None = Field(default=None, ge=1, le=20_480)
    files_for: Literal["staff", "editors"] = "staff"
    json_schema: str = Field(default="", max_length=20_000)
    record_type: int | None = None
    joined_list: int | None = None
    option_list: int | None = None
    renamed: dict[str, str] = Field(default_factory=dict)
    called: tuple[Annotated[str, Field(max_length=KEY, pattern=r"^[a-z][a-z0-9_]*$")], ...] = Field(
        default=(), max_length=40
    )

    @model_validator(mode="after")
    def _sensible(self) -> Self:
        if self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError("The smallest value is above the largest.")
        if self.step is not None and self.step <= 0:
            raise ValueError("The step is more than 0.")
        if self.fewest and self.most and self.fewest > self.most:
            raise ValueError("The fewest choices are more than the most.")
        return self

    def to_json(self) -> dict[str, Any]:
        """Only what differs from the defaults, as it is stored."""
        return dict(json.loads(self.model_dump_json(exclude_defaults=True)))


@dataclass(frozen=True, slots=True)
class Setting:
    """A setting in words. `types` are those it has a meaning for; none stand for all."""

    label: str
    help: str
    types: frozenset[str] = frozenset()


def _for(*types: str) -> frozenset[str]:
    return frozenset(types)


_TEXTS: Final = _for("short_text", "long_text", "url", "text_list")
_BOXES: Final = _TEXTS | _for("email", "phone", "postcode", "number", "money", "secret")
_NUMBERS: Final = _for("number", "money")
_FILES: Final = _for("file", "picture")

SETTINGS: Final[dict[str, Setting]] = {
    "short_name": Setting("Short name", "Stands over columns and in lists, where the label is too long."),
    "sample_text": Setting("Sample text", "The grey text inside the empty box.", _BOXES),
    "purpose": Setting("Why it exists", "A note to colleagues: what this is used for."),
    "default": Setting("Default", "What the form starts with. A menu without one starts unchosen."),
    "fallback": Setting("Fallback in messages", "Stands in for a blank, such as “neighbour” for a first name."),
    "unique": Setting(
        "Each value only once",
        "No two people may give the same, whatever the case.",
        _for("short_text", "email", "phone", "postcode", "url", "number"),
    ),
    "width": Setting("Width on forms", "Full, half or a third of the line."),
    "style_class": Setting("Style class", "Words for the style sheet of your own page, such as “quiet wide”."),
    "private": Setting("Private to staff", "Never shown to the person, nor asked on a public page."),
    "searchable": Setting(
        "Searchable",
        "The people list looks in it, too.",
        _for("short_text", "long_text", "email", "phone", "postcode", "url", "choice", "number"),
    ),
    "lists": Setting("Lists", "Only people on one of these lists have this field. None means everybody."),
    "joined_list": Setting(
        "Day of joining a list",
        "Filled in automatically when somebody joins this list, cleared when they leave it. No form asks for it.",
        _for("date"),
    ),
    "change_by": Setting(
        "Who may change it once it is filled",
        "As its group says, anyone, staff only, nobody, or members of the levels you name.",
    ),
    "change_levels": Setting("Levels that may change it", "Counts where the setting above names levels."),
    "resting": Setting("Paused", "No form asks it; values are kept, and it can be resumed at any time."),
    "widget": Setting("Asked as", "A menu or visible buttons; tick boxes or a list.", _for("choice", "choices")),
    "low": Setting("Smallest value", "Less than this is refused.", _NUMBERS),
    "high": Setting("Largest value", "More than this is refused.", _NUMBERS),
    "step": Setting("Step", "Values must be a whole number of steps from the smallest value, or from 0.", _NUMBERS),
    "decimals": Setting("Decimals", "How many places after the point are taken.", _for("number")),
    "currency": Setting("Currency", "Of the amounts; the house’s own if left empty.", _for("money")),
    "longest": Setting("Longest text", "In characters.", _TEXTS),
    "fewest": Setting("Fewest", "How many must be chosen, where any are.", _for("choices", "text_list")),
    "most": Setting("Most", "How many may be chosen.", _for("choices", "text_list")),
    "country": Setting(
        "Country",
        "Whose regions are offered, and whose postcodes taken; where a phone number without a prefix belongs.",
        _for("region", "postcode", "phone"),
    ),
    "country_from": Setting(
        "Country as answered in",
        "The field of type country whose answer decides; the one above holds where that is blank.",
        _for("region", "postcode"),
    ),
    "media": Setting(
        "Kinds of file", "What may be sent: pictures, pdf, text, sheets, audio. None means all of them.", _FILES
    ),
    "most_kilobytes": Setting("Largest file", "In kilobytes, at most 20,480.", _FILES),
    "files_for": Setting("Who may open the files", "All staff, or only editors and owners.", _FILES),
    "json_schema": Setting("JSON Schema", "What the data has to look like; draft 2020-12.", _for("structured")),
    "record_type": Setting("Record type", "Whose records are the options.", _for("record")),
    "option_list": Setting(
        "Shared option list", "Several fields can use one list of options.", _for("choice", "choices", "progress")
    ),
}
"""All settings that a person sets; a test holds them to `FieldSettings` and to the docs."""
