"""Loading a workspace's catalogue and the tables that its fields make; both cached by version."""

import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property, lru_cache
from types import SimpleNamespace
from typing import Any, Final
from zoneinfo import ZoneInfo

from pydantic import TypeAdapter
from sqlalchemy import (
    BigInteger,
    Column,
    DateTime,
    Integer,
    MetaData,
    Select,
    Table,
    Text,
    bindparam,
    func,
    text,
    update,
)
from sqlmodel import Session, col, select

from finesieve.core.commerce.shop import Shop
from finesieve.core.errors import NotFound
from finesieve.core.fields.about import HOUSE, LEVEL, ORDER, PERSON, record_about, record_type_of
from finesieve.core.fields.definition import Field
from finesieve.core.fields.groups import GroupSettings
from finesieve.core.fields.manner import PLAIN, Manner
from finesieve.core.fields.options import option_from_json
from finesieve.core.fields.settings import FieldSettings
from finesieve.core.model.catalogue import (
    Catalogue,
    Group,
    LibraryCheck,
    Link,
    NamedList,
    NamedSegment,
    PersonalLink,
    RecordType,
    build_catalogue,
)
from finesieve.core.model.checks import OwnCheck
from finesieve.core.model.level_ends import LevelEnd
from finesieve.core.model.level_fees import LevelFee
from finesieve.core.values import Kind
from finesieve.store.connection.database import is_reading
from finesieve.store.definitions.columns import SQL_TYPES
from finesieve.store.definitions.entering import enter_by_id
from finesieve.store.tables import (
    AudienceList,
    FieldGroupRow,
    FieldRow,
    KeptField,
    LevelRow,
    NamedCheckRow,
    OptionListRow,
    PersonalLinkRow,
    RecordLinkRow,
    RecordTypeRow,
    Segment,
    ShopRow,
    TagRow,
    Workspace,
)

__all__ = [
    "OWN_COLUMNS",
    "Definitions",
    "KeptValues",
    "add_column",
    "create_record_table",
    "create_workspace_schema",
    "drop_columns",
    "field_from_row",
    "load_definitions",
    "not_unique_column",
    "schema_name",
    "table_name",
    "touch",
    "unique_column",
]


OWN_COLUMNS: Final = frozenset(("tags", "lists", "level"))
"""Columns of a person that belong to no field."""


@dataclass(frozen=True, slots=True)
class KeptValues:
    """A derived field whose values are kept, and what they were worked out from; `ready` once all of them are there."""

    field_id: int
    generation: int
    meaning: str
    ready: bool


@dataclass(frozen=True)
class Definitions:
    """A workspace's catalogue and its tables, one for each thing that fields are about; `kept` fields by key."""

    workspace_id: int
    catalogue: Catalogue
    tables: Mapping[str, Table]
    link: Table
    kept: Mapping[str, KeptValues] = field(default_factory=dict)

    @property
    def person(self) -> Table:
        return self.tables[PERSON]

    def columns_of(self, about: str) -> Mapping[str, Any]:
        """The columns of all stored values by key, a person's tags, lists and level among them."""
        if about not in self._columns:
            table = self.tables[about]
            columns = {field.key: table.c[field.column] for field in self.catalogue.stored_about(about)}
            own = {key: table.c[key] for key in sorted(OWN_COLUMNS)} if about == PERSON else {}
            self._columns[about] = columns | own
        return self._columns[about]

    @cached_property
    def _columns(self) -> dict[str, Mapping[str, Any]]:
        return {}

    def row_query(self, about: str) -> Select[Any]:
        """The query of all stored values of one thing, its id first, by the parameter `row`; made once."""
        if ("row", about) not in self._queries:
            table = self.tables[about]
            query = select(table.c.id, *self.columns_of(about).values()).where(table.c.id == bindparam("row"))
            self._queries["row", about] = query
        return self._queries["row", about]

    def linked_query(self, about: str) -> Select[Any]:
        """The query of the records of a type from which a link (parameter `link`) leads to a `target`; made once."""
        if ("linked", about) not in self._queries:
            table, links = self.tables[about], self.link
            self._queries["linked", about] = (
                select(table.c.id, *self.columns_of(about).values())
                .join(links, links.c.record_id == table.c.id)
                .where(links.c.link_id == bindparam("link"), links.c.target_id == bindparam("target"))
                .where(table.c.archived_at.is_(None))
                .order_by(table.c.id)
            )
        return self._queries["linked", about]

    def holders_query(self, about: str, column: str, *, folds: bool) -> Select[Any]:
        """The query of the ids of those who have a `value` in a column, at most `most`, whatever the case where it
        `folds`; made once."""
        if (f"holders of {column}", about) not in self._queries:
            table = self.tables[about]
            stored: Any = table.c[column]
            value = bindparam("value", type_=stored.type)
            holds = func.finesieve.fold(stored) == func.finesieve.fold(value) if folds else stored == value
            query = select(table.c.id).where(holds).limit(bindparam("most", type_=Integer))
            self._queries[f"holders of {column}", about] = query
        return self._queries[f"holders of {column}", about]

    @cached_property
    def _queries(self) -> dict[tuple[str, str], Select[Any]]:
        # Putting a query of sixty columns together costs as much as the database takes for it.
        return {}


