"""pages for members"""

from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None

_NAMES = ("member_page", "member_page_version")


def upgrade() -> None:
    op.execute(
        """
        CREATE TABLE member_page (
            id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
            slug varchar NOT NULL, draft jsonb NOT NULL, published integer NOT NULL, revision integer NOT NULL,
            UNIQUE (workspace_id, slug));
        CREATE INDEX ix_member_page_workspace_id ON member_page (workspace_id);
        CREATE TABLE member_page_version (
            page_id integer NOT NULL REFERENCES member_page ON DELETE CASCADE, number integer NOT NULL,
            workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE, document jsonb NOT NULL,
            at timestamptz NOT NULL, actor varchar NOT NULL, PRIMARY KEY (page_id, number));
        CREATE INDEX ix_member_page_version_workspace_id ON member_page_version (workspace_id);
        """
    )
    for name in _NAMES:
        op.execute(f"ALTER TABLE {name} ENABLE ROW LEVEL SECURITY")
        op.execute(f"ALTER TABLE {name} FORCE ROW LEVEL SECURITY")
        op.execute(
            f"CREATE POLICY of_workspace ON {name} "
            "USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer)"
        )


def downgrade() -> None:
    for name in reversed(_NAMES):
        op.execute(f"DROP TABLE {name}")
