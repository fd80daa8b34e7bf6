"""who may set house values by a form, of those who fill it in"""

from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("ALTER TABLE house_mapping ADD COLUMN who varchar NOT NULL DEFAULT 'anyone'")


def downgrade() -> None:
    # Nobody is to set by it what only some were to set.
    op.execute("UPDATE house_mapping SET allowed = false WHERE who <> 'anyone'")
    op.execute("ALTER TABLE house_mapping DROP COLUMN who")
