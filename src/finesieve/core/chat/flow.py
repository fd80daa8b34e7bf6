"""The order of a script's lines: their numbers, what stands under what, and where each leads."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from finesieve.core.chat.script import END, NEXT, Choose, EachRecord, HandOver, Script, Wait, parts_of
from finesieve.core.chat.script import End as EndStep

__all__ = ["Flow", "Way"]


@dataclass(frozen=True, slots=True)
class Way:
    """One way on from a line: to another, to the "end", or to a line that is gone. `by` is the reply or case."""

    to: str
    by: str = ""
    gone: bool = False


class Flow:
    """The lines of a script in the order one reads them, by number from 1."""

    def __init__(self, script: Script) -> None:
        self.script = script
        self._under: dict[str, list[Any]] = {}
        for step in script.steps:
            self._under.setdefault(step.under, []).append(step)
        self.lines = tuple(self._walk(""))
        self.numbers: Mapping[str, int] = {step.id: number for number, step in enumerate(self.lines, 1)}
        self.by_id: Mapping[str, Any] = {step.id: step for step in self.lines}
        self._owner = {part.id: step for step in self.lines for part in parts_of(step)}
        self._after: dict[str, str] = {}
        self._ways: dict[str, tuple[Way, ...]] = {}
        for group in self._under.values():
            for step, following in zip(group, [*group[1:], None], strict=True):
                self._after[step.id] = following.id if following is not None else ""

    def _walk(self, under: str) -> Iterator[Any]:
        for step in self._under.get(under, ()):
            yield step
            for part in parts_of(step):
                yield from self._walk(part.id)

    @property
    def first(self) -> str:
        """The id of the first line; END where there is none."""
        return self.lines[0].id if self.lines else END

    def depth(self, step: Any) -> int:
        """Under how many replies a line stands."""
        found, under = 0, step.under
        while under:
            found, under = found + 1, self._owner[under].under
        return found

    def owner(self, step: Any) -> Any:
        """The line that a line stands under, None at the margin."""
        return self._owner[step.under] if step.under else None

    def block(self, step_id: str) -> str:
        """The id of the line about records that a line stands under, or is; "" for none."""
        step = self.by_id.get(step_id)
        while step is not None and not isinstance(step, EachRecord):
            step = self.owner(step)
        return step.id if step is not None else ""

    def after(self, step_id: str) -> str:
        """The line that follows: the next beside it, or after the one that it stands under. The last of the lines about
        a record leads back to the line that they stand under, which sees to the next one."""
        step = self.by_id[step_id]
        while True:
            if self._after[step.id]:
                return self._after[step.id]
            if not step.under:
                return END
            step = self._owner[step.under]
            if isinstance(step, EachRecord):
                return str(step.id)

    def leads(self, step_id: str, to: str, by: str = "") -> str:
        """Where `to` leads from a line: a line that is gone leads on to the one that follows."""
        if to == END or to in self.by_id:
            return to
        if by and self._under.get(by):
            return str(self._under[by][0].id)
        return self.after(step_id)

    def ways(self, step: Any) -> tuple[Way, ...]:
        """All ways on from a line."""
        if step.id not in self._ways:
            self._ways[step.id] = self._found(step)
        return self._ways[step.id]

    def _found(self, step: Any) -> tuple[Way, ...]:
        if isinstance(step, EndStep | HandOver):
            return ()
        found = [(part.to, part.id) for part in parts_of(step) if getattr(part, "kind", "reply") == "reply"]
        if isinstance(step, Wait):
            found += [(step.to, ""), *(((step.late_to, "late"),) if step.minutes else ())]
        elif not (isinstance(step, Choose) and found):
            found.append((getattr(step, "to", NEXT), ""))
        then = getattr(step, "then", "")
        found += [(then, "tries")] if then.startswith("l") else [(NEXT, "skip")] if then == "skip" else []
        gone = {to for to, _ in found if to not in (NEXT, END) and to not in self.by_id}
        return tuple(Way(self.leads(step.id, to, by), by, to in gone) for to, by in found)
