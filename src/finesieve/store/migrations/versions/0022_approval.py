"""who waits for approval, and what they are told"""

from alembic import op

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        """
        CREATE TABLE approval (
            id serial PRIMARY KEY, workspace_id integer NOT NULL UNIQUE REFERENCES workspace ON DELETE CASCADE,
            waits_when varchar NOT NULL, texts jsonb NOT NULL, tell varchar NOT NULL);
        ALTER TABLE approval ENABLE ROW LEVEL SECURITY;
        ALTER TABLE approval FORCE ROW LEVEL SECURITY;
        CREATE POLICY of_workspace ON approval
            USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer);
        """
    )


def downgrade() -> None:
    op.execute("DROP TABLE approval")
