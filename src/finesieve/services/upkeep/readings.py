"""Reading the fields: how filled they are, how their values are spread, what is found wrong or wasteful."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Final

from finesieve.core.fields.about import HOUSE, PERSON
from finesieve.core.fields.definition import Field
from finesieve.core.model.catalogue import field_of
from finesieve.core.reasoning.findings import Facts, Finding, findings
from finesieve.services.define.tag_families import families_in
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.upkeep.form_findings import rules_of_forms
from finesieve.services.upkeep.page_findings import pages_in_force
from finesieve.services.usage.documents import documents_of_forms, rows_of_forms
from finesieve.services.usage.uses import Uses, uses_of
from finesieve.services.values.value_lines import person_name
from finesieve.store.reading.people import Filled, count_people, fill_counts
from finesieve.store.reading.rows import rows_by_ids, titles_of, value_counts
from finesieve.store.reading.statistics import (
    Spread,
    distinct_counts,
    last_changes,
    monthly_fills,
    outliers,
    spread_of,
    text_lengths,
    times_of_day,
)
from finesieve.store.reading.submissions import blanks_by_version, forms_open_to_strangers

__all__ = ["CompareLine", "FieldReading", "compare_fields", "find_all", "find_at", "read_values_of"]

_MONTHS: Final = 12
_COUNTED: Final = frozenset(("choice", "choices", "progress", "yes_no", "agreement", "country", "region", "text_list"))
_SPREAD: Final = frozenset(("number", "money", "date", "datetime"))


@dataclass(frozen=True, slots=True)
class FieldReading:
    """What one field holds.

    `answers` are (label, how many) pairs; `spread` is shown in words by
    `spread_words`; `months` are (2026-11, how many were filled at its end) pairs. `blanks` say, by form and version
    that asks it, (the form's id, its title, the version, how often it was sent, how often without an answer).
    """

    filled: int
    everyone: int
    answers: tuple[tuple[str, int], ...]
    spread: Spread | None
    spread_words: tuple[str, ...]
    outliers: tuple[tuple[int, str, str], ...]
    lengths: tuple[int, int, int] | None
    last_change: datetime | None
    months: tuple[tuple[str, int], ...]
    findings: tuple[Finding, ...]
    blanks: tuple[tuple[int, str, int, int, int], ...] = ()


def read_values_of(scope: Scope, field_id: int) -> FieldReading | None:
    """What one field holds; None where that is for editors only. Raises NotFound."""
    with scope.reading("reader") as unit:
        field = field_of(unit.catalogue, field_id)
        if not unit.sees(field):
            return None
        counted = fill_counts(unit.session, unit.definitions, field.about, [field])
        filled, everyone = counted.of(field), counted.rows
        changed = last_changes(unit.session, [field_id]).get(field_id)
        answers, spread, far, lengths = _held(unit, field)
        words = tuple(
            field.show(value)
            for value in (
                (spread.low, spread.quarter, spread.middle, spread.three_quarters, spread.high) if spread else ()
            )
        )
        here = _findings_of(unit, field, counted)
        months = _months(unit, field, filled)
        blanks = _blanks(unit, field)
        return FieldReading(filled, everyone, answers, spread, words, far, lengths, changed, months, here, blanks)


def _blanks(unit: Unit, field: Field) -> tuple[tuple[int, str, int, int, int], ...]:
    if field.about != PERSON or not field.stores or field.type.kind == "secret":
        return ()
    titles = {row.id: str(row.draft["title"]) for row, _ in rows_of_forms(unit)}
    counted = blanks_by_version(unit.session, unit.definitions, field)
    return tuple((form, titles.get(form, ""), version, sent, blank) for form, version, sent, blank in counted)


_Held = tuple[tuple[tuple[str, int], ...], Spread | None, tuple[tuple[int, str, str], ...], tuple[int, int, int] | None]


def _held(unit: Unit, field: Field) -> _Held:
    nothing: _Held = ((), None, (), None)
    if not field.stores or not unit.sees(field) or field.type.kind in ("secret", "structured", "file"):
        return nothing
    if field.type_key in _COUNTED:
        counts = value_counts(unit.session, unit.definitions, field)
        return tuple((field.show(value), count) for value, count in counts), None, (), None
    if field.type_key in _SPREAD:
        spread = spread_of(unit.session, unit.definitions, field)
        far = outliers(unit.session, unit.definitions, field, spread) if spread else []
        names = _names(unit, field.about, [row_id for row_id, _ in far])
        return (), spread, tuple((row_id, names.get(row_id, ""), field.show(value)) for row_id, value in far), None
    if field.type.kind == "text" and not field.settings.private:
        common = value_counts(unit.session, unit.definitions, field, limit=5)
        shown = tuple((field.show(value), count) for value, count in common if count > 1)
        return shown, None, (), text_lengths(unit.session, unit.definitions, field)
    return nothing


def _names(unit: Unit, about: str, ids: Sequence[int]) -> Mapping[int, str]:
    if not ids:
        return {}
    if about == PERSON:
        rows = rows_by_ids(unit.session, unit.definitions, PERSON, ["first_name", "last_name", "email"], ids)
        return {row_id: person_name(values) for row_id, values in rows.items()}
    titles = titles_of(unit.session, unit.definitions, about, ids, sees=unit.sees)
    return {row_id: titles.get(str(row_id), f"no. {row_id}") for row_id in ids}


def _months(unit: Unit, field: Field, filled: int) -> tuple[tuple[str, int], ...]:
    """How many had a value at the end of each of the last twelve months, reckoned back from now."""
    today = unit.moment.today
    months = [_month(today, back) for back in range(_MONTHS - 1, -1, -1)]
    year, month = (int(part) for part in months[0].split("-"))
    since = datetime(year, month, 1, tzinfo=unit.catalogue.zone).astimezone(UTC)
    change = monthly_fills(unit.session, unit.definitions, field.id, since, str(unit.catalogue.zone))
    found, now = [], filled
    for name in reversed(months):
        found.append((name, max(now, 0)))
        now -= change.get(name, 0)
    return tuple(reversed(found))


def _month(today: date, back: int) -> str:
    number = today.year * 12 + today.month - 1 - back
    return f"{number // 12}-{number % 12 + 1:02}"


@dataclass(frozen=True, slots=True)
class CompareLine:
    """A field beside all others: how filled and varied, how often asked and used, when it last changed.

    `distinct` is None where the number of different values says nothing.
    """

    field: Field
    group: str
    filled: int
    distinct: int | None
    asked: int
    used: int
    last_change: datetime | None
    findings: tuple[Finding, ...]


def _tells_apart(field: Field) -> bool:
    """Whether it says something how many different values a field has."""
    return field.type.kind not in ("secret", "structured", "file", "yes_no") and field.type_key != "long_text"


def compare_fields(scope: Scope) -> tuple[tuple[CompareLine, ...], int]:
    """All fields about a person side by side, and how many people there are."""
    with scope.reading("reader") as unit:
        fields = [field for field in unit.catalogue.fields if field.stores or field.derived]
        fields = [field for field in fields if unit.sees(field)]
        stored = [field for field in fields if field.stores]
        filled = fill_counts(unit.session, unit.definitions, PERSON, stored)
        told_apart = [field for field in stored if _tells_apart(field)]
        distinct = distinct_counts(unit.session, unit.definitions, told_apart)
        changes = last_changes(unit.session, [field.id for field in fields])
        uses = uses_of(unit)
        found: dict[int, list[Finding]] = {}
        for one in _find(unit, filled, distinct):
            found.setdefault(one.field_id, []).append(one)
        lines = tuple(
            CompareLine(
                field,
                unit.catalogue.groups_by_id[field.group_id].name,
                filled.of(field),
                distinct.get(field.id),
                len([use for use in uses.of_field(field.id) if use.kind == "question"]),
                len([use for use in uses.of_field(field.id) if use.kind != "question"]),
                changes.get(field.id),
                tuple(found.get(field.id, ())),
            )
            for field in fields
        )
        return lines, filled.rows


def find_all(scope: Scope) -> tuple[Finding, ...]:
    """Everything found wrong or wasteful in the setup."""
    with scope.reading("reader") as unit:
        texts = [field for field in unit.catalogue.stored if field.type_key == "short_text" and not field.built_in]
        filled = fill_counts(unit.session, unit.definitions, PERSON, unit.catalogue.stored)
        return _find(unit, filled, distinct_counts(unit.session, unit.definitions, texts))


def find_at(scope: Scope, field_id: int) -> tuple[Finding, ...]:
    """What is found wrong or wasteful at one field. Raises NotFound."""
    with scope.reading("reader") as unit:
        field = field_of(unit.catalogue, field_id)
        return _findings_of(unit, field, fill_counts(unit.session, unit.definitions, field.about, [field]))


def _findings_of(unit: Unit, field: Field, filled: Filled) -> tuple[Finding, ...]:
    """What is found at one field; no other's values are counted for it."""
    distinct: Mapping[int, int] = {}
    if field.about == PERSON and field.type_key == "short_text" and not field.built_in:
        distinct = distinct_counts(unit.session, unit.definitions, [field])
    if field.about != PERSON:
        filled = Filled(count_people(unit.session, unit.definitions), {})
    return tuple(one for one in _find(unit, filled, distinct, field) if one.field_id == field.id)


def _find(unit: Unit, filled: Filled, distinct: Mapping[int, int], at: Field | None = None) -> tuple[Finding, ...]:
    """Everything found, as far as these counts tell: how many have a value, how many different ones by id.

    With `at`, nothing is read for what can only be found elsewhere.
    """
    catalogue, uses = unit.catalogue, uses_of(unit)
    asked = {
        field.id: [use.name for use in uses.of_field(field.id) if use.kind == "question"]
        for field in catalogue.all_fields
    }
    used = {
        field.id: [use.name for use in uses.of_field(field.id) if use.kind != "question"]
        for field in catalogue.all_fields
    }
    facts = Facts(
        people=filled.rows,
        filled={catalogue.by_key[key].id: count for key, count in filled.by_key.items()},
        collected=asked,
        used=used,
        distinct=distinct,
        times=_times(unit, at),
        blank_house=_blank_house(unit) if at is None or at.about == HOUSE else frozenset(),
        broken=_broken(uses),
        texts=_texts(unit),
        families=_families(unit) if at is None and catalogue.tags else [],
        retired_named=_retired(unit, uses),
        rules=rules_of_forms(unit),
        joined=frozenset(known.id for known in catalogue.lists if uses.of_list(known.id)),
        open_forms=forms_open_to_strangers(unit.session) if at is None else (),
        pages=pages_in_force(unit) if at is None else (),
    )
    unseen = {field.id for field in catalogue.all_fields if not unit.sees(field)}
    return tuple(one for one in findings(catalogue, facts) if one.field_id not in unseen)


def _times(unit: Unit, at: Field | None) -> Mapping[int, int]:
    moments = [field for field in unit.catalogue.stored if field.type_key == "datetime" and at in (None, field)]
    return times_of_day(unit.session, unit.definitions, moments, str(unit.catalogue.zone))


def _blank_house(unit: Unit) -> frozenset[int]:
    stored = [field for field in unit.catalogue.fields_about(HOUSE) if field.stores]
    return frozenset(field.id for field in stored if unit.moment.house.get(field.key) is None)


def _families(unit: Unit) -> list[tuple[str, int]]:
    return [(family.stem, family.people) for family in families_in(unit)]


_PLACES: Final = {"formula": "compute", "segment": "sift", "rule": "collect", "text": "collect"}


def _broken(uses: Uses) -> list[tuple[int, str, str, str]]:
    """Formulas, rules, segments and texts that do not work: the field, the name, why, and the page that mends it."""
    return [
        (
            use.id if use.kind == "formula" else 0,
            use.name + (f" ({use.standing})" if use.standing else ""),
            why,
            f"{_PLACES[use.kind]}/{use.id}",
        )
        for use, why in uses.broken()
        if use.kind in _PLACES
    ]


def _texts(unit: Unit) -> list[tuple[str, str]]:
    found = []
    for form in documents_of_forms(unit):
        for text in form.document.walk_texts():
            if len(text) > 20 and (form.title, text) not in found:
                found.append((form.title, text))
    return found


def _retired(unit: Unit, uses: Uses) -> list[tuple[int, str, str]]:
    return [
        (field.id, option.label, use.name)
        for field in unit.catalogue.all_fields
        for option in field.options
        if option.retired
        for use in uses.of_option(field.value_type, option.stored_value)
    ]
