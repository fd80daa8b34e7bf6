"""What a conversation causes outside: the difference between what its journal comes to and what is written of it."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal

from finesieve.core.chat.journal import ADD, Amounts, Made
from finesieve.core.fields.encoding import Json
from finesieve.core.values import plain_number

__all__ = ["Effects", "effects_of"]


@dataclass(frozen=True, slots=True)
class Effects:
    """What is to be written at a commit point; differences are applied by the store. `consent` is True where messages
    are asked for again, False where they are not wanted any more."""

    person: Amounts = field(default_factory=dict)
    house: Amounts = field(default_factory=dict)
    tags: Mapping[str, bool] = field(default_factory=dict)
    lists: Mapping[str, bool] = field(default_factory=dict)
    sends: tuple[str, ...] = ()
    consent: bool | None = None
    records: Mapping[str, Amounts] = field(default_factory=dict)

    def __bool__(self) -> bool:
        parts = (self.person, self.house, self.tags, self.lists, self.sends, self.records)
        return any(parts) or self.consent is not None


def effects_of(written: Made, made: Made) -> Effects:
    """What is to be written so that what is written is what the journal comes to. What was sent is not recalled."""
    before = [text for _, text in written.sends]
    sends = []
    for _, text in made.sends:
        if text in before:
            before.remove(text)
        else:
            sends.append(text)
    return Effects(
        _differences(written.person, made.person),
        _differences(written.house, made.house),
        {tag: on for tag, on in made.tags.items() if written.tags.get(tag) != on},
        {one: on for one, on in made.lists.items() if written.lists.get(one) != on},
        tuple(sends),
        records={
            name: found
            for name, amounts in made.records.items()
            if (found := _differences(written.records.get(name, {}), amounts))
        },
    )


def _differences(written: Amounts, made: Amounts) -> dict[str, tuple[str, Json]]:
    found: dict[str, tuple[str, Json]] = {}
    for key in {**made, **written}:
        how, value = made.get(key, (ADD, "0"))
        was_how, was = written.get(key, (ADD, "0"))
        if key not in made and was_how != ADD:
            continue  # it was set, and nothing says to what it should go back
        if how == ADD and was_how == ADD:
            more = Decimal(str(value)) - Decimal(str(was))
            if more:
                found[key] = (ADD, plain_number(more))
        elif (how, value) != (was_how, was):
            found[key] = (how, value)
    return found
