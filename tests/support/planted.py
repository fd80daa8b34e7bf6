"""The fields of generated expressions in a real workspace, and people and records in its tables."""

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

from sqlalchemy import select

from finesieve.core.fields.about import PERSON, record_about
from finesieve.core.language.evaluator import Moment
from finesieve.core.language.names import World
from finesieve.core.language.typed import Typed
from finesieve.core.model.catalogue import Link
from finesieve.core.values import Type, Value
from finesieve.services.define.fields import FieldInput, create_field
from finesieve.services.define.groups import GroupInput, create_group, read_catalogue
from finesieve.services.define.record_types import RecordTypeInput, create_record_type
from finesieve.services.kernel.scope import Unit
from finesieve.store.language.admitted import admitted
from finesieve.store.language.compiler import compile_sql
from finesieve.store.language.sources import source_of
from finesieve.store.values.rows import insert_row, set_links
from tests.support.house import House, make_house
from tests.support.strategies import CROPS, NAMES, PLOT


class _Undone(Exception):
    """What was planted is taken out again."""


class Planted:
    """A workspace whose people have just the fields that generated expressions read, and plots as records."""

    def __init__(self) -> None:
        self.house: House = make_house(fields=False)
        scope = self.house.scope
        self.type = create_record_type(scope, RecordTypeInput(singular="Plot", plural="Plots"))
        group = create_group(scope, GroupInput(name="Generated", about=PERSON))
        plots = read_catalogue(scope).groups_about(record_about(self.type))[0].id
        for group_id, names in ((group, NAMES | {"crops": CROPS}), (plots, PLOT)):
            for key, type_ in names.items():
                create_field(scope, group_id, _asked(key, type_))

    @cached_property
    def world(self) -> World:
        """What expressions about a person know there."""
        return read_catalogue(self.house.scope).world(PERSON)

    @cached_property
    def link(self) -> Link:
        """The link from plots to people."""
        return read_catalogue(self.house.scope).record_types_by_id[self.type].links[0]

    def admits(self, typed: Typed, rows: Sequence[Mapping[str, Any]], moment: Moment) -> list[bool]:
        """Whom PostgreSQL finds when it looks for all of whom a condition holds; they are taken out again."""
        found: list[bool] = []
        try:
            with self.house.scope.transaction("owner") as unit:
                ids = [self._plant(unit, row) for row in rows]
                source, where = admitted(unit.session, unit.definitions, [typed], moment, whole=True)
                query = select(source.id).select_from(source.table).where(source.id.in_(ids), *where)
                there = set(unit.session.execute(query).scalars())
                found = [one in there for one in ids]
                raise _Undone
        except _Undone:
            return found

    def values(
        self, typed: Typed, rows: Sequence[Mapping[str, Any]], moment: Moment, *, together: bool = False
    ) -> list[Value]:
        """What PostgreSQL works out for people that stand in its tables, one a row; they are taken out again.

        With what they read of records worked out `together` for everybody, or else one by one.
        """
        found: list[Value] = []
        try:
            with self.house.scope.transaction("owner") as unit:
                ids = [self._plant(unit, row) for row in rows]
                over, names = [typed] if together else [], frozenset((*NAMES, "crops"))
                source = source_of(unit.session, unit.definitions, names, moment, over=over)
                value = compile_sql(typed, source.columns, moment)
                query = select(source.id, value.label("value")).select_from(source.table).where(source.id.in_(ids))
                by_id = {row.id: row.value for row in unit.session.execute(query)}
                found = [tuple(one) if isinstance(one, list) else one for one in map(by_id.__getitem__, ids)]
                raise _Undone
        except _Undone:
            return found

    def planting(self, rows: Sequence[Mapping[str, Any]]) -> Iterator[Unit]:
        """A transaction in which these people stand in the tables; they are taken out again."""
        try:
            with self.house.scope.transaction("owner") as unit:
                for row in rows:
                    self._plant(unit, row)
                yield unit
                raise _Undone
        except _Undone:
            return

    def _plant(self, unit: Unit, row: Mapping[str, Any]) -> int:
        values = {key: row[key] for key in (*NAMES, "crops")}
        person = insert_row(unit.session, unit.definitions, PERSON, values)
        for plot in row["plots"]:
            record = insert_row(unit.session, unit.definitions, record_about(self.type), plot)
            set_links(unit.session, unit.definitions, self.link, record, [person])
        return person


def _asked(key: str, type_: Type) -> FieldInput:
    kinds = {"text": "short_text"}
    options = "\n".join(
        f"{label} = {value}" for value, label in zip(type_.options, type_.labels or type_.options, strict=True)
    )
    if type_.scores:
        options = "\n".join(
            f"{label}\t{value}\t{score}"
            for value, label, score in zip(type_.options, type_.labels, type_.scores, strict=True)
        )
    return FieldInput(label=key, key=key, type_key=kinds.get(type_.kind, type_.kind), options=options)
