"""Numbered twins, such as Bed 1, Bed 2, Bed 3, become records: one for each that a person has, with its value."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

from finesieve.core.errors import FineSieveError, InvalidInput, Unavailable
from finesieve.core.fields.about import PERSON, record_about
from finesieve.core.fields.definition import Field
from finesieve.core.model.catalogue import Catalogue, Link, RecordType
from finesieve.core.reasoning.meanings import numbered
from finesieve.core.values import Value
from finesieve.services.define.deletion import take_away
from finesieve.services.define.fields import FieldInput, group_of, make_field
from finesieve.services.define.record_types import RecordTypeInput, make_record_type, put_away
from finesieve.services.define.retyping import changeable
from finesieve.services.kernel.scope import Scope, Unit, reload
from finesieve.services.kernel.tasks import Progress, begin_task, work_of
from finesieve.services.usage.uses import Use, uses_of
from finesieve.services.values.writing import add_many, change_many
from finesieve.store.reading.people import count_people, fill_counts
from finesieve.store.reading.rows import ids_after, records_of, rows_by_ids
from finesieve.store.values.history import changed_since, last_line
from finesieve.store.values.reshape import hold_still
from finesieve.store.values.rows import link_rows

__all__ = ["GatheringPlan", "begin_gathering", "plan_gathering"]

_WAY: Final = "gathered into records"
_BATCH: Final = 500


@dataclass(frozen=True, slots=True)
class GatheringPlan:
    """What gathering twins would do: of how many people each has a value, and what names the fields now."""

    singular: str
    plural: str
    fields: tuple[tuple[Field, int], ...]
    uses: tuple[Use, ...]

    @property
    def records(self) -> int:
        """How many records there would be."""
        return sum(count for _, count in self.fields)


def plan_gathering(scope: Scope, field_id: int) -> GatheringPlan:
    """The dry run for a field that is one of several; changes nothing. Raises NotFound, InvalidInput for one alone."""
    with scope.transaction("editor") as unit:
        stem, fields = _twins(unit, field_id)
        filled = fill_counts(unit.session, unit.definitions, PERSON, fields)
        uses = uses_of(unit)
        named = tuple(dict.fromkeys(use for field in fields for use in uses.of_field(field.id)))
        counted = tuple((field, filled.of(field)) for field in fields)
        return GatheringPlan(stem, f"{stem}s", counted, named)


def _twins(unit: Unit, field_id: int) -> tuple[str, list[Field]]:
    own = changeable(unit, field_id)
    stem, fields = numbered(unit.catalogue.fields_about(PERSON)).get(own.id, ("", []))
    fields = [field for field in fields if unit.sees(field)]
    if len(fields) < 2:
        raise InvalidInput({"": "There is no other field of this name with another number."})
    if len({field.type_key for field in fields}) > 1 or own.type.kind in ("file", "secret"):
        raise InvalidInput({"": "They are of different types, or hold what cannot be moved; make them alike first."})
    return stem, fields


def begin_gathering(scope: Scope, field_id: int, singular: str, plural: str) -> int:
    """Have twins gathered into records of a new type; gives the task's id. Raises InvalidInput."""
    with scope.transaction("editor") as unit:
        _, fields = _twins(unit, field_id)
        names = {"singular": singular.strip(), "plural": plural.strip()}
        for name, text in names.items():
            if not 0 < len(text) <= _NOUN:
                raise InvalidInput({name: f"Write a name of at most {_NOUN} characters."})
        if any(known.singular.lower() == names["singular"].lower() for known in unit.catalogue.record_types):
            raise InvalidInput({"singular": "There is a record type of this name already."})
        payload = {**names, "fields": [field.id for field in fields]}
        labels = f"{fields[0].label} to {fields[-1].label}"
        return begin_task(unit, "gather", f"{labels} become {names['plural']}", payload, 1)


_NOUN: Final = 60


@dataclass(frozen=True, slots=True)
class _Made:
    """Where the values go: the new record type, its link to people, and the field that takes them."""

    type: RecordType
    link: Link
    field: Field
    title: Field


