"""Record types: kinds of things that people have several of, and the links between them."""

from dataclasses import dataclass
from typing import Final

from pydantic import Field as Bounds
from sqlmodel import func, select

from finesieve.core.errors import InvalidInput, NotFound
from finesieve.core.fields.about import ORDER, PERSON, record_about, record_type_of
from finesieve.core.fields.definition import Field
from finesieve.core.fields.keys import key_from_label, key_problem
from finesieve.core.language.parser import parse
from finesieve.core.language.tree import Name, walk
from finesieve.core.limits import DESCRIPTION, NAME, NOUN, SYMBOL
from finesieve.core.model.catalogue import Catalogue, Group, RecordType
from finesieve.services.define.fields import FieldInput, make_field
from finesieve.services.kernel.changes import guard_removal, record_change, snapshot
from finesieve.services.kernel.inputs import Input
from finesieve.services.kernel.merging import merged
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.usage.uses import Use, uses_of
from finesieve.store.definitions.catalogue import create_record_table, touch
from finesieve.store.reading.rows import count_rows
from finesieve.store.tables import FieldGroupRow, RecordLinkRow, RecordTypeRow

__all__ = [
    "LinkInput",
    "RecordTypeInput",
    "RecordTypeView",
    "add_link",
    "change_record_type",
    "create_record_type",
    "make_record_type",
    "put_away",
    "put_away_record_type",
    "read_record_type",
    "record_type",
    "remove_link",
]

MOST_TYPES: Final = 200


class RecordTypeInput(Input):
    """A record type as typed. `holder` is what the record calls the person who has it."""

    singular: str = Bounds(min_length=1, max_length=NOUN)
    plural: str = Bounds(min_length=1, max_length=NOUN)
    symbol: str = Bounds(default="", max_length=SYMBOL)
    description: str = Bounds(default="", max_length=DESCRIPTION)
    holder: str = Bounds(default="Holder", max_length=NOUN)
    title_field: int = 0


class LinkInput(Input):
    """A link as typed: what each side calls the other, what it leads to, one or several."""

    name: str = Bounds(min_length=1, max_length=NOUN)
    back_name: str = Bounds(min_length=1, max_length=NOUN)
    target: str = PERSON
    many: bool = False


@dataclass(frozen=True, slots=True)
class RecordTypeView:
    """A record type with its groups, its uses and how many records there are."""

    record_type: RecordType
    groups: tuple[tuple[Group, tuple[Field, ...]], ...]
    uses: tuple[Use, ...]
    records: int


def record_type(catalogue: Catalogue, type_id: int) -> RecordType:
    """A record type. Raises NotFound."""
    found = catalogue.record_types_by_id.get(type_id)
    if found is None:
        raise NotFound("There is no such record type.")
    return found


def create_record_type(scope: Scope, asked: RecordTypeInput) -> int:
    """Make a record type with a first group, a title field, and a link to one person; gives its id.

    Raises InvalidInput where the plural is taken as a name.
    """
    with scope.transaction("editor") as unit:
        return make_record_type(unit, asked)


def make_record_type(unit: Unit, asked: RecordTypeInput, *, key: str = "", plain: bool = False) -> int:
    """Make a record type in this transaction; a `plain` one has no group, field or link yet."""
    if len(unit.catalogue.record_types) >= MOST_TYPES:
        raise InvalidInput({"singular": f"A workspace has at most {MOST_TYPES} record types."})
    if any(known.singular.lower() == asked.singular.lower() for known in unit.catalogue.record_types):
        raise InvalidInput({"singular": "There is a record type of this name already."})
    rows = unit.session.exec(select(RecordTypeRow)).all()
    row = RecordTypeRow(
        workspace_id=unit.workspace_id,
        key=key or key_from_label(asked.plural, {other.key for other in rows}),
        singular=asked.singular,
        plural=asked.plural,
        symbol=asked.symbol,
        description=asked.description,
        position=max((other.position for other in rows), default=0) + 1,
    )
    unit.session.add(row)
    unit.session.flush()
    type_id = row.id or 0
    create_record_table(unit.session, unit.workspace_id, type_id)
    if not plain:
        _make_link(unit, type_id, LinkInput(name=asked.holder or "Holder", back_name=asked.plural))
        row.title_field = _first_field(unit, type_id, asked.singular)
        unit.session.add(row)
    touch(unit.session, unit.workspace_id)
    return type_id


def _first_field(unit: Unit, type_id: int, singular: str) -> int:
    about = record_about(type_id)
    # A word may be longer in small letters: İ becomes two signs.
    name = f"About the {singular.lower()}"[:NAME]
    group = FieldGroupRow(workspace_id=unit.workspace_id, about=about, name=name, position=0)
    unit.session.add(group)
    unit.session.flush()
    asked = FieldInput(label="Name", type_key="short_text", required=True)
    return make_field(unit, Group(group.id or 0, group.name, "", about), asked, ())