_MOST_KEPT: Final = 64
_kept: dict[tuple[str, int], Definitions] = {}
_making: Final = threading.Lock()


def schema_name(workspace_id: int) -> str:
    """The PostgreSQL schema that holds a workspace's values."""
    return f"w_{int(workspace_id)}"


def table_name(about: str) -> str:
    """The table, in that schema, of the values about one thing."""
    names = {PERSON: "person", ORDER: "order_values", LEVEL: "level_values", HOUSE: "house"}
    return names.get(about) or f"record_{record_type_of(about)}"


def load_definitions(session: Session, workspace_id: int) -> Definitions:
    """The definitions as they stand in this transaction, which enters the workspace. Raises NotFound for none."""
    # What a request has read of the workspace on its way in is enough; a transaction looks again after each change.
    workspace = session.get(Workspace, workspace_id) if is_reading(session) else enter_by_id(session, workspace_id)
    if workspace is None:
        raise NotFound("There is no such workspace.")
    version = workspace.catalogue_version
    key = (str(session.get_bind().engine.url.render_as_string(hide_password=True)), workspace_id)
    kept = _kept.get(key)
    if kept is not None and kept.catalogue.version == version:
        return kept
    # Those who come at once after a change take turns, so that one of them makes it for all.
    with _making:
        kept = _kept.get(key)
        if kept is not None and kept.catalogue.version == version:
            return kept
        catalogue = _load_catalogue(session, version, _manner(workspace))
        tables, linked = _tables(workspace_id, catalogue), _link_table(workspace_id)
        found = Definitions(workspace_id, catalogue, tables, linked, _kept_fields(session, catalogue))
        while len(_kept) >= _MOST_KEPT:
            _kept.pop(next(iter(_kept)))
        _kept[key] = found
    return found


def _kept_fields(session: Session, catalogue: Catalogue) -> dict[str, KeptValues]:
    rows = session.exec(select(KeptField).where(col(KeptField.meaning) != "")).all()
    return {
        catalogue.by_id[row.field_id].key: KeptValues(row.field_id, row.generation, row.meaning, row.state == "ready")
        for row in rows
        if row.field_id in catalogue.by_id
    }


def _manner(workspace: Workspace) -> Manner:
    return Manner(workspace.language, ZoneInfo(workspace.zone), workspace.currency, workspace.country)


_PARTS: Final = (
    (FieldGroupRow, "position, id", ""), (OptionListRow, "id", ""), (FieldRow, "position, id", ""),
    (RecordLinkRow, "position, id", ""), (RecordTypeRow, "position, id", "WHERE NOT archived"),
    (AudienceList, "name", ""), (LevelRow, "position, id", ""), (TagRow, "name", ""),
    (NamedCheckRow, "name", ""), (PersonalLinkRow, "id", ""),
    (Segment, "id", ""), (ShopRow, "workspace_id", ""),
)  # fmt: skip
"""The tables that a catalogue is made of, in which order their rows come, and which."""
_ALL_PARTS: Final = text(
    "SELECT jsonb_build_object({})".format(
        ", ".join(
            f"'{part.__tablename__}', (SELECT coalesce(jsonb_agg(to_jsonb(one) ORDER BY {order}), '[]') "
            f"FROM {part.__tablename__} AS one {which})"
            for part, order, which in _PARTS
        )
    )
)
"""All of them by one statement: twelve take three times as long, after each change of a definition."""


