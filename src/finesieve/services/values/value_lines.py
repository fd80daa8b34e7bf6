"""Values and their history as lines for a page, of whatever they are about."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache, partial
from typing import Any, Final

from sqlalchemy import tuple_
from sqlmodel import col, select

from finesieve.core.errors import InvalidInput
from finesieve.core.fields.about import HOUSE, LEVEL, PERSON, record_about, record_type_of
from finesieve.core.fields.definition import Field, Shelf, with_titles
from finesieve.core.fields.encoding import from_json
from finesieve.core.fields.manner import Titles
from finesieve.core.language.parser import parse
from finesieve.core.language.placeholders import fill
from finesieve.core.language.printer import print_text_literal, print_with_values
from finesieve.core.language.program import Moment
from finesieve.core.language.tree import Name, walk
from finesieve.core.model.catalogue import Catalogue, Group, RecordType
from finesieve.core.model.changes import ORDER_IDS, OWN_IDS
from finesieve.core.model.saying import show_typed
from finesieve.core.values import Value
from finesieve.services.kernel.scope import Unit
from finesieve.store.reading.rows import offered_titles, records_of, stored_row, titles_of
from finesieve.store.tables import History

__all__ = [
    "LINKS_FROM",
    "STATE_LABEL",
    "HistoryLine",
    "ValueLine",
    "fill_text",
    "history_of",
    "history_of_records",
    "known_field",
    "left_behind",
    "linked_records",
    "may_change",
    "person_name",
    "read_values",
    "record_lines",
    "refuse_off_lists",
    "show_past",
    "value_lines",
    "worked_out",
]

LINKS_FROM: Final = 1_000
"""In the history of a person, a record that is linked with them counts as field −(1,000 + the id of the link)."""
_OWN_LABELS = {own_id: key.capitalize() for key, own_id in {**OWN_IDS, **ORDER_IDS}.items()}
STATE_LABEL: Final = _OWN_LABELS[ORDER_IDS["state"]]
"""What the history calls the state of an order."""


@dataclass(frozen=True, slots=True)
class ValueLine:
    """One field with a value.

    `worked` is a derived field's formula with the values put in, `wrong` why it cannot be worked out, `locked`
    why the value may not change.
    """

    field: Field
    value: Value
    shown: str
    raw: str
    worked: str = ""
    locked: str = ""
    wrong: str = ""


@dataclass(frozen=True, slots=True)
class HistoryLine:
    """One change of one value, newest first in lists. `returnable`: the value before it can be put back."""

    id: int
    at: datetime
    key: str
    label: str
    old: str
    new: str
    source: str
    actor: str
    returnable: bool


def known_field(unit: Unit, field: Field, *named: object, offers: bool = False) -> Field:
    """The field; a choice among records knows the titles of those that are `named` by id, and of those it `offers`."""
    if field.type_key != "record" or not field.settings.record_type:
        return field
    about = record_about(field.settings.record_type)
    if offers:
        return with_titles(field, offered_titles(unit.session, unit.definitions, about, "", named, sees=unit.sees))
    return with_titles(field, Titles(titles_of(unit.session, unit.definitions, about, named, sees=unit.sees)))


def value_lines(unit: Unit, about: str, row: Mapping[str, Value]) -> tuple[tuple[Group, tuple[ValueLine, ...]], ...]:
    """The groups about one thing with their values. Layout fields, and groups that stay off profiles, are left out."""
    found = []
    for group in unit.catalogue.groups_about(about):
        if not group.settings.on_profile or not unit.sees(group):
            continue
        fields = [field for field in unit.catalogue.of_group(group.id) if field.stores or field.derived]
        fields = [field for field in fields if unit.sees(field)]
        if about == PERSON:
            fields = [field for field in fields if _has(unit.catalogue, field, row)]
        found.append((group, tuple(_line(unit, field, row) for field in fields)))
    return tuple(found)


def _has(catalogue: Catalogue, field: Field, row: Mapping[str, Value]) -> bool:
    """Whether a person on these lists has this field at all; a value that is there shows in any case."""
    if not field.settings.lists or row.get(field.key) is not None:
        return True
    wanted = {known.key for known in catalogue.lists if known.id in field.settings.lists}
    lists = row.get("lists")
    return isinstance(lists, tuple) and bool(wanted & set(lists))


def _line(unit: Unit, field: Field, row: Mapping[str, Value]) -> ValueLine:
    value = row.get(field.key)
    field = known_field(unit, field.beside(row), value, offers=True)
    worked = worked_out(unit, field, row) if field.derived else ""
    locked = ""
    if unit.catalogue.changer_of(field)[0] == "once" and value is not None:
        locked = "It cannot be changed once it has a value."
    raw = "" if field.derived else field.raw(value)
    return ValueLine(field, value, field.show(value), raw, worked, locked, _wrong(unit.catalogue, field))


def _wrong(catalogue: Catalogue, field: Field) -> str:
    if not field.derived or field.key in catalogue.derivation_of(field.about).formulas:
        return ""
    problems = catalogue.check(field.formula, about=field.about).problems
    return problems[0].message if problems else "Its formula names a derived field that cannot be worked out."


@lru_cache(maxsize=2_048)
def _names_in(formula: str) -> frozenset[str]:
    """The last words of all names in a formula."""
    tree = parse(formula).tree
    return (
        frozenset(part.path[-1] for part in walk(tree) if isinstance(part, Name)) if tree is not None else frozenset()
    )


def worked_out(unit: Unit, derived: Field | str, row: Mapping[str, Value], about: str = PERSON) -> str:
    """A formula with the values of a person, or another thing, put in as far as they may be seen: `round(6 * 3)`."""
    formula, about = (derived, about) if isinstance(derived, str) else (derived.formula, derived.about)
    tree = parse(formula).tree
    if tree is None:
        return ""
    by_name = unit.catalogue.named(about)
    shown = {}
    for name, field in ((name, by_name[name]) for name in _names_in(formula) if name in by_name):
        if field.type.kind in ("file", "structured", "secret") or not (field.stores or field.derived):
            continue
        if not unit.sees(field):
            continue
        value = row.get(field.key)
        shown[name] = (
            "blank"
            if value is None
            else print_text_literal(value)
            if isinstance(value, str)
            else field.type.show(value, field)
        )
    return print_with_values(tree, shown)


def history_of(unit: Unit, about: str, row_id: int, key: str = "", limit: int = 200) -> tuple[HistoryLine, ...]:
    """The last changes of one thing's values, newest first; of one field where its key is given."""
    query = select(History).where(col(History.about) == about, col(History.entity_id) == row_id)
    if key in unit.catalogue.keys_of(about):
        query = query.where(col(History.field_id) == unit.catalogue.keys_of(about)[key].id)
    lines = []
    stored = stored_row(unit.session, unit.definitions, about, row_id) or {}
    for row in unit.session.exec(query.order_by(col(History.id).desc()).limit(limit)).all():
        shown = _past(unit, row)
        if shown is not None:
            returnable = _returnable(unit, row, stored)
            lines.append(HistoryLine(row.id or 0, row.at, *shown, row.source, row.actor, returnable))
    return tuple(lines)


