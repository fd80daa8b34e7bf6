"""Checks: tests an answer must pass. Each but two says itself as an expression of our language, and is explained so."""

from datetime import date
from decimal import Decimal
from typing import Annotated, Final, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from finesieve.core.language.printer import print_text_literal
from finesieve.core.patterns import compile_pattern
from finesieve.core.phrases import phrase
from finesieve.core.values import Kind, plain_number

__all__ = [
    "CHECK_KINDS",
    "Bound",
    "Check",
    "ConditionCheck",
    "CountCheck",
    "DateCheck",
    "LengthCheck",
    "NamedCheck",
    "OwnCheck",
    "PatternCheck",
    "RangeCheck",
    "SameCheck",
    "UniqueCheck",
    "check_expression",
    "kinds_for",
    "say_check",
    "say_range",
    "without_message",
]


class _Document(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")

    message: str = Field(default="", max_length=300)


class _Bounded(_Document):
    """Two bounds, either of which may be open."""

    low: Decimal | None = Field(default=None, max_digits=25, decimal_places=10, allow_inf_nan=False)
    high: Decimal | None = Field(default=None, max_digits=25, decimal_places=10, allow_inf_nan=False)

    @model_validator(mode="after")
    def _sensible(self) -> Self:
        if self.low is None and self.high is None:
            raise ValueError("Give a smallest or a largest value.")
        if self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError("The smallest value is above the largest.")
        return self


class RangeCheck(_Bounded):
    """A number must lie between two bounds."""

    kind: Literal["range"] = "range"


class _Counted(_Bounded):
    @model_validator(mode="after")
    def _whole(self) -> Self:
        for bound in (self.low, self.high):
            if bound is not None and (bound < 0 or bound != bound.to_integral_value()):
                raise ValueError("Give whole numbers from 0 on.")
        return self


class LengthCheck(_Counted):
    """A text must have so many characters."""

    kind: Literal["length"] = "length"


class CountCheck(_Counted):
    """So many must be chosen of a multiple choice."""

    kind: Literal["count"] = "count"


class PatternCheck(_Document):
    """A text must match a pattern as a whole (RE2, so that no pattern can run away)."""

    kind: Literal["pattern"] = "pattern"
    pattern: str = Field(min_length=1, max_length=500)

    @model_validator(mode="after")
    def _sensible(self) -> Self:
        compile_pattern(self.pattern)
        return self


class Bound(BaseModel):
    """A day: a fixed one, or so many days, months or years after today (before, if negative)."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    day: date | None = None
    amount: int = Field(default=0, ge=-1_000, le=1_000)
    unit: Literal["days", "months", "years"] = "days"

    @property
    def expression(self) -> str:
        """The day as an expression."""
        if self.day is not None:
            return f'date("{self.day.isoformat()}")'
        return f"add_{self.unit}(today(), {self.amount})" if self.amount else "today()"

    @property
    def words(self) -> str:
        """The day in words: `today`, `16 years ago`, `3 days from today`, `2026-04-18`."""
        if self.day is not None:
            return self.day.isoformat()
        if not self.amount:
            return phrase("today")
        one = abs(self.amount) == 1
        way = "ago" if self.amount < 0 else "from today"
        return phrase(_BOUNDS[(self.unit, way, one)], many=str(abs(self.amount)))


_BOUNDS: Final[dict[tuple[str, str, bool], str]] = {
    ("days", "ago", True): "yesterday",
    ("days", "ago", False): "{many} days ago",
    ("days", "from today", True): "tomorrow",
    ("days", "from today", False): "{many} days from today",
    ("months", "ago", True): "a month ago",
    ("months", "ago", False): "{many} months ago",
    ("months", "from today", True): "a month from today",
    ("months", "from today", False): "{many} months from today",
    ("years", "ago", True): "a year ago",
    ("years", "ago", False): "{many} years ago",
    ("years", "from today", True): "a year from today",
    ("years", "from today", False): "{many} years from today",
}


class DateCheck(_Document):
    """A date must lie between two days, either of which may be open; they may move along with today."""

    kind: Literal["date"] = "date"
    low: Bound | None = None
    high: Bound | None = None

    @model_validator(mode="after")
    def _sensible(self) -> Self:
        if self.low is None and self.high is None:
            raise ValueError("Give an earliest or a latest day.")
        return self


class SameCheck(_Document):
    """The answer must be the same as that to another question."""

    kind: Literal["same"] = "same"
    question: str = Field(pattern=r"^q[0-9]{1,6}$")


class ConditionCheck(_Document):
    """Any condition over the whole form; it fails only where it is false."""

    kind: Literal["condition"] = "condition"
    expression: str = Field(min_length=1, max_length=4_000)


class UniqueCheck(_Document):
    """Nobody else may have given the same; the service looks."""

    kind: Literal["unique"] = "unique"


class NamedCheck(_Document):
    """A check of the library, by its id. Its message stands in where this one is empty."""

    kind: Literal["named"] = "named"
    check_id: int


OwnCheck = Annotated[RangeCheck | LengthCheck | CountCheck | PatternCheck | DateCheck, Field(discriminator="kind")]
"""A check that looks at the answer alone, so that it can be kept in the library."""
Check = Annotated[
    RangeCheck
    | LengthCheck
    | CountCheck
    | PatternCheck
    | DateCheck
    | SameCheck
    | ConditionCheck
    | UniqueCheck
    | NamedCheck,
    Field(discriminator="kind"),
]

CHECK_KINDS: Final[dict[str, str]] = {
    "range": "Between two bounds",
    "length": "So many characters",
    "count": "So many chosen",
    "pattern": "Matches a pattern",
    "date": "Between two days",
    "same": "Same as another answer",
    "condition": "A condition over the form",
    "unique": "Nobody else has given it",
    "named": "One of the library",
}
"""The kinds of check in words, in the order offered."""
_KINDS_OF: Final[dict[str, frozenset[Kind]]] = {
    "range": frozenset(("number", "money")),
    "length": frozenset(("text",)),
    "count": frozenset(("choices", "text_list")),
    "pattern": frozenset(("text",)),
    "date": frozenset(("date", "datetime")),
    "unique": frozenset(("text", "number")),
}


def kinds_for(kind: Kind) -> tuple[str, ...]:
    """The kinds of check that make sense for answers of a kind, in the order offered."""
    if kind == "file":
        return ("condition",)
    if kind == "secret":
        return ("same",)
    return tuple(name for name in CHECK_KINDS if kind in _KINDS_OF.get(name, {kind}))


def check_expression(check: Check, key: str, kind: Kind) -> str:
    """What the check asks, as an expression over the answer called `key`; "" for one that Python compares itself."""
    match check:
        case RangeCheck():
            return _between(key, check.low, check.high)
        case LengthCheck():
            return _between(f"length({key})", check.low, check.high)
        case CountCheck():
            return _between(f"count({key})", check.low, check.high)
        case PatternCheck(pattern=pattern):
            return f"{key} matches {print_text_literal(pattern)}"
        case DateCheck(low=low, high=high):
            day = f"date({key})" if kind == "datetime" else key
            bounds = [low and f"{day} >= {low.expression}", high and f"{day} <= {high.expression}"]
            return " and ".join(bound for bound in bounds if bound)
        case ConditionCheck(expression=expression):
            return expression
    return ""


def _between(what: str, low: Decimal | None, high: Decimal | None) -> str:
    if low is not None and high is not None:
        return f"{what} between {plain_number(low)} and {plain_number(high)}"
    return f"{what} >= {plain_number(low)}" if low is not None else f"{what} <= {plain_number(high or Decimal(0))}"


def say_range(low: Decimal | None, high: Decimal | None, unit: str = "") -> str:
    """The bounds in words: `between 0.5 and 60 m`, `at least 1`."""
    after = f" {unit}" if unit else ""
    if low is not None and high is not None:
        return f"between {plain_number(low)} and {plain_number(high)}{after}"
    if low is not None:
        return f"at least {plain_number(low)}{after}"
    return f"at most {plain_number(high or Decimal(0))}{after}"


def say_check(check: Check, unit: str = "", names: dict[int, str] | None = None) -> str:
    """The check in words, to follow *must*: `be between 0.5 and 60 m`. `names` are those of the library."""
    match check:
        case RangeCheck():
            return f"be {say_range(check.low, check.high, unit)}"
        case LengthCheck():
            return f"have {say_range(check.low, check.high, 'characters')}"
        case CountCheck():
            return f"have {say_range(check.low, check.high)} chosen"
        case PatternCheck(pattern=pattern):
            return f"match {pattern}"
        case DateCheck(low=low, high=high):
            bounds = [low and f"not be before {low.words}", high and f"not be after {high.words}"]
            return " and ".join(bound for bound in bounds if bound)
        case SameCheck():
            return "be the same as another answer"
        case ConditionCheck(expression=expression):
            return f"fit: {expression}"
        case UniqueCheck():
            return "be given by nobody else"
    return f"pass “{(names or {}).get(check.check_id, 'a check that is gone')}”"


def without_message(check: Check, unit: str = "", other: str = "") -> str:
    """What is said where the check fails and has no message of its own. `other` is the label of the other question."""
    match check:
        case RangeCheck(low=low, high=high) if low is not None and high is not None:
            after = f" {unit}" if unit else ""
            return phrase(
                "This must be between {low} and {high}.", low=plain_number(low), high=plain_number(high) + after
            )
        case RangeCheck(low=low, high=high):
            after = f" {unit}" if unit else ""
            if low is not None:
                return phrase("This must be at least {low}.", low=plain_number(low) + after)
            return phrase("This must be at most {high}.", high=plain_number(high or Decimal(0)) + after)
        case LengthCheck(low=low, high=high) | CountCheck(low=low, high=high):
            return _count_words(check.kind, low, high)
        case DateCheck(low=low, high=high):
            return _date_words(low, high)
        case SameCheck():
            return phrase("This must be the same as “{other}”.", other=other)
        case UniqueCheck():
            return "This is taken already. Please choose another."
        case ConditionCheck():
            return "This does not go with your other answers."
    return "This does not have the form that is needed here."


def _count_words(kind: str, low: Decimal | None, high: Decimal | None) -> str:
    least, most = (None if bound is None else plain_number(bound) for bound in (low, high))
    if kind == "length":
        if least is not None and most is not None:
            return phrase("Write {low} to {high} characters.", low=least, high=most)
        if least is not None:
            return phrase("Write at least {low} characters.", low=least)
        return phrase("Write at most {high} characters.", high=most or "0")
    if least is not None and most is not None:
        return phrase("Choose {low} to {high}.", low=least, high=most)
    return phrase("Choose at least {low}.", low=least) if least else phrase("Choose at most {high}.", high=most or "0")


def _date_words(low: Bound | None, high: Bound | None) -> str:
    if low and high:
        return phrase("This must lie between {low} and {high}.", low=low.words, high=high.words)
    if low:
        return phrase("This must not be before {low}.", low=low.words)
    return phrase("This must not be after {high}.", high=high.words if high else "")
