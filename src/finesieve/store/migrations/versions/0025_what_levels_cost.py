"""what levels cost, what an order is for, and which orders are held until somebody is approved"""

from alembic import op

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE level ADD COLUMN fee jsonb")
    op.execute("ALTER TABLE shop_order ADD COLUMN gives jsonb NOT NULL DEFAULT '{}'")
    op.execute("ALTER TABLE approval ADD COLUMN holds jsonb NOT NULL DEFAULT '[]'")


def downgrade() -> None:
    op.execute("ALTER TABLE approval DROP COLUMN holds")
    op.execute("ALTER TABLE shop_order DROP COLUMN gives")
    op.execute("ALTER TABLE level DROP COLUMN fee")
