"""What a formula does to everybody, shown before it is saved: how its values are spread, for whom it stays blank and
why, who stands at its ends; and where it takes the place of another, who changes, and which segments move."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final

from finesieve.core.errors import FineSieveError, NotCompilable, TookTooLong
from finesieve.core.fields.about import PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.language.typed import Typed
from finesieve.core.model.catalogue import rebuilt
from finesieve.services.compute.derived import check_formula
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.turns import SECONDS, a_turn
from finesieve.services.sift.breakdown import group_name, sort_key
from finesieve.services.sift.segments import segment_rows
from finesieve.services.usage.uses import Use, uses_of
from finesieve.services.values.value_lines import person_name
from finesieve.store.connection.database import apart
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.reading.breakdown import Grouping, grouped, grouping_of
from finesieve.store.reading.effect import flows_between, missing_inputs, moved_by
from finesieve.store.reading.kept import is_estimated, patience
from finesieve.store.reading.people import Order, page_of_people

__all__ = ["Bar", "Effect", "End", "FlowLine", "Missing", "SegmentMove", "effect_of"]

_NEW: Final = "formula_under_trial"
_BARS: Final = 30
_FLOWS: Final = 14
_INPUTS: Final = 12
_ENDS: Final = 3


@dataclass(frozen=True, slots=True)
class Bar:
    """A group of values, how many people are in it, and how many were before the change."""

    name: str
    people: int
    before: int | None = None


@dataclass(frozen=True, slots=True)
class Missing:
    """A field that is blank for so many of those for whom the formula is blank."""

    field: Field
    people: int


@dataclass(frozen=True, slots=True)
class End:
    """Somebody with one of the smallest or largest values."""

    person_id: int
    name: str
    shown: str


@dataclass(frozen=True, slots=True)
class FlowLine:
    """So many people go from one group to another."""

    before: str
    after: str
    people: int


@dataclass(frozen=True, slots=True)
class SegmentMove:
    """What becomes of a segment; `broken` where its condition would not fit any more."""

    id: int
    name: str
    before: int = 0
    after: int = 0
    came: int = 0
    left: int = 0
    broken: bool = False


@dataclass(frozen=True, slots=True)
class Effect:
    """What a formula does to everybody. `replaces` tells that it takes the place of another, `changed` how many people
    have another value then, `within` how many of these one of the same group; `others` are forms, pages and the like
    that read it. `failure` says why it was not counted.
    """

    bars: tuple[Bar, ...] = ()
    everyone: int = 0
    blank: int = 0
    missing: tuple[Missing, ...] = ()
    smallest: tuple[End, ...] = ()
    largest: tuple[End, ...] = ()
    replaces: bool = False
    changed: int = 0
    within: int = 0
    flows: tuple[FlowLine, ...] = ()
    segments: tuple[SegmentMove, ...] = ()
    others: tuple[Use, ...] = ()
    failure: str = ""

    @property
    def most(self) -> int:
        return max((max(one.people, one.before or 0) for one in self.bars), default=0)


def effect_of(scope: Scope, formula: str, key: str = "", unit_name: str = "") -> Effect | None:
    """The effect of a formula of a person, in the place of that of the field `key` where one is given; None for one
    that has problems. Nothing is stored. Raises TooOften, Unavailable."""
    with a_turn(scope), scope.reading("editor") as unit:
        if check_formula(unit, formula, key).typed is None:
            return None
        trial = _trial(unit, formula, key, unit_name)
        field = trial.catalogue.keys_of(PERSON)[key or _NEW]
        typed = trial.catalogue.check(field.key).typed
        if typed is None:
            return None
        try:
            with apart(unit.session, patience(SECONDS)):
                return _effect(unit, trial, field, typed)
        except NotCompilable:
            return Effect(
                failure="Only one person at a time can be worked out by this; it cannot be shown for everybody."
            )
        except TookTooLong as why:
            return Effect(failure=str(why))
        except FineSieveError:
            return Effect(failure="The database cannot work this out for everybody. Write it another way.")


def _trial(unit: Unit, formula: str, key: str, unit_name: str) -> Definitions:
    """The definitions as they would be."""
    now = unit.catalogue
    known = now.keys_of(PERSON).get(key)
    if known is not None:
        fields = [
            replace(one, formula=formula, unit=unit_name) if one.id == known.id else one for one in now.all_fields
        ]
    else:
        group = now.groups[-1].id
        new = Field(-1, _NEW, "This formula", "short_text", group, unit=unit_name, formula=formula, manner=now.manner)
        fields = [*now.all_fields, new]
    return replace(unit.definitions, catalogue=rebuilt(now, fields))


def _effect(unit: Unit, trial: Definitions, field: Field, typed: Typed) -> Effect:
    known = unit.catalogue.keys_of(PERSON).get(field.key)
    grouping = grouping_of(unit.session, trial, typed, unit.moment)
    groups = grouped(unit.session, trial, None, [grouping], unit.moment)
    groups.sort(key=lambda one: sort_key(field, one.values[0], one.everyone))
    bars = [Bar(group_name(field, grouping.step, one.values[0]), one.everyone) for one in groups if one.values[0]]
    everyone = sum(one.everyone for one in groups)
    blank, missing = _missing(unit, trial, field, typed)
    found = Effect(tuple(bars[:_BARS]), everyone, blank, missing)
    if typed.type.kind in ("number", "money", "date", "datetime") and not is_estimated():
        found = replace(found, smallest=_ends(unit, trial, field, False), largest=_ends(unit, trial, field, True))
    old = unit.catalogue.check(field.key).typed if known is not None else None
    if known is None or old is None or known.formula == field.formula:
        return found
    return _compared(unit, trial, found, (known, old), (field, typed, grouping))


def _missing(unit: Unit, trial: Definitions, field: Field, typed: Typed) -> tuple[int, tuple[Missing, ...]]:
    """For how many it is blank, and which answers are missing there, the most often missing first."""
    derivation = trial.catalogue.derivation
    names = derivation.ancestors(typed.names) - derivation.formulas.keys()
    stored = {one.key: one for one in trial.catalogue.stored if one.key in names}
    keys = sorted(stored)[:_INPUTS]
    blank, counts = missing_inputs(unit.session, trial, typed, keys, unit.moment)
    found = [Missing(stored[key], people) for key, people in zip(keys, counts, strict=True) if people]
    return blank, tuple(sorted(found, key=lambda one: -one.people))


def _ends(unit: Unit, trial: Definitions, field: Field, down: bool) -> tuple[End, ...]:
    keys = ["first_name", "last_name", "email", field.key]
    order = Order(field.key, field.value_type, down)
    people = page_of_people(unit.session, trial, unit.moment, keys, order=order, limit=_ENDS)
    return tuple(
        End(one.id, person_name(one.values), field.show(one.values[field.key]))
        for one in people
        if one.values[field.key] is not None
    )


def _compared(
    unit: Unit, trial: Definitions, found: Effect, was: tuple[Field, Typed], becomes: tuple[Field, Typed, Grouping]
) -> Effect:
    """What changes beside the formula that is in force."""
    (known, old), (field, typed, grouping) = was, becomes
    before = Grouping(old, grouping.step) if old.type.kind == typed.type.kind else None
    before = before or grouping_of(unit.session, unit.definitions, old, unit.moment)
    flows = flows_between(unit.session, unit.definitions, trial, before, grouping, unit.moment)
    moved = [
        FlowLine(group_name(known, before.step, one.before), group_name(field, grouping.step, one.after), one.people)
        for one in sorted(flows, key=lambda one: -one.people)
        if one.people > one.same
    ]
    lines = tuple(one for one in moved if one.before != one.after)
    changed = sum(one.people - one.same for one in flows)
    sizes: dict[str, int] = {}
    for one in flows:
        name = group_name(known, before.step, one.before)
        sizes[name] = sizes.get(name, 0) + one.people
    names = {bar.name for bar in found.bars}
    bars = [replace(bar, before=sizes.get(bar.name, 0)) for bar in found.bars]
    gone = [Bar(name, 0, size) for name, size in sizes.items() if name not in names and name != "blank"]
    return replace(
        found, replaces=True, bars=tuple((*bars, *gone)[:_BARS]), changed=changed,
        within=changed - sum(one.people for one in lines), flows=lines[:_FLOWS],
        segments=_segments(unit, trial, field.key), others=_others(unit, field.id),
    )  # fmt: skip


def _segments(unit: Unit, trial: Definitions, key: str) -> tuple[SegmentMove, ...]:
    """The segments whose condition rests on the field, and how they move."""
    pairs: list[tuple[int, str, Typed, Typed]] = []
    broken: list[SegmentMove] = []
    for row in segment_rows(unit):
        now = unit.catalogue.check_segment(row.expression).typed if row.expression else None
        if now is None or key not in unit.catalogue.derivation.ancestors(now.names):
            continue
        then = trial.catalogue.check_segment(row.expression).typed
        if then is None:
            broken.append(SegmentMove(row.id or 0, row.name, broken=True))
        else:
            pairs.append((row.id or 0, row.name, now, then))
    conditions = [(now, then) for _, _, now, then in pairs]
    moved = moved_by(unit.session, unit.definitions, trial, conditions, unit.moment)
    counted = [
        SegmentMove(segment_id, name, one.before, one.after, one.came, one.left)
        for (segment_id, name, _, _), one in zip(pairs, moved, strict=True)
    ]
    return tuple(sorted(counted, key=lambda one: -(one.came + one.left))) + tuple(broken)


def _others(unit: Unit, field_id: int) -> tuple[Use, ...]:
    found: Sequence[Use] = uses_of(unit).of_field(field_id)
    once = {(one.kind, one.id): one for one in found if one.kind != "segment"}
    return tuple(once.values())
