"""What names mean: the fields in reach of an expression, level by level."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Final

from finesieve.core.language.typed import Typed
from finesieve.core.values import Type

__all__ = ["NOBODY", "Place", "World"]


@dataclass(frozen=True)
class Place:
    """What bare names mean at one level.

    `about` says whose fields `names` are; `collections` maps the name of each
    collection to what its members are.
    """

    about: str
    names: Mapping[str, Type]
    collections: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class World:
    """Everything in reach.

    `base` is where the expression stands, `members` the places of what the
    collections hold, by what they are about. `gone` maps keys of deleted fields to
    the sentence that says so. `prefixes` gives what may stand after the words
    before a point, house values among them; None stands for any name, a text.
    `collections` maps collections that stand after such a word, as `cart.lines`, to what their members are; `inlined`
    maps names after such a word to the expressions that they stand for.
    `remembered` are the names of a person whose history is in reach: stored fields, tags, lists and level.
    `inner` are places within the base, the innermost last: the record that an
    expression stands with, and around it the person.
    """

    base: Place
    members: Mapping[str, Place] = field(default_factory=dict)
    gone: Mapping[str, str] = field(default_factory=dict)
    prefixes: Mapping[str, Mapping[str, Type] | None] = field(default_factory=dict)
    inner: tuple[Place, ...] = ()
    collections: Mapping[str, str] = field(default_factory=dict)
    inlined: Mapping[str, Typed] = field(default_factory=dict)
    remembered: frozenset[str] = frozenset()

    @classmethod
    def of(cls, names: "Mapping[str, Type] | World") -> "World":
        """The world of plain names: a person's fields, and nothing else."""
        return names if isinstance(names, World) else cls(Place("person", names), remembered=frozenset(names))


NOBODY: Final = World(Place("person", {}))
"""A world without any name."""
