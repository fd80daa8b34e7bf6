"""Cases: kept rehearsals with what is expected to come of them, run again before publishing."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from sqlmodel import col, select

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import PERSON, record_about
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import from_json, to_json
from finesieve.core.forms.definition import Form
from finesieve.core.forms.evaluate import PreparedForm, prepare
from finesieve.core.values import Type, Value
from finesieve.services.filling.situation import person_situation
from finesieve.services.forms.forms import form_of
from finesieve.services.forms.rehearsing import Circumstances, Kept, run, summary
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.store.tables import FormCase

__all__ = [
    "CaseDifference",
    "CaseLine",
    "CaseResult",
    "accept_case",
    "keep_case",
    "list_cases",
    "read_case",
    "remove_case",
    "run_cases",
]


@dataclass(frozen=True, slots=True)
class CaseLine:
    """A case in a list."""

    id: int
    name: str


@dataclass(frozen=True, slots=True)
class CaseDifference:
    """One thing that came out otherwise than expected."""

    where: str
    what: str
    expected: str
    now: str


@dataclass(frozen=True, slots=True)
class CaseResult:
    """A case run against the draft."""

    id: int
    name: str
    differences: tuple[CaseDifference, ...]

    @property
    def passes(self) -> bool:
        return not self.differences


def list_cases(scope: Scope, form_id: int) -> tuple[CaseLine, ...]:
    """The cases of a form by name."""
    with scope.reading("reader") as unit:
        return tuple(CaseLine(row.id or 0, row.name) for row in _rows(unit, form_id))


def _rows(unit: Unit, form_id: int) -> list[FormCase]:
    query = select(FormCase).where(col(FormCase.form_id) == form_id).order_by(col(FormCase.name))
    return list(unit.session.exec(query).all())


def _case(unit: Unit, form_id: int, case_id: int) -> FormCase:
    row = unit.session.get(FormCase, case_id)
    if row is None or row.form_id != form_id:
        raise NotFound("There is no such case.")
    return row


def read_case(scope: Scope, form_id: int, case_id: int) -> tuple[str, Circumstances, dict[str, str]]:
    """A case's name, circumstances and answers. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = _case(unit, form_id, case_id)
        circumstances = Circumstances.model_validate({**row.circumstances, "stored": None})
        return row.name, circumstances, {key: str(value) for key, value in row.answers.items()}


def keep_case(scope: Scope, form_id: int, name: str, circumstances: Circumstances, answers: Mapping[str, str]) -> int:
    """Keep a rehearsal of the draft, what comes of it being what is expected from now on; gives its id.

    A case of the same name is replaced. What is stored of the person is kept along, so that the case stays what
    it is when they change. Raises InvalidInput for a name that will not do.
    """
    with scope.transaction("editor") as unit:
        name = " ".join(name.split())
        if not name or len(name) > 80:
            raise InvalidInput({"name": "Give the case a name of at most 80 characters."})
        draft = Form.model_validate(form_of(unit, form_id).draft)
        kept = _kept_now(unit, circumstances.person) if circumstances.person else None
        rehearsal = run(unit, form_id, prepare(draft, unit.catalogue), circumstances, answers, kept)
        secret = {one.id for one in rehearsal.outcome.walk() if one.field.type.kind == "secret"}
        row = next((row for row in _rows(unit, form_id) if row.name == name), None)
        row = row or FormCase(
            workspace_id=unit.workspace_id, form_id=form_id, name=name, circumstances={}, answers={}, expected={}
        )
        row.circumstances = {**circumstances.model_dump(mode="json"), **_kept_to_json(kept)}
        row.answers = {key: value for key, value in answers.items() if key not in secret}
        row.expected = summary(unit, rehearsal)
        unit.session.add(row)
        unit.session.flush()
        return row.id or 0


