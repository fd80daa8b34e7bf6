"""orders are sorted by their total"""

from alembic import op

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("CREATE INDEX ix_shop_order_total ON shop_order (workspace_id, total, id)")


def downgrade() -> None:
    op.execute("DROP INDEX ix_shop_order_total")
