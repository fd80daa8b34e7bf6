"""The list of people: which columns, which people, in which order; kept as views."""

import base64
import json
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Final

from pydantic import Field as Bounds
from sqlmodel import col, func, select

from finesieve.core.errors import FineSieveError, InvalidInput, NotFound, TookTooLong
from finesieve.core.fields.definition import Field
from finesieve.core.fields.encoding import from_json, to_json
from finesieve.core.language.problems import Problem
from finesieve.core.language.typed import Typed
from finesieve.core.limits import EXPRESSION, NAME
from finesieve.core.values import Kind, Value
from finesieve.services.kernel.changes import record_change, snapshot
from finesieve.services.kernel.inputs import Input, read_input
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.services.values.value_lines import person_name
from finesieve.store.connection.database import apart
from finesieve.store.reading.kept import patience
from finesieve.store.reading.people import Order, Person, count_people, count_where, page_of_people
from finesieve.store.reading.searching import searched_fields
from finesieve.store.tables import PeopleView

__all__ = [
    "MOST_COLUMNS",
    "UNSORTED",
    "Listing",
    "PeoplePage",
    "PersonLine",
    "ViewEntry",
    "columns_of",
    "list_people",
    "list_views",
    "people_page",
    "read_view",
    "remove_view",
    "save_view",
    "selected",
]

MOST_COLUMNS: Final = 20
_MOST_VIEWS: Final = 60
UNSORTED: Final[frozenset[Kind]] = frozenset(("choices", "text_list", "structured", "file", "secret"))
"""What a list is not sorted by."""
_SECONDS: Final = 2
"""How long a page of the list may take."""
_NAMES: Final = ("email", "first_name", "last_name")


class Listing(Input):
    """How the list is looked at. `where` is a condition, empty for everybody; `sort` the key of a field, empty for
    the newest first, `down` the other way round."""

    columns: tuple[str, ...] = Bounds(default=(), max_length=MOST_COLUMNS)
    where: str = Bounds(default="", max_length=EXPRESSION)
    search: str = Bounds(default="", max_length=100)
    sort: str = Bounds(default="", max_length=60)
    down: bool = False


class _Name(Input):
    name: str = Bounds(min_length=1, max_length=NAME)


@dataclass(frozen=True, slots=True)
class PersonLine:
    """One person in a list; `cells` are the shown values of the columns."""

    id: int
    name: str
    cells: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class PeoplePage:
    """A page of people: `matching` of `everyone`, None where that cannot be told in time.

    `next_before` continues a list of the newest, `after` any other; None and "" at the end. `problems` are those of
    the condition, `failure` says why there is no list; `searched` names what a search looks in.
    """

    columns: tuple[Field, ...]
    lines: tuple[PersonLine, ...]
    everyone: int
    next_before: int | None
    after: str = ""
    matching: int | None = None
    problems: tuple[Problem, ...] = ()
    failure: str = ""
    searched: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class ViewEntry:
    """A kept way of looking at the list."""

    id: int
    name: str
    listing: Listing


def list_people(
    scope: Scope,
    listing: Listing | None = None,
    *,
    search: str = "",
    before_id: int | None = None,
    after: str = "",
    limit: int = 50,
) -> PeoplePage:
    """People, those who have every word of the search in what is searched; see `Listing`."""
    listing = listing or Listing(search=search)
    with scope.reading("reader") as unit:
        columns = columns_of(unit, listing.columns)
        typed, problems = selected(unit, listing.where)
        order = _order(unit, listing, after)
        keys = list(dict.fromkeys((*_NAMES, *(field.key for field in columns), *((order.key,) if order else ()))))
        searched = tuple(field.label for field in searched_fields(unit.definitions) if unit.sees(field))
        everyone = count_people(unit.session, unit.definitions)
        empty = PeoplePage(columns, (), everyone, None, problems=problems, searched=searched)
        if problems:
            return empty
        meshes = (typed,) if typed else ()
        try:
            with apart(unit.session, patience(_SECONDS)):
                people = page_of_people(
                    unit.session,
                    unit.definitions,
                    unit.moment,
                    keys,
                    search=listing.search,
                    meshes=meshes,
                    before_id=before_id,
                    order=order,
                    limit=limit + 1,
                )
                matching = _matching(unit, listing, typed)
        except TookTooLong:
            return replace(
                empty, failure="This takes too long to list. Sort by something else, or make the filter simpler."
            )
        except FineSieveError:
            return replace(empty, failure="The database cannot work this out. Write the filter another way.")
        page = people_page(unit, people, columns, limit, everyone)
        more = len(people) > limit
        cursor = _cursor(people[limit - 1], order) if more and order else ""
        return replace(
            page, after=cursor, next_before=None if order else page.next_before, matching=matching, searched=searched
        )


def _matching(unit: Unit, listing: Listing, typed: Typed | None) -> int | None:
    """How many there are with this filter; None for a search, which is not counted."""
    if listing.search:
        return None
    if typed is None:
        return count_people(unit.session, unit.definitions)
    return count_where(unit.session, unit.definitions, typed, unit.moment)