def _load_catalogue(session: Session, version: int, manner: Manner) -> Catalogue:
    session.flush()  # what this transaction has changed itself
    found: Mapping[str, list[dict[str, Any]]] = session.execute(_ALL_PARTS).scalar_one()
    rows = {name: [SimpleNamespace(**row) for row in part] for name, part in found.items()}
    groups: Any = rows["field_group"]
    order = {group.id: place for place, group in enumerate(groups)}
    shared = {row.id: row.options for row in rows["option_list"]}
    fields = [field_from_row(row, manner, shared) for row in sorted(rows["field"], key=lambda row: order[row.group_id])]
    return build_catalogue(
        version,
        ZoneInfo(str(manner.zone)),
        [
            Group(row.id, row.name, row.description, row.about, GroupSettings.model_validate(row.settings))
            for row in groups
        ],
        [field for field in fields if field.deleted_at is None],
        record_types=_record_types(rows["record_type"], rows["record_link"]),
        lists=[NamedList(row.id, row.key, row.name, None, None) for row in rows["audience_list"]],
        levels=[NamedList(row.id, row.key, row.name, _lasts(row), _fee(row)) for row in rows["level"]],
        tags=tuple(row.name for row in rows["tag"]),
        deleted=[field for field in fields if field.deleted_at is not None],
        manner=manner,
        checks=[
            LibraryCheck(row.id, row.name, _OWN_CHECK.validate_python(row.settings)) for row in rows["named_check"]
        ],
        shop=next((Shop.model_validate(row.document) for row in rows["shop"]), None),
        personal_links=[PersonalLink(row.id, row.key, row.name) for row in rows["personal_link"]],
        segments=[NamedSegment(row.id, row.key, row.name, row.expression) for row in rows["segment"]],
    )


_OWN_CHECK: Final[TypeAdapter[OwnCheck]] = TypeAdapter(OwnCheck)


def _lasts(row: Any) -> LevelEnd | None:
    return LevelEnd.model_validate(row.lasts) if row.lasts else None


def _fee(row: Any) -> LevelFee | None:
    return LevelFee.model_validate(row.fee) if row.fee else None


def _record_types(types: Sequence[Any], links: Sequence[Any]) -> tuple[RecordType, ...]:
    of_type: dict[int, list[Link]] = {}
    for row in links:
        link = Link(row.id, row.record_type_id, row.name, row.target, row.many, row.back_name, row.back_key)
        of_type.setdefault(row.record_type_id, []).append(link)
    return tuple(
        RecordType(
            row.id, row.key, row.singular, row.plural, row.symbol, row.description, row.title_field,
            tuple(of_type.get(row.id, ())),
        )
        for row in types
    )  # fmt: skip


def field_from_row(
    row: FieldRow | SimpleNamespace,
    manner: Manner = PLAIN,
    shared: Mapping[int | None, list[dict[str, Any]]] | None = None,
) -> Field:
    """The core's field for a stored row, or for one read as JSON; `shared` are the option lists by id."""
    settings = FieldSettings.model_validate(row.settings)
    options = (shared or {}).get(settings.option_list, row.options) if settings.option_list else row.options
    return Field(
        id=row.id or 0,
        key=row.key,
        label=row.label,
        type_key=row.type_key,
        group_id=row.group_id,
        help=row.help,
        required=row.required,
        unit=row.unit,
        options=tuple(option_from_json(option) for option in options),
        built_in=row.built_in,
        formula=row.formula,
        about=row.about,
        settings=settings,
        manner=manner,
        generation=row.generation,
        deleted_at=datetime.fromisoformat(row.deleted_at) if isinstance(row.deleted_at, str) else row.deleted_at,
    )


_OWN_COLUMNS: Final[Mapping[str, Sequence[tuple[str, Any]]]] = {
    PERSON: (("tags", SQL_TYPES["choices"]), ("lists", SQL_TYPES["choices"]), ("level", Text())),
}
_ARCHIVED: Final = (("archived_at", DateTime(timezone=True)),)


def _tables(workspace_id: int, catalogue: Catalogue) -> dict[str, Table]:
    abouts = (PERSON, ORDER, LEVEL, HOUSE, *(known.about for known in catalogue.record_types))
    return {
        about: _table(
            workspace_id, about, tuple(sorted((one.column, one.type.kind) for one in catalogue.stored_about(about)))
        )
        for about in abouts
    }


# One and the same table for as long as its columns are, since SQLAlchemy keeps what it has made of a statement by the
# tables in it, and most changes of the definitions change no column.
@lru_cache(maxsize=1_000)
def _table(workspace_id: int, about: str, columns: tuple[tuple[str, Kind], ...]) -> Table:
    """The values about one thing, with one typed column a field."""
    own = _OWN_COLUMNS.get(about, _ARCHIVED if record_type_of(about) else ())
    return Table(
        table_name(about),
        MetaData(schema=schema_name(workspace_id)),
        Column("id", BigInteger, primary_key=True),
        Column("created_at", DateTime(timezone=True), server_default=func.now(), nullable=False),
        *(Column(name, type_) for name, type_ in own),
        *(Column(name, SQL_TYPES[kind]) for name, kind in columns),
    )


