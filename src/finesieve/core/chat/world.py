"""What a conversation knows: the confirmed person, their records, the house; and the values over it that were made."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any

from finesieve.core.chat.journal import ADD, NOTHING, SET, Amounts, Entry, Made, State, fold
from finesieve.core.chat.prepare import PASSING, PreparedScript, Subject
from finesieve.core.chat.records import collection_of, is_new
from finesieve.core.fields.about import HOUSE, record_about
from finesieve.core.fields.definition import Field, base_of
from finesieve.core.fields.encoding import Json
from finesieve.core.forms.rows import RECORD_PREFIX, FormRow, Situation
from finesieve.core.language.derived import Row
from finesieve.core.language.program import Moment
from finesieve.core.values import Value

__all__ = ["TalkWorld", "amount_on", "member_of", "records_of", "talk_row", "value_of", "with_entry"]


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
    row = FormRow(situation, catalogue.derivation, moment, _members(script, world, state, made, moment))
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


def _members(script: PreparedScript, world: TalkWorld, state: State, made: Made, moment: Moment) -> dict[str, Any]:
    """The records of the person as they would be, as rows by the name of their collection."""
    members: dict[str, Any] = dict.fromkeys(script.links, ())
    about = {*(world.situation.records if world.confirmed else ()), *map(collection_of, made.records)}
    for name in about & script.links.keys():
        held = records_of(script, world, state, made, name).values()
        members[name] = tuple(_member_row(script, name, values, moment) for values in held)
    return members


def member_of(
    script: PreparedScript, world: TalkWorld, state: State, made: Made, record: str, moment: Moment
) -> Mapping[str, Value]:
    """The values of a record by its name in this conversation, as they would be."""
    collection = collection_of(record)
    if collection not in script.links:
        return {}
    return _member_row(script, collection, records_of(script, world, state, made, collection).get(record, {}), moment)


def _member_row(script: PreparedScript, collection: str, values: Mapping[str, Value], moment: Moment) -> Row:
    """The values of a record of a collection, derived ones included."""
    about = record_about(script.links[collection].record_type_id)
    return script.catalogue.derivation_of(about).row(values, moment)


def records_of(
    script: PreparedScript, world: TalkWorld, state: State, made: Made, collection: str
) -> dict[str, Mapping[str, Value]]:
    """The stored values of the records of a collection, by their name in this conversation, as they would be: those of
    a confirmed person in their order, then the new ones."""
    link = script.links[collection]
    fields = script.catalogue.keys_of(script.catalogue.record_types_by_id[link.record_type_id].about)
    known_as = {record_id: name for name, record_id in state.record_ids.items() if collection_of(name) == collection}
    written = state.written if world.confirmed else NOTHING
    found: dict[str, Mapping[str, Value]] = {}
    for record_id, values in world.situation.records.get(collection, ()) if world.confirmed else ():
        found[known_as.get(record_id, f"{collection}:{record_id}")] = values
    for name, amounts in made.records.items():
        if collection_of(name) == collection and (name in found or is_new(name)):
            stored: Mapping[str, Value] = found.get(name, {})
            before = written.records.get(name, {}) if name in found else {}
            found[name] = {**stored, **dict(_over(fields, stored, amounts, before))}
    return found


def with_entry(row: FormRow, script: PreparedScript, slug: str, entry: Entry) -> bool:
    """Let a row know of one entry more; False where it has to be made anew."""
    not_set = any(how != SET for how, _ in entry.person.values())
    if entry.house or entry.tags or entry.lists or entry.records or not_set:
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


def value_of(subject: Subject, row: Mapping[str, Value], moment: Moment) -> Value:
    """What a subject is at the moment; of a record in the row as lines about it have it."""
    if subject.of == HOUSE:
        return moment.house.get(subject.key)
    if subject.of_record:
        return row.get(f"{RECORD_PREFIX}{subject.key}")
    return row.get(f"form.{subject.key}" if subject.of == PASSING else subject.key)
