"""the state that the values of each workspace are in, by which counts are kept; and what searching wants"""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def _schemas() -> list[str]:
    return [f"w_{row[0]}" for row in op.get_bind().execute(sa.text("SELECT id FROM workspace ORDER BY id")).all()]


def upgrade() -> None:
    op.execute("CREATE EXTENSION IF NOT EXISTS pg_trgm WITH SCHEMA finesieve")
    for schema in _schemas():
        op.execute(f"CREATE TABLE {schema}.state (slot integer PRIMARY KEY, version bigint NOT NULL DEFAULT 0)")
        op.execute(f"INSERT INTO {schema}.state SELECT generate_series(0, 15)")


def downgrade() -> None:
    for schema in _schemas():
        op.execute(f"DROP TABLE {schema}.state")
    # Its indexes go with it; the worker makes them again.
    op.execute("DROP EXTENSION pg_trgm CASCADE")
