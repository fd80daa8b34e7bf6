"""A demo house as large as one likes: more people, made of those there are, each with an email of their own."""

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Any, Final

from sqlalchemy import BigInteger, Table, Text, cast, func, insert, literal, select, text
from sqlmodel import Session, col

from finesieve.core.fields.about import PERSON
from finesieve.services.kernel.scope import Scope, Unit
from finesieve.store.definitions.state import ANYTHING, mark_changed
from finesieve.store.tables import History, Submission

__all__ = ["crowd"]

_BATCH: Final = 50
"""So often the people there are at first are copied by one statement."""

_INDEXES: Final = """
SELECT format('DROP INDEX %s', indexrelid::regclass), pg_get_indexdef(indexrelid)
FROM pg_index WHERE indrelid = CAST(:table AS regclass) AND NOT indisunique
"""
_REFERENCES: Final = """
SELECT format('ALTER TABLE %s DROP CONSTRAINT %I', conrelid::regclass, conname),
       format('ALTER TABLE %s ADD CONSTRAINT %I %s', conrelid::regclass, conname, pg_get_constraintdef(oid))
FROM pg_constraint WHERE conrelid = CAST(:table AS regclass) AND contype = 'f'
"""


def crowd(scope: Scope, people: int) -> int:
    """Add people until there are so many, with the history, the sendings and the records of those that they are copies
    of.

    Gives how many were added. By SQL over sets: a million in a minute or two. One transaction, all or none, which keeps
    everybody else waiting meanwhile.
    """
    with scope.transaction("owner") as unit:
        person = unit.definitions.person
        first, last, there = unit.session.execute(
            select(func.min(person.c.id), func.max(person.c.id), func.count())
        ).one()
        missing = people - there if there else 0
        if missing <= 0:
            return 0
        last_copy = -(-missing // there)
        with _put_aside(unit.session, "history"), _put_aside(unit.session, "submission"):
            for copy in range(1, last_copy + 1, _BATCH):
                left = missing - (copy - 1) * there
                _add_copies(unit, (first, last), range(copy, min(copy + _BATCH, last_copy + 1)), left)
                _add_records(unit, (first, last), range(copy, min(copy + _BATCH, last_copy + 1)))
        mark_changed(unit.session, unit.workspace_id, ANYTHING)
        for name in (*(one.fullname for one in unit.definitions.tables.values()), "history", "submission"):
            unit.session.execute(text(f"ANALYZE {name}"))
    return missing


@contextmanager
def _put_aside(session: Session, table: str) -> Iterator[None]:
    """Indexes and references of a table are made anew at the end, three times as fast as kept line by line.

    All in the transaction of the caller, so that none can be lost on the way.
    """
    found = [
        (away, back)
        for query in (_INDEXES, _REFERENCES)
        for away, back in session.execute(text(query), {"table": table})
    ]
    for away, _ in found:
        session.execute(text(away))
    yield
    session.execute(text("SET LOCAL maintenance_work_mem = '256MB'"))
    for _, back in found:
        session.execute(text(back))


def _add_copies(unit: Unit, between: tuple[int, int], copies: range, most: int) -> None:
    """Add the people with these ids once more for each copy, at most so many."""
    person, history, submission = unit.definitions.person, _table(History), _table(Submission)
    first, last = between
    number = _numbers(copies)
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
    _go_on_after(unit, person, top)
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


def _add_records(unit: Unit, between: tuple[int, int], copies: range) -> None:
    """Add the records of these people once more for each copy, of the types that belong to nobody but people."""
    first, last = between
    number, person, links = _numbers(copies), unit.definitions.person, unit.definitions.link
    top = select(func.max(person.c.id)).scalar_subquery()
    for known in unit.catalogue.record_types:
        if not known.links or any(link.target != PERSON for link in known.links):
            continue
        table, ids = unit.definitions.tables[known.about], [link.id for link in known.links]
        # As many as there were at first, whatever has been copied since.
        theirs = select(links.c.record_id).where(links.c.link_id.in_(ids), links.c.target_id.between(first, last))
        span = unit.session.execute(select(func.max(table.c.id)).where(table.c.id.in_(theirs))).scalar_one() or 0
        moved = number.c.n * literal(span, BigInteger)
        further = number.c.n * literal(last - first + 1, BigInteger)
        tied = links.c.link_id.in_(ids) & links.c.target_id.between(first, last) & (links.c.target_id + further <= top)
        whose = select(links.c.record_id).where(tied, links.c.record_id == table.c.id).correlate(number, table).exists()
        rows = select(*_columns(table, {"id": table.c.id + moved})).select_from(table.join(number, literal(True)))
        unit.session.execute(insert(table).from_select([one.name for one in table.c], rows.where(whose)))
        ties = select(links.c.link_id, links.c.record_id + moved, links.c.target_id + further)
        ties = ties.select_from(links.join(number, literal(True))).where(tied)
        unit.session.execute(insert(links).from_select([one.name for one in links.c], ties))
        _go_on_after(unit, table, unit.session.execute(select(func.max(table.c.id))).scalar_one())


def _numbers(copies: range) -> Any:
    """The numbers of the copies, as a table of `n`."""
    series = func.generate_series(cast(copies.start, BigInteger), cast(copies.stop - 1, BigInteger))
    return series.table_valued("n").render_derived()


def _go_on_after(unit: Unit, table: Table, last: int | None) -> None:
    """Whoever, or whatever, is added next comes after this id."""
    if last:
        unit.session.execute(select(func.setval(func.pg_get_serial_sequence(table.fullname, "id"), last)))


def _table(model: type[History] | type[Submission]) -> Table:
    return model.__table__  # type: ignore[union-attr, no-any-return]  # every table model has one


def _named(table: Table) -> dict[str, Any]:
    return {one.name: one for one in table.c}


def _columns(table: Table, changed: Mapping[str, Any]) -> list[Any]:
    return list((_named(table) | dict(changed)).values())
