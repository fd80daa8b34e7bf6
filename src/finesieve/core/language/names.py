"""What names mean: the fields in reach of an expression, level by level."""

from collections.abc import Container, Mapping
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
    `called` maps the other names that a field goes by to its key, by what it is about, and `names` the key to the one
    that it goes by at present, where that is another.
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
    called: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    names: Mapping[str, Mapping[str, str]] = field(default_factory=dict)

    @classmethod
    def of(cls, names: "Mapping[str, Type] | World") -> "World":
        """The world of plain names: a person's fields, and nothing else."""
        return names if isinstance(names, World) else cls(Place("person", names), remembered=frozenset(names))

    def key_of(self, name: str, about: str, known: Container[str]) -> str:
        """The key of the field about something that is called so; the name itself where it is a key, or nobody's."""
        if name in known or not self.called:
            return name
        before, _, last = name.rpartition(".")
        key = self.called.get(before or about, {}).get(last, last)
        found = f"{before}.{key}" if before else key
        return found if found in known else name

    def name_of(self, key: str, about: str) -> str:
        """What the field about something with this key is called at present."""
        return self.names.get(about, {}).get(key, key)


NOBODY: Final = World(Place("person", {}))
"""A world without any name."""