def history_of_records(unit: Unit, records: Mapping[tuple[str, int], str], limit: int = 200) -> tuple[HistoryLine, ...]:
    """The last changes of records, newest first; `records` are what they are called, by what they are about and id."""
    if not records:
        return ()
    of = tuple_(col(History.about), col(History.entity_id))
    query = select(History).where(of.in_(list(records))).order_by(col(History.id).desc()).limit(limit)
    lines = []
    for row in unit.session.exec(query).all():
        shown = _past(unit, row)
        if shown is not None:
            key, label, old, new = shown
            title = records[(row.about, row.entity_id)]
            lines.append(
                HistoryLine(row.id or 0, row.at, key, f"{title}: {label}", old, new, row.source, row.actor, False)
            )
    return tuple(lines)


def _returnable(unit: Unit, row: History, stored: Mapping[str, Value]) -> bool:
    """Whether this role could put back the value before a line, and whether that would change anything."""
    field = unit.catalogue.by_id.get(row.field_id)
    if field is None or not field.stores or field.type.kind == "secret" or not unit.sees(field):
        return False
    if row.about in (HOUSE, LEVEL) and not unit.edits:
        return False
    try:
        value = field.from_kept(row.old)
        may_change(unit.catalogue, field, value, stored)
    except (ValueError, TypeError):
        return False
    return value != stored.get(field.key)


