"""The parts of a setup, free of any id: things are named by key, group or plural."""

from typing import Any, ClassVar, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

from finesieve.core.commerce.shop import Shop
from finesieve.core.forms.earlier import upgraded
from finesieve.core.limits import DESCRIPTION, EXPRESSION, HELP, KEY, LABEL, NAME, NOUN, SLUG, SYMBOL, TITLE, UNIT
from finesieve.core.model.level_ends import LevelEnd
from finesieve.core.model.level_fees import LevelFee

__all__ = [
    "FieldPart",
    "FormPart",
    "GroupPart",
    "LabelPart",
    "LevelPart",
    "LinkPart",
    "Misfit",
    "OptionListPart",
    "PersonalLinkPart",
    "RecordTypePart",
    "ScriptPart",
    "SegmentPart",
    "Setup",
]


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class GroupPart(_Part):
    """A group. `about` is person, order, level, house, or record: and the key of a record type."""

    name: str = Field(min_length=1, max_length=NAME)
    about: str = Field(max_length=80)
    description: str = Field(default="", max_length=DESCRIPTION)
    settings: dict[str, Any] = Field(default_factory=dict)


class FieldPart(_Part):
    """A field. Settings that point at something name it: lists and levels by key, shared options by name."""

    key: str = Field(min_length=1, max_length=KEY)
    label: str = Field(min_length=1, max_length=LABEL)
    about: str = Field(max_length=80)
    group: str = Field(min_length=1, max_length=NAME)
    type: str
    help: str = Field(default="", max_length=HELP)
    required: bool = False
    unit: str = Field(default="", max_length=UNIT)
    options: tuple[dict[str, Any], ...] = ()
    settings: dict[str, Any] = Field(default_factory=dict)
    formula: str = Field(default="", max_length=EXPRESSION)
    built_in: bool = False


class RecordTypePart(_Part):
    """A record type. `title` is the key of the field that names a record."""

    key: str = Field(min_length=1, max_length=KEY)
    singular: str = Field(min_length=1, max_length=NOUN)
    plural: str = Field(min_length=1, max_length=NOUN)
    symbol: str = Field(default="", max_length=SYMBOL)
    description: str = Field(default="", max_length=DESCRIPTION)
    title: str = Field(default="", max_length=KEY)


class LinkPart(_Part):
    """A link of a record type, given by key, to people, orders, or `record:` and a key."""

    record_type: str
    name: str = Field(min_length=1, max_length=NOUN)
    target: str
    many: bool = False
    back_name: str = Field(min_length=1, max_length=NOUN)
    back_key: str = Field(min_length=1, max_length=KEY)


class LabelPart(_Part):
    """A list."""

    key: str = Field(min_length=1, max_length=KEY)
    name: str = Field(min_length=1, max_length=NAME)
    description: str = Field(default="", max_length=DESCRIPTION)


class LevelPart(LabelPart):
    """A level, and how long it is held; by itself without end."""

    lasts: LevelEnd | None = None
    fee: LevelFee | None = None


class OptionListPart(_Part):
    """Options that several fields share."""

    name: str = Field(min_length=1, max_length=NAME)
    options: tuple[dict[str, Any], ...]


class FormPart(_Part):
    """A form. In its document each question has the key of its field in the place of the id.

    `sets` are the house values that answers set, by the key of the field asked.
    """

    slug: str = Field(min_length=1, max_length=SLUG, pattern=r"^[a-z0-9-]+$")
    document: dict[str, Any]
    published: bool = False
    sets: dict[str, str] = Field(default_factory=dict)

    @field_validator("document")
    @classmethod
    def _of_now(cls, document: dict[str, Any]) -> dict[str, Any]:
        return upgraded(document, terse=True)


class ScriptPart(_Part):
    """A chat script. In its document fields are named by key: `field` of a person, `house` a house value, `list`."""

    slug: str = Field(min_length=1, max_length=SLUG, pattern=r"^[a-z0-9-]+$")
    document: dict[str, Any]
    published: bool = False


class SegmentPart(_Part):
    """A segment. `called` names it in the conditions of others; where a file leaves that or the folder out, what is
    there stays."""

    may_be_left_out: ClassVar[tuple[str, ...]] = ("called", "folder")
    called: str = Field(default="", max_length=KEY)
    folder: str = Field(default="", max_length=60)
    name: str = Field(min_length=1, max_length=LABEL)
    description: str = Field(default="", max_length=DESCRIPTION)
    expression: str = Field(default="", max_length=EXPRESSION)


class PersonalLinkPart(_Part):
    """A kind of personal link, and the short name of the form or the chat script that it opens."""

    key: str
    name: str = Field(min_length=1, max_length=LABEL)
    form: str = ""
    script: str = ""
    only_missing: bool = False
    days: int = Field(default=30, ge=1, le=3650)
    once: bool = False


class Misfit(_Part):
    """A part of a file of which the standard keywords and ours differ, or that cannot be; `why` names the place."""

    what: Literal["field", "form"]
    identity: tuple[str, ...]
    label: str
    why: str


class Setup(_Part):
    """Everything; or the `part` of it that is one group with its fields, or one field."""

    part: Literal["", "group", "field"] = ""
    title: str = Field(default="", max_length=TITLE)
    description: str = Field(default="", max_length=1_000)
    record_types: tuple[RecordTypePart, ...] = ()
    links: tuple[LinkPart, ...] = ()
    lists: tuple[LabelPart, ...] = ()
    levels: tuple[LevelPart, ...] = ()
    option_lists: tuple[OptionListPart, ...] = ()
    groups: tuple[GroupPart, ...] = ()
    fields: tuple[FieldPart, ...] = ()
    forms: tuple[FormPart, ...] = ()
    scripts: tuple[ScriptPart, ...] = ()
    segments: tuple[SegmentPart, ...] = ()
    personal_links: tuple[PersonalLinkPart, ...] = ()
    house_values: dict[str, Any] = Field(default_factory=dict)
    level_values: dict[str, dict[str, Any]] = Field(default_factory=dict)
    shop: Shop | None = None
    misfits: tuple[Misfit, ...] = ()

    def covers(self, part: BaseModel) -> bool:
        """Whether something that is not in here is meant to be gone: in a part, only fields of its group are."""
        if self.part == "group":
            groups = {(group.about, group.name) for group in self.groups}
            return isinstance(part, FieldPart) and (part.about, part.group) in groups
        return self.part == ""
