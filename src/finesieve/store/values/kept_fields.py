"""Kept values of derived fields: built range by range, following each change in its own transaction, compared.

A transaction that has changed values works out anew what is kept of those who are affected, as the last it does. Where
it may be anybody, or the definition is another, the kept values are out of date, and nobody reads them any more.
"""

import logging
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, Final

from sqlalchemy import (
    BigInteger,
    Column,
    MetaData,
    Table,
    TextClause,
    bindparam,
    case,
    event,
    func,
    insert,
    inspect,
    or_,
    select,
    text,
    update,
)
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.dialects.postgresql import insert as upsert
from sqlalchemy.orm import object_session
from sqlalchemy.schema import CreateTable, DropTable
from sqlmodel import Session, col

from finesieve.core.errors import FineSieveError
from finesieve.core.fields.about import HOUSE, LEVEL, ORDER, PERSON, record_type_of
from finesieve.core.language.evaluator import Moment
from finesieve.store.connection.database import apart
from finesieve.store.definitions.catalogue import Definitions, load_definitions, schema_name, touch
from finesieve.store.definitions.columns import SQL_TYPES
from finesieve.store.definitions.state import Kept, Touched, mark_changed, then_follow
from finesieve.store.language.kept_fields import kept_table, reads_of, rests_on
from finesieve.store.language.sources import Source, source_of
from finesieve.store.tables import KeptField, OrderRow

__all__ = [
    "MOMENT",
    "Comparison",
    "build_range",
    "compare",
    "forget_tables",
    "give_key",
    "last_person",
    "make_tables",
    "next_transaction",
    "outlived",
    "put_late",
]

MOMENT: Final = "finesieve.moment"
"""Where a session has the moment at which its transaction works."""
_OF_ORDERS: Final = "people of orders"
_SECONDS: Final = 3
"""How long a transaction may take to work out the values of those whom it concerns."""
_log: Final = logging.getLogger("finesieve.keeping")
_LOCKED_ONE_BY_ONE: Final = 500
MOST_FOLLOWED: Final = 5_000
"""Where one transaction concerns more people than this, it does not wait for their values: all are kept anew."""


@event.listens_for(OrderRow, "after_insert")
@event.listens_for(OrderRow, "after_update")
def _note_order(_mapper: Any, _connection: Any, order: OrderRow) -> None:
    """Whose order it is, and was: their derived values may be others."""
    session = object_session(order)
    if session is not None:
        history = inspect(order).attrs.person_id.history
        people = {one for one in (*history.added, *history.unchanged, *history.deleted) if one}
        mark_changed(session, order.workspace_id, _OF_ORDERS, people)


@then_follow
def _follow(session: Session, workspace_id: int, touched: Touched, kept: list[Kept]) -> None:
    """Work out anew what is kept of those whom the changes of this transaction concern."""
    definitions, moment = load_definitions(session, workspace_id), session.info.get(MOMENT)
    for one in kept:
        field = definitions.catalogue.by_id.get(one.field_id)
        people = _affected(session, definitions, field.key, touched) if field is not None else None
        if people == set():
            continue
        # A field that is deleted may come back, when values have changed.
        same = field is not None and moment and rests_on(definitions.catalogue, field.key, moment) == one.meaning
        if field is None or moment is None or people is None or len(people) > MOST_FOLLOWED or not same:
            _outdate(session, workspace_id, one.field_id)
        elif one.state in ("building", "stopped"):
            late = [{"id": person} for person in people]
            session.connection().execute(insert(_late_table(definitions, one.field_id, one.generation)), late)
        else:
            others = any(about != PERSON for about, _ in reads_of(definitions.catalogue, field.key))
            if others or one.state == "joining":
                _wait_in_turn(session, workspace_id, people)
            try:
                with apart(session, _SECONDS):
                    _put(session, definitions, field.key, one.generation, moment, partial(_among, people))
            except FineSieveError:
                # What cannot be worked out, or not in time, keeps nobody from writing.
                _log.exception("kept values of field %d cannot follow", one.field_id)
                _outdate(session, workspace_id, one.field_id)


def _among(people: set[int], id_: Any) -> Any:
    return id_ == func.any(bindparam("people", list(people), ARRAY(BigInteger)))


def _outdate(session: Session, workspace_id: int, field_id: int) -> None:
    # What somebody stopped stays so.
    state = case((col(KeptField.state) == "stopped", "stopped"), else_="outdated")
    session.execute(update(KeptField).where(col(KeptField.field_id) == field_id).values(meaning="", state=state))
    touch(session, workspace_id)


