"""What a conversation knows: the confirmed person, their records, the house; and the values over it that were made."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any

from finesieve.core.chat.journal import ADD, NOTHING, SET, Amounts, Entry, Made, State, fold
from finesieve.core.chat.prepare import PASSING, PreparedScript, Subject
from finesieve.core.fields.about import HOUSE, record_about
from finesieve.core.fields.definition import Field, base_of
from finesieve.core.fields.encoding import Json
from finesieve.core.forms.rows import FormRow, Situation
from finesieve.core.language.program import Moment
from finesieve.core.values import Value

__all__ = ["TalkWorld", "amount_on", "talk_row", "value_of", "with_entry"]


@dataclass(frozen=True, slots=True)
class TalkWorld:
    """What is read afresh at each reply and never kept with the conversation.

    `situation` has what is stored of the person, who is `confirmed` or a stranger of whom nothing is known; `moment`
    has the time and the house values.
    """

    moment: Moment
    situation: Situation = field(default_factory=Situation)
    confirmed: bool = False


def amount_on(known: Field, before: Value, how: str, data: Json) -> Value:
    """What becomes of a value: set, or changed by a difference, from its default or 0 where it is blank."""
    if how != ADD:
        return known.from_kept(data)
    return base_of(known, before) + Decimal(str(data))


def talk_row(script: PreparedScript, world: TalkWorld, state: State) -> tuple[FormRow, Moment]:
    """The values as they stand, and the moment with the house values as they would be."""
    catalogue, made = script.catalogue, fold(state.journal)
    written = state.written if world.confirmed else NOTHING  # of a stranger nothing stored is seen again
    house = dict(_over(catalogue.keys_of(HOUSE), world.moment.house, made.house, state.written.house))
    moment = world.moment if not house else replace(world.moment, house=_Overlaid(world.moment.house, house))
    situation = world.situation if world.confirmed else script.stranger
    if not situation.stored:
        situation = replace(situation, stored=script.stranger.stored)
    row = FormRow(situation, catalogue.derivation, moment, _members(script, situation, moment))
    for key, value in _over(catalogue.by_key, situation.stored, made.person, written.person):
        row.answer(key, value)
    for key, data in _passing_here(script, state, made).items():
        row.answer(key, script.passing[key].from_kept(data))
    for name, changes in (("tags", made.tags), ("lists", made.lists)):
        if changes:
            stored: Any = situation.stored.get(name) or ()
            on_it: set[str] = {*stored, *(one for one, on in changes.items() if on)}
            row.answer(name, tuple(sorted(one for one in on_it if changes.get(one, True))))
    return row, moment


def _members(script: PreparedScript, situation: Situation, moment: Moment) -> dict[str, Any]:
    """The records of the person, as rows by the name of their collection."""
    links = script.links
    members: dict[str, Any] = dict.fromkeys(links, ())
    for name, held in situation.records.items():
        if name in links:
            derived = script.catalogue.derivation_of(record_about(links[name].record_type_id))
            members[name] = tuple(derived.row(values, moment) for _, values in held)
    return members


def with_entry(row: FormRow, script: PreparedScript, slug: str, entry: Entry) -> bool:
    """Let a row know of one entry more; False where it has to be made anew."""
    if entry.house or entry.tags or entry.lists or any(how != SET for how, _ in entry.person.values()):
        return False
    try:
        for key, (_, data) in entry.person.items():
            row.answer(key, script.catalogue.by_key[key].from_kept(data))
        for name, data in entry.passing.items():
            of, _, key = name.partition(":")
            if of == slug and key in script.passing:
                row.answer(key, script.passing[key].from_kept(data))
    except (ValueError, KeyError):
        return False
    return True


def _over(
    fields: Mapping[str, Field], stored: Mapping[str, Value], made: Amounts, written: Amounts
) -> list[tuple[str, Value]]:
    """The values made, over those stored: of a difference only what is not written yet."""
    found = []
    for key, (how, data) in made.items():
        known = fields.get(key)
        if known is None:
            continue
        amount = data
        before = written.get(key)
        if how != ADD and before == (how, data):
            found.append((key, stored.get(key)))  # it is stored, or somebody has changed it since
            continue
        if how == ADD and before is not None and before[0] == ADD:
            amount = str(Decimal(str(data)) - Decimal(str(before[1])))
        try:
            found.append((key, amount_on(known, stored.get(key), how, amount)))
        except ValueError:
            continue  # an option that is gone meanwhile: as if it had not been said
    return found


def _passing_here(script: PreparedScript, state: State, made: Made) -> dict[str, Json]:
    """The passing values of the script that is under way, by their key alone."""
    under_way = state.place[0] or state.script
    found: dict[str, Json] = dict.fromkeys(script.passing)
    for name, data in made.passing.items():
        slug, _, key = name.partition(":")
        if slug == under_way and key in found:
            found[key] = data
    return found


class _Overlaid(Mapping[str, Value]):
    """House values with some of them as they would be."""

    def __init__(self, below: Mapping[str, Value], above: Mapping[str, Value]) -> None:
        self._below, self._above = below, above

    def __getitem__(self, key: str) -> Value:
        return self._above[key] if key in self._above else self._below[key]

    def __iter__(self) -> Any:
        yield from self._below
        yield from (key for key in self._above if key not in self._below)

    def __len__(self) -> int:
        return len(set(self._below) | set(self._above))


def value_of(subject: Subject, row: FormRow, moment: Moment) -> Value:
    """What a subject is at the moment."""
    if subject.of == HOUSE:
        return moment.house.get(subject.key)
    return row.get(f"form.{subject.key}" if subject.of == PASSING else subject.key)
