"""segments have a key by which conditions name them, stand in folders, and know who made them"""

from alembic import op

revision = "0029"
down_revision = "0028"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        """
        ALTER TABLE segment ADD COLUMN key varchar NOT NULL DEFAULT '';
        ALTER TABLE segment ADD COLUMN folder varchar NOT NULL DEFAULT '';
        ALTER TABLE segment ADD COLUMN owner varchar NOT NULL DEFAULT '';
        UPDATE segment SET key = coalesce(nullif(left(trim(both '_' from
            regexp_replace(lower(name), '[^a-z0-9]+', '_', 'g')), 50), ''), 'segment');
        UPDATE segment SET key = 's_' || key WHERE key !~ '^[a-z]';
        UPDATE segment SET key = key || '_' || id WHERE EXISTS (
            SELECT FROM segment AS other WHERE other.workspace_id = segment.workspace_id AND other.key = segment.key
            AND other.id < segment.id);
        CREATE UNIQUE INDEX ux_segment_key ON segment (workspace_id, key);
        """
    )


def downgrade() -> None:
    op.execute("DROP INDEX ux_segment_key")
    for name in ("key", "folder", "owner"):
        op.execute(f"ALTER TABLE segment DROP COLUMN {name}")
