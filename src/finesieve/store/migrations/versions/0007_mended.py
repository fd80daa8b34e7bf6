"""the language's `replace`; uploads know what they were sent for, and which values name a file is found at once"""

from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None

# So many pieces fill the 10,000 characters; a text made longer than that would only be cut off again.
_REPLACED = """
CREATE FUNCTION finesieve.replaced(value text, old text, new text) RETURNS text
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN value IS NOT NULL AND old IS NOT NULL THEN NULLIF(left(array_to_string(
    (string_to_array(value, old))[1:10000 / greatest(char_length(coalesce(new, '')), 1) + 2],
    coalesce(new, '')), 10000), '') END;
"""


def upgrade() -> None:
    op.execute(_REPLACED)
    op.execute("ALTER TABLE upload ADD COLUMN field_id integer NOT NULL DEFAULT 0")
    op.execute("ALTER TABLE upload ADD COLUMN form_id integer NOT NULL DEFAULT 0")
    op.execute("CREATE INDEX ix_history_digest ON history ((new ->> 'digest')) WHERE new ? 'digest'")


def downgrade() -> None:
    op.execute("DROP INDEX ix_history_digest")
    op.execute("ALTER TABLE upload DROP COLUMN form_id, DROP COLUMN field_id")
    op.execute("DROP FUNCTION finesieve.replaced")
