"""Values of the past, read from the history."""

from collections.abc import Mapping
from datetime import date, datetime, time
from typing import Any, Final

from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import Json, from_json
from finesieve.core.language.history import PastLine, past_line
from finesieve.core.model.changes import OWN_IDS
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Unit
from finesieve.store.connection.database import remembered
from finesieve.store.reading.changes import changes_since, lines_of_field

__all__ = ["day_begins", "histories_of", "history_lines", "value_told", "values_then"]

_MOST: Final = 20_000
_OWN: Final = {number: key for key, number in OWN_IDS.items()}


def day_begins(unit: Unit, day: date) -> datetime:
    """The moment when a day begins, in the zone of the house."""
    return datetime.combine(day, time(), tzinfo=unit.moment.zone)


def value_told(
    fields: Mapping[int, Field], own: Mapping[int, str], field_id: int, data: Json
) -> tuple[str, Value] | None:
    """The key and the value that a line of the history tells; None for what is none of these fields, nor of a person's
    `own` tags, lists and level. What is no value of the field any more is blank."""
    if field_id in own:
        found: Any = data
        key = own[field_id]
        return key, tuple(found or ()) if key != "level" else found
    known = fields.get(field_id)
    if known is None:
        return None
    try:
        return known.key, from_json(data, known.value_type) if known.derived else known.from_kept(data)
    except (ValueError, TypeError):
        return known.key, None


def history_lines(unit: Unit, person_id: int, key: str) -> tuple[PastLine, ...]:
    """The lines of the history of one field of a person, of tags, lists or level, in the order they were written: those
    that were there at the moment it is."""
    type_, field = unit.catalogue.names.get(key), unit.catalogue.by_key.get(key)
    field_id = field.id if field is not None else OWN_IDS.get(key)
    if type_ is None or field_id is None:
        return ()
    renamed = field.options_renamed if field is not None else {}

    def read() -> tuple[PastLine, ...]:
        lines = lines_of_field(unit.session, person_id, field_id)
        return tuple(past_line(one.at, one.old, one.new, type_, renamed) for one in lines)

    lines = remembered(unit.session, ("history", unit.workspace_id, person_id, key), read)
    return tuple(one for one in lines if one.at <= unit.moment.now)


def histories_of(unit: Unit, person_id: int) -> dict[str, tuple[PastLine, ...]]:
    """What the derived fields read of a person's past, by the keys of the fields."""
    return {key: history_lines(unit, person_id, key) for key in unit.catalogue.histories_read}


def values_then(unit: Unit, person_id: int, now: Mapping[str, Value], begins: datetime) -> dict[str, Value] | None:
    """The stored values that a person had at a moment, from those of now; None where they were not there yet, or more
    has changed since than anybody could go through."""
    fields = {field.id: field for field in unit.catalogue.stored}
    email = next((field.id for field in fields.values() if field.key == "email"), 0)
    changes = changes_since(unit.session, [*fields, *_OWN], begins, _MOST + 1, person_id)
    if len(changes) > _MOST:
        return None
    values = dict(now)
    for one in changes:  # the latest first
        if one.field_id == email and one.old is None:
            return None
        told = value_told(fields, _OWN, one.field_id, one.old)
        if told is not None:
            values[told[0]] = told[1]
    return values
