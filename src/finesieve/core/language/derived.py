"""Derived fields that build on one another: order, circles, values of one person."""

from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from typing import Any, Final

from finesieve.core.language.evaluator import Moment, Program, compile_python
from finesieve.core.language.typed import Typed
from finesieve.core.values import Value

__all__ = ["Derivation", "Members", "Row", "find_circle", "layers"]

_WORKING: Final = object()


def find_circle(needs: Mapping[str, frozenset[str]]) -> tuple[str, ...]:
    """A circle among names, each needing the next, the first repeated at the end; () if none."""
    finished: set[str] = set()
    for start in sorted(needs):
        path: list[str] = []
        waiting: list[Iterator[str]] = [iter((start,))]
        while waiting:
            name = next(waiting[-1], None)
            if name is None:
                waiting.pop()
                if path and len(path) == len(waiting):
                    finished.add(path.pop())
            elif name in path:
                return (*path[path.index(name) :], name)
            elif name in needs and name not in finished:
                path.append(name)
                waiting.append(iter(sorted(needs[name])))
    return ()


def layers(needs: Mapping[str, frozenset[str]], wanted: frozenset[str], known: Container[str] = ()) -> list[list[str]]:
    """The derived names that `wanted` lean on, in layers that need only earlier ones.

    `needs` maps each derived name to all the names its formula reads; there
    must be no circle. Those that are `known` need not be worked out.
    """
    depth: dict[str, int] = {}

    def measure(name: str) -> int:
        if name not in needs or name in known:
            return 0
        if name not in depth:
            depth[name] = 1 + max((measure(part) for part in needs[name]), default=0)
        return depth[name]

    for name in sorted(wanted):
        measure(name)
    height = max(depth.values(), default=0)
    return [
        sorted(name for name, level in depth.items() if level == wanted_level) for wanted_level in range(1, height + 1)
    ]


class Derivation:
    """All derived fields of a workspace, compiled once."""

    def __init__(self, formulas: Mapping[str, Typed]) -> None:
        self.formulas = dict(formulas)
        self.needs = {name: typed.names for name, typed in formulas.items()}
        self.programs: dict[str, Program] = {name: compile_python(typed) for name, typed in formulas.items()}

    def row(self, values: Mapping[str, Value], moment: Moment, members: "Members | None" = None) -> "Row":
        """The values of one person, record, order or level, derived ones included.

        `members` gives the rows of a collection by its name, when they are asked for.
        """
        return Row(values, self.programs, moment, members)

    def layers(self, wanted: frozenset[str], known: Container[str] = ()) -> Sequence[Sequence[str]]:
        """See `layers`."""
        return layers(self.needs, wanted, known)

    def ancestors(self, names: frozenset[str], known: Container[str] = ()) -> frozenset[str]:
        """The names and all that they lean on; those that are `known` lean on nothing."""
        found: set[str] = set()
        waiting = list(names)
        while waiting:
            name = waiting.pop()
            if name not in found:
                found.add(name)
                waiting.extend(() if name in known else self.needs.get(name, ()))
        return frozenset(found)


Members = Callable[[str], Sequence[Any] | None]
"""The rows of a collection by its name, or the lines of a history, oldest first; None for what is neither."""


class Row(Mapping[str, Value]):
    """One person's values; a derived one is worked out when it is first read."""

    def __init__(
        self,
        values: Mapping[str, Value],
        programs: Mapping[str, Program],
        moment: Moment,
        members: Members | None = None,
    ) -> None:
        self._values = dict(values)
        self._members = members
        self._programs = programs
        self._moment = moment
        self._derived: dict[str, object] = {}

    def __getitem__(self, name: str) -> Value:
        program = self._programs.get(name)
        if program is None:
            if name not in self._values and self._members is not None:
                found = self._members(name)
                if found is not None:
                    self._values[name] = tuple(found)
            return self._values[name]
        if name not in self._derived:
            # A circle cannot be saved; should one stand all the same, it is blank, not a crash.
            self._derived[name] = _WORKING
            self._derived[name] = program(self, self._moment)
        value = self._derived[name]
        return None if value is _WORKING else value  # type: ignore[return-value]  # a Value unless the mark

    def get(self, name: str, default: Value = None) -> Value:  # type: ignore[override]  # blank is the only default
        try:
            return self[name]
        except KeyError:
            return default

    def __iter__(self) -> Iterator[str]:
        yield from self._values
        yield from (name for name in self._programs if name not in self._values)

    def __len__(self) -> int:
        return len(set(self._values) | set(self._programs))
