"""A condition replayed over the history: who came in and who left, when, and by which change of a value.

Values of the past come from the history of each field that the condition rests on; a derived field that goes over
records from its own, where it was written down. A condition that speaks of records itself is told by the records as
they are now (`partly`). Time passing by alone moves nobody here: that is counted apart.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any, Final

from finesieve.core.fields.about import PERSON
from finesieve.core.fields.encoding import Json
from finesieve.core.language.derived import Members, Row
from finesieve.core.language.evaluator import compile_python
from finesieve.core.language.program import Moment, Program
from finesieve.core.language.typed import HISTORY, Typed
from finesieve.core.model.changes import OWN_IDS
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.past import value_told
from finesieve.services.values.writing import members_of, row_of
from finesieve.store.connection.database import in_time
from finesieve.store.reading.changes import PastChange, changes_since
from finesieve.store.reading.rows import rows_by_ids

__all__ = ["Replay", "Turn", "replayed"]

_MOST: Final = 30_000
_MOST_PEOPLE: Final = 3_000


@dataclass(frozen=True, slots=True)
class Turn:
    """Somebody came in, or left, when a value changed."""

    person_id: int
    came: bool
    change: PastChange


@dataclass(frozen=True, slots=True)
class Replay:
    """All turns since a moment, in order. `whole` is False where there were too many changes to go through all,
    `partly` where the condition speaks of records, which are taken as they are."""

    turns: tuple[Turn, ...]
    whole: bool = True
    partly: bool = False


class _Condition:
    """A condition with all that it rests on."""

    def __init__(self, unit: Unit, typed: Typed) -> None:
        self.program = compile_python(typed)
        derivation = unit.catalogue.derivation
        names = derivation.ancestors(typed.names)
        collections = unit.catalogue.collections_of(PERSON)
        # What is worked out over records has a history of its own.
        self.pinned = {
            key for key in names if key in derivation.formulas and self._over(derivation.formulas[key], collections)
        }
        below = frozenset(self.pinned)
        leaves = self._leaves(typed.names, derivation.formulas, below)
        self.partly = any(name in collections for name in typed.names)
        self.looks_back = any(name.startswith(HISTORY) for name in names)
        self.programs: Mapping[str, Program] = {
            key: one for key, one in derivation.programs.items() if key not in below
        }
        fields = unit.catalogue.keys_of(PERSON)
        self.fields = {fields[key].id: fields[key] for key in leaves if key in fields}
        self.own = {OWN_IDS[key]: key for key in leaves if key in OWN_IDS}
        email = fields.get("email")
        self.email = email.id if email is not None else 0

    @staticmethod
    def _over(formula: Typed, collections: Mapping[str, Any]) -> bool:
        return any(name in collections for name in formula.names)

    @staticmethod
    def _leaves(names: frozenset[str], formulas: Mapping[str, Typed], pinned: frozenset[str]) -> set[str]:
        found: set[str] = set()
        waiting = list(names)
        while waiting:
            name = waiting.pop()
            if name in found:
                continue
            if name in formulas and name not in pinned:
                waiting += formulas[name].names
            else:
                found.add(name.removeprefix(HISTORY))
        return found

    def ids(self) -> list[int]:
        return [*self.fields, *self.own, *((self.email,) if self.email and self.email not in self.fields else ())]

    def value(self, field_id: int, data: Json) -> tuple[str, Value] | None:
        """The key and the value that a line of the history tells; None for what is not one of its names."""
        return value_told(self.fields, self.own, field_id, data)


def replayed(unit: Unit, typed: Typed, since: datetime) -> Replay:
    """Who came in and who left since a moment, by changes of values. Raises TookTooLong."""
    condition = _Condition(unit, typed)
    changes = changes_since(unit.session, condition.ids(), since, _MOST + 1)
    by_person: dict[int, list[PastChange]] = {}
    for one in changes[:_MOST]:
        by_person.setdefault(one.person_id, []).append(one)
    ids = list(by_person)[:_MOST_PEOPLE]
    keys = [field.key for field in unit.catalogue.stored] + list(OWN_IDS)
    rows = rows_by_ids(unit.session, unit.definitions, PERSON, keys, ids)
    turns: list[Turn] = []
    for person_id in ids:
        if person_id in rows:
            in_time(unit.session)
            turns += _turns(unit, condition, person_id, rows[person_id], by_person[person_id])
    turns.sort(key=lambda one: one.change.at)
    whole = len(changes) <= _MOST and len(by_person) <= _MOST_PEOPLE
    return Replay(tuple(turns), whole, condition.partly)


def _turns(
    unit: Unit, condition: _Condition, person_id: int, now: Mapping[str, Value], changes: Sequence[PastChange]
) -> Iterator[Turn]:
    """The turns of one person: back to the beginning, and then forward change by change."""
    values = dict(now)
    needs_members = condition.partly or condition.looks_back or bool(condition.pinned)
    members = members_of(unit, PERSON, person_id) if needs_members else None
    if condition.pinned:
        row = row_of(unit, PERSON, person_id, now)
        values |= {key: row.get(key) for key in condition.pinned}
    there = True
    for one in changes:  # the latest first
        told = condition.value(one.field_id, one.old)
        if told is not None:
            values[told[0]] = told[1]
        if one.field_id == condition.email:
            there = one.old is not None
    verdict = there and _verdict(unit, condition, values, members, changes[-1].at)
    for place in range(len(changes) - 1, -1, -1):
        one = changes[place]
        told = condition.value(one.field_id, one.new)
        if told is not None:
            values[told[0]] = told[1]
        if one.field_id == condition.email:
            there = one.new is not None
        if place and changes[place - 1].at == one.at:
            continue  # they changed at once
        after = there and _verdict(unit, condition, values, members, one.at)
        if after != verdict:
            yield Turn(person_id, after, _telling(condition, changes, place))
        verdict = after


def _telling(condition: _Condition, changes: Sequence[PastChange], place: int) -> PastChange:
    """Of what changed at once, a change that the condition rests on."""
    at = changes[place].at
    found = [
        one
        for one in changes[place:]
        if one.at == at and (one.field_id in condition.fields or one.field_id in condition.own)
    ]
    return found[0] if found else changes[place]


def _verdict(
    unit: Unit, condition: _Condition, values: Mapping[str, Value], members: Members | None, at: datetime
) -> bool:
    moment: Moment = replace(unit.moment, now=at)
    return condition.program(Row(values, condition.programs, moment, _until(members, at)), moment) is True


def _until(members: Members | None, at: datetime) -> Members | None:
    """The same, with what the history said at a moment."""

    def found(name: str) -> Sequence[Any] | None:
        known = members(name) if members is not None else None
        if known is not None and name.startswith(HISTORY):
            return [one for one in known if one.at <= at]
        return known

    return found if members is not None else None
