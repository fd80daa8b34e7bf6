"""what a field can be about, all its settings, records, lists, levels, tags, house values, tasks, files"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

_TABLES = """
CREATE TABLE record_type (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    key varchar NOT NULL, singular varchar NOT NULL, plural varchar NOT NULL, symbol varchar NOT NULL, description varchar NOT NULL,
    title_field integer NOT NULL, position integer NOT NULL, archived boolean NOT NULL, created_at timestamptz NOT NULL,
    UNIQUE (workspace_id, key));
CREATE TABLE record_link (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    record_type_id integer NOT NULL REFERENCES record_type, name varchar NOT NULL, target varchar NOT NULL,
    many boolean NOT NULL, back_name varchar NOT NULL, back_key varchar NOT NULL, position integer NOT NULL,
    UNIQUE (workspace_id, target, back_key));
CREATE INDEX ix_record_link_record_type_id ON record_link (record_type_id);
CREATE TABLE option_list (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name varchar NOT NULL, options jsonb NOT NULL, UNIQUE (workspace_id, name));
CREATE TABLE audience_list (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    key varchar NOT NULL, name varchar NOT NULL, description varchar NOT NULL, UNIQUE (workspace_id, key));
CREATE TABLE level (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    key varchar NOT NULL, name varchar NOT NULL, description varchar NOT NULL, position integer NOT NULL,
    UNIQUE (workspace_id, key));
CREATE TABLE tag (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name varchar NOT NULL, ends_on date, UNIQUE (workspace_id, name));
CREATE TABLE house_schedule (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    field_id integer NOT NULL, value jsonb, effective_at timestamptz NOT NULL, applied boolean NOT NULL,
    actor varchar NOT NULL);
CREATE TABLE house_grant (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    from_slug varchar NOT NULL, keys jsonb NOT NULL, UNIQUE (workspace_id, from_slug));
CREATE TABLE house_mapping (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    form_id integer NOT NULL, target_slug varchar NOT NULL, pairs jsonb NOT NULL,
    UNIQUE (workspace_id, form_id, target_slug));
CREATE TABLE task (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    kind varchar NOT NULL, title varchar NOT NULL, state varchar NOT NULL, done integer NOT NULL,
    total integer NOT NULL, message varchar NOT NULL, payload jsonb NOT NULL, result jsonb NOT NULL,
    actor varchar NOT NULL, started_at timestamptz NOT NULL);
CREATE TABLE upload (
    token varchar PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    digest varchar NOT NULL, name varchar NOT NULL, media_type varchar NOT NULL, size integer NOT NULL,
    width integer NOT NULL, height integer NOT NULL, at timestamptz NOT NULL);
"""
_NEW = (
    "record_type",
    "record_link",
    "option_list",
    "audience_list",
    "level",
    "tag",
    "house_schedule",
    "house_grant",
    "house_mapping",
    "task",
    "upload",
)
# What `store.catalogue.create_workspace_schema` makes for a new workspace.
_SCHEMA = """
ALTER TABLE {s}.person ADD COLUMN tags text[] NOT NULL DEFAULT '{{}}', ADD COLUMN lists text[] NOT NULL DEFAULT '{{}}',
    ADD COLUMN level text;
