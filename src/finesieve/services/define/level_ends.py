"""Levels that are held for a time: how long, and what follows for those who hold them already."""

from collections.abc import Collection
from datetime import date
from typing import Any, Final, Literal

from pydantic import Field as Bounds

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.model.catalogue import NamedList
from finesieve.core.model.changes import OWN_IDS
from finesieve.core.model.level_ends import LEVEL_ENDS, LevelEnd, LevelUnit
from finesieve.services.define.built_ins import use_part
from finesieve.services.define.fields import patiently
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.merging import merged
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.tasks import Progress, begin_task, work_of
from finesieve.services.values.writing import change_many
from finesieve.store.definitions.catalogue import touch
from finesieve.store.reading.people import holders_of_level
from finesieve.store.tables import LevelRow
from finesieve.store.values.history import gained_at

__all__ = ["LevelEndInput", "let_levels_end", "set_level_end", "shown_level_end", "why_not_level_end"]

_WAY: Final = "the end of the level"
_BATCH: Final = 1_000
_PART: Final = "membership"


class LevelEndInput(Input):
    """How a level ends, as typed: not, so long after somebody got it, or on a day."""

    ends: Literal["never", "after", "on"] = "never"
    after: int = Bounds(default=12, ge=1, le=1000)
    unit: LevelUnit = "months"
    on: str = Bounds(default="", max_length=10)
    falls_to: str = ""

    def read(self) -> LevelEnd | None:
        """The end; None for none. Raises InvalidInput for no day."""
        if self.ends == "never":
            return None
        if self.ends == "after":
            return LevelEnd(after=self.after, unit=self.unit, falls_to=self.falls_to)
        try:
            return LevelEnd(on=date.fromisoformat(self.on), falls_to=self.falls_to)
        except ValueError:
            raise InvalidInput({"on": "Choose the last day."}) from None


def shown_level_end(lasts: LevelEnd | None) -> LevelEndInput:
    """An end as the page shows it."""
    if lasts is None:
        return LevelEndInput()
    if lasts.on is not None:
        return LevelEndInput(ends="on", on=lasts.on.isoformat(), falls_to=lasts.falls_to)
    return LevelEndInput(ends="after", after=lasts.after, unit=lasts.unit, falls_to=lasts.falls_to)


def why_not_level_end(level_key: str, lasts: LevelEnd | None, known: Collection[str]) -> str:
    """Why a level cannot end so, "" where it can; `known` are the keys of all levels."""
    if lasts is None or not lasts.falls_to:
        return ""
    if lasts.falls_to == level_key:
        return "A level cannot fall to itself."
    return "" if lasts.falls_to in known else "There is no such level to fall to."


def set_level_end(scope: Scope, level_id: int, asked: LevelEndInput, was: LevelEndInput | None = None) -> int:
    """Say how long a level is held; gives the id for undoing, 0 where nothing changes.

    A task gives those who hold it and have no last day yet one, counted from when they got it. Raises NotFound,
    InvalidInput, and Overtaken for a clash with what the page showed (`was`).
    """
    return patiently(lambda: _set(scope, level_id, asked, was))


def _set(scope: Scope, level_id: int, asked: LevelEndInput, was: LevelEndInput | None) -> int:
    with scope.transaction("editor") as unit:
        row = unit.session.get(LevelRow, level_id, with_for_update=True)
        level = _level(unit, level_id)
        if row is None or level is None:
            raise NotFound("There is no such level.")
        asked = merged(unit, "level", level_id, asked, was, shown_level_end(level.lasts))
        lasts = asked.read()
        why = why_not_level_end(level.key, lasts, [one.key for one in unit.catalogue.levels])
        if why:
            raise InvalidInput({"falls_to": why})
        if lasts == level.lasts:
            return 0
        if lasts is not None:
            use_part(scope, _PART)
        before = snapshot(unit, "level", level_id)
        row.lasts = lasts.model_dump(mode="json") if lasts is not None else None
        unit.session.add(row)
        unit.session.flush()
        touch(unit.session, unit.workspace_id)
        begin_task(unit, "level_ends", f"{level.name}: last days", {"level": level_id}, 1)
        return record_change(unit, "level", level_id, f"Changed how long {level.name} is held", before)


def _level(unit: Unit, level_id: int) -> NamedList | None:
    return next((one for one in unit.catalogue.levels if one.id == level_id), None)


@work_of("level_ends")
def _give_last_days(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """A last day for those who hold a level and have none, or none where it ends no more. Begun again, it goes on."""
    after, done, past = (int(payload.get(name, 0)) for name in ("after", "done", "past"))
    while True:
        with scope.transaction("owner") as unit:
            level = _level(unit, int(payload["level"]))
            if level is None or LEVEL_ENDS not in unit.catalogue.by_key:
                return {"message": "The level is gone."}
            ids = holders_of_level(
                unit.session, unit.definitions, level.key, with_end=level.lasts is None, after=after, limit=_BATCH
            )
            days = _last_days(unit, level, ids)
            change_many(unit, PERSON, {one: {LEVEL_ENDS: day} for one, day in days.items()}, _WAY)
            done, after = done + len(ids), ids[-1] if ids else after
            past += sum(day is not None and day < unit.moment.today for day in days.values())
            progress.keep(unit, after=after, done=done, past=past)
        if len(ids) < _BATCH:
            soon = f"The last day of {past} of them has passed: they lose the level tonight, unless you undo this."
            return {"message": f"{done} changed." + (f" {soon}" if past else "")}
        progress.say(done, done + _BATCH)


def _last_days(unit: Unit, level: NamedList, ids: list[int]) -> dict[int, date | None]:
    if level.lasts is None:
        return dict.fromkeys(ids)
    got = gained_at(unit.session, PERSON, OWN_IDS["level"], level.key, ids)
    days = {one: got[one].astimezone(unit.moment.zone).date() if one in got else unit.moment.today for one in ids}
    return {one: level.lasts.last_day(day) for one, day in days.items()}


def let_levels_end(scope: Scope) -> int:
    """Let everybody fall whose level had its last day before today; gives how many.

    Nobody falls from a level that does not end (any more), or while the field of the last day is not in use.
    """
    fallen = 0
    for level in _ending(scope):
        while True:
            with scope.transaction("owner") as unit:
                ids = holders_of_level(
                    unit.session, unit.definitions, level.key, with_end=True, before=unit.moment.today, limit=_BATCH
                )
                then = level.lasts.falls_to if level.lasts is not None else ""
                there = then in [one.key for one in unit.catalogue.levels]
                change_many(unit, PERSON, {one: {"level": then if there else None} for one in ids}, _WAY)
            fallen += len(ids)
            if len(ids) < _BATCH:
                break
    return fallen


def _ending(scope: Scope) -> list[NamedList]:
    """The levels that end, from the highest, so that who falls to one that has ended too falls on."""
    with scope.reading("owner") as unit:
        there = LEVEL_ENDS in unit.catalogue.by_key
        return [one for one in reversed(unit.catalogue.levels) if one.lasts is not None and there]