def _affected(session: Session, definitions: Definitions, key: str, touched: Touched) -> set[int] | None:
    """The people whose value of a derived field may be another now; None where it may be anybody's."""
    abouts = {about for about, _ in reads_of(definitions.catalogue, key)}
    found = touched.of(PERSON)
    if found is None or any(touched.of(about) != set() for about in abouts & {HOUSE, LEVEL}):
        return None
    people, waiting = set(found), {}
    for about in abouts - {PERSON, HOUSE, LEVEL}:
        ids = touched.of(about)
        if ids is None:
            return None
        waiting[about] = ids
    if ORDER in abouts:
        of_orders = touched.of(_OF_ORDERS)
        if of_orders is None:
            return None
        people |= of_orders
    seen: dict[str, set[int]] = {}
    while waiting:
        about, ids = waiting.popitem()
        new = ids - seen.setdefault(about, set())
        seen[about] |= new
        for target, found_ids in _led_to(session, definitions, about, new) if new else ():
            if target == PERSON:
                people |= found_ids
            elif target in abouts:
                waiting[target] = waiting.get(target, set()) | found_ids
    return people


def _led_to(session: Session, definitions: Definitions, about: str, ids: set[int]) -> list[tuple[str, set[int]]]:
    """What orders and records belong to, by what it is."""
    if about == ORDER:
        query: Any = select(col(OrderRow.person_id)).where(col(OrderRow.id).in_(ids))
        return [(PERSON, {one for one in session.execute(query).scalars() if one})]
    links, table = definitions.catalogue.links.values(), definitions.link
    targets = {link.id: link.target for link in links if link.record_type_id == record_type_of(about)}
    query = select(table.c.link_id, table.c.target_id).where(
        table.c.link_id.in_(targets), table.c.record_id == func.any(bindparam("ids", list(ids), ARRAY(BigInteger)))
    )
    found: dict[str, set[int]] = {}
    for link, target in session.execute(query):
        found.setdefault(targets[link], set()).add(target)
    return list(found.items())


def _wait_in_turn(session: Session, workspace_id: int, people: set[int] | None) -> None:
    """Of two who change what belongs to one person, the second works the value out when the first is done; in one
    order, and as the last that a transaction does, so that no two wait for each other. None stands for everybody."""
    many = people is None or len(people) > _LOCKED_ONE_BY_ONE
    whole = "pg_advisory_xact_lock" if many else "pg_advisory_xact_lock_shared"
    session.execute(text(f"SELECT {whole}(:all)"), {"all": _lock(workspace_id, 0)})
    if people is not None and not many:
        each = "SELECT pg_advisory_xact_lock(one) FROM unnest(CAST(:ids AS bigint[])) AS one"
        session.execute(text(each), {"ids": [_lock(workspace_id, one) for one in sorted(people)]})


def _lock(workspace_id: int, person_id: int) -> int:
    return ((workspace_id + 1) << 40) + person_id


def _worked_out(session: Session, definitions: Definitions, key: str, moment: Moment) -> Source:
    """People with a field as it is worked out, whatever is kept."""
    return source_of(session, replace(definitions, kept={}), frozenset((key,)), moment)


def _put(
    session: Session, definitions: Definitions, key: str, generation: int, moment: Moment, whom: Callable[[Any], Any]
) -> None:
    """Work out the values of some people, whoever is there already or not."""
    field = definitions.catalogue.by_key[key]
    table, source = kept_table(definitions, field.id, generation), _worked_out(session, definitions, key, moment)
    query = select(source.id, source.names[key]).select_from(source.table).where(whom(source.id)).order_by(source.id)
    statement = upsert(table).from_select(["id", "value"], query)
    changed = statement.on_conflict_do_update(index_elements=[table.c.id], set_={"value": statement.excluded.value})
    session.execute(changed)


# Building: range by range into a table without an index, which takes a third of the time. Who is concerned by a change
# meanwhile is noted, and worked out at the end, when the table has got its key.


def _late_table(definitions: Definitions, field_id: int, generation: int) -> Table:
    """Who was concerned by a change while a field was built."""
    table = kept_table(definitions, field_id, generation)
    return Table(f"{table.name}_late", MetaData(schema=table.schema), Column("id", BigInteger))


