"""Writing values: of a person, a record, an order, a level or the house; with their history and what follows."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from decimal import Decimal
from types import MappingProxyType
from typing import Any, Final

from finesieve.core.commerce.facts import ORDERS
from finesieve.core.errors import NotFound
from finesieve.core.fields.about import ORDER, PERSON, record_about
from finesieve.core.fields.built_in import CONSENTS
from finesieve.core.fields.definition import Field, base_of
from finesieve.core.fields.encoding import Json, to_json
from finesieve.core.forms.by_itself import consent_follows, joined, joining_days, level_ends
from finesieve.core.language.derived import Members, Row
from finesieve.core.language.history import PastLine, past_line
from finesieve.core.language.typed import HISTORY
from finesieve.core.model.changes import OWN_IDS, Change, ChangeSet
from finesieve.core.values import Secret, Value
from finesieve.services.kernel.scope import Unit
from finesieve.services.values.past import history_lines
from finesieve.services.values.sealing import sealed
from finesieve.store.definitions.orders import facts_of_orders, orders_of
from finesieve.store.reading.people import values_by_ids
from finesieve.store.reading.rows import holders_of, records_of, rows_by_ids, stored_row
from finesieve.store.values.history import write_history
from finesieve.store.values.rows import insert_row, insert_rows, lock_rows, update_row, update_rows

__all__ = [
    "add_many",
    "add_person",
    "add_row",
    "add_to_row",
    "change_many",
    "change_person",
    "change_row",
    "is_same",
    "keys_that_follow",
    "members_of",
    "note",
    "record",
    "row_of",
    "taken_keys",
]

_IS_SET: Final = "set"
_NOTHING_YET: Final[Mapping[str, PastLine]] = MappingProxyType({})


def members_of(unit: Unit, about: str, row_id: int, changed: Mapping[str, PastLine] = _NOTHING_YET) -> Members:
    """The records that a person, or another thing, has, as rows by the name of the collection; of a person also what
    the history says of a field, and last what has `changed` of it just now."""

    def members(name: str) -> Sequence[Any] | None:
        if about == PERSON and name.startswith(HISTORY):
            key = name.removeprefix(HISTORY)
            lines = history_lines(unit, row_id, key) if row_id else ()
            return (*lines, changed[key]) if key in changed else lines
        link = unit.catalogue.collections_of(about).get(name)
        if link is None and about == PERSON and name == ORDERS:
            derived = unit.catalogue.derivation_of(ORDER)
            return [
                derived.row(values, unit.moment, members_of(unit, ORDER, order_id))
                for order_id, values in orders_of(unit.session, unit.definitions, row_id)
            ]
        if link is None:
            return None
        inner = record_about(link.record_type_id)
        derivation = unit.catalogue.derivation_of(inner)
        return [
            derivation.row(values, unit.moment, members_of(unit, inner, record_id))
            for record_id, values in records_of(unit.session, unit.definitions, link, row_id)
        ]

    return members


def row_of(
    unit: Unit, about: str, row_id: int, values: Mapping[str, Value], changed: Mapping[str, PastLine] = _NOTHING_YET
) -> Row:
    """Stored values with the derived ones and the collections; of an order, what is known of it by itself. `changed`
    is what the history does not say yet."""
    if about == ORDER:
        values = {**facts_of_orders(unit.session, unit.definitions, [row_id]).get(row_id, {}), **values}
    return unit.catalogue.derivation_of(about).row(values, unit.moment, members_of(unit, about, row_id, changed))


def _changed_now(
    unit: Unit, about: str, stored: Mapping[str, Value], changed: Mapping[str, Value]
) -> dict[str, PastLine]:
    """What the history will say of these changes, as far as a derived field reads it."""
    read = unit.catalogue.histories_read if about == PERSON else frozenset()
    found = {}
    for key in read & changed.keys():
        field = unit.catalogue.by_key.get(key)
        change = _change(field or key, 0, stored.get(key), changed[key])
        renamed = field.options_renamed if field is not None else {}
        found[key] = past_line(unit.moment.now, change.old, change.new, unit.catalogue.names[key], renamed)
    return found


def add_person(unit: Unit, values: Mapping[str, Value], source: str) -> int:
    """Add a person with these values; gives the id. Raises Conflict where the email is taken."""
    return add_row(unit, PERSON, values, source)


def change_person(unit: Unit, person_id: int, values: Mapping[str, Value], source: str) -> ChangeSet:
    """Change values of a person, None making one blank; gives what changed.

    Raises NotFound, and Conflict where a value that must be unique is taken.
    """
    return change_row(unit, PERSON, person_id, values, source)


def taken_keys(
    unit: Unit, person_id: int, values: Mapping[str, Value], more: frozenset[str] = frozenset()
) -> list[str]:
    """The keys of fields whose values only one person may have, and somebody other than this one has.

    `more` names fields that are held to it besides those whose settings say so.
    """
    found = []
    for key, value in values.items():
        field = unit.catalogue.by_key.get(key)
        if field is None or field.type.kind == "secret":
            continue
        if value is not None and (field.settings.unique or key == "email" or key in more):
            holders = holders_of(unit.session, unit.definitions, field, value)
            found += [key] if set(holders) - {person_id} else []
    return found


def add_row(unit: Unit, about: str, values: Mapping[str, Value], source: str, row_id: int = 0) -> int:
    """Add a person, a record, or the values of the order of an id; gives the id.

    Raises Conflict where a value must be unique and is taken.
    """
    values = {**values, **_followed(unit, about, values, {})}
    filled = sealed(unit, about, {key: value for key, value in values.items() if value is not None})
    row_id = insert_row(unit.session, unit.definitions, about, filled, row_id)
    # Nothing can be linked to it yet, so that no record need be looked for.
    collections = {*unit.catalogue.collections_of(about), ORDERS}
    own = facts_of_orders(unit.session, unit.definitions, [row_id]).get(row_id, {}) if about == ORDER else {}
    past = {HISTORY + key: (line,) for key, line in _changed_now(unit, about, {}, filled).items()}
    row = unit.catalogue.derivation_of(about).row(
        {**own, **filled}, unit.moment, lambda name: () if name in collections else past.get(name)
    )
    changes = _changes(unit, about, row_id, None, row)
    record(unit, _set(unit, about, changes, source))
    return row_id


def add_many(unit: Unit, about: str, rows: Sequence[Mapping[str, Value]], source: str) -> list[int]:
    """Add many records or people, all with values for the same keys; gives their ids in that order."""
    rows = [_sealed(unit, about, values) for values in rows]
    ids = insert_rows(unit.session, unit.definitions, about, rows)
    if ids:
        followers, known = _followers(unit, about, list(rows[0])), unit.catalogue.keys_of(about)
        given = zip(ids, (values.items() for values in rows), strict=True)

        def came(of: Iterable[tuple[int, Iterable[tuple[str, Value]]]]) -> ChangeSet:
            found = ((row_id, key, value) for row_id, values in of for key, value in values if value is not None)
            return _set(
                unit, about, (_change(known.get(key) or key, row_id, None, new) for row_id, key, new in found), source
            )

        record(unit, came(given))
        after = values_by_ids(unit.session, unit.definitions, unit.moment, about, followers, ids)
        record(unit, came((row_id, [(key, after[row_id][key]) for key in followers]) for row_id in ids))
    return ids


def change_row(unit: Unit, about: str, row_id: int, values: Mapping[str, Value], source: str) -> ChangeSet:
    """Change values of one thing, None making one blank; gives what changed.

    Raises NotFound, and Conflict where a value that must be unique is taken.
    """
    stored = stored_row(unit.session, unit.definitions, about, row_id, lock=True)
    if stored is None:
        raise NotFound(f"There is no such {'person' if about == PERSON else 'record'}.")
    values = {**values, **_followed(unit, about, values, stored)}
    changed = sealed(unit, about, {key: value for key, value in values.items() if stored.get(key) != value})
    if not changed:
        return _set(unit, about, (), source)
    before = row_of(unit, about, row_id, stored)
    update_row(unit.session, unit.definitions, about, row_id, changed)
    after = row_of(unit, about, row_id, {**stored, **changed}, _changed_now(unit, about, stored, changed))
    return record(unit, _set(unit, about, _changes(unit, about, row_id, before, after), source))


def add_to_row(unit: Unit, about: str, row_id: int, differences: Mapping[str, Decimal]) -> dict[str, Value]:
    """What values become that change by a difference, for `change_row`: on what is stored now, with the row locked.

    A blank one counts from the default of its field, else from 0. Raises NotFound.
    """
    if not differences:
        return {}
    stored = stored_row(unit.session, unit.definitions, about, row_id, lock=True)
    if stored is None:
        raise NotFound("There is nothing to add to.")
    known = unit.catalogue.keys_of(about)
    return {
        key: base_of(known[key], stored.get(key)) + difference
        for key, difference in differences.items()
        if key in known
    }


def change_many(
    unit: Unit, about: str, wanted: Mapping[int, Mapping[str, Value]], source: str, at: datetime | None = None
) -> ChangeSet:
    """Change values of many people or records at once, by id; all for the same keys. Gives what changed.

    Those who are gone are passed over. In few statements, however many they are; so that others need not wait long, a
    task goes batch by batch. `at` is the moment that history says, now where it is not given.
    """
    if not wanted:
        return _set(unit, about, (), source, at)
    session, definitions = unit.session, unit.definitions
    keys = list(next(iter(wanted.values())))
    lock_rows(session, definitions, about, list(wanted))
    follow = keys_that_follow(unit, about, keys)
    stored = rows_by_ids(session, definitions, about, [*keys, *follow], wanted)
    if follow:
        keys += follow
        wanted = {
            row_id: {**dict.fromkeys(follow), **values, **_kept_or_new(unit, about, values, stored[row_id], follow)}
            for row_id, values in wanted.items()
            if row_id in stored
        }
    changed = {
        row_id: _sealed(unit, about, wanted[row_id])
        for row_id, values in sorted(stored.items())
        if any(not is_same(values[key], wanted[row_id][key]) for key in keys)
    }
    followers = _followers(unit, about, keys)
    before = values_by_ids(session, definitions, unit.moment, about, followers, list(changed))
    update_rows(session, definitions, about, changed)
    known = unit.catalogue.keys_of(about)
    own = record(
        unit,
        _set(unit, about, (
            _change(known.get(key) or key, row_id, stored[row_id][key], values[key])
            for row_id, values in changed.items() for key in keys if not is_same(stored[row_id][key], values[key])
        ), source, at),
    )  # fmt: skip
    # Only now, as a derived field may read what the history says.
    after = values_by_ids(session, definitions, unit.moment, about, followers, list(changed))
    followed = record(
        unit,
        _set(unit, about, (
            _change(known[key], row_id, before[row_id][key], after[row_id][key])
            for row_id in changed for key in followers if before[row_id][key] != after[row_id][key]
        ), source, at),
    )  # fmt: skip
    return replace(own, changes=own.changes + followed.changes)


def _followed(unit: Unit, about: str, values: Mapping[str, Value], stored: Mapping[str, Value]) -> dict[str, Value]:
    """What is kept by itself when these values change, whoever changes them; what is given stays as given.

    The moments of consents, the days of joining lists, and the last day of a level.
    """
    if about != PERSON:
        return {}
    found: dict[str, Value] = {}
    for consent in CONSENTS:
        if consent.given in values and values[consent.given] != stored.get(consent.given):
            found |= consent_follows(unit.catalogue, consent, unit.moment.now)
    if "lists" in values:
        found |= joined(unit.catalogue, unit.moment, stored.get("lists"), values["lists"])
    if "level" in values and values["level"] != stored.get("level"):
        found |= level_ends(unit.catalogue, unit.moment, values["level"])
    return {key: value for key, value in found.items() if key not in values}


def keys_that_follow(unit: Unit, about: str, keys: Sequence[str]) -> list[str]:
    """The keys of what is kept by itself when values of these change, and is not among them itself."""
    found: list[str] = []
    for consent in CONSENTS if about == PERSON else ():
        if consent.given in keys:
            found += consent_follows(unit.catalogue, consent, unit.moment.now)
    if about == PERSON and "lists" in keys:
        found += joining_days(unit.catalogue)
    if about == PERSON and "level" in keys:
        found += level_ends(unit.catalogue, unit.moment, None)
    return [key for key in found if key not in keys]


def _kept_or_new(
    unit: Unit, about: str, values: Mapping[str, Value], stored: Mapping[str, Value], follow: Sequence[str]
) -> dict[str, Value]:
    new = _followed(unit, about, values, stored)
    return {key: new.get(key) if key in new else stored[key] for key in follow}


def _sealed(unit: Unit, about: str, values: Mapping[str, Value]) -> dict[str, Value]:
    """The values with secrets hashed; most have none, and of those nothing is asked a thousand times over."""
    return sealed(unit, about, values) if any(isinstance(one, Secret) for one in values.values()) else dict(values)


def is_same(one: Value, other: Value) -> bool:
    """Whether two values are the same; none of several is blank, however it is stored."""
    if isinstance(one, list | tuple) or isinstance(other, list | tuple):
        return tuple(one or ()) == tuple(other or ())  # type: ignore[arg-type]  # lists, by the check above
    return one == other


def _followers(unit: Unit, about: str, keys: Sequence[str]) -> list[str]:
    """The derived fields that depend on any of these."""
    derivation, broken = unit.catalogue.derivation_of(about), unit.catalogue.broken_by_about.get(about, frozenset())
    read = {*keys, *(HISTORY + key for key in keys)}
    return [
        key
        for key in derivation.formulas
        if key not in broken and not derivation.ancestors(frozenset((key,))).isdisjoint(read)
    ]


def record(unit: Unit, changes: ChangeSet) -> ChangeSet:
    """The one way of every change into history, and to whatever will follow changes; gives it back."""
    write_history(unit.session, unit.workspace_id, changes)
    return changes


def note(unit: Unit, about: str, row_id: int, field_id: int, old: Json, new: Json, source: str) -> None:
    """A change that is no value's of a field: of a link, or that a record was put away."""
    record(unit, _set(unit, about, (Change(row_id, field_id, old, new),), source))


