"""A form as it is stored: one versioned document."""

from decimal import Decimal
from typing import Annotated, Literal, Self

import re2
from pydantic import BaseModel, ConfigDict, Field, model_validator

__all__ = ["Check", "Form", "PatternCheck", "Question", "RangeCheck", "compile_pattern"]


class _Document(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class RangeCheck(_Document):
    """A number must lie between two bounds, either of which may be open."""

    kind: Literal["range"] = "range"
    low: Decimal | None = None
    high: Decimal | None = None
    message: str = Field(default="", max_length=300)

    @model_validator(mode="after")
    def _sensible(self) -> Self:
        if self.low is None and self.high is None:
            raise ValueError("Give a smallest or a largest value.")
        if self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError("The smallest value is above the largest.")
        return self


class PatternCheck(_Document):
    """A text must match a pattern as a whole (RE2, so that no pattern can run away)."""

    kind: Literal["pattern"] = "pattern"
    pattern: str = Field(min_length=1, max_length=500)
    message: str = Field(default="", max_length=300)

    @model_validator(mode="after")
    def _sensible(self) -> Self:
        compile_pattern(self.pattern)
        return self


Check = Annotated[RangeCheck | PatternCheck, Field(discriminator="kind")]


class Question(_Document):
    """A place that asks for one field. Empty texts fall back to those of the field."""

    id: str = Field(pattern=r"^q[0-9]{1,6}$")
    field_id: int
    label: str = Field(default="", max_length=200)
    help: str = Field(default="", max_length=500)
    required: bool | None = None
    show_when: str = Field(default="", max_length=4_000)
    check: Check | None = None


class Form(_Document):
    """The questions of a form in order, and its texts."""

    title: str = Field(min_length=1, max_length=200)
    intro: str = Field(default="", max_length=2_000)
    send_label: str = Field(default="Send", min_length=1, max_length=60)
    thanks: str = Field(default="Thank you. Your answers have arrived.", max_length=2_000)
    questions: tuple[Question, ...] = ()

    @model_validator(mode="after")
    def _sensible(self) -> Self:
        for what, found in (("id", [q.id for q in self.questions]), ("field", [q.field_id for q in self.questions])):
            if len(set(found)) != len(found):
                raise ValueError(f"Two questions have the same {what}.")
        return self

    def question(self, question_id: str) -> Question | None:
        """The question with this id, or None."""
        return next((question for question in self.questions if question.id == question_id), None)

    def next_id(self) -> str:
        """An id no question has had in this document."""
        return f"q{max((int(question.id[1:]) for question in self.questions), default=0) + 1}"


def compile_pattern(pattern: str) -> "re2._Regexp":
    """Compile a pattern safely. Raises ValueError with a plain sentence."""
    options = re2.Options()
    options.max_mem = 1 << 20
    options.log_errors = False
    try:
        return re2.compile(pattern, options)
    except re2.error as problem:
        words = problem.args[0].decode() if problem.args and isinstance(problem.args[0], bytes) else str(problem)
        raise ValueError(f"The pattern cannot be read: {words}.") from None
