"""A chat script as it is stored: one versioned document of lines, some of them under a reply."""

from collections.abc import Iterator
from typing import Annotated, Any, Final, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from finesieve.core.limits import EXPRESSION, KEY, LABEL, NAME, OPTION, TEXT, TITLE
from finesieve.core.model.checks import Check

__all__ = [
    "ADDRESS_NAMES",
    "END",
    "MOST_LINES",
    "NEXT",
    "PASSING_TYPES",
    "VERBS",
    "Action",
    "Alternative",
    "Ask",
    "Branch",
    "Case",
    "Choose",
    "Confirm",
    "Do",
    "EachRecord",
    "End",
    "GoTo",
    "HandOver",
    "Passing",
    "Reply",
    "Say",
    "Script",
    "Step",
    "SumUp",
    "Wait",
    "expressions_of",
    "parts_of",
    "texts_of",
]  # fmt: skip

MOST_LINES: Final = 500
NEXT: Final = ""
"""Leads on to the line that follows."""
END: Final = "end"
"""Leads to the end of the conversation."""
Expression = Annotated[str, Field(max_length=EXPRESSION)]
Target = Annotated[str, Field(pattern=r"^(end|l[0-9]{1,6})?$")]
PASSING_TYPES: Final = ("number", "short_text", "yes_no", "date", "choice")
"""The types that a passing value can have."""
ADDRESS_NAMES: Final = {"billing": "Billing address", "delivery": "Delivery address"}
"""The addresses that are asked as one."""
VERBS: Final[dict[str, str]] = {
    "becomes": "becomes", "gains": "gains", "loses": "loses", "is_emptied": "is emptied",
    "tag_on": "put on the tag", "tag_off": "take off the tag",
    "list_on": "put on the list", "list_off": "take off the list", "send": "send the message",
}  # fmt: skip
"""What an action does, in words."""