def change_record_type(scope: Scope, type_id: int, asked: RecordTypeInput, was: RecordTypeInput | None = None) -> int:
    """Rename or describe a record type, or choose its title field; gives the id for undoing. Raises Overtaken."""
    with scope.transaction("editor") as unit:
        known = record_type(unit.catalogue, type_id)
        row = unit.session.get(RecordTypeRow, type_id, with_for_update=True)
        assert row is not None
        now = asked.model_copy(
            update={part: getattr(row, part) for part in ("singular", "plural", "symbol", "description", "title_field")}
        )
        asked = merged(unit, "record_type", type_id, asked, was, now)
        title = unit.catalogue.by_id.get(asked.title_field or known.title_field)
        if asked.title_field and (title is None or title.about != known.about):
            raise InvalidInput({"title_field": "Choose one of its own fields."})
        before = snapshot(unit, "record_type", type_id)
        row.singular, row.plural, row.symbol = asked.singular, asked.plural, asked.symbol
        row.description = asked.description
        row.title_field = title.id if title else 0
        unit.session.add(row)
        return record_change(unit, "record_type", type_id, f"Changed {asked.plural}", before)


def put_away_record_type(scope: Scope, type_id: int, typed: str) -> int:
    """Take a record type out of use, when its plural was typed; the records stay. Gives the id for undoing."""
    with scope.transaction("editor") as unit:
        known = record_type(unit.catalogue, type_id)
        if typed.strip() != known.plural:
            raise InvalidInput({"typed": f"Type the name as it is written: {known.plural}"})
        return put_away(unit, type_id)


def put_away(unit: Unit, type_id: int) -> int:
    """Take a record type out of use in this transaction; gives the id for undoing."""
    row = unit.session.get(RecordTypeRow, type_id)
    assert row is not None
    before = snapshot(unit, "record_type", type_id)
    row.archived = True
    unit.session.add(row)
    return record_change(unit, "record_type", type_id, f"Put away {row.plural}", before)


def read_record_type(scope: Scope, type_id: int) -> RecordTypeView:
    """A record type with groups and uses. Raises NotFound."""
    with scope.reading("reader") as unit:
        known = record_type(unit.catalogue, type_id)
        groups = tuple((group, unit.catalogue.of_group(group.id)) for group in unit.catalogue.groups_about(known.about))
        uses = uses_of(unit)
        fields = [field.id for field in unit.catalogue.fields_about(known.about)]
        found = tuple(dict.fromkeys((*uses.of_collection(known.about), *uses.of_fields(fields))))
        return RecordTypeView(known, groups, found, count_rows(unit.session, unit.definitions, known.about))


# Links


def add_link(scope: Scope, type_id: int, asked: LinkInput) -> int:
    """Add a link to a record type; gives the id for undoing. Raises InvalidInput."""
    with scope.transaction("editor") as unit:
        record_type(unit.catalogue, type_id)
        link_id = _make_link(unit, type_id, asked)
        return record_change(unit, "record_link", link_id, f"Added the link {asked.name}", None)


def _make_link(unit: Unit, type_id: int, asked: LinkInput) -> int:
    catalogue = unit.catalogue
    other = record_type_of(asked.target) if asked.target.startswith("record:") else 0
    if asked.target not in (PERSON, ORDER) and other not in catalogue.record_types_by_id and other != type_id:
        raise InvalidInput({"target": "Choose what the link leads to."})
    key = key_from_label(asked.back_name, _taken(catalogue, asked.target))
    problem = key_problem(key)
    if problem:
        raise InvalidInput({"back_name": problem})
    last = unit.session.exec(select(func.max(RecordLinkRow.position))).one()
    row = RecordLinkRow(
        workspace_id=unit.workspace_id,
        record_type_id=type_id,
        name=asked.name,
        target=asked.target,
        many=asked.many,
        back_name=asked.back_name,
        back_key=key,
        position=(last or 0) + 1,
    )
    unit.session.add(row)
    unit.session.flush()
    touch(unit.session, unit.workspace_id)
    return row.id or 0


def _taken(catalogue: Catalogue, target: str) -> set[str]:
    links = {link.back_key for link in catalogue.links.values()}
    deleted = {field.key for field in catalogue.deleted if field.about == target}
    return links | set(catalogue.keys_of(target)) | deleted


def _why_kept(unit: Unit, link_id: int) -> str:
    """Why a link cannot be removed; "" where it can."""
    link = unit.catalogue.links.get(link_id)
    users = uses_of(unit).of_collection(record_about(link.record_type_id)) if link is not None else ()
    names = dict.fromkeys(use.name for use in users if link is not None and _names(use.expression, link.back_key))
    if link is None or not names:
        return ""
    return f"“{link.back_key}” is named in: {', '.join(names)}. Change that first."


guard_removal("record_link", _why_kept)


def remove_link(scope: Scope, link_id: int) -> int:
    """Take a link from its record type; who was linked is kept for undoing. Gives the id for undoing.

    Raises InvalidInput while an expression names its collection.
    """
    with scope.transaction("editor") as unit:
        link = unit.catalogue.links.get(link_id)
        row = unit.session.get(RecordLinkRow, link_id)
        if link is None or row is None:
            raise NotFound("There is no such link.")
        why_kept = _why_kept(unit, link_id)
        if why_kept:
            raise InvalidInput({"": why_kept})
        before = snapshot(unit, "record_link", link_id)
        unit.session.delete(row)
        return record_change(unit, "record_link", link_id, f"Removed the link {link.name}", before)


def _names(expression: str, key: str) -> bool:
    tree = parse(expression).tree
    return tree is not None and any(isinstance(part, Name) and part.path[0] == key for part in walk(tree))
