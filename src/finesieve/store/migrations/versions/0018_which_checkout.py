"""which checkout the shop uses, where there are several"""

from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE shop ADD COLUMN checkout integer NOT NULL DEFAULT 0")


def downgrade() -> None:
    op.execute("ALTER TABLE shop DROP COLUMN checkout")