CREATE TABLE {s}.house (id bigint PRIMARY KEY, created_at timestamptz NOT NULL DEFAULT now());
INSERT INTO {s}.house (id) VALUES (1);
CREATE TABLE {s}.level_values (id bigint PRIMARY KEY, created_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE {s}.order_values (id bigint PRIMARY KEY, created_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE {s}.link (link_id integer NOT NULL, record_id bigint NOT NULL, target_id bigint NOT NULL,
    PRIMARY KEY (link_id, record_id, target_id));
CREATE INDEX link_target ON {s}.link (link_id, target_id);
"""


def upgrade() -> None:
    op.execute(_TABLES)
    for table in _NEW:
        op.execute(f"CREATE INDEX ix_{table}_workspace_id ON {table} (workspace_id)")
        op.execute(f"ALTER TABLE {table} ENABLE ROW LEVEL SECURITY")
        op.execute(f"ALTER TABLE {table} FORCE ROW LEVEL SECURITY")
        op.execute(
            f"CREATE POLICY of_workspace ON {table} "
            "USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer)"
        )
    for name, value in (("language", "en_GB"), ("currency", "GBP"), ("country", "GB")):
        _add("workspace", sa.Column(name, sa.String(), nullable=False, server_default=value))
    for table in ("field_group", "field"):
        _add(table, sa.Column("about", sa.String(), nullable=False, server_default="person"))
        _add(table, sa.Column("settings", JSONB(), nullable=False, server_default="{}"))
    _add("field", sa.Column("generation", sa.Integer(), nullable=False, server_default="0"))
    _add("field", sa.Column("generation_since", sa.BigInteger(), nullable=False, server_default="0"))
    _add("field", sa.Column("deleted_by", sa.String(), nullable=False, server_default=""))
    op.add_column("field", sa.Column("deleted_at", sa.DateTime(timezone=True), nullable=True))
    op.drop_constraint("field_workspace_id_key_key", "field")
    op.create_unique_constraint("field_workspace_id_about_key_key", "field", ["workspace_id", "about", "key"])
    op.drop_index("ix_history_person", "history")
    op.alter_column("history", "person_id", new_column_name="entity_id")
    _add("history", sa.Column("about", sa.String(), nullable=False, server_default="person"))
    op.create_index("ix_history_entity", "history", ["workspace_id", "about", "entity_id", "field_id", "id"])
    op.create_index("ix_history_field", "history", ["workspace_id", "field_id", "at"])
    for (workspace_id,) in op.get_bind().execute(sa.text("SELECT id FROM workspace")).all():
        op.execute(f"SELECT set_config('finesieve.workspace', '{workspace_id}', true)")
        # Options were pairs of label and value; now each says by name what it holds.
        op.execute(
            "UPDATE field SET options = (SELECT jsonb_agg(jsonb_build_object('label', pair->0, 'value', pair->1)) "
            "FROM jsonb_array_elements(options) pair) WHERE jsonb_array_length(options) > 0"
        )
        op.execute(_SCHEMA.format(s=f"w_{workspace_id}"))


def _add(table: str, column: sa.Column) -> None:
    """A column that the rows there are need a value for; later ones bring their own."""
    op.add_column(table, column)
    op.alter_column(table, column.name, server_default=None)


def downgrade() -> None:
    for (workspace_id,) in op.get_bind().execute(sa.text("SELECT id FROM workspace")).all():
        schema = f"w_{workspace_id}"
        op.execute(f"SELECT set_config('finesieve.workspace', '{workspace_id}', true)")
        op.execute(
            "UPDATE field SET options = (SELECT jsonb_agg(jsonb_build_array(item->'label', item->'value')) "
            "FROM jsonb_array_elements(options) item) WHERE jsonb_array_length(options) > 0"
        )
        op.execute("DELETE FROM field WHERE about <> 'person'")
        op.execute("DELETE FROM field_group WHERE about <> 'person'")
        op.execute("DELETE FROM history WHERE about <> 'person'")
        for table in ("house", "level_values", "order_values", "link"):
            op.execute(f"DROP TABLE {schema}.{table}")
        for (record_type,) in op.get_bind().execute(sa.text("SELECT id FROM record_type")).all():
            op.execute(f"DROP TABLE {schema}.record_{record_type}")
        op.execute(f"ALTER TABLE {schema}.person DROP COLUMN tags, DROP COLUMN lists, DROP COLUMN level")
    op.drop_index("ix_history_field", "history")
    op.drop_index("ix_history_entity", "history")
    op.drop_column("history", "about")
    op.alter_column("history", "entity_id", new_column_name="person_id")
    op.create_index("ix_history_person", "history", ["workspace_id", "person_id", "field_id", "id"])
    op.drop_constraint("field_workspace_id_about_key_key", "field")
    op.create_unique_constraint("field_workspace_id_key_key", "field", ["workspace_id", "key"])
    for column in ("about", "settings", "generation", "generation_since", "deleted_at", "deleted_by"):
        op.drop_column("field", column)
    for column in ("about", "settings"):
        op.drop_column("field_group", column)
    for column in ("language", "currency", "country"):
        op.drop_column("workspace", column)
    for table in reversed(_NEW):
        op.drop_table(table)
