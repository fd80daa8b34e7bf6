"""What a conversation says about records, written: those of the person changed, new ones added."""

from collections.abc import Mapping
from decimal import Decimal
from typing import Any

from finesieve.core.chat.journal import Amounts
from finesieve.core.chat.records import collection_of, is_new
from finesieve.core.chat.world import amount_on
from finesieve.core.fields.about import PERSON, record_about
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import to_json
from finesieve.core.forms.changing import person_may_not
from finesieve.core.model.catalogue import Link
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Unit
from finesieve.services.people.records import add_linked_record, set_record_values
from finesieve.services.values.writing import add_to_row
from finesieve.store.reading.rows import links_of, stored_row

__all__ = ["records_to_wait", "write_records"]


def write_records(
    unit: Unit,
    person_id: int,
    level: Value,
    records: Mapping[str, Amounts],
    made: Mapping[str, int],
    source: str,
) -> dict[str, int]:
    """Change the records of somebody on this level, and add new ones; `made` are the ids of those that were added
    before, by their name in the conversation. Gives the ids of those that are added now.

    What is not theirs any more stays as it is; so does what the person may not change themself.
    """
    found: dict[str, int] = {}
    for name, amounts in records.items():
        link = unit.catalogue.collections_of(PERSON).get(collection_of(name))
        if link is None:
            continue
        record_id = made.get(name, 0) if is_new(name) else int(name.partition(":")[2])
        if record_id:
            _change(unit, person_id, level, link, record_id, amounts, source)
            continue
        values = _values(unit, link, amounts)
        if any(value is not None for value in values.values()):
            known = unit.catalogue.record_types_by_id[link.record_type_id]
            found[name] = add_linked_record(unit, known, values, {link.id: [person_id]}, source)
    return found


def _fields(unit: Unit, link: Link) -> Mapping[str, Field]:
    return unit.catalogue.keys_of(record_about(link.record_type_id))


def _values(unit: Unit, link: Link, amounts: Amounts) -> dict[str, Value]:
    """The values of a new record."""
    fields = _fields(unit, link)
    return {key: amount_on(fields[key], None, how, data) for key, (how, data) in amounts.items() if key in fields}


def _change(
    unit: Unit, person_id: int, level: Value, link: Link, record_id: int, amounts: Amounts, source: str
) -> None:
    known = unit.catalogue.record_types_by_id[link.record_type_id]
    stored = stored_row(unit.session, unit.definitions, known.about, record_id, lock=True)
    if stored is None or person_id not in links_of(unit.session, unit.definitions, [link.id], record_id)[link.id]:
        return
    fields, values, adds = _fields(unit, link), dict[str, Value](), dict[str, Decimal]()
    for key, (how, data) in amounts.items():
        field = fields.get(key)
        if field is None or person_may_not(unit.catalogue, field, {**stored, "level": level}):
            continue
        if how == "add":
            adds[key] = Decimal(str(data))
        else:
            values[key] = field.from_kept(data)
    values |= add_to_row(unit, known.about, record_id, adds)
    set_record_values(unit, known, record_id, values, source)


def records_to_wait(unit: Unit, records: Mapping[str, Amounts]) -> dict[str, dict[str, Any]]:
    """New records as a decision keeps them, by their name in the conversation: like those of a submission."""
    links = unit.catalogue.collections_of(PERSON)
    return {
        name: {
            "record_type": link.record_type_id, "link": link.id, "record_id": 0,
            "values": {key: to_json(value) for key, value in _values(unit, link, amounts).items()},
        }
        for name, amounts in records.items()
        if (link := links.get(collection_of(name))) is not None and is_new(name)
    }  # fmt: skip