class _Document(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Passing(_Document):
    """A value that lives as long as the conversation: what was asked by the way, or a tally. It starts as `start`."""

    key: str = Field(pattern=r"^[a-z][a-z0-9_]*$", max_length=KEY)
    label: str = Field(min_length=1, max_length=LABEL)
    type_key: Literal["number", "short_text", "yes_no", "date", "choice"] = "number"
    unit: str = Field(default="", max_length=20)
    start: str = Field(default="", max_length=200)
    options: tuple[Annotated[str, Field(min_length=1, max_length=OPTION)], ...] = Field(default=(), max_length=60)


class Reply(_Document):
    """A prepared reply. `value` is what it sets, its label where that is empty; `to` is where it leads.

    A `link` opens an address, a `call` rings a number, a `write` begins a message: these are no replies, and lead
    nowhere. Their `target` may hold placeholders.
    """

    id: str = Field(pattern=r"^b[0-9]{1,6}$")
    label: str = Field(min_length=1, max_length=OPTION)
    value: str = Field(default="", max_length=TEXT)
    to: Target = NEXT
    kind: Literal["reply", "link", "call", "write"] = "reply"
    target: str = Field(default="", max_length=500)


class _Line(_Document):
    """`under` is the reply or the case that a line stands under, "" for none."""

    id: str = Field(pattern=r"^l[0-9]{1,6}$")
    under: str = Field(default="", pattern=r"^([bc][0-9]{1,6})?$")


class Alternative(_Document):
    """One of several ways to say the same, shown as often as its share says."""

    text: str = Field(default="", max_length=TEXT)
    share: int = Field(default=1, ge=1, le=100)


class Say(_Line):
    """The house says something; with a picture of the house, or a link below it."""

    kind: Literal["say"] = "say"
    texts: tuple[Alternative, ...] = Field(default=(Alternative(),), min_length=1, max_length=8)
    picture: str = Field(default="", max_length=KEY)
    shows: str = Field(default="", max_length=200)
    link_label: str = Field(default="", max_length=60)
    link_to: str = Field(default="", max_length=500)
    to: Target = NEXT


class _Asking(_Line):
    """What is asked, and what happens when a reply does not fit. What is asked is a field, or a passing value by its
    key.

    `known`: where it is known already, it is asked all the same, passed over, or only confirmed.
    """

    text: str = Field(default="", max_length=TEXT)
    field_id: int = 0
    passing: str = Field(default="", max_length=KEY)
    known: Literal["ask", "skip", "confirm"] = "ask"
    retry: str = Field(default="", max_length=TEXT)
    tries: int = Field(default=3, ge=1, le=20)
    then: Annotated[str, Field(pattern=r"^(skip|hand|l[0-9]{1,6})$")] = "hand"


class Ask(_Asking):
    """A question whose kind of reply follows from its field; or an `address`, with all its lines."""

    kind: Literal["ask"] = "ask"
    address: Literal["", "billing", "delivery"] = ""
    optional: bool = False
    checks: tuple[Check, ...] = Field(default=(), max_length=20)
    to: Target = NEXT


class Choose(_Asking):
    """A question with prepared replies; they may set a value, and each leads somewhere."""

    kind: Literal["choose"] = "choose"
    replies: tuple[Reply, ...] = Field(default=(), max_length=20)


class Case(_Document):
    """One way of a branch: taken where its rule is true, the first that is."""

    id: str = Field(pattern=r"^c[0-9]{1,6}$")
    rule: Expression = ""
    to: Target = NEXT


class Branch(_Line):
    """Where it goes on depends on rules; where none is true, on the line that follows or `to`."""

    kind: Literal["branch"] = "branch"
    cases: tuple[Case, ...] = Field(default=(), max_length=20)
    to: Target = NEXT


class Action(_Document):
    """One thing that is done. Values of the house are named by their field too.

    `value` is a formula for becomes, gains and loses; the name of a tag; the text of a message.
    """

    verb: Literal["becomes", "gains", "loses", "is_emptied", "tag_on", "tag_off", "list_on", "list_off", "send"] = (
        "becomes"
    )
    field_id: int = 0
    passing: str = Field(default="", max_length=KEY)
    list_id: int = 0
    value: Expression = ""


class Do(_Line):
    """What is done, once the conversation gets here; with `now` it is written at once, with all before it."""

    kind: Literal["do"] = "do"
    actions: tuple[Action, ...] = Field(default=(), max_length=20)
    now: bool = False
    to: Target = NEXT


class EachRecord(_Line):
    """The lines under it are about a record of the person: one that they choose, a new one, or each in turn.

    `link_id` is the link by which records are theirs. With `or_new` a new one is offered among those to choose; with
    `another` it is asked, after the lines, whether there is another. `inside` is what the lines stand under.
    """

    kind: Literal["record"] = "record"
    text: str = Field(default="", max_length=TEXT)
    link_id: int = 0
    which: Literal["one", "new", "each"] = "one"
    or_new: bool = False
    another: bool = False
    another_text: str = Field(default="", max_length=TEXT)
    inside: Case
    to: Target = NEXT


class Confirm(_Line):
    """It is found out who they are: by a code that is sent to the email they give. Who does not know it goes on all the
    same, unconfirmed."""

    kind: Literal["confirm"] = "confirm"
    text: str = Field(default="", max_length=TEXT)
    tries: int = Field(default=3, ge=1, le=20)
    then: Literal["skip"] = "skip"
    to: Target = NEXT


class SumUp(_Line):
    """What was answered, each of it to be corrected; then on. Accepted, it is written."""

    kind: Literal["sum_up"] = "sum_up"
    text: str = Field(default="", max_length=TEXT)
    to: Target = NEXT


class Wait(_Line):
    """It waits until a field is filled by others, or so many minutes, and then leads on."""

    kind: Literal["wait"] = "wait"
    text: str = Field(default="", max_length=TEXT)
    field_id: int = 0
    minutes: int = Field(default=0, ge=0, le=60 * 24 * 90)
    late_to: Target = NEXT
    to: Target = NEXT


class HandOver(_Line):
    """A clerk goes on, with what was answered."""

    kind: Literal["hand_over"] = "hand_over"
    text: str = Field(default="", max_length=TEXT)
    note: str = Field(default="", max_length=TEXT)


class GoTo(_Line):
    """On to another line; or through another script, and back."""

    kind: Literal["go_to"] = "go_to"
    script: str = Field(default="", max_length=60)
    to: Target = NEXT


class End(_Line):
    """The conversation is over."""

    kind: Literal["end"] = "end"
    text: str = Field(default="", max_length=TEXT)


Step = Annotated[
    Say | Ask | Choose | Branch | EachRecord | Confirm | Do | SumUp | Wait | HandOver | GoTo | End,
    Field(discriminator="kind"),
]


class Script(_Document):
    """The lines of a chat script, in order; those under a reply or a case come after the line it belongs to.

    `speaker` is who speaks: words, or the key of a house value in braces. `channels` are where it runs. `languages` are
    those it can be held in, the first is the one it is written in; `phrases` gives, for each other one, its texts by
    ours. `embed_on` are the sites that may show it within pages of their own. `silence` is after how many hours
    without a word it is closed and written.
    """

    title: str = Field(min_length=1, max_length=TITLE)
    purpose: str = Field(default="", max_length=500)
    group: str = Field(default="", max_length=60)
    speaker: str = Field(default="", max_length=NAME)
    speaker_picture: str = Field(default="", max_length=KEY)
    channels: tuple[Literal["web", "text"], ...] = ("web", "text")
    languages: tuple[Annotated[str, Field(pattern=r"^[a-z]{2,3}$")], ...] = Field(default=("en",), max_length=12)
    phrases: dict[str, dict[str, str]] = Field(default_factory=dict)
    embed_on: tuple[str, ...] = Field(default=(), max_length=20)
    silence: int = Field(default=72, ge=1, le=24 * 90)
    passing: tuple[Passing, ...] = Field(default=(), max_length=60)
    steps: tuple[Step, ...] = Field(default=(), max_length=MOST_LINES)

    @model_validator(mode="after")
    def _sensible(self) -> Self:
        ids = [step.id for step in self.steps] + [part.id for step in self.steps for part in parts_of(step)]
        if len(set(ids)) != len(ids):
            raise ValueError("Two lines have the same id.")
        if len({one.key for one in self.passing}) != len(self.passing):
            raise ValueError("Two passing values have the same key.")
        before: set[str] = set()
        for step in self.steps:
            if step.under and step.under not in before:
                raise ValueError("A line stands under a reply that comes after it.")
            before.update(part.id for part in parts_of(step))
        return self

    def step(self, step_id: str) -> Any:
        """The line with this id, or None."""
        return next((one for one in self.steps if one.id == step_id), None)

    def next_id(self, letter: Literal["l", "b", "c"] = "l") -> str:
        """An id that nothing has in this document: of a line, a reply, a case."""
        ids = [step.id for step in self.steps] + [part.id for step in self.steps for part in parts_of(step)]
        return f"{letter}{max((int(one[1:]) for one in ids if one[0] == letter), default=0) + 1}"

    def texts_to_say(self) -> tuple[str, ...]:
        """Every text of its own that people read, each once, in order."""
        found = dict.fromkeys([self.title, *(text for _, text in self.walk_texts())])
        return tuple(text for text in found if text.strip())

    def walk_texts(self) -> Iterator[tuple[str, str]]:
        """Every text that people read, with the id of the line or reply it stands at."""
        for step in self.steps:
            yield from texts_of(step)


def parts_of(step: Any) -> tuple[Reply | Case, ...]:
    """The replies or cases of a line, which others can stand under; of one about records, what is asked of each."""
    if isinstance(step, Choose):
        return step.replies
    if isinstance(step, EachRecord):
        return (step.inside,)
    return step.cases if isinstance(step, Branch) else ()


def expressions_of(step: Any) -> Iterator[str]:
    """The rules and formulas of a line."""
    if isinstance(step, Branch):
        yield from (case.rule for case in step.cases if case.rule.strip())
    if isinstance(step, Do):
        yield from (
            one.value for one in step.actions if one.verb in ("becomes", "gains", "loses") and one.value.strip()
        )
    if isinstance(step, Ask):
        yield from (one.expression for one in step.checks if one.kind == "condition")


def texts_of(step: Any) -> Iterator[tuple[str, str]]:
    """The texts of a line that people read, with the id of the line or reply."""
    if isinstance(step, Say):
        yield from ((step.id, one.text) for one in step.texts)
        yield from ((step.id, text) for text in (step.link_label, step.link_to))
        return
    for part in ("text", "retry", "another_text"):
        yield step.id, getattr(step, part, "")
    for reply in step.replies if isinstance(step, Choose) else ():
        yield from ((reply.id, text) for text in (reply.label, reply.target))
    if isinstance(step, Do):
        yield from ((step.id, one.value) for one in step.actions if one.verb == "send")
