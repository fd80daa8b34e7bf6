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


_EMAIL_CHANGE = """
CREATE TABLE email_change (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    form_id integer NOT NULL REFERENCES form ON DELETE CASCADE, person_id bigint NOT NULL, old varchar NOT NULL,
    new varchar NOT NULL, confirmed_old boolean NOT NULL, confirmed_new boolean NOT NULL, state varchar NOT NULL,
    at timestamptz NOT NULL);
CREATE INDEX ix_email_change_workspace_id ON email_change (workspace_id);
CREATE INDEX ix_email_change_person_id ON email_change (person_id);
ALTER TABLE email_change ENABLE ROW LEVEL SECURITY;
ALTER TABLE email_change FORCE ROW LEVEL SECURITY;
CREATE POLICY of_workspace ON email_change
    USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer);
"""


def upgrade() -> None:
    op.execute(_REPLACED)
    op.execute(_EMAIL_CHANGE)
    op.execute("ALTER TABLE workspace ADD COLUMN description varchar NOT NULL DEFAULT ''")
    op.execute("ALTER TABLE submission ADD COLUMN charges jsonb NOT NULL DEFAULT '[]'")
    op.execute("ALTER TABLE submission ALTER COLUMN charges DROP DEFAULT")
    op.execute("ALTER TABLE house_mapping ADD COLUMN allowed boolean NOT NULL DEFAULT false")
    op.execute("ALTER TABLE house_mapping ALTER COLUMN allowed DROP DEFAULT")
    op.execute(
        "CREATE TABLE sign_in_try (who varchar PRIMARY KEY, times integer NOT NULL, since timestamptz NOT NULL, "
        "last timestamptz NOT NULL)"
    )
    op.execute("CREATE INDEX ix_sign_in_try_last ON sign_in_try (last)")
    op.execute("ALTER TABLE upload ADD COLUMN field_id integer NOT NULL DEFAULT 0")
    op.execute("ALTER TABLE upload ADD COLUMN form_id integer NOT NULL DEFAULT 0")
    op.execute("CREATE INDEX ix_history_digest ON history ((new ->> 'digest')) WHERE new ? 'digest'")


def downgrade() -> None:
    op.execute("ALTER TABLE workspace DROP COLUMN description")
    op.execute("ALTER TABLE submission DROP COLUMN charges")
    op.execute("ALTER TABLE house_mapping DROP COLUMN allowed")
    op.execute("DROP TABLE email_change")
    op.execute("DROP TABLE sign_in_try")
    op.execute("DROP INDEX ix_history_digest")
    op.execute("ALTER TABLE upload DROP COLUMN form_id, DROP COLUMN field_id")
    op.execute("DROP FUNCTION finesieve.replaced")
