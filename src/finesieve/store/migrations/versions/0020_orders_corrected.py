"""an order keeps the checkout as it was filled in, and what a correction has added"""

from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for table in ("shop_order", "submission"):
        op.execute(f"ALTER TABLE {table} NO FORCE ROW LEVEL SECURITY")
    op.execute(
        """
        ALTER TABLE shop_order ADD COLUMN filled jsonb NOT NULL DEFAULT '{}', ADD COLUMN due bigint NOT NULL DEFAULT 0,
            ADD COLUMN asked_again integer NOT NULL DEFAULT 0, ADD COLUMN revision integer NOT NULL DEFAULT 0;
        ALTER TABLE shop_order ALTER COLUMN filled DROP DEFAULT, ALTER COLUMN due DROP DEFAULT,
            ALTER COLUMN asked_again DROP DEFAULT, ALTER COLUMN revision DROP DEFAULT;
        CREATE INDEX ix_shop_order_due ON shop_order (workspace_id, id) WHERE due > 0;
        UPDATE shop_order SET filled = jsonb_build_object(
            'answers', sent.answers, 'records', sent.records, 'charges', sent.charges
        ) FROM submission AS sent WHERE sent.id = shop_order.submission_id;
        """
    )
    for table in ("shop_order", "submission"):
        op.execute(f"ALTER TABLE {table} FORCE ROW LEVEL SECURITY")


def downgrade() -> None:
    op.execute(
        """
        DROP INDEX ix_shop_order_due;
        ALTER TABLE shop_order DROP COLUMN filled, DROP COLUMN due, DROP COLUMN asked_again, DROP COLUMN revision;
        """
    )
