"""An expression worked out step by step: each part as it is written, with its value; records; why it is blank."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Final, Literal

from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.explain import Explained, explain
from finesieve.core.language.gathering import Inside
from finesieve.core.language.problems import Span
from finesieve.core.language.program import Moment
from finesieve.core.language.typed import Typed
from finesieve.core.values import Kind, Value

__all__ = ["Gap", "Member", "Step", "gaps", "steps"]


@dataclass(frozen=True, slots=True)
class Member:
    """A record that a function looked at: its values, whether the condition holds, and what it brings."""

    row: Mapping[str, Value]
    verdict: Value
    value: Value


@dataclass(frozen=True, slots=True)
class Step:
    """A part of an expression. `name` is the key that a name reads, `members` are the records of a function over them,
    of the kind `about`; `column` is the key of the field of theirs that it takes."""

    text: str
    operation: str
    kind: Kind
    value: Value
    decided: bool
    parts: tuple["Step", ...] = ()
    name: str = ""
    about: str = ""
    column: str = ""
    members: tuple[Member, ...] = ()

    def walk(self) -> Iterator["Step"]:
        """This step and all below it."""
        yield self
        for part in self.parts:
            yield from part.walk()


def steps(text: str, typed: Typed, values: Mapping[str, Value], moment: Moment) -> Step:
    """Work an expression out step by step; `text` is as it was checked."""
    places = {(part.span.start, part.span.end, part.operation): part for part in typed.walk()}
    return _step(text, explain(typed, values, moment), places, values, moment)


def _step(
    text: str,
    part: Explained,
    places: Mapping[tuple[int, int, str], Typed],
    values: Mapping[str, Value],
    moment: Moment,
) -> Step:
    source = places.get((part.span.start, part.span.end, part.operation))
    below = tuple(_step(text, one, places, values, moment) for one in part.parts)
    written = _written(text, part.span)
    name = source.name if source is not None and source.operation in ("name", "house") else ""
    step = Step(
        written, part.operation, part.kind, part.value, part.decided, below, name, source.about if source else ""
    )
    if source is None or source.operation != "collect":
        return step
    roles = dict(zip(source.roles, source.parts, strict=True))
    column = roles.get("column")
    return Step(
        step.text,
        step.operation,
        step.kind,
        step.value,
        step.decided,
        about=source.about,
        column=column.name if column is not None else "",
        members=tuple(_members(source, roles, values, moment)),
    )


def _written(text: str, span: Span) -> str:
    """The text at a place, with the brackets that open or close just beside it and belong to it."""
    start, end = span.start, span.end
    while text.count("(", start, end) > text.count(")", start, end) and (close := text.find(")", end)) >= 0:
        end = close + 1
    while text.count("(", start, end) < text.count(")", start, end) and (opening := text.rfind("(", 0, start)) >= 0:
        start = opening
    return text[start:end]


def _members(
    source: Typed, roles: Mapping[str, Typed], values: Mapping[str, Value], moment: Moment
) -> Iterator[Member]:
    condition, column = ((compile_python(roles[one]) if one in roles else None) for one in ("where", "column"))
    held: Any = values.get(source.key) or ()
    for member in held:
        inside = Inside(values, f"{source.inner}:", member)
        verdict = True if condition is None else condition(inside, moment)
        yield Member(member, verdict, column(inside, moment) if column is not None else None)


Why = Literal["blank", "zero", "nothing", "column", "domain"]


@dataclass(frozen=True, slots=True)
class Gap:
    """Why a value is blank: a name that is (`blank`), a division by zero, no records that count (`nothing`), records
    without what is asked of them (`column`), or an operation that has no result for what it was given (`domain`)."""

    why: Why
    step: Step


_MOST: Final = 5


def gaps(step: Step) -> tuple[Gap, ...]:
    """The reasons why a step is blank, as they are written; none for one that is not."""
    found: dict[tuple[str, str], Gap] = {}
    for gap in _gaps(step):
        found.setdefault((gap.why, gap.step.text), gap)
    return tuple(found.values())[:_MOST]


def _gaps(step: Step) -> Iterator[Gap]:
    if step.value is not None:
        return
    if step.operation in ("name", "house"):
        yield Gap("blank", step)
    elif step.operation == "collect":
        counted = [member for member in step.members if member.verdict is True]
        yield Gap("column" if counted else "nothing", step)
    else:
        blanks = [part for part in step.parts if part.decided and part.value is None]
        if blanks:
            for part in blanks:
                yield from _gaps(part)
        elif step.operation == "divide" and any(part.value == 0 for part in step.parts[1:]):
            yield Gap("zero", step)
        else:
            yield Gap("domain", step)