def make_tables(session: Session, definitions: Definitions, field_id: int, generation: int) -> None:
    """The empty tables to build into."""
    table = kept_table(definitions, field_id, generation)
    value = SQL_TYPES[definitions.catalogue.by_id[field_id].value_type.kind].compile(session.get_bind().dialect)
    session.execute(text(f"CREATE TABLE {table.fullname} (id bigint, value {value})"))
    session.execute(CreateTable(_late_table(definitions, field_id, generation)))


def next_transaction(session: Session) -> int:
    """The number that the next transaction to write gets: all that write already have a lower one."""
    return int(session.execute(_number_of("xmax")).scalar_one())


def outlived(session: Session, transaction: int) -> bool:
    """Whether all transactions with a lower number than this are over."""
    return int(session.execute(_number_of("xmin")).scalar_one()) >= transaction


def _number_of(bound: str) -> TextClause:
    return text(f"SELECT CAST(CAST(pg_snapshot_{bound}(pg_current_snapshot()) AS text) AS bigint)")


def last_person(session: Session, definitions: Definitions) -> int:
    """The highest id of a person, 0 for none."""
    return int(session.execute(select(func.coalesce(func.max(definitions.person.c.id), 0))).scalar_one())


def build_range(
    session: Session, definitions: Definitions, key: str, generation: int, moment: Moment, above: int, to: int
) -> int:
    """Keep the values of the people with these ids; gives of how many."""
    field = definitions.catalogue.by_key[key]
    table, source = kept_table(definitions, field.id, generation), _worked_out(session, definitions, key, moment)
    query = select(source.id, source.names[key]).select_from(source.table)
    query = query.where(source.id > above, source.id <= to)
    filled = insert(table).from_select(["id", "value"], query).execution_options(preserve_rowcount=True)
    return int(session.execute(filled).rowcount)  # type: ignore[attr-defined]  # of an insert


def give_key(session: Session, definitions: Definitions, field_id: int, generation: int) -> None:
    """The key of the table, once all ranges are there; given again, it stays."""
    name = kept_table(definitions, field_id, generation).fullname
    there = text("SELECT EXISTS (SELECT FROM pg_constraint WHERE conrelid = CAST(:name AS regclass) AND contype = 'p')")
    if not session.execute(there, {"name": name}).scalar_one():
        session.execute(text(f"ALTER TABLE {name} ADD PRIMARY KEY (id)"))


def put_late(session: Session, definitions: Definitions, key: str, generation: int, moment: Moment) -> None:
    """Work out those who were concerned by a change while the field was built; others wait, so that no newer value is
    replaced."""
    _wait_in_turn(session, definitions.workspace_id, None)
    field = definitions.catalogue.by_key[key]
    late = _late_table(definitions, field.id, generation)
    _put(session, definitions, key, generation, moment, lambda id_: id_.in_(select(late.c.id)))
    session.execute(DropTable(late))
    session.execute(text(f"ANALYZE {kept_table(definitions, field.id, generation).fullname}"))


@dataclass(frozen=True, slots=True)
class Comparison:
    """Of so many people `looked_at`, the kept value `differs` from the one worked out of so many."""

    looked_at: int
    differs: int


def compare(
    session: Session, definitions: Definitions, key: str, generation: int, moment: Moment, ids: Iterable[int]
) -> Comparison:
    """Kept values against those worked out, of these people, in one look at both."""
    field = definitions.catalogue.by_key[key]
    table, source = kept_table(definitions, field.id, generation), _worked_out(session, definitions, key, moment)
    of = bindparam("people", list(ids), ARRAY(BigInteger))
    differs = or_(table.c.id.is_(None), source.names[key].is_distinct_from(table.c.value))
    query = select(func.count(), func.count().filter(differs))
    joined = source.table.outerjoin(table, table.c.id == source.id)
    row = session.execute(query.select_from(joined).where(source.id == func.any(of))).one()
    return Comparison(int(row[0]), int(row[1]))


def forget_tables(session: Session, workspace_id: int, field_id: int, before: int) -> None:
    """Remove the tables of a field's generations before this one. Raises Unavailable where one is still read."""
    session.execute(text("SET LOCAL lock_timeout = '500ms'"))
    query = text(
        "SELECT relname FROM pg_class WHERE relnamespace = CAST(:schema AS regnamespace) AND relkind = 'r' "
        "AND relname ~ :pattern"
    )
    place = {"schema": schema_name(workspace_id), "pattern": f"^kept_{int(field_id)}_[0-9]+(_late)?$"}
    for (name,) in session.execute(query, place).all():
        if int(name.removesuffix("_late").rpartition("_")[2]) < before:
            session.execute(text(f"DROP TABLE {schema_name(workspace_id)}.{name}"))
