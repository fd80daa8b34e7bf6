"""What goes into the machine and what comes out of it: a reply, and the turn that the conversation takes."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from finesieve.core.chat.effects import Effects
from finesieve.core.chat.journal import State
from finesieve.core.chat.replies import Offer
from finesieve.core.fields.encoding import Json

__all__ = ["Identity", "Message", "Reply", "Trace", "Turn"]


Identity = Literal["", "right", "wrong"]
"""Whether a code is the one that was sent; "" where none was asked for."""


@dataclass(frozen=True, slots=True)
class Reply:
    """What somebody sends. `key` makes it count once. `button` is the id of an offer, `step` the line that a clerk
    returns it to; `timer` names the visit that a clock was set for. `given` is what came from a page, by key,
    `identity` whether a code that was asked for is right.
    """

    key: str
    text: str = ""
    button: str = ""
    timer: int = 0
    step: str = ""
    given: Mapping[str, Json] | None = None
    identity: Identity = ""


@dataclass(frozen=True, slots=True)
class Message:
    """Something that the house says. `picture` is the key of a house value, `shows` what is to be seen on it."""

    text: str
    kind: Literal["say", "ask", "noted", "problem", "sum", "plain"] = "say"
    line: str = ""
    picture: str = ""
    shows: str = ""
    link: tuple[str, str] = ("", "")
    lines: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Trace:
    """Why something went as it did: the line, and a sentence."""

    line: str
    words: str


@dataclass(frozen=True, slots=True)
class Turn:
    """What comes of a reply.

    `expects` says what kind of reply is waited for, None where none is. `effects` are to be written with the state,
    where this is a commit point. `quiet` is why nothing was said, `understood` what the reply was taken for. `repeated`
    tells that the reply had been counted before, `restarts` that a new conversation is to begin, `hush` that what was
    typed may be a secret, and is not to be kept, `code_to` the address that a code is to be sent to.
    """

    state: State
    messages: tuple[Message, ...] = ()
    offers: tuple[Offer, ...] = ()
    expects: Mapping[str, Any] | None = None
    effects: Effects | None = None
    understood: str = ""
    quiet: str = ""
    handed_over: str | None = None
    trace: tuple[Trace, ...] = ()
    repeated: bool = False
    restarts: bool = False
    hush: bool = False
    code_to: str = ""