@work_of("gather")
def _gather(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Make the record type, take the values over batch by batch, then delete the fields that there were.

    Begun again, it goes on where it was. Stopped, the new type is put away, and the fields are as they were.
    """
    with scope.transaction("owner") as unit:
        if payload.get("type") and not any(one in unit.catalogue.by_id for one in payload["fields"]):
            return {"message": "All values are in records now."}
    if not payload.get("type"):
        payload |= _make(scope, payload, progress)
    try:
        given = _take_over(scope, payload, progress)
    except Unavailable:
        raise  # the task is taken up again
    except FineSieveError:
        with scope.transaction("owner") as unit:
            put_away(unit, int(payload["type"]))
        raise
    with scope.transaction("owner") as unit:
        fields = [changeable(unit, one) for one in payload["fields"]]
        hold_still(unit.session, unit.workspace_id, fields[0])
        late = sorted({one for field in fields for one in changed_since(unit.session, field, payload["begun"], _WAY)})
        _line_up(unit, _made(unit.catalogue, payload), fields, late)
        for field in fields:
            take_away(unit, field)
    return {"message": f"{given} records made.", "record_type": payload["type"]}


def _make(scope: Scope, payload: Mapping[str, Any], progress: Progress) -> dict[str, Any]:
    with scope.transaction("owner") as unit:
        first = changeable(unit, payload["fields"][0])
        asked = RecordTypeInput(singular=payload["singular"], plural=payload["plural"])
        type_id = make_record_type(unit, asked)
        unit = reload(unit)  # noqa: PLW2901 - the same transaction, knowing what was made
        known = unit.catalogue.record_types_by_id[type_id]
        field_id = known.title_field
        if first.type_key != "short_text":
            group = unit.catalogue.groups_about(known.about)[0].id
            made = FieldInput(
                label=payload["singular"],
                type_key=first.type_key,
                unit=first.unit,
                settings=first.settings.model_copy(
                    update={"unique": False, "lists": (), "country_from": "", "joined_list": None}
                ).model_dump(),
            )
            field_id = make_field(unit, group_of(unit.catalogue, group), made, first.options)
        hold_still(unit.session, unit.workspace_id, first)
        found = {"type": type_id, "field": field_id, "begun": last_line(unit.session)}
        progress.keep(unit, **found)
        return found


def _made(catalogue: Catalogue, payload: Mapping[str, Any]) -> _Made:
    known = catalogue.record_types_by_id.get(int(payload["type"]))
    if known is None or known.main_link is None:
        raise InvalidInput({"": "The record type that was made for them is gone."})
    return _Made(known, known.main_link, catalogue.by_id[int(payload["field"])], catalogue.by_id[known.title_field])


def _take_over(scope: Scope, payload: dict[str, Any], progress: Progress) -> int:
    given, after = int(payload.get("given", 0)), int(payload.get("after", 0))
    with scope.transaction("owner") as unit:
        total = count_people(unit.session, unit.definitions)
    done = 0
    while True:
        with scope.transaction("owner") as unit:
            fields = [changeable(unit, one) for one in payload["fields"]]
            ids = ids_after(unit.session, unit.definitions, PERSON, after, _BATCH)
            if not ids:
                return given
            given += _give(unit, _made(unit.catalogue, payload), _values(unit, fields, ids))
            after = ids[-1]
            # Kept with the records, so that a task begun again gives nobody theirs twice.
            progress.keep(unit, given=given, after=after)
        done += len(ids)
        progress.say(min(done, total), total)


def _values(unit: Unit, fields: Sequence[Field], ids: Sequence[int]) -> dict[int, list[tuple[int, Value]]]:
    """The values that people have, each with the place of its field, by person."""
    rows = rows_by_ids(unit.session, unit.definitions, PERSON, [field.key for field in fields], ids)
    return {
        person: [(place, row[field.key]) for place, field in enumerate(fields, 1) if row[field.key] is not None]
        for person, row in sorted(rows.items())
    }


def _give(unit: Unit, made: _Made, values: Mapping[int, Sequence[tuple[int, Value]]]) -> int:
    """A record for each value, linked to its person; gives how many."""
    people = [person for person, held in values.items() for _ in held]
    rows = [_row(made, place, value) for held in values.values() for place, value in held]
    ids = add_many(unit, record_about(made.type.id), rows, _WAY)
    link_rows(unit.session, unit.definitions, made.link, list(zip(ids, people, strict=True)))
    return len(ids)


def _row(made: _Made, place: int, value: Value) -> dict[str, Value]:
    own: dict[str, Value] = {made.field.key: value}
    return own if made.field.id == made.title.id else {made.title.key: f"{made.type.singular} {place}", **own}


def _line_up(unit: Unit, made: _Made, fields: Sequence[Field], people: Sequence[int]) -> None:
    """Bring the records of people whose values changed meanwhile up to date; what is too much is left blank."""
    for person, held in _values(unit, fields, people).items():
        there = [record for record, _ in records_of(unit.session, unit.definitions, made.link, person)]
        wanted = [_row(made, place, value) for place, value in held]
        blank = dict.fromkeys(_row(made, 0, None))
        same = {record: (wanted[n] if n < len(wanted) else blank) for n, record in enumerate(there)}
        change_many(unit, made.type.about, same, _WAY)
        _give(unit, made, {person: held[len(there) :]})
