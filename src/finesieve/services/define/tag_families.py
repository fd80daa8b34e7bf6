"""Families of tags that behave like a field, and turning one into a progress field."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Final

from sqlmodel import col, select

from finesieve.core.errors import NotFound
from finesieve.core.fields.about import PERSON
from finesieve.core.model.changes import OWN_IDS
from finesieve.core.values import Value
from finesieve.services.define.deletion import take_away
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.memberships import TagLine, tags_in
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.tasks import Progress, Stopped, begin_task, work_of
from finesieve.services.values.value_lines import person_name
from finesieve.services.values.writing import change_many
from finesieve.store.reading.people import carriers_of_several, tags_beside, tags_together
from finesieve.store.reading.rows import rows_by_ids
from finesieve.store.tables import History
from finesieve.store.values.reshape import column_values
from finesieve.store.values.rows import lock_rows
from finesieve.store.values.tagging import carriers

__all__ = ["Family", "FamilyPlan", "begin_family", "families_in", "plan_family", "tag_families"]


_MOVED: Final = "tags turned into a field"
_GIVEN_BACK: Final = "tags put back"
_BATCH: Final = 1_000
_MOST_TORN: Final = 100


@dataclass(frozen=True, slots=True)
class Family:
    """Tags that share a beginning and exclude each other nearly always: a progress field in disguise.

    `members` are (tag, what is left of it, people); `contradictions` counts the people who
    carry two or more of them.
    """

    stem: str
    members: tuple[tuple[str, str, int], ...]
    people: int
    contradictions: int


def tag_families(scope: Scope) -> tuple[Family, ...]:
    """The families among the tags, the largest first."""
    with scope.reading("reader") as unit:
        return families_in(unit)


def families_in(unit: Unit) -> tuple[Family, ...]:
    groups: dict[str, list[TagLine]] = {}
    for tag in tags_in(unit):
        stem = _stem(tag.name)
        if stem:
            groups.setdefault(stem, []).append(tag)
    found = []
    for stem, tags in groups.items():
        if len(tags) < 2:
            continue
        people, several = tags_together(unit.session, unit.definitions, [tag.name for tag in tags])
        if people and several * 4 <= people:
            members = tuple((tag.name, tag.name[len(stem) :].lstrip(" -_:/"), tag.people) for tag in tags)
            found.append(Family(stem, members, people, several))
    return tuple(sorted(found, key=lambda family: (-family.people, family.stem)))


def _stem(name: str) -> str:
    for place, sign in enumerate(name):
        if sign in "-_:/ " and 1 < place < len(name) - 1:
            return name[:place]
    return ""


@dataclass(frozen=True, slots=True)
class FamilyPlan:
    """What turning a family into a progress field would do: people by step, and those who carry several.

    `torn` are (id, name, the tags carried, the one that counts).
    """

    family: Family
    steps: tuple[tuple[str, str, int], ...]
    torn: tuple[tuple[int, str, tuple[str, ...], str], ...]


def plan_family(scope: Scope, stem: str, order: Sequence[str] = ()) -> FamilyPlan:
    """The dry run. `order` puts the tags into the order of the steps; who carries several gets the furthest.

    Raises NotFound for no such family.
    """
    with scope.reading("reader") as unit:
        return _plan(unit, stem, order)


def _plan(unit: Unit, stem: str, order: Sequence[str]) -> FamilyPlan:
    family = next((family for family in families_in(unit) if family.stem == stem), None)
    if family is None:
        raise NotFound("There is no such family of tags.")
    named = {tag: (tag, rest, people) for tag, rest, people in family.members}
    ordered = [tag for tag in dict.fromkeys(order) if tag in named] + [tag for tag in named if tag not in order]
    counts: Counter[str] = Counter()
    for carried, people in tags_beside(unit.session, unit.definitions, ordered).items():
        counts[[tag for tag, there in zip(ordered, carried, strict=True) if there][-1]] += people
    torn = []
    for person_id, tags in carriers_of_several(unit.session, unit.definitions, ordered, _MOST_TORN):
        held = tuple(tag for tag in ordered if tag in tags)
        torn.append((person_id, held, held[-1]))
    steps = tuple((tag, named[tag][1], counts[tag]) for tag in ordered)
    keys = ["first_name", "last_name", "email"]
    names = rows_by_ids(unit.session, unit.definitions, PERSON, keys, [person_id for person_id, _, _ in torn])
    told = tuple((person_id, person_name(names[person_id]), tags, tag) for person_id, tags, tag in torn)
    return FamilyPlan(family, steps, told)


def begin_family(scope: Scope, stem: str, order: Sequence[str], label: str, group_id: int, *, take_off: bool) -> int:
    """Have a family turned into a progress field; gives the task's id. Raises NotFound, InvalidInput."""
    plan = plan_family(scope, stem, order)
    with scope.transaction("editor") as unit:
        payload = {
            "order": [tag for tag, _, _ in plan.steps],
            "labels": [rest.replace("-", " ").replace("_", " ").capitalize() for _, rest, _ in plan.steps],
            "label": label.strip() or stem.capitalize(),
            "group_id": group_id,
            "take_off": take_off,
            "people": plan.family.people,
        }
        return begin_task(unit, "family", f"Tags “{stem}…” become a field", payload, plan.family.people)


