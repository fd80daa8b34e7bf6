"""A member page as it is stored: one versioned document, of blocks that may show for some only."""

from typing import Annotated, Final, Literal

from pydantic import BaseModel, ConfigDict, Field

from finesieve.core.limits import EXPRESSION, KEY, TEXT, TITLE

__all__ = ["AUDIENCES", "Audience", "Block", "MemberPage"]

Audience = Literal["public", "signed_in", "levels", "segment"]
AUDIENCES: Final[dict[Audience, str]] = {
    "public": "anyone",
    "signed_in": "whoever is signed in",
    "levels": "members of these levels",
    "segment": "the people of a segment",
}
"""Who may read a page, in words."""


class _Document(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Block(_Document):
    """A part of a page: a text in Markdown with placeholders, which shows where `show_when` is true.

    With a `button` (its label) it leads to `to`: an address of ours, or of the web, with placeholders. `picture` is the
    key of a house value, `shows` what is to be seen on it, for who cannot see it.
    """

    text: str = Field(default="", max_length=TEXT)
    show_when: Annotated[str, Field(max_length=EXPRESSION)] = ""
    button: str = Field(default="", max_length=60)
    to: str = Field(default="", max_length=500)
    picture: str = Field(default="", max_length=KEY)
    shows: str = Field(default="", max_length=200)


class MemberPage(_Document):
    """A page. `levels` are the ids of the levels that may read it, `segment` is the id of the segment that may."""

    title: str = Field(min_length=1, max_length=TITLE)
    audience: Audience = "signed_in"
    levels: tuple[int, ...] = Field(default=(), max_length=100)
    segment: int = 0
    blocks: tuple[Block, ...] = Field(default=(), max_length=60)
