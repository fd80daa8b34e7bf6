"""Orders with what is known of each: their number, moment, state and total."""

from collections.abc import Collection, Mapping
from typing import Any, Final

from sqlalchemy import ColumnElement, Integer, Numeric, Select, Subquery, cast, func, select
from sqlmodel import Session, col

from finesieve.core.commerce.facts import PLACED
from finesieve.core.values import Value
from finesieve.store.definitions.catalogue import Definitions
from finesieve.store.tables import OrderRow

__all__ = ["facts_of_orders", "orders_of", "orders_with_facts"]


def _total() -> ColumnElement[Any]:
    """The total in the unit of the currency; it is kept in the smallest."""
    decimals = cast(col(OrderRow.bill)["decimals"].astext, Integer)
    return func.round(cast(col(OrderRow.total), Numeric) / func.power(cast(10, Numeric), decimals), decimals)


_FACTS: Final[Mapping[str, Any]] = {
    "number": cast(col(OrderRow.number), Numeric),
    "placed_at": col(OrderRow.placed_at),
    "state": col(OrderRow.state),
    "total": _total(),
}


def _query(workspace_id: int) -> Select[Any]:
    named = (value.label(key) for key, value in _FACTS.items())
    return select(col(OrderRow.id), *named).where(col(OrderRow.workspace_id) == workspace_id)


def facts_of_orders(session: Session, definitions: Definitions, ids: Collection[int]) -> dict[int, dict[str, Value]]:
    """What is known of each order by itself, by id."""
    query = _query(definitions.workspace_id).where(col(OrderRow.id).in_(list(ids)))
    return {row[0]: dict(zip(_FACTS, row[1:], strict=True)) for row in session.execute(query)}


def orders_of(session: Session, definitions: Definitions, person_id: int) -> list[tuple[int, dict[str, Value]]]:
    """The placed orders of a person with what is known of each and the values of its fields, the oldest first."""
    query = _query(definitions.workspace_id).where(
        col(OrderRow.person_id) == person_id, col(OrderRow.state).in_(PLACED)
    )  # fmt: skip
    facts = {
        row[0]: dict(zip(_FACTS, row[1:], strict=True)) for row in session.execute(query.order_by(col(OrderRow.id)))
    }
    if not facts:
        return []
    table, columns = definitions.tables["order"], definitions.columns_of("order")
    kept = {
        row[0]: dict(zip(columns, row[1:], strict=True))
        for row in session.execute(select(table.c.id, *columns.values()).where(table.c.id.in_(list(facts))))
    }
    return [(order_id, {**known, **kept.get(order_id, dict.fromkeys(columns))}) for order_id, known in facts.items()]


def orders_with_facts(definitions: Definitions) -> Subquery:
    """All orders of the workspace as a table: `id`, `person_id`, what is known of each, the columns of its fields."""
    table = definitions.tables["order"]
    named = (value.label(f"fact_{key}") for key, value in _FACTS.items())
    joined = OrderRow.__table__.outerjoin(table, table.c.id == col(OrderRow.id))  # type: ignore[attr-defined]
    fields = [column for column in table.c if column.name != "id"]
    return (
        select(col(OrderRow.id).label("id"), col(OrderRow.person_id).label("person_id"), *named, *fields)
        .select_from(joined)
        .where(col(OrderRow.workspace_id) == definitions.workspace_id)
        .subquery()
    )
