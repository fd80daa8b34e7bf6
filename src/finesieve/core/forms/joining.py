"""Which lists a sent form puts the person on, and takes them off: by itself, and by what was answered."""

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from typing import Final

from finesieve.core.fields.definition import Field
from finesieve.core.forms.definition import Form, ListEffect
from finesieve.core.forms.outcome import Outcome
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.values import Value

__all__ = ["NO_LISTS", "Joining", "answer_joins", "joining_of", "say_effect"]


@dataclass(frozen=True, slots=True)
class Joining:
    """Lists by id. One that is both joined and left is left: who says no to it means it."""

    joins: frozenset[int] = frozenset()
    leaves: frozenset[int] = frozenset()

    def held_after(self, catalogue: Catalogue, held: Value) -> tuple[str, ...]:
        """The keys of the lists that somebody who is on these is on afterwards, in the order of the house."""
        on = {str(key) for key in held} if isinstance(held, list | tuple) else set()
        return tuple(
            one.key for one in catalogue.lists if (one.key in on or one.id in self.joins) and one.id not in self.leaves
        )

    def __bool__(self) -> bool:
        return bool(self.joins or self.leaves)


NO_LISTS: Final = Joining()


def joining_of(form: Form, outcome: Outcome) -> Joining:
    """What sending this outcome would do."""
    joins, leaves = set(form.joins), set()
    for one in outcome.walk():
        if one.verdict is True and not one.trouble and one.question.lists:
            joined, left = answer_joins(one.question.lists, one.field, one.value)
            joins |= joined
            leaves |= left
    return Joining(frozenset(joins - leaves), frozenset(leaves))


def answer_joins(effects: Iterable[ListEffect], field: Field, value: Value) -> tuple[set[int], set[int]]:
    """The ids of the lists that an answer puts on, and takes off."""
    joined: set[int] = set()
    left: set[int] = set()
    for effect in effects:
        if _happens(effect.option, field, value):
            (left if effect.leave else joined).add(effect.list_id)
    return joined, left


def _happens(option: str, field: Field, value: Value) -> bool:
    if field.type.kind == "yes_no" and option:
        # An agreement is ticked or blank: there is no other no to it.
        no = value is False or (value is None and field.type_key == "agreement")
        return value is True if option == "yes" else no
    if value is None:
        return False
    if not option:
        return True
    return option in value if isinstance(value, Collection) and not isinstance(value, str) else option == value


def say_effect(effect: ListEffect, field: Field | None, catalogue: Catalogue) -> str:
    """An effect in words: `yes puts on Almanac letter`, `any answer takes off Swap board`."""
    name = next((one.name for one in catalogue.lists if one.id == effect.list_id), "a list that is gone")
    option = field.label_of(effect.option) if field is not None and effect.option else effect.option
    return f"{option or 'any answer'} {'takes off' if effect.leave else 'puts on'} {name}"
