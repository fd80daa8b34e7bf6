"""The day on which somebody joined a list: kept from now on, and for those who are on it taken from the history."""

from typing import Any, Final

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.model.changes import OWN_IDS
from finesieve.core.values import Value
from finesieve.services.define.fields import FieldInput, group_of, make_field, patiently
from finesieve.services.define.together import made_together
from finesieve.services.kernel.scope import Scope, Unit, reload
from finesieve.services.kernel.tasks import Progress, Stopped, begin_task, work_of
from finesieve.services.values.writing import change_many
from finesieve.store.reading.people import count_people
from finesieve.store.reading.rows import ids_after, rows_by_ids
from finesieve.store.values.history import gained_at

__all__ = ["keep_joining_day"]

_WAY: Final = "taken from the history"
_BATCH: Final = 1_000


def keep_joining_day(scope: Scope, list_id: int) -> int:
    """Make the field that keeps the day on which somebody joins a list; gives the id for undoing.

    Of those who are on it already a task takes the day from the history. Raises NotFound, and InvalidInput where
    there is such a field.
    """
    return patiently(lambda: _keep(scope, list_id))


def _keep(scope: Scope, list_id: int) -> int:
    with scope.transaction("editor") as unit:
        known = next((one for one in unit.catalogue.lists if one.id == list_id), None)
        if known is None:
            raise NotFound("There is no such list.")
        there = next((field for field in unit.catalogue.stored if field.settings.joined_list == list_id), None)
        if there is not None:
            raise InvalidInput({"": f"{there.label} keeps it already."})
        label = f"Joined {known.name} on"
        asked = FieldInput(label=label, type_key="date", settings={"joined_list": list_id})
        group = group_of(unit.catalogue, unit.catalogue.by_key["email"].group_id)
        made = make_field(unit, group, asked, ())
        begin_task(unit, "joining_days", f"{label}: from the history", {"field": made}, 1)
        return made_together(reload(unit), [made], f"Made {label}")


@work_of("joining_days")
def _take(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Fill in the days, batch by batch. Begun again, it passes over those who have one; stopped, it keeps those."""
    with scope.transaction("owner") as unit:
        total = count_people(unit.session, unit.definitions)
    after = done = found = 0
    while True:
        with scope.transaction("owner") as unit:
            ids = ids_after(unit.session, unit.definitions, PERSON, after, _BATCH)
            found += _fill(unit, int(payload["field"]), ids) if ids else 0
        if not ids:
            return {"message": f"Taken from the history for {_people(found)}."}
        after, done = ids[-1], done + len(ids)
        try:
            progress.say(min(done, total), total)
        except Stopped:
            raise Stopped(f"It was stopped; it had been taken from the history for {_people(found)}.") from None


def _fill(unit: Unit, field_id: int, ids: list[int]) -> int:
    """The days of those who are on the list and have none; gives how many."""
    field = unit.catalogue.by_id.get(field_id)
    known = next((one for one in unit.catalogue.lists if field and one.id == field.settings.joined_list), None)
    if field is None or known is None:
        raise NotFound("The field is gone.")
    rows = rows_by_ids(unit.session, unit.definitions, PERSON, ["lists", field.key], ids)
    blank = [one for one, row in rows.items() if row[field.key] is None and known.key in (row["lists"] or ())]  # type: ignore[operator]  # lists are several keys
    moments = gained_at(unit.session, PERSON, OWN_IDS["lists"], known.key, blank)
    days: dict[int, dict[str, Value]] = {
        one: {field.key: at.astimezone(unit.moment.zone).date()} for one, at in moments.items()
    }
    change_many(unit, PERSON, days, _WAY)
    return len(days)


def _people(number: int) -> str:
    return "1 person" if number == 1 else f"{number} people"