def _set(unit: Unit, about: str, changes: Iterable[Change], source: str, at: datetime | None = None) -> ChangeSet:
    return ChangeSet(about, tuple(changes), source, unit.actor, at or unit.moment.now)


def _kept(field: Field, value: Value) -> Json:
    return (_IS_SET if value is not None else None) if field.type.kind == "secret" else to_json(value)


def _change(of: Field | str, row_id: int, old: Value, new: Value) -> Change:
    """The change of a field's value, or of a person's tags, lists or level by their key."""
    if isinstance(of, str):
        return Change(row_id, OWN_IDS[of], to_json(old or None), to_json(new or None))
    return Change(row_id, of.id, _kept(of, old), _kept(of, new), computed=of.derived)


def _changes(unit: Unit, about: str, row_id: int, before: Row | None, after: Row) -> Iterator[Change]:
    broken = unit.catalogue.broken_by_about.get(about, frozenset())
    for field in unit.catalogue.fields_about(about):
        if field.key in broken or not (field.stores or field.derived):
            continue
        old = before.get(field.key) if before is not None else None
        new = after.get(field.key)
        if old != new:
            yield _change(field, row_id, old, new)
    for key in OWN_IDS if about == PERSON else ():
        old = (before.get(key) if before is not None else None) or None
        new = after.get(key) or None
        if old != new:
            yield _change(key, row_id, old, new)
