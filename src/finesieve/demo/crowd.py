"""A demo house as large as one likes: more people, made of those there are, each with an email of their own."""

from collections.abc import Mapping
from typing import Any, Final

from sqlalchemy import BigInteger, Table, Text, cast, func, insert, literal, select, text
from sqlmodel import col

from finesieve.services.kernel.scope import Scope, Unit
from finesieve.store.definitions.state import mark_changed
from finesieve.store.tables import History, Submission

__all__ = ["crowd"]

_BATCH: Final = 50
"""So often the people there are at first are copied in one transaction."""


def crowd(scope: Scope, people: int) -> int:
    """Add people until there are so many, with the history and the sendings of those that they are copies of.

    Gives how many were added. By SQL over sets: a million in a few minutes.
    """
    with scope.transaction("owner") as unit:
        person = unit.definitions.person
        first, last, there = unit.session.execute(
            select(func.min(person.c.id), func.max(person.c.id), func.count())
        ).one()
    added, copy = 0, 1
    while there and there + added < people:
        missing = people - there - added
        with scope.transaction("owner") as unit:
            copies = range(copy, copy + min(_BATCH, -(-missing // there)))
            _add_copies(unit, (first, last), copies, missing)
        added += min(len(copies) * there, missing)
        copy += _BATCH
    with scope.transaction("owner") as unit:
        for name in (unit.definitions.person.fullname, "history", "submission"):
            unit.session.execute(text(f"ANALYZE {name}"))
    return added


def _add_copies(unit: Unit, between: tuple[int, int], copies: range, most: int) -> None:
    """Add the people with these ids once more for each copy, at most so many."""
    person, history, submission = unit.definitions.person, _table(History), _table(Submission)
    first, last = between
    number = (
        func.generate_series(cast(copies.start, BigInteger), cast(copies.stop - 1, BigInteger))
        .table_valued("n")
        .render_derived()
    )
    moved = number.c.n * literal(last - first + 1, BigInteger)
    email = person.c[unit.catalogue.by_key["email"].column]
    # The new id makes it an address of their own, however often the house is filled.
    own = func.replace(email, "@", literal(".", Text()) + cast(person.c.id + moved, Text) + "@")
    people = select(*_columns(person, {"id": person.c.id + moved, email.name: own}))
    people = people.select_from(person.join(number, literal(True))).where(person.c.id.between(first, last))
    people = people.order_by(number.c.n, person.c.id).limit(most)
    unit.session.execute(insert(person).from_select([one.name for one in person.c], people))
    # The copies follow one another, so that whoever has no higher id than the last is there.
    top = unit.session.execute(select(func.max(person.c.id))).scalar_one()
    # Whoever signs up next comes after them, also where filling is broken off.
    unit.session.execute(select(func.setval(func.pg_get_serial_sequence(person.fullname, "id"), top)))
    for table, whose, where, changed in (
        (history, "entity_id", col(History.about) == "person", {}),
        (
            submission,
            "person_id",
            col(Submission.state) == "stored",
            {"key": submission.c.key + "." + cast(submission.c.person_id + moved, Text)},
        ),
    ):
        around = table.join(number, literal(True))
        columns = {name: sql for name, sql in _named(table).items() if name != "id"}
        columns |= {whose: table.c[whose] + moved, **changed}
        lines = select(*columns.values()).select_from(around).where(where, table.c[whose].between(first, last))
        lines = lines.where(table.c[whose] + moved <= top)
        unit.session.execute(insert(table).from_select(list(columns), lines))
    mark_changed(unit.session, unit.workspace_id)


def _table(model: type[History] | type[Submission]) -> Table:
    return model.__table__  # type: ignore[union-attr, no-any-return]  # every table model has one


def _named(table: Table) -> dict[str, Any]:
    return {one.name: one for one in table.c}


def _columns(table: Table, changed: Mapping[str, Any]) -> list[Any]:
    return list((_named(table) | dict(changed)).values())