@lru_cache(maxsize=1_000)
def _link_table(workspace_id: int) -> Table:
    return Table(
        "link",
        MetaData(schema=schema_name(workspace_id)),
        Column("link_id", Integer, primary_key=True),
        Column("record_id", BigInteger, primary_key=True),
        Column("target_id", BigInteger, primary_key=True),
    )


def touch(session: Session, workspace_id: int) -> None:
    """Mark a change of the definition, so that every process loads it anew.

    The mark comes from a sequence, which no rollback turns back: what was kept of definitions that were
    never committed is never taken for later ones.
    """
    statement = update(Workspace).where(col(Workspace.id) == workspace_id)
    session.execute(statement.values(catalogue_version=func.nextval("finesieve.definitions")))


_SCHEMA: Final = """
CREATE SCHEMA {s};
CREATE TABLE {s}.person (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY,
    created_at timestamptz NOT NULL DEFAULT now(), tags text[] NOT NULL DEFAULT '{{}}',
    lists text[] NOT NULL DEFAULT '{{}}', level text);
CREATE TABLE {s}.house (id bigint PRIMARY KEY, created_at timestamptz NOT NULL DEFAULT now());
INSERT INTO {s}.house (id) VALUES (1);
CREATE TABLE {s}.level_values (id bigint PRIMARY KEY, created_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE {s}.order_values (id bigint PRIMARY KEY, created_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE {s}.link (link_id integer NOT NULL, record_id bigint NOT NULL, target_id bigint NOT NULL,
    PRIMARY KEY (link_id, record_id, target_id));
CREATE INDEX link_target ON {s}.link (link_id, target_id);
CREATE TABLE {s}.state (slot integer PRIMARY KEY, version bigint NOT NULL DEFAULT 0);
INSERT INTO {s}.state SELECT generate_series(0, 15);
"""


def create_workspace_schema(session: Session, workspace_id: int) -> None:
    """The schema and the tables of a new workspace, without any field yet."""
    for statement in _SCHEMA.format(s=schema_name(workspace_id)).split(";\n"):
        if statement.strip():
            session.execute(text(statement))


def create_record_table(session: Session, workspace_id: int, record_type_id: int) -> None:
    """The table of a record type, without any field yet."""
    name = f"{schema_name(workspace_id)}.{table_name(record_about(record_type_id))}"
    session.execute(
        text(
            f"CREATE TABLE {name} (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, "
            "created_at timestamptz NOT NULL DEFAULT now(), archived_at timestamptz)"
        )
    )


def add_column(session: Session, workspace_id: int, field: Field) -> None:
    """The column for a field. Waits half a second at most, so that nothing queues behind it for long.

    Raises Unavailable, through the transaction, where the table is in use that long.
    """
    session.execute(text("SET LOCAL lock_timeout = '500ms'"))
    sql_type = SQL_TYPES[field.type.kind].compile(dialect=session.get_bind().dialect)
    table = f"{schema_name(workspace_id)}.{table_name(field.about)}"
    session.execute(text(f"ALTER TABLE {table} ADD COLUMN {field.column} {sql_type}"))


def drop_columns(session: Session, workspace_id: int, field: Field) -> None:
    """The end of a deleted field: all the columns it has had."""
    session.execute(text("SET LOCAL lock_timeout = '500ms'"))
    table = f"{schema_name(workspace_id)}.{table_name(field.about)}"
    for generation in range(field.generation + 1):
        column = replace(field, generation=generation).column
        session.execute(text(f"ALTER TABLE {table} DROP COLUMN IF EXISTS {column}"))


def unique_column(session: Session, workspace_id: int, field: Field) -> None:
    """No two may have the same value in this field, case apart. Raises Conflict where two have it already."""
    schema, name = schema_name(workspace_id), table_name(field.about)
    value = f"finesieve.fold({field.column})" if field.type.kind == "text" else field.column
    session.execute(text(f"CREATE UNIQUE INDEX {name}_{field.column} ON {schema}.{name} ({value})"))


def not_unique_column(session: Session, workspace_id: int, field: Field) -> None:
    """Several may have the same value again."""
    schema, name = schema_name(workspace_id), table_name(field.about)
    session.execute(text(f"DROP INDEX IF EXISTS {schema}.{name}_{field.column}"))