def remove_case(scope: Scope, form_id: int, case_id: int) -> str:
    """Keep a case no longer; gives its name. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = _case(unit, form_id, case_id)
        name = row.name
        unit.session.delete(row)
        return name


def accept_case(scope: Scope, form_id: int, case_id: int) -> None:
    """Expect from now on what comes of the draft today. Raises NotFound."""
    with scope.transaction("editor") as unit:
        row = _case(unit, form_id, case_id)
        draft = Form.model_validate(form_of(unit, form_id).draft)
        row.expected = _now(unit, row, prepare(draft, unit.catalogue))
        unit.session.add(row)


def run_cases(unit: Unit, form_id: int, document: Form) -> tuple[CaseResult, ...]:
    """Run all cases of a form against a document."""
    rows = _rows(unit, form_id)
    if not rows:
        return ()
    prepared = prepare(document, unit.catalogue)
    labels = {question.id: _label(unit, question.field_id, question.label) for question in document.questions}
    return tuple(
        CaseResult(
            row.id or 0, row.name, tuple(_differences(unit, document, row.expected, _now(unit, row, prepared), labels))
        )
        for row in rows
    )


def _label(unit: Unit, field_id: int, label: str) -> str:
    known = unit.catalogue.by_id.get(field_id)
    return label or (known.label if known else "")


def _now(unit: Unit, row: FormCase, prepared: PreparedForm) -> dict[str, Any]:
    circumstances = Circumstances.model_validate({**row.circumstances, "stored": None})
    kept = _kept_from_json(unit, row.circumstances) if circumstances.person else None
    answers = {key: str(value) for key, value in row.answers.items()}
    return summary(unit, run(unit, row.form_id, prepared, circumstances, answers, kept))


# What is kept of a person


def _kept_now(unit: Unit, person_id: int) -> Kept:
    situation = person_situation(unit, person_id, {}, None)
    return Kept(situation.stored, situation.records)


def _kept_to_json(kept: Kept | None) -> dict[str, Any]:
    if kept is None:
        return {}
    stored = {key: to_json(value) for key, value in kept.stored.items() if value is not None}
    records = {
        name: [[record_id, {key: to_json(value) for key, value in values.items()}] for record_id, values in held]
        for name, held in kept.records.items()
    }
    return {"kept": {"stored": stored, "records": records}}


def _kept_from_json(unit: Unit, data: Mapping[str, Any]) -> Kept:
    kept = data.get("kept") or {}
    links = unit.catalogue.collections_of(PERSON)
    records = {}
    for name, held in kept.get("records", {}).items():
        if name in links:
            keys = unit.catalogue.keys_of(record_about(links[name].record_type_id))
            records[name] = tuple((record_id, _values(keys, values)) for record_id, values in held)
    stored = _values(unit.catalogue.by_key, kept.get("stored", {}))
    for name in ("tags", "lists"):
        stored[name] = tuple(kept.get("stored", {}).get(name) or ())
    stored["level"] = kept.get("stored", {}).get("level")
    return Kept(stored, records)


def _values(keys: Mapping[str, Field], data: Mapping[str, Any]) -> dict[str, Value]:
    found: dict[str, Value] = {}
    for key, value in data.items():
        known = keys.get(key)
        if known is None:
            continue
        try:
            found[key] = known.from_kept(value)
        except ValueError:
            continue  # the field holds it no more
    return found


# What came out otherwise


def _differences(
    unit: Unit, document: Form, expected: Mapping[str, Any], now: Mapping[str, Any], labels: Mapping[str, str]
) -> Iterator[CaseDifference]:
    for section in document.sections:
        if section.repeat:
            then, today = expected.get("sections", {}).get(section.id), now["sections"].get(section.id)
            if then != today:
                yield CaseDifference(section.title or "A section", "asked", _times(then), _times(today))
    yield from _of_questions(unit, document, expected.get("questions", {}), now["questions"], labels)
    if expected.get("charges", []) != now["charges"]:
        yield CaseDifference("Surcharges", "added", _charges(expected.get("charges", [])), _charges(now["charges"]))
    if expected.get("total", "") != now["total"]:
        yield CaseDifference("Total", "total", expected.get("total", "") or "none", now["total"] or "none")
    yield from _of_derived(unit, expected.get("derived", {}), now["derived"])
    for name in dict.fromkeys((*expected.get("segments", {}), *now["segments"])):
        then, today = expected.get("segments", {}).get(name), now["segments"].get(name)
        if then != today:
            yield CaseDifference(name, "segment", _SEGMENT[then or ""], _SEGMENT[today or ""])


_SEGMENT = {"": "as before", "enters": "entered", "leaves": "left", "cant_tell": "can’t tell"}


def _of_questions(
    unit: Unit, document: Form, expected: Mapping[str, Any], now: Mapping[str, Any], labels: Mapping[str, str]
) -> Iterator[CaseDifference]:
    fields = {question.id: unit.catalogue.by_id.get(question.field_id) for question in document.questions}
    for name in dict.fromkeys((*now, *expected)):
        then, today = expected.get(name), now.get(name)
        question = name.partition(".")[0]
        label = labels.get(question) or "A question that is gone"
        if bool(then and then["shows"]) != bool(today and today["shows"]):
            yield CaseDifference(label, "shows", *("yes" if one and one["shows"] else "no" for one in (then, today)))
        if not then or not today:
            continue
        if then["trouble"] != today["trouble"]:
            yield CaseDifference(label, "what is wrong", then["trouble"] or "nothing", today["trouble"] or "nothing")
        if then["value"] != today["value"]:
            known = fields.get(question)
            yield CaseDifference(label, "would be stored", _shown(known, then["value"]), _shown(known, today["value"]))


def _of_derived(unit: Unit, expected: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[CaseDifference]:
    for key in dict.fromkeys((*expected, *now)):
        if expected.get(key) != now.get(key) or (key in expected) != (key in now):
            known = unit.catalogue.by_key.get(key)
            then, today = (_shown(known, values[key]) if key in values else "unchanged" for values in (expected, now))
            yield CaseDifference(known.label if known else key, "would become", then, today)


def _shown(known: Field | None, data: Any) -> str:
    if data is None:
        return "blank"
    if known is None or known.type.kind == "secret":
        return str(data)
    try:
        return known.show(from_json(data, known.value_type if known.result else Type(known.type.kind))) or "blank"
    except ValueError:
        return str(data)


def _times(many: int | None) -> str:
    return "not at all" if not many else "once" if many == 1 else f"{many} times"


def _charges(charges: list[list[str]]) -> str:
    return ", ".join(f"{label} {amount}" for label, amount in charges) or "none"
