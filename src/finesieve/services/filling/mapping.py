"""Answers of forms that set house values, of this workspace or of another that gives leave."""

import difflib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotAllowed, NotFound
from finesieve.core.fields.about import HOUSE, PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import to_json
from finesieve.core.forms.definition import Form
from finesieve.core.language.evaluator import compile_python
from finesieve.core.values import StoredFile, Value, whole_number
from finesieve.services.filling.decisions import ask_for
from finesieve.services.filling.house_values import HOUSE_VALUES
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.merging import merged_parts
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.kernel.tasks import Progress, begin_task, work_of
from finesieve.services.values.files import keep_file
from finesieve.services.values.writing import change_row, row_of
from finesieve.store.reading.rows import HOUSE_ID, stored_row
from finesieve.store.tables import FormRow, HouseGrant, HouseMapping, Segment, Workspace

__all__ = [
    "MappingView",
    "Sender",
    "allow_mapping",
    "change_grant",
    "change_mapping",
    "list_grants",
    "pass_on",
    "read_mapping",
    "sets_house_values",
]

_ALIKE: Final = 0.75
"""How similar two names are before one is suggested for the other, from 0 to 1."""


@dataclass(frozen=True, slots=True)
class MappingView:
    """A form's fields beside house values, here or in another workspace.

    `pairs` maps the id of a field asked to the key of a house value; `suggested` what similar names and equal types
    suggest; `places` are the questions by the id of their field, `passing` the fields whose answers are not kept on
    the person. Nothing is set before it is `allowed`. `others` are the short names and names of the workspaces that
    let this one set values of theirs.
    """

    form_id: int
    form: str
    target_slug: str
    target: str
    asked: tuple[Field, ...]
    house: tuple[Field, ...]
    pairs: Mapping[int, str]
    suggested: Mapping[int, str]
    places: Mapping[int, str]
    passing: frozenset[int]
    problem: str = ""
    allowed: bool = False
    who: str = "yes"
    others: tuple[tuple[str, str], ...] = ()


WHO: Final = ("anyone", "yes", "known")
"""Who may set house values by a form; or `segment:7`, known people of a segment."""


def read_mapping(scope: Scope, form_id: int, target_slug: str = "") -> MappingView:
    """The mapping of a form's answers to house values. Raises NotFound."""
    with scope.reading("reader") as unit:
        form = unit.session.get(FormRow, form_id)
        if form is None:
            raise NotFound("There is no such form.")
        questions = Form.model_validate(form.draft).questions
        asked = tuple(
            known
            for question in questions
            if (known := unit.catalogue.by_id.get(question.field_id)) and known.about == PERSON
        )
        row = _mapping_row(unit, form_id, target_slug)
        title, own = str(form.draft["title"]), unit.catalogue.stored_about(HOUSE)
        pairs = {int(field_id): str(key) for field_id, key in row.pairs} if row else {}
        allowed, who = bool(row and row.allowed), row.who if row else "yes"
        slug, others = unit.workspace.slug, _giving_leave(unit)
    house, target, problem = own, "", ""
    if target_slug:
        house, target, problem = _allowed(scope, slug, target_slug)
    return MappingView(
        form_id,
        title,
        target_slug,
        target,
        asked,
        house,
        pairs,
        _suggest(asked, house),
        {one.field_id: one.id for one in questions},
        frozenset(one.field_id for one in questions if one.passing),
        problem,
        allowed,
        who,
        others,
    )


def _giving_leave(unit: Unit) -> tuple[tuple[str, str], ...]:
    query = select(Workspace.slug, Workspace.name).join(HouseGrant, col(HouseGrant.workspace_id) == col(Workspace.id))
    theirs = query.where(
        col(HouseGrant.from_slug) == unit.workspace.slug, col(HouseGrant.workspace_id) != unit.workspace_id
    )
    return tuple((slug, name) for slug, name in unit.session.exec(theirs.order_by(col(Workspace.name))).all())


