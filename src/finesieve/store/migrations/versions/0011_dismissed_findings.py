"""a finding that is known and meant so is dismissed with its reason"""

from alembic import op

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None

_TABLE = """
CREATE TABLE dismissed_finding (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    code varchar NOT NULL, field_id integer NOT NULL, place varchar NOT NULL, message varchar NOT NULL,
    reason varchar NOT NULL, actor varchar NOT NULL, at timestamptz NOT NULL);
CREATE UNIQUE INDEX ux_dismissed_finding ON dismissed_finding (workspace_id, code, field_id, place);
ALTER TABLE dismissed_finding ENABLE ROW LEVEL SECURITY;
ALTER TABLE dismissed_finding FORCE ROW LEVEL SECURITY;
CREATE POLICY of_workspace ON dismissed_finding
    USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer);
"""


def upgrade() -> None:
    op.execute(_TABLE)


def downgrade() -> None:
    op.execute("DROP TABLE dismissed_finding")
