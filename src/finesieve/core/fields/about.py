"""What a field is about: one person, one order, a membership level, the house, or a kind of record."""

from dataclasses import dataclass
from typing import Final

__all__ = ["ABOUTS", "HOUSE", "LEVEL", "ORDER", "PERSON", "SIFTING", "About", "record_about", "record_type_of"]

PERSON: Final = "person"
ORDER: Final = "order"
LEVEL: Final = "level"
HOUSE: Final = "house"
SIFTING: Final = "sifting"
"""What the condition of a segment stands with: one person, and whether they are in other segments."""
_RECORD: Final = "record:"


@dataclass(frozen=True, slots=True)
class About:
    """One answer to “what is this fact about?”, in plain words with an example."""

    key: str
    words: str
    question: str
    example: str


ABOUTS: Final[dict[str, About]] = {
    about.key: about
    for about in (
        About(
            PERSON,
            "one person",
            "Does every person have their own answer?",
            "how they water their beds",
        ),
        About(
            ORDER,
            "one order",
            "Does it belong to a single order only?",
            "the shelf where the parcel waits",
        ),
        About(
            LEVEL,
            "a membership level",
            "Is it the same for all members of a level?",
            "seed packets a year for a Sower",
        ),
        About(
            HOUSE,
            "the house",
            "Is it a fact about the business itself?",
            "the link to the swap day",
        ),
        About(
            "record",
            "a thing a person has several of",
            "Can one person have two or more of it, each with its own facts?",
            "the soil of a plot",
        ),
    )
}
"""The five answers, in the order asked. The last stands for every record type."""


def record_about(record_type_id: int) -> str:
    """What the fields of a record type are about: `record:5`."""
    return f"{_RECORD}{record_type_id}"


def record_type_of(about: str) -> int:
    """The id of the record type, 0 where the field is about something else."""
    return int(about.removeprefix(_RECORD)) if about.startswith(_RECORD) else 0