def columns_of(unit: Unit, keys: Sequence[str]) -> tuple[Field, ...]:
    """The fields of these keys that one may see; the usual ones where none is chosen."""
    if not keys:
        extra = [field.key for field in unit.catalogue.stored if not field.built_in and unit.sees(field)][:2]
        keys = ("email", *extra, "signed_up_on")
    known = unit.catalogue.by_key
    found = (known[key] for key in keys if key in known and unit.sees(known[key]))
    return tuple(field for field in found if field.stores or (field.derived and field.key not in unit.catalogue.broken))


def selected(unit: Unit, where: str) -> tuple[Typed | None, tuple[Problem, ...]]:
    """The checked condition of a filter, or its problems; None and none for everybody."""
    if not where.strip():
        return None, ()
    checked = unit.visible.check_segment(where)
    return checked.typed, checked.problems


def _order(unit: Unit, listing: Listing, after: str) -> Order | None:
    field = unit.catalogue.by_key.get(listing.sort)
    if field is None or not unit.sees(field) or field.value_type.kind in UNSORTED or field.key in unit.catalogue.broken:
        return None
    last: tuple[Value, int] | None = None
    # A cursor that was tampered with, or of another list, begins at the start.
    with suppress(ValueError, TypeError, KeyError):
        value, person_id = json.loads(base64.urlsafe_b64decode(after.encode() + b"==")) if after else (None, None)
        if isinstance(person_id, int):
            last = (from_json(value, field.value_type), person_id)
    return Order(field.key, field.value_type, listing.down, last)


def _cursor(person: Person, order: Order) -> str:
    data = json.dumps([to_json(person.values.get(order.key)), person.id])
    return base64.urlsafe_b64encode(data.encode()).decode().rstrip("=")


def people_page(
    unit: Unit, people: Sequence[Person], columns: Sequence[Field], limit: int, everyone: int | None = None
) -> PeoplePage:
    """A page made of people, one more than `limit` telling that it goes on; `everyone` where it is known."""
    lines = tuple(
        PersonLine(
            person.id, person_name(person.values), tuple(field.show(person.values.get(field.key)) for field in columns)
        )
        for person in people[:limit]
    )
    following = people[limit - 1].id if len(people) > limit else None
    everyone = count_people(unit.session, unit.definitions) if everyone is None else everyone
    return PeoplePage(tuple(columns), lines, everyone, following)


# Views ----------------------------------------------------------------------------------------


def list_views(scope: Scope) -> tuple[ViewEntry, ...]:
    """All kept views, in order."""
    with scope.reading("reader") as unit:
        query = select(PeopleView).order_by(col(PeopleView.position), col(PeopleView.id))
        return tuple(_entry(row) for row in unit.session.exec(query).all())


def _entry(row: PeopleView) -> ViewEntry:
    return ViewEntry(row.id or 0, row.name, Listing.model_validate(row.state))


def read_view(scope: Scope, view_id: int) -> ViewEntry:
    """A kept view. Raises NotFound."""
    with scope.reading("reader") as unit:
        row = unit.session.get(PeopleView, view_id)
        if row is None:
            raise NotFound("There is no such view.")
        return _entry(row)


def save_view(scope: Scope, name: str, listing: Listing, view_id: int = 0) -> tuple[int, int]:
    """Keep a way of looking at the list, as a new view or in place of one; gives its id and that of the change.

    Raises InvalidInput for a name that is taken or a filter with problems, NotFound for no such view.
    """
    asked = read_input(_Name, {"name": name})
    with scope.transaction("clerk") as unit:
        rows = unit.session.exec(select(PeopleView)).all()
        if any(row.name.casefold() == asked.name.casefold() and row.id != view_id for row in rows):
            raise InvalidInput({"name": "There is a view of this name already."})
        if not view_id and len(rows) >= _MOST_VIEWS:
            raise InvalidInput({"name": f"There are {_MOST_VIEWS} views; remove one first."})
        if selected(unit, listing.where)[1]:
            raise InvalidInput({"where": "The filter has a problem; fix that first."})
        row = unit.session.get(PeopleView, view_id) if view_id else None
        if view_id and row is None:
            raise NotFound("There is no such view.")
        before = snapshot(unit, "people_view", view_id) if row else None
        last = unit.session.exec(select(func.coalesce(func.max(PeopleView.position), 0))).one()
        row = row or PeopleView(workspace_id=unit.workspace_id, name="", position=last + 1)
        row.name, row.state = asked.name, listing.model_dump(mode="json")
        unit.session.add(row)
        unit.session.flush()
        return row.id or 0, record_change(unit, "people_view", row.id or 0, f"Saved the view {asked.name}", before)


def remove_view(scope: Scope, view_id: int) -> int:
    """Keep a view no longer; gives the id for undoing. Raises NotFound."""
    with scope.transaction("clerk") as unit:
        row = unit.session.get(PeopleView, view_id)
        if row is None:
            raise NotFound("There is no such view.")
        before = snapshot(unit, "people_view", view_id)
        name = row.name
        unit.session.delete(row)
        return record_change(unit, "people_view", view_id, f"Removed the view {name}", before)
