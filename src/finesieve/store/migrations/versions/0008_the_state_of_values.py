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
    op.execute("CREATE INDEX ix_submission_arrived ON submission (workspace_id, received_at, id)")
    op.execute("CREATE INDEX ix_submission_held ON submission (workspace_id, received_at) WHERE state = 'held'")
    op.execute("DROP INDEX ix_submission_received_at")
    for schema in _schemas():
        op.execute(f"CREATE TABLE {schema}.state (slot integer PRIMARY KEY, version bigint NOT NULL DEFAULT 0)")
        op.execute(f"INSERT INTO {schema}.state SELECT generate_series(0, 15)")


def downgrade() -> None:
    op.execute("CREATE INDEX ix_submission_received_at ON submission (received_at)")
    op.execute("DROP INDEX ix_submission_held")
    op.execute("DROP INDEX ix_submission_arrived")
    for schema in _schemas():
        op.execute(f"DROP TABLE {schema}.state")
    # Its indexes go with it; the worker makes them again.
    op.execute("DROP EXTENSION pg_trgm CASCADE")
