"""how long a level is held"""

from alembic import op

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE level ADD COLUMN lasts jsonb")


def downgrade() -> None:
    op.execute("ALTER TABLE level DROP COLUMN lasts")
