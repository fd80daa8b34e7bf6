"""leave to set house values is seen by the workspace that it is given to, too"""

from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "CREATE POLICY given_to ON house_grant FOR SELECT USING (from_slug = (SELECT slug FROM workspace "
        "WHERE id = nullif(current_setting('finesieve.workspace', true), '')::integer))"
    )


def downgrade() -> None:
    op.execute("DROP POLICY given_to ON house_grant")