def _mapping_row(unit: Unit, form_id: int, target_slug: str, *, lock: bool = False) -> HouseMapping | None:
    query = select(HouseMapping).where(
        col(HouseMapping.form_id) == form_id, col(HouseMapping.target_slug) == target_slug
    )
    return unit.session.exec(query.with_for_update() if lock else query).first()


def _merged_pairs(
    unit: Unit, row: HouseMapping, pairs: Mapping[int, str], was: Mapping[int, str] | None, asked: Mapping[int, Field]
) -> list[list[Any]]:
    if was is None:
        return [[field_id, key] for field_id, key in pairs.items()]
    now = {str(field_id): str(key) for field_id, key in row.pairs}
    names = {str(field_id): field.label for field_id, field in asked.items()}
    wanted = {name: pairs.get(int(name), "") for name in names}
    shown = {name: was.get(int(name), "") for name in names}
    there = {name: now.get(name, "") for name in names}
    found = merged_parts(wanted, shown, there, "Somebody else", names)
    return [[int(name), key] for name, key in found.items() if key]


def _allowed(scope: Scope, from_slug: str, target_slug: str) -> tuple[tuple[Field, ...], str, str]:
    """The house values that another workspace lets this one set, its name, and why there are none."""
    with scope.store.transaction() as session:
        target = session.exec(select(Workspace).where(col(Workspace.slug) == target_slug)).first()
    nothing = ((), target_slug, "No workspace of that name lets this one set its house values.")
    if target is None:
        return nothing
    inside = Scope(scope.store, target.id or 0, scope.actor, "public", scope.clock)
    with inside.transaction("public") as unit:
        grant = unit.session.exec(select(HouseGrant).where(col(HouseGrant.from_slug) == from_slug)).first()
        if grant is None:
            return nothing
        fields = tuple(field for field in unit.catalogue.stored_about(HOUSE) if field.key in grant.keys)
        return fields, target.name, ""


def _suggest(asked: Sequence[Field], house: Sequence[Field]) -> dict[int, str]:
    """For each field asked the house value of the most similar name and the same kind, where there is one."""
    found: dict[int, str] = {}
    for field in asked:
        alike = {
            value.key: _likeness(field.label, value.label)
            for value in house
            if value.type.kind == field.type.kind and value.key not in found.values()
        }
        best = max(alike, key=alike.__getitem__, default="")
        if best and alike[best] >= _ALIKE:
            found[field.id] = best
    return found


def _likeness(one: str, other: str) -> float:
    """How similar two names are, from 0 to 1: as written, or in the words that they share."""
    words, others = set(one.lower().split()), set(other.lower().split())
    shared = len(words & others) / min(len(words), len(others)) if words and others else 0
    return max(difflib.SequenceMatcher(None, one.lower(), other.lower()).ratio(), shared)


def change_mapping(
    scope: Scope, form_id: int, target_slug: str, pairs: Mapping[int, str], was: Mapping[int, str] | None = None
) -> int:
    """Say which answers set which house values; gives the id for undoing.

    `was` are the pairs that the page showed. Raises InvalidInput for a pair of unequal kinds, Overtaken for a clash.
    """
    view = read_mapping(scope, form_id, target_slug)
    house, asked = {field.key: field for field in view.house}, {field.id: field for field in view.asked}
    for field_id, key in pairs.items():
        if field_id not in asked or key not in house:
            raise InvalidInput({f"pairs.{field_id}": "That cannot be set from here."})
        if asked[field_id].type.kind != house[key].type.kind:
            raise InvalidInput({f"pairs.{field_id}": f"“{house[key].label}” holds another kind of value."})
    if len(set(pairs.values())) < len(pairs):
        raise InvalidInput({"": "Two questions would set the same house value."})
    with scope.transaction("editor") as unit:
        row = _mapping_row(unit, form_id, target_slug, lock=True)
        before = snapshot(unit, "mapping", row.id or 0) if row else None
        row = row or HouseMapping(workspace_id=unit.workspace_id, form_id=form_id, target_slug=target_slug, who="yes")
        wanted = _merged_pairs(unit, row, pairs, was, asked)
        # What was allowed is those pairs; others ask again.
        row.allowed = row.allowed and row.pairs == wanted
        row.pairs = wanted
        unit.session.add(row)
        unit.session.flush()
        return record_change(unit, "mapping", row.id or 0, f"Changed what {view.form} sets", before)