@work_of("family")
def _turn_into_field(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Make the progress field and move everybody from the tags to its steps, batch by batch.

    Begun again, it goes on where it was; stopped, the tags are as they were and the field is deleted.
    """
    order = tuple(payload["order"])
    field_id = payload.get("made") or _make_field(scope, payload, progress)
    done = after = 0
    try:
        while True:
            with scope.transaction("owner") as unit:
                key = unit.catalogue.by_id[field_id].key
                held = carriers(unit.session, unit.definitions, order, _BATCH, after)
                done += len(change_many(unit, PERSON, _steps(unit, key, held, order, payload["take_off"]), _MOVED))
            if not held:
                return {"message": f"{unit.manner.figure(done)} values moved.", "field_id": field_id}
            after = held[-1]
            progress.say(done, max(done, payload["people"]))
    except Stopped:
        _give_back(scope, field_id, order)
        raise


def _make_field(scope: Scope, payload: dict[str, Any], progress: Progress) -> int:
    labels, order = payload["labels"], payload["order"]
    lines = "\n".join(f"{label} = {tag}" for label, tag in zip(labels, order, strict=True))
    asked = FieldInput(label=str(payload["label"])[:120], type_key="progress", options=lines)
    with scope.transaction("owner") as unit:
        made = create_field(scope, int(payload["group_id"]), asked)
        progress.keep(unit, made=made)
        return made


def _steps(
    unit: Unit, key: str, ids: Sequence[int], order: Sequence[str], take_off: bool
) -> dict[int, dict[str, Value]]:
    """What each of these holds from now on: the last step of which they carry the tag, and the tags that are left."""
    found: dict[int, dict[str, Value]] = {}
    for person, values in rows_by_ids(unit.session, unit.definitions, PERSON, ["tags"], ids).items():
        tags = tuple(str(tag) for tag in values["tags"])  # type: ignore[union-attr]  # those who carry one have some
        held = [tag for tag in order if tag in tags]
        left = tuple(tag for tag in tags if tag not in order) if take_off else tags
        found[person] = {key: held[-1], "tags": left}
    return found


def _give_back(scope: Scope, field_id: int, order: Sequence[str]) -> None:
    """The tags of the family for all whom they were taken off, beside those that came since; and no field."""
    with scope.transaction("owner") as unit:
        field = unit.catalogue.by_id[field_id]
        first = select(History.at).where(col(History.field_id) == field_id).order_by(col(History.id)).limit(1)
        since = unit.session.exec(first).first()
    after = 0
    while since is not None:
        with scope.transaction("owner") as unit:
            held = column_values(unit.session, unit.definitions, field, after, _BATCH)
            ids = [person for person, _ in held]
            lines = select(History.entity_id, History.old).where(
                col(History.field_id) == OWN_IDS["tags"], col(History.source) == _MOVED,
                col(History.at) >= since, col(History.entity_id).in_(ids),
            )  # fmt: skip
            lost = {int(person): [tag for tag in old or () if tag in order] for person, old in unit.session.exec(lines)}
            lock_rows(unit.session, unit.definitions, PERSON, list(lost))
            now = rows_by_ids(unit.session, unit.definitions, PERSON, ["tags"], lost)
            wanted = {
                person: {"tags": tuple(dict.fromkeys((*(values["tags"] or ()), *lost[person])))}  # type: ignore[misc]
                for person, values in now.items()
            }
            change_many(unit, PERSON, wanted, _GIVEN_BACK)
        if not held:
            break
        after = held[-1][0]
    with scope.transaction("owner") as unit:
        take_away(unit, unit.catalogue.by_id[field_id])
