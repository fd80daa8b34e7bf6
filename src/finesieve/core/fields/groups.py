"""The settings of a group, which apply to every field in it."""

from typing import Any, Final, Literal

from pydantic import BaseModel, ConfigDict, Field

__all__ = ["GROUP_SETTINGS", "PRINTED_PLACES", "GroupSettings", "PrintedLine", "PrintedPlace"]

PrintedPlace = Literal["first", "name", "street", "last"]
PRINTED_PLACES: Final[dict[PrintedPlace, str]] = {
    "first": "above everything",
    "name": "under the name",
    "street": "under the street",
    "last": "under everything",
}
"""Where a line of one's own is printed in an address, in words."""


class PrintedLine(BaseModel):
    """A line added to an address as it is printed: a text with placeholders, in one country, or (without one) in all.

    It is left out where all its placeholders are blank.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    text: str = Field(min_length=1, max_length=200)
    country: str = Field(default="", pattern=r"^([A-Z]{2})?$")
    place: PrintedPlace = "last"


class GroupSettings(BaseModel):
    """Who sees the fields of a group, who may change them once they are filled, and where they show.

    `change_levels` are the keys of the levels that may, where levels may.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    seen_by: Literal["everyone", "staff", "editors"] = "everyone"
    change_by: Literal["anyone", "staff", "once", "levels"] = "anyone"
    change_levels: tuple[str, ...] = Field(default=(), max_length=100)
    on_profile: bool = True
    folded: bool = False
    printed: tuple[PrintedLine, ...] = Field(default=(), max_length=12)

    def to_json(self) -> dict[str, Any]:
        """Only what differs from the defaults, as it is stored."""
        return self.model_dump(mode="json", exclude_defaults=True)


GROUP_SETTINGS = {
    "seen_by": "Who sees its values: everyone, the person included; staff only; editors and owners only.",
    "change_by": "Who may change its values once they are filled, unless a field says otherwise.",
    "change_levels": "The levels that may, where members of levels may.",
    "on_profile": "Whether it shows on profiles at all.",
    "folded": "Whether it is folded on profiles until it is opened.",
    "printed": "Of an address: lines of your own when it is printed, by country.",
}
"""Every setting in words; docs and pages read it."""