def allow_mapping(scope: Scope, form_id: int, target_slug: str, *, allowed: bool, who: str = "anyone") -> int:
    """Let those who fill in the form (`who` of them, see `WHO`) set these house values, or no longer.

    Gives the id for undoing. Raises NotFound where no answer is mapped, InvalidInput for nobody that there is.
    """
    with scope.transaction("editor") as unit:
        if who not in WHO and not _segment_of(unit, who):
            raise InvalidInput({"who": "Choose who may set them."})
        row = _mapping_row(unit, form_id, target_slug)
        if row is None or not row.pairs:
            raise NotFound("No answer of this form sets a house value.")
        before = snapshot(unit, "mapping", row.id or 0)
        row.allowed, row.who = allowed, who
        unit.session.add(row)
        form = unit.session.get(FormRow, form_id)
        title = str(form.draft["title"]) if form else ""
        return record_change(
            unit, "mapping", row.id or 0, f"{'Allowed' if allowed else 'Stopped'} what {title} sets", before
        )


def list_grants(scope: Scope) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Which workspaces may set which house values of this one."""
    with scope.reading("reader") as unit:
        own = select(HouseGrant).where(col(HouseGrant.workspace_id) == unit.workspace_id)
        rows = unit.session.exec(own.order_by(col(HouseGrant.from_slug))).all()
        return tuple((row.from_slug, tuple(row.keys)) for row in rows)


def change_grant(scope: Scope, from_slug: str, keys: Sequence[str]) -> int:
    """Let another workspace set these house values by its forms; none withdraws the leave. Gives the id for undoing."""
    with scope.transaction("owner") as unit:
        known = {field.key for field in unit.catalogue.stored_about(HOUSE)}
        if not from_slug or len(from_slug) > 80:
            raise InvalidInput({"from_slug": "Write the other workspace’s short name, as in its address."})
        row = unit.session.exec(select(HouseGrant).where(col(HouseGrant.from_slug) == from_slug)).first()
        there = unit.session.exec(select(Workspace.id).where(col(Workspace.slug) == from_slug)).first()
        if row is None and there is None:
            raise InvalidInput({"from_slug": "There is no workspace of this short name."})
        if there == unit.workspace_id:
            raise InvalidInput({"from_slug": "This is the workspace itself."})
        kept = [key for key in keys if key in known]
        if row is None and not kept:
            return 0
        before = snapshot(unit, "grant", row.id or 0) if row else None
        row = row or HouseGrant(workspace_id=unit.workspace_id, from_slug=from_slug)
        row.keys = kept
        unit.session.add(row)
        unit.session.flush()
        grant_id = row.id or 0
        if not kept:
            unit.session.delete(row)
        return record_change(unit, "grant", grant_id, f"Changed what {from_slug} may set", before)


def sets_house_values(unit: Unit, form_id: int) -> bool:
    """Whether answers of the form are mapped to house values; another answer only with another version of all."""
    query = select(HouseMapping.id).where(col(HouseMapping.form_id) == form_id)
    return unit.session.exec(query.limit(1)).first() is not None


def _segment_of(unit: Unit, who: str) -> Segment | None:
    number = whole_number(who.removeprefix("segment:")) if who.startswith("segment:") else None
    return unit.session.get(Segment, number) if number else None


@dataclass(frozen=True, slots=True)
class Sender:
    """Who sent a form: the person whose it is, and whether they came by a link of their own."""

    person_id: int
    known: bool


def _may_set(unit: Unit, who: str, sender: Sender) -> bool:
    """Whether the one who sent a form may set what it sets; who is merely said to be somebody is not known."""
    if who in ("anyone", "yes"):
        return True
    if not sender.known:
        return False
    if who == "known":
        return True
    segment = _segment_of(unit, who)
    stored = stored_row(unit.session, unit.definitions, PERSON, sender.person_id)
    if segment is None or stored is None:
        return False
    typed = unit.catalogue.check_segment(segment.expression).typed if segment.expression else None
    if segment.expression and typed is None:
        return False
    row = row_of(unit, PERSON, sender.person_id, stored)
    return typed is None or compile_python(typed)(row, unit.moment) is True


def pass_on(unit: Unit, form_id: int, title: str, values: Mapping[str, Value], sender: Sender) -> None:
    """Set the house values that a form's answers are mapped to, or let them wait for a yes, as was chosen there; those
    of other workspaces by a task."""
    for row in unit.session.exec(select(HouseMapping).where(col(HouseMapping.form_id) == form_id)).all():
        found: dict[str, Value] = {}
        for field_id, key in row.pairs:
            field = unit.catalogue.by_id.get(int(field_id))
            if field is not None and values.get(field.key) is not None:
                found[str(key)] = values[field.key]
        if not found or not row.allowed or not _may_set(unit, row.who, sender):
            continue
        data = {key: to_json(value) for key, value in found.items()}
        payload = {
            "target_slug": row.target_slug,
            "values": data,
            "source": f"form: {title}",
            "from": unit.workspace.slug,
        }
        if row.who == "yes":
            ask_for(unit, HOUSE_VALUES, sender.person_id, form_id, asked=payload)
        elif row.target_slug:
            begin_task(unit, "hand_over", f"House values for {row.target_slug}", payload, len(found))
        else:
            known = {field.key: field for field in unit.catalogue.stored_about(HOUSE)}
            fitting = {key: value for key, value in found.items() if key in known and _fits(known[key], value)}
            change_row(unit, HOUSE, HOUSE_ID, fitting, f"form: {title}")


def _fits(field: Field, value: Value) -> bool:
    """Whether the house value could hold it: its options may be others."""
    try:
        field.from_kept(to_json(value))
    except ValueError:
        return False
    return True


@work_of("hand_over")
def _hand_over(scope: Scope, payload: dict[str, Any], _progress: Progress) -> dict[str, Any]:
    """Set house values of another workspace, as far as it allows."""
    with scope.store.transaction() as session:
        target = session.exec(select(Workspace).where(col(Workspace.slug) == payload["target_slug"])).first()
    if target is None:
        raise NotFound("That workspace is gone.")
    inside = Scope(scope.store, target.id or 0, str(payload["from"]), "owner", scope.clock)
    with inside.transaction("owner") as unit:
        grant = unit.session.exec(select(HouseGrant).where(col(HouseGrant.from_slug) == payload["from"])).first()
        if grant is None:
            raise NotAllowed("That workspace does not let this one set its house values any more.")
        known = {field.key: field for field in unit.catalogue.stored_about(HOUSE) if field.key in grant.keys}
        values: dict[str, Value] = {}
        unfit: list[str] = []
        for key, data in payload["values"].items():
            try:
                value = known[key].from_kept(data) if key in known else None
            except ValueError:
                unfit.append(known[key].label)  # no option there, say
                continue
            if isinstance(value, StoredFile):
                value = _copied(scope, unit, value)
            values |= {key: value} if value is not None else {}
        changed = change_row(unit, HOUSE, HOUSE_ID, values, f"{payload['source']}, from {payload['from']}")
        return {"message": f"{changed} changed." + (f" Not taken there: {', '.join(unfit)}." if unfit else "")}


def _copied(scope: Scope, there: Unit, file: StoredFile) -> StoredFile | None:
    """A file of this workspace kept in another one too; None where its bytes are gone."""
    files = scope.store.files
    data = files.read(scope.workspace_id, file.digest) if files else None
    if files is None or data is None:
        return None
    keep_file(there, files, data, files.thumbnail(scope.workspace_id, file.digest) or b"")
    return file
