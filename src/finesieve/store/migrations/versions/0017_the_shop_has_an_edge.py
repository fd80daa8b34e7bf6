"""what belongs to a shop is kept apart from what is kept of a checkout"""

from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "CREATE TABLE checkout (id bigserial PRIMARY KEY, "
        "workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE, cart varchar NOT NULL, "
        "delivery varchar NOT NULL, payment varchar NOT NULL, answers jsonb NOT NULL, order_id bigint NOT NULL, "
        "ordered jsonb NOT NULL, changed_at timestamptz NOT NULL)"
    )
    op.execute("CREATE UNIQUE INDEX ux_checkout ON checkout (workspace_id, cart)")
    op.execute("CREATE INDEX ix_checkout_changed ON checkout (workspace_id, changed_at)")
    # Whoever migrates owns the tables, and is held to the rows of a workspace all the same.
    op.execute("ALTER TABLE cart NO FORCE ROW LEVEL SECURITY")
    op.execute(
        "INSERT INTO checkout (workspace_id, cart, delivery, payment, answers, order_id, ordered, changed_at) "
        "SELECT workspace_id, key, delivery, payment, answers, order_id, "
        "CASE WHEN order_id = 0 THEN '[]'::jsonb ELSE lines END, changed_at FROM cart"
    )
    op.execute("ALTER TABLE cart FORCE ROW LEVEL SECURITY")
    op.execute("ALTER TABLE cart DROP COLUMN delivery, DROP COLUMN payment, DROP COLUMN answers, DROP COLUMN order_id")
    op.execute("ALTER TABLE checkout ENABLE ROW LEVEL SECURITY")
    op.execute("ALTER TABLE checkout FORCE ROW LEVEL SECURITY")
    op.execute(
        "CREATE POLICY of_workspace ON checkout "
        "USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer)"
    )
    op.execute("ALTER TABLE payment ADD COLUMN refunds jsonb NOT NULL DEFAULT '{}'")


def downgrade() -> None:
    op.execute("ALTER TABLE payment DROP COLUMN refunds")
    op.execute(
        "ALTER TABLE cart ADD COLUMN delivery varchar NOT NULL DEFAULT '', ADD COLUMN payment varchar NOT NULL DEFAULT '', "
        "ADD COLUMN answers jsonb NOT NULL DEFAULT '{}', ADD COLUMN order_id bigint NOT NULL DEFAULT 0"
    )
    op.execute("DROP TABLE checkout")
