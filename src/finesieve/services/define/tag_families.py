"""Families of tags that behave like a field, and turning one into a progress field."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select as pick

from finesieve.core.errors import NotFound
from finesieve.core.fields.about import PERSON
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.memberships import TagLine, tags_in
from finesieve.services.kernel.scope import Scope, Unit, reload
from finesieve.services.kernel.tasks import Progress, begin_task, work_of
from finesieve.services.values.value_lines import person_name
from finesieve.services.values.writing import change_person
from finesieve.store.compiler import bound
from finesieve.store.people import tags_together
from finesieve.store.rows import rows_by_ids

__all__ = ["Family", "FamilyPlan", "begin_family", "families_in", "plan_family", "tag_families"]


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
    torn: list[tuple[int, tuple[str, ...], str]] = []
    for person_id, tags in _carriers(unit, ordered):
        held = [tag for tag in ordered if tag in tags]
        counts[held[-1]] += 1
        if len(held) > 1 and len(torn) < 100:
            torn.append((person_id, tuple(held), held[-1]))
    steps = tuple((tag, named[tag][1], counts[tag]) for tag in ordered)
    keys = ["first_name", "last_name", "email"]
    names = rows_by_ids(unit.session, unit.definitions, PERSON, keys, [person_id for person_id, _, _ in torn])
    told = tuple((person_id, person_name(names[person_id]), tags, tag) for person_id, tags, tag in torn)
    return FamilyPlan(family, steps, told)


def _carriers(unit: Unit, names: Sequence[str]) -> list[tuple[int, tuple[str, ...]]]:
    person = unit.definitions.person
    query = (
        pick(person.c.id, person.c.tags)
        .where(person.c.tags.op("&&")(bound(tuple(names), "choices")))
        .order_by(person.c.id)
    )
    return [(int(row[0]), tuple(row[1])) for row in unit.session.execute(query)]


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
        }
        return begin_task(unit, "family", f"Tags “{stem}…” become a field", payload, plan.family.people)


@work_of("family")
def _turn_into_field(scope: Scope, payload: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Make the progress field and move everybody from the tags to its steps."""
    labels, order = payload["labels"], payload["order"]
    lines = "\n".join(f"{label} = {tag}" for label, tag in zip(labels, order, strict=True))
    asked = FieldInput(label=str(payload["label"])[:120], type_key="progress", options=lines)
    with scope.transaction("owner") as unit:
        made = next(
            (f for f in unit.catalogue.about(PERSON) if f.label == asked.label and f.type_key == "progress"), None
        )
    field_id = made.id if made else create_field(scope, int(payload["group_id"]), asked)
    done = 0
    with scope.transaction("owner") as begun:
        unit = reload(begun)
        key = unit.catalogue.by_id[field_id].key
        carriers = _carriers(unit, order)
        for person_id, tags in carriers:
            held = [tag for tag in order if tag in tags]
            left = tuple(tag for tag in tags if tag not in order) if payload["take_off"] else tags
            change_person(unit, person_id, {key: held[-1], "tags": left}, "tags turned into a field")
            done += 1
            if done % 500 == 0:
                progress.say(done, len(carriers))
    return {"message": f"{done:,} people moved.", "field_id": field_id}
