"""What the rules of a form read: answers over what is stored, and the words before a point."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Final

from finesieve.core.commerce.cart import Cart
from finesieve.core.fields.contexts import CONTEXTS
from finesieve.core.fields.definition import Shelf
from finesieve.core.language.derived import Derivation, Row
from finesieve.core.language.gathering import Inside
from finesieve.core.language.history import PastLine
from finesieve.core.language.program import Moment
from finesieve.core.language.typed import HISTORY
from finesieve.core.values import Value

__all__ = ["NOBODY", "RECORD_PREFIX", "FormRow", "Situation", "inside"]

Records = Mapping[str, Sequence[tuple[int, Mapping[str, Value]]]]


@dataclass(frozen=True, slots=True)
class Situation:
    """Under what a form is filled in.

    `stored` are the values of a known person, tags, lists and level included,
    and `records` theirs, orders among them, as (id, values) by the name of the collection; `page`
    are the address parameters, the language among them. `shelf` has the files
    that were sent so far, `cart` what is bought. `known` tells that what is stored may be shown, and
    `locked` names the fields that the person may not change. `only_missing` tells that nothing is asked that is known
    already. `history` has what their derived fields read of the past, by the keys of the fields. `again` tells that
    what was sent is corrected: what is known is asked again. `levels` are the values of each membership level, by its
    key.
    """

    stored: Mapping[str, Value] = field(default_factory=dict)
    records: Records = field(default_factory=dict)
    page: Mapping[str, str] = field(default_factory=dict)
    shelf: Shelf | None = None
    cart: Cart | None = None
    known: bool = False
    locked: frozenset[str] = frozenset()
    again: bool = False
    levels: Mapping[str, Mapping[str, Value]] = field(default_factory=dict)
    only_missing: bool = False
    history: Mapping[str, tuple[PastLine, ...]] = field(default_factory=dict)


NOBODY: Final = Situation()
"""Somebody new, on a plain page."""


class FormRow(Row):
    """The values that a form's rules see.

    A bare name is the answer of a question that shows, even if blank, and else the
    stored value; `form.x` is the answer alone, `person.x` the stored value alone,
    `page.x` an address parameter. Derived values follow the answers. `level` and `role` are those held, whatever is
    being chosen: that is `form.level` and `form.role`.
    """

    def __init__(
        self, situation: Situation, derivation: Derivation, moment: Moment, collections: Mapping[str, Any]
    ) -> None:
        past: Any = {HISTORY + key: lines for key, lines in situation.history.items()}
        self._at_first = {**situation.stored, **collections, **past}
        super().__init__(self._at_first, derivation.programs, moment)
        self._answers: dict[str, Value] = {}
        self._line_answers: dict[int, Mapping[str, Value]] = {}
        self._derivation = derivation
        self._sources: Mapping[str, Callable[[str], Value]] = {
            "answers": self._answers.get,
            "stored": self._stored,
            "address": lambda key: situation.page.get(key) or None,
            "cart": lambda key: self._in_cart(situation.cart, key) if situation.cart is not None else None,
            "order": self._answers.get,
            "held": lambda key: situation.levels.get(str(situation.stored.get("level") or ""), {}).get(key),
        }
        self._levels = situation.levels

    @cached_property
    def before(self) -> Row:
        """What was stored before anything was answered, with what is worked out of it; few rules ask for it."""
        return self._derivation.row(self._at_first, self._moment)

    def _stored(self, key: str) -> Value:
        return self.before.get(key)

    def answer(self, key: str, value: Value, *, held: bool = False) -> None:
        """A question that shows has this answer; what is `held`, a level or a role, stays so while one chooses."""
        self._answers[key] = value
        if not held:
            self._values[key] = value
        if key == "level":
            of_level = self._levels.get(str(value or ""), {})
            self._answers.update({f"level.{name}": of_level.get(name) for name in self._named_of_levels()})
        self._derived.clear()

    def _named_of_levels(self) -> set[str]:
        return {name for values in self._levels.values() for name in values}

    def answer_line(self, place: int, values: Mapping[str, Value]) -> None:
        """What was asked of a line of the cart has these answers."""
        self._line_answers[place] = {**self._line_answers.get(place, {}), **values}
        self._derived.clear()

    def _in_cart(self, cart: Cart, key: str) -> Value:
        if key != "lines" or not self._line_answers:
            return cart.values.get(key)
        lines = enumerate(cart.lines)
        return tuple({**self._line_answers.get(place, {}), **line.values()} for place, line in lines)  # type: ignore[misc]

    def collection(self, name: str, members: Sequence[Mapping[str, Value]]) -> None:
        """A collection has these members."""
        self._values[name] = tuple(members)  # type: ignore[arg-type]  # rows, read by collecting functions only
        self._derived.clear()

    def __getitem__(self, name: str) -> Value:
        prefix, point, key = name.partition(".")
        return self._sources[CONTEXTS[prefix].source](key) if point else super().__getitem__(name)


RECORD_PREFIX: Final = "1:"
"""Before the keys of a record, within all that is around it."""


def inside(row: Mapping[str, Value], member: Mapping[str, Value]) -> Mapping[str, Value]:
    """A record within the form, as the rules of a repeated section see it."""
    return Inside(row, RECORD_PREFIX, member)
