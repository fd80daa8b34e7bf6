"""The settings of a group, which apply to every field in it."""

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict

__all__ = ["GROUP_SETTINGS", "GroupSettings"]


class GroupSettings(BaseModel):
    """Who sees the fields of a group, and where they show."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    seen_by: Literal["everyone", "staff", "editors"] = "everyone"
    on_profile: bool = True
    folded: bool = False

    def to_json(self) -> dict[str, Any]:
        """Only what differs from the defaults, as it is stored."""
        return self.model_dump(mode="json", exclude_defaults=True)


GROUP_SETTINGS = {
    "seen_by": "Who sees its values: everyone, the person included; staff only; editors and owners only.",
    "on_profile": "Whether it shows on profiles at all.",
    "folded": "Whether it is folded on profiles until it is opened.",
}
"""Every setting in words; docs and pages read it."""