def _past(unit: Unit, row: History) -> tuple[str, str, str, str] | None:
    """Key, label, old and new of a line; None for a field that is gone."""
    if row.field_id > 0:
        field = unit.catalogue.by_id.get(row.field_id)
        if field is None or not unit.sees(field):
            return None
        field = known_field(unit, field, row.old, row.new)
        return field.key, field.label, show_past(field, row.old), show_past(field, row.new)
    if row.field_id == 0:
        return "", "Put away", "yes" if row.old else "no", "yes" if row.new else "no"
    if record_type_of(row.about):
        link = unit.catalogue.links.get(-row.field_id)
        return "", (link.name if link else "A link"), str(row.old or ""), str(row.new or "")
    if row.field_id <= -LINKS_FROM:
        link = unit.catalogue.links.get(-row.field_id - LINKS_FROM)
        return "", (link.back_name if link else "A link"), str(row.old or ""), str(row.new or "")
    return "", _OWN_LABELS.get(row.field_id, ""), _listed(row.old), _listed(row.new)


def _listed(data: object) -> str:
    return ", ".join(map(str, data)) if isinstance(data, list) else str(data or "")


def show_past(field: Field, data: object) -> str:
    """A value of the past as people read it, even if an option or the type has gone since."""
    if field.type.kind == "secret":
        return "set" if data else ""
    if isinstance(data, str) and field.type.has_options:
        return field.label_of(data)
    try:
        return field.show(from_json(data, field.value_type))  # type: ignore[arg-type]  # JSON by its making
    except (ValueError, TypeError):
        return _listed(data)


def linked_records(unit: Unit, about: str, row_id: int) -> list[tuple[RecordType, int, str]]:
    """The records that somebody, or something, has: their type, their id, and what each is called: `Plaque Kestrel`."""
    found = []
    for link in unit.catalogue.collections_of(about).values():
        known = unit.catalogue.record_types_by_id[link.record_type_id]
        title = unit.catalogue.by_id.get(known.title_field)
        for record_id, values in records_of(unit.session, unit.definitions, link, row_id):
            named = title.show(values.get(title.key)) if title is not None and unit.sees(title) else ""
            found.append((known, record_id, f"{known.singular} {named}".strip()))
    return found


def record_lines(
    unit: Unit, kept: Sequence[Mapping[str, Any]], shown: Callable[[Field], bool]
) -> tuple[tuple[str, str], ...]:
    """Records that a submission kept: `Plot 2`, `Soil: Clay, Size: 3 m`; of fields that are `shown` alone. Of a piece
    in the cart `Plaque 2 of 3, Raised-bed kit`."""
    lines: list[tuple[str, str]] = []
    for number, one in enumerate(kept, 1):
        known = unit.catalogue.record_types_by_id.get(one["record_type"])
        if known is not None:
            said = [
                f"{field.label}: {show_past(field, one['values'][field.key])}"
                for field in unit.catalogue.stored_about(known.about)
                if one["values"].get(field.key) is not None and shown(field)
            ]
            title = f"{known.singular} {number}" if len(kept) > 1 else known.singular
            lines.append((f"{one['title']}, {one['line']}" if one.get("line") else title, ", ".join(said)))
    return tuple(lines)


