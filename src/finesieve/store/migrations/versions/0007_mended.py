"""the language's `replace`"""

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


def downgrade() -> None:
    op.execute("DROP FUNCTION finesieve.replaced")
