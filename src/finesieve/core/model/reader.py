"""Who reads a message or a page: what its placeholders may name, and what they say."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace

from finesieve.core.fields.about import LEVEL, PERSON
from finesieve.core.language.names import World
from finesieve.core.model.catalogue import Catalogue
from finesieve.core.values import Type, Value

__all__ = ["Reader", "ReaderRow", "reader_world"]


def reader_world(catalogue: Catalogue) -> World:
    """All of a person, what the level that they hold brings, and the personal links of the house."""
    world = catalogue.world(PERSON)
    levels = world.members[LEVEL].names if LEVEL in world.members else {}
    links = {one.key: Type("text") for one in catalogue.personal_links}
    return replace(world, prefixes={**world.prefixes, "level": levels, "link": links})


def _no_link(_key: str) -> str:
    return ""


@dataclass(frozen=True, slots=True)
class Reader:
    """Somebody: their values with what is derived, those of the level that they hold, and what gives the address of a
    personal link of theirs, by its key."""

    row: Mapping[str, Value]
    level: Mapping[str, Value]
    link: Callable[[str], str] = field(default=_no_link)


class ReaderRow(Mapping[str, Value]):
    """What expressions read of somebody."""

    def __init__(self, reader: Reader) -> None:
        self._reader = reader

    def __getitem__(self, name: str) -> Value:
        prefix, point, key = name.partition(".")
        if not point or prefix not in ("person", "level", "link"):
            return self._reader.row[name]
        if prefix == "link":
            return self._reader.link(key) or None
        return self._reader.level.get(key) if prefix == "level" else self._reader.row[key]

    def __iter__(self) -> Iterator[str]:
        return iter(self._reader.row)

    def __len__(self) -> int:
        return len(self._reader.row)