def fill_text(unit: Unit, text: str, moment: Moment | None = None, values: Mapping[str, Value] | None = None) -> str:
    """A text with its placeholders filled: house values, as they are at a moment, now for none; and a person's."""
    if "{" not in text and "}" not in text:
        return text  # as most texts are, on every round trip of a form
    at = moment or unit.moment
    row = unit.catalogue.derivation.row(values, at) if values else {}
    return fill(text, unit.catalogue.check, row, at, partial(show_typed, unit.catalogue))


def read_values(
    unit: Unit, about: str, typed: Mapping[str, str], stored: Mapping[str, Value] | None, shelf: Shelf | None = None
) -> dict[str, Value]:
    """Values as typed, by field key; fields not named stay. `stored` are those there are, None for something new.

    An empty secret, or file, stays as it is; a file is taken away by `-`. Raises
    InvalidInput by key for what cannot be read or may not change.
    """
    values: dict[str, Value] = {}
    messages: dict[str, str] = {}
    # A region and a postcode are read beside their country.
    for field in sorted(unit.catalogue.stored_about(about), key=lambda one: bool(one.settings.country_from)):
        raw = typed.get(field.key)
        if raw is None or (stored is None and not raw and not field.required):
            continue
        if field.type.kind in ("secret", "file") and raw in ("", "-"):
            values |= {field.key: None} if raw == "-" else {}
            continue
        try:
            if not unit.sees(field):
                raise ValueError("Only editors and owners may change this.")
            beside = field.beside({**(stored or {}), **values})
            value = known_field(unit, beside, raw).parse(raw, shelf, unit.moment.today)
            if value is not None and about == PERSON:
                refuse_off_lists(unit.catalogue, field, stored)
            may_change(unit.catalogue, field, value, stored)
            values[field.key] = value
        except ValueError as problem:
            messages[field.key] = str(problem)
    messages |= left_behind(unit, about, values, stored or {})
    if messages:
        raise InvalidInput(messages)
    return values


def left_behind(unit: Unit, about: str, values: Mapping[str, Value], stored: Mapping[str, Value]) -> dict[str, str]:
    """What to say where a country changes, and a region or postcode that is kept is none of the new one."""
    found = {}
    for field in unit.catalogue.stored_about(about):
        country, kept = field.settings.country_from, stored.get(field.key)
        if country in values and values[country] != stored.get(country) and field.key not in values and kept:
            try:
                field.beside(values).parse(str(kept))
            except ValueError:
                found[country] = f"{field.label} is {field.show(kept)}, which is not there; change both together."
    return found


def refuse_off_lists(catalogue: Catalogue, field: Field, stored: Mapping[str, Value] | None) -> None:
    """Raise ValueError where a field is kept of people on lists that this one is not on."""
    wanted = [known for known in catalogue.lists if known.id in field.settings.lists]
    held: Any = (stored or {}).get("lists") or ()
    if wanted and {known.key for known in wanted}.isdisjoint(held):
        raise ValueError(f"This is kept only of people on {', '.join(known.name for known in wanted)}.")


def may_change(catalogue: Catalogue, field: Field, value: Value, stored: Mapping[str, Value] | None) -> None:
    """Raise ValueError, with a sentence, where staff may not give a field this value."""
    if value is None and field.required and (field.built_in or record_type_of(field.about)):
        raise ValueError("A person needs an email." if field.key == "email" else "Please fill this in.")
    before = (stored or {}).get(field.key)
    field.refuse_retired(value, before)
    if catalogue.changer_of(field)[0] == "once" and before is not None and before != value:
        raise ValueError("It cannot be changed once it has a value.")


def person_name(values: Mapping[str, Value]) -> str:
    """The name, or the email where no name is known."""
    name = " ".join(str(values[key]) for key in ("first_name", "last_name") if values.get(key))
    return name or str(values.get("email") or "Somebody unknown")
