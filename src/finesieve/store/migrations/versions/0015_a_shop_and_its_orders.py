"""a shop, carts, orders and payments"""

from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None

_TABLES = """
CREATE TABLE shop (
    id serial PRIMARY KEY, workspace_id integer NOT NULL UNIQUE REFERENCES workspace ON DELETE CASCADE,
    document jsonb NOT NULL);
CREATE TABLE cart (
    id bigserial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    key varchar NOT NULL, lines jsonb NOT NULL, delivery varchar NOT NULL, payment varchar NOT NULL,
    order_id bigint NOT NULL, changed_at timestamptz NOT NULL);
CREATE UNIQUE INDEX ux_cart ON cart (workspace_id, key);
CREATE INDEX ix_cart_changed ON cart (workspace_id, changed_at);
CREATE TABLE shop_order (
    id bigserial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    number integer NOT NULL, key varchar NOT NULL, form_id integer NOT NULL, submission_id integer,
    person_id bigint NOT NULL, email varchar NOT NULL, state varchar NOT NULL, bill jsonb NOT NULL,
    returned jsonb NOT NULL, total bigint NOT NULL, placed_at timestamptz NOT NULL);
CREATE UNIQUE INDEX ux_shop_order_number ON shop_order (workspace_id, number);
CREATE UNIQUE INDEX ux_shop_order_key ON shop_order (workspace_id, form_id, key);
CREATE INDEX ix_shop_order_person ON shop_order (workspace_id, person_id, id);
CREATE TABLE payment (
    id bigserial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    key varchar NOT NULL, amount bigint NOT NULL, returned bigint NOT NULL, state varchar NOT NULL,
    at timestamptz NOT NULL);
CREATE UNIQUE INDEX ux_payment ON payment (workspace_id, key);
"""
_NAMES = ("shop", "cart", "shop_order", "payment")


def upgrade() -> None:
    op.execute(_TABLES)
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
