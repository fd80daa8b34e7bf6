"""how many people a segment had, day by day"""

from alembic import op

revision = "0028"
down_revision = "0027"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        """
        CREATE TABLE segment_size (
            workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
            segment_id integer NOT NULL, day date NOT NULL, people integer NOT NULL, everyone integer NOT NULL,
            PRIMARY KEY (segment_id, day));
        CREATE INDEX ix_segment_size_workspace_id ON segment_size (workspace_id);
        """
    )
    op.execute("ALTER TABLE segment_size ENABLE ROW LEVEL SECURITY")
    op.execute("ALTER TABLE segment_size FORCE ROW LEVEL SECURITY")
    op.execute(
        "CREATE POLICY of_workspace ON segment_size "
        "USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer)"
    )


def downgrade() -> None:
    op.execute("DROP TABLE segment_size")
