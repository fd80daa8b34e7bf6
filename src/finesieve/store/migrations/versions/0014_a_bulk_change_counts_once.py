"""a bulk change counts once, and knows how many changed and what undoes it"""

from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None

# A default of its own for each row that is there; where the columns are there already, all is as it should be.
_UP = """
ALTER TABLE bulk_change
    ADD COLUMN IF NOT EXISTS once varchar NOT NULL DEFAULT gen_random_uuid()::text,
    ADD COLUMN IF NOT EXISTS people integer NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS change_id integer NOT NULL DEFAULT 0,
    ADD COLUMN IF NOT EXISTS task_id integer NOT NULL DEFAULT 0;
ALTER TABLE bulk_change ALTER COLUMN once DROP DEFAULT, ALTER COLUMN people DROP DEFAULT,
    ALTER COLUMN change_id DROP DEFAULT, ALTER COLUMN task_id DROP DEFAULT;
CREATE UNIQUE INDEX IF NOT EXISTS ux_bulk_change_once ON bulk_change (workspace_id, once);
DROP INDEX IF EXISTS ix_bulk_change_workspace_id;
"""
_DOWN = """
CREATE INDEX ix_bulk_change_workspace_id ON bulk_change (workspace_id);
DROP INDEX ux_bulk_change_once;
ALTER TABLE bulk_change DROP COLUMN once, DROP COLUMN people, DROP COLUMN change_id, DROP COLUMN task_id;
"""


def upgrade() -> None:
    op.execute(_UP)


def downgrade() -> None:
    op.execute(_DOWN)
