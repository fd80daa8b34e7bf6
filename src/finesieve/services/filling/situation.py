"""Filling in a form: the situation it stands in, and storing what came of it."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, Final

from finesieve.core.commerce.facts import ORDERS
from finesieve.core.errors import NotFound
from finesieve.core.fields.about import PERSON, record_about
from finesieve.core.fields.definition import Shelf
from finesieve.core.fields.encoding import to_json
from finesieve.core.forms.changing import locked_keys
from finesieve.core.forms.definition import Form
from finesieve.core.forms.outcome import RecordAnswer, Results
from finesieve.core.forms.rows import Situation
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Unit
from finesieve.services.people.records import add_linked_record, set_record_values
from finesieve.services.values.files import shelf_of
from finesieve.services.values.past import histories_of
from finesieve.services.values.sealing import sealed
from finesieve.store.definitions.orders import orders_of
from finesieve.store.reading.rows import offered_titles, records_of, stored_row

__all__ = [
    "SEARCHED",
    "page_parameters",
    "person_situation",
    "records_from_json",
    "records_to_json",
    "sealed_results",
    "shelf_for",
    "store_records",
]

SEARCHED: Final = "find:"
"""Before the name of a question: the words that its records are searched by."""
_MOST_PARAMETERS: Final = 20
_MOST_CHARACTERS: Final = 200


def page_parameters(given: Mapping[str, str], language: str) -> dict[str, str]:
    """The address parameters that a form's rules may read: at most 20, each cut at 200 characters."""
    kept = [(name, value[:_MOST_CHARACTERS]) for name, value in given.items() if name.isidentifier()]
    return {**dict(kept[:_MOST_PARAMETERS]), "language": language}


def shelf_for(unit: Unit, form: Form, answers: Mapping[str, str], form_id: int = 0) -> Shelf | None:
    """What the answers may point at: the files that they name, and the records of choices among records.

    What is searched for among these stands with the answers, by `SEARCHED` and the name of the question.
    """
    fields = {question.id: unit.catalogue.by_id.get(question.field_id) for question in form.questions}
    tokens = []
    for name, answer in answers.items():
        known = fields.get(name.partition(".")[0])
        if known is not None and known.type.kind == "file" and answer:
            tokens.append(answer)
    chosen: dict[int, list[str]] = {}
    words: dict[int, str] = {}
    for name, known in fields.items():
        if known is not None and known.type_key == "record" and known.settings.record_type:
            given = [answer for place, answer in answers.items() if place.partition(".")[0] == name]
            chosen.setdefault(known.settings.record_type, []).extend(given)
            searched = (words for place, words in answers.items() if place.partition(".")[0] == SEARCHED + name)
            words.setdefault(known.settings.record_type, next((one for one in searched if one), ""))
    titles = {
        one: offered_titles(unit.session, unit.definitions, record_about(one), words[one][:80], given, sees=unit.sees)
        for one, given in chosen.items()
    }
    if not titles and not tokens:
        return None
    return replace(shelf_of(unit, tokens, form_id), titles=titles)


def person_situation(unit: Unit, person_id: int, page: Mapping[str, str], shelf: Shelf | None) -> Situation:
    """The situation of a known person, who sees what is stored. Raises NotFound."""
    stored = stored_row(unit.session, unit.definitions, PERSON, person_id)
    if stored is None:
        raise NotFound("There is no such person.")
    records = {
        name: tuple(records_of(unit.session, unit.definitions, link, person_id))
        for name, link in unit.catalogue.collections_of(PERSON).items()
    }
    if unit.catalogue.shop is not None:
        records.setdefault(ORDERS, tuple(orders_of(unit.session, unit.definitions, person_id)))
    locked = locked_keys(unit.catalogue, stored)
    history = histories_of(unit, person_id)
    return Situation(stored, records, page, shelf, known=True, locked=locked, history=history)


def store_records(
    unit: Unit, person_id: int, records: Sequence[RecordAnswer], source: str
) -> tuple[tuple[int, int], ...]:
    """Add and change the records that a form's repeated sections gave; gives the new ones, by type and id."""
    added = []
    for record in records:
        known = unit.catalogue.record_types_by_id.get(record.record_type)
        if known is None:
            continue
        if record.record_id:
            set_record_values(unit, known, record.record_id, record.values, source)
        else:
            added.append((known.id, add_linked_record(unit, known, record.values, {record.link: [person_id]}, source)))
    return tuple(added)


def sealed_results(unit: Unit, results: Results) -> Results:
    """What sending would store, secrets hashed."""
    values = {about: sealed(unit, about, values) for about, values in results.values.items()}
    passing = sealed(unit, PERSON, results.passing)
    records = (
        replace(record, values=sealed(unit, record_about(record.record_type), record.values))
        for record in results.records
    )
    return Results(values, tuple(records), passing)


def records_to_json(records: Sequence[RecordAnswer]) -> list[dict[str, Any]]:
    """Records as a submission keeps them."""
    return [
        {
            "record_type": record.record_type,
            "link": record.link,
            "record_id": record.record_id,
            "values": {key: to_json(value) for key, value in record.values.items()},
            **({"title": record.title, "line": record.line} if record.line else {}),
            **({"place": record.place} if record.place else {}),
        }
        for record in records
    ]


def records_from_json(unit: Unit, kept: Sequence[Mapping[str, Any]]) -> tuple[RecordAnswer, ...]:
    """Records that a submission kept, as far as their fields are there; options under their present names.

    Raises ValueError for a value that its field does not hold any more.
    """
    found = []
    for one in kept:
        keys = unit.catalogue.keys_of(record_about(one["record_type"]))
        values: dict[str, Value] = {
            key: keys[key].from_kept(data) for key, data in one["values"].items() if key in keys
        }
        more = (one.get(name, "") for name in ("title", "line", "place"))
        found.append(RecordAnswer(one["record_type"], one["link"], one["record_id"], values, *more))
    return tuple(found)
