"""derived fields whose values are kept"""

from alembic import op

revision = "0031"
down_revision = "0030"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        """
        CREATE TABLE kept_field (
            field_id integer PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
            state varchar NOT NULL, meaning varchar NOT NULL, generation integer NOT NULL, built_to bigint NOT NULL,
            people integer NOT NULL, seconds double precision NOT NULL, built_at timestamptz, task_id integer NOT NULL,
            checked integer NOT NULL, differed integer NOT NULL, checked_at timestamptz);
        CREATE INDEX ix_kept_field_workspace_id ON kept_field (workspace_id);
        """
    )
    op.execute("ALTER TABLE kept_field ENABLE ROW LEVEL SECURITY")
    op.execute("ALTER TABLE kept_field FORCE ROW LEVEL SECURITY")
    op.execute(
        "CREATE POLICY of_workspace ON kept_field "
        "USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer)"
    )


def downgrade() -> None:
    op.execute("DROP TABLE kept_field")
