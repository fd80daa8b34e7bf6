"""chat scripts, and the conversations held by them"""

from alembic import op

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None

_NAMES = ("chat_script", "chat_script_version", "chat_case", "conversation", "conversation_line")


def upgrade() -> None:
    op.execute(
        """
        CREATE TABLE chat_script (
            id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
            slug varchar NOT NULL, draft jsonb NOT NULL, published integer NOT NULL, revision integer NOT NULL,
            UNIQUE (workspace_id, slug));
        CREATE INDEX ix_chat_script_workspace_id ON chat_script (workspace_id);
        CREATE TABLE chat_script_version (
            script_id integer NOT NULL REFERENCES chat_script ON DELETE CASCADE, number integer NOT NULL,
            workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE, document jsonb NOT NULL,
            at timestamptz NOT NULL, actor varchar NOT NULL, PRIMARY KEY (script_id, number));
        CREATE INDEX ix_chat_script_version_workspace_id ON chat_script_version (workspace_id);
        CREATE TABLE chat_case (
            id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
            script_id integer NOT NULL REFERENCES chat_script ON DELETE CASCADE, name varchar NOT NULL,
            replies jsonb NOT NULL, person jsonb, expected jsonb NOT NULL);
        CREATE INDEX ix_chat_case_workspace_id ON chat_case (workspace_id);
        CREATE INDEX ix_chat_case_script_id ON chat_case (script_id);
        CREATE TABLE conversation (
            id bigserial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
            script_id integer NOT NULL, token_hash varchar NOT NULL, person_id bigint NOT NULL,
            confirmed boolean NOT NULL, channel varchar NOT NULL, address varchar NOT NULL, mode varchar NOT NULL,
            state jsonb NOT NULL, note varchar NOT NULL, clerk varchar NOT NULL, begun_at timestamptz NOT NULL,
            last_at timestamptz NOT NULL, waits_since timestamptz, due_at timestamptz);
        CREATE UNIQUE INDEX ux_conversation ON conversation (workspace_id, token_hash);
        CREATE INDEX ix_conversation_script ON conversation (workspace_id, script_id, last_at);
        CREATE INDEX ix_conversation_person ON conversation (workspace_id, person_id, id);
        CREATE INDEX ix_conversation_address ON conversation (workspace_id, address, id) WHERE address <> '';
        CREATE INDEX ix_conversation_desk ON conversation (workspace_id, waits_since) WHERE mode = 'clerk';
        CREATE INDEX ix_conversation_due ON conversation (due_at) WHERE due_at IS NOT NULL;
        CREATE TABLE conversation_line (
            id bigserial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
            conversation_id bigint NOT NULL REFERENCES conversation ON DELETE CASCADE, speaker varchar NOT NULL,
            kind varchar NOT NULL, text varchar NOT NULL, more jsonb NOT NULL, at timestamptz NOT NULL);
        CREATE INDEX ix_conversation_line_of ON conversation_line (conversation_id, id);
        CREATE INDEX ix_conversation_line_workspace ON conversation_line (workspace_id);
        ALTER TABLE decision ALTER COLUMN form_id DROP NOT NULL;
        ALTER TABLE personal_link ALTER COLUMN form_id DROP NOT NULL;
        ALTER TABLE personal_link ADD COLUMN script_id integer REFERENCES chat_script ON DELETE CASCADE;
        ALTER TABLE issued_link ADD COLUMN script_id integer NOT NULL DEFAULT 0;
        """
    )
    for name in _NAMES:
        op.execute(f"ALTER TABLE {name} ENABLE ROW LEVEL SECURITY")
        op.execute(f"ALTER TABLE {name} FORCE ROW LEVEL SECURITY")
        op.execute(
            f"CREATE POLICY of_workspace ON {name} "
            "USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer)"
        )


def downgrade() -> None:
    op.execute("ALTER TABLE issued_link DROP COLUMN script_id; ALTER TABLE personal_link DROP COLUMN script_id")
    for name in reversed(_NAMES):
        op.execute(f"DROP TABLE {name}")
