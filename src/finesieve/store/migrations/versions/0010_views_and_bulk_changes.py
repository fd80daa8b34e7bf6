"""the list of people is kept in views, and what was changed for many at once can be taken back"""

from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None

_TABLES = """
CREATE TABLE people_view (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name varchar NOT NULL, state jsonb NOT NULL, position integer NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now());
CREATE INDEX ix_people_view_workspace_id ON people_view (workspace_id);
CREATE TABLE bulk_change (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    what jsonb NOT NULL, applied boolean NOT NULL, at timestamptz NOT NULL);
CREATE INDEX ix_bulk_change_workspace_id ON bulk_change (workspace_id);
"""
_WALL = """
ALTER TABLE {table} ENABLE ROW LEVEL SECURITY;
ALTER TABLE {table} FORCE ROW LEVEL SECURITY;
CREATE POLICY of_workspace ON {table}
    USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer);
"""


def upgrade() -> None:
    op.execute(_TABLES)
    for table in ("people_view", "bulk_change"):
        op.execute(_WALL.format(table=table))


def downgrade() -> None:
    op.execute("DROP TABLE bulk_change; DROP TABLE people_view")
