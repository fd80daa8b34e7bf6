"""The one tree of errors.

FineSieveError
├── InvalidInput          what was given cannot be taken; says so per place
│   └── InvalidExpression an expression with problems
├── NotFound              no such thing in this workspace
│   └── LinkEnded         a link that is none, or does not work any more
├── NotAllowed            the role does not permit it
├── Conflict              it has changed meanwhile
│   └── Overtaken         somebody else has saved the same thing first
├── TooOften              more in a short time than a person sends
├── NotCompilable         an expression that SQL cannot say
└── Unavailable           the database cannot be reached or is busy
    └── TookTooLong       the time that this kind of work may take is over
"""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from finesieve.core.language.problems import Problem, Span

__all__ = [
    "Conflict",
    "FineSieveError",
    "InvalidExpression",
    "InvalidInput",
    "LinkEnded",
    "NotAllowed",
    "NotCompilable",
    "NotFound",
    "Overtaken",
    "TooOften",
    "TookTooLong",
    "Unavailable",
]


class FineSieveError(Exception):
    """The root: everything the product raises on purpose."""


class InvalidInput(FineSieveError):
    """Input that cannot be taken.

    `messages` maps the name of an input to one plain sentence; the name ""
    stands for the whole.
    """

    def __init__(self, messages: Mapping[str, str]) -> None:
        super().__init__("; ".join(messages.values()))
        self.messages = dict(messages)


class InvalidExpression(InvalidInput):
    """An expression with problems, each with its place."""

    def __init__(self, problems: Sequence["Problem"], name: str = "expression") -> None:
        super().__init__({name: " ".join(problem.message for problem in problems)})
        self.problems = tuple(problems)


class NotFound(FineSieveError):
    """There is no such thing in this workspace."""


class LinkEnded(NotFound):
    """A link that is none of ours, or does not work any more; which of both is not said."""


class NotAllowed(FineSieveError):
    """The staff member's role does not permit this."""


class Conflict(FineSieveError):
    """What was to be changed has changed meanwhile; nothing was overwritten."""


class Overtaken(Conflict):
    """Somebody else, `by`, has changed the very same thing first; both are to be shown.

    `changes` says what they changed: (what, how it was, how it is now) each.
    """

    def __init__(self, by: str, changes: Sequence[tuple[str, str, str]] = ()) -> None:
        super().__init__(f"{by} has changed this meanwhile. Your change was not made.")
        self.by = by
        self.changes = tuple(changes)


class TooOften(FineSieveError):
    """More came from one place in a short time than a person sends."""


class NotCompilable(FineSieveError):
    """SQL cannot say this part of an expression."""

    def __init__(self, span: "Span", hint: str) -> None:
        super().__init__(hint)
        self.span = span
        self.hint = hint


class Unavailable(FineSieveError):
    """The database cannot be reached, or something holds what is needed; try again."""


class TookTooLong(Unavailable):
    """The time that this kind of work may take is over; nothing was changed."""
