"""named checks, cases of forms, the outbox, arrivals; records that a sent form adds"""

from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

_TABLES = """
CREATE TABLE named_check (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    name varchar NOT NULL, settings jsonb NOT NULL, UNIQUE (workspace_id, name));
CREATE TABLE form_case (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    form_id integer NOT NULL REFERENCES form ON DELETE CASCADE, name varchar NOT NULL, circumstances jsonb NOT NULL,
    answers jsonb NOT NULL, expected jsonb NOT NULL, UNIQUE (form_id, name));
CREATE INDEX ix_form_case_form_id ON form_case (form_id);
CREATE TABLE outbox (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    person_id bigint NOT NULL, kind varchar NOT NULL, recipient varchar NOT NULL, subject varchar NOT NULL,
    body varchar NOT NULL, link varchar NOT NULL, at timestamptz NOT NULL);
CREATE TABLE arrivals (
    workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE, who varchar NOT NULL,
    since timestamptz NOT NULL, times integer NOT NULL, PRIMARY KEY (workspace_id, who, since));
"""
_NEW = ("named_check", "form_case", "outbox", "arrivals")


def upgrade() -> None:
    op.execute(_TABLES)
    for table in _NEW:
        if table != "arrivals":
            op.execute(f"CREATE INDEX ix_{table}_workspace_id ON {table} (workspace_id)")
        op.execute(f"ALTER TABLE {table} ENABLE ROW LEVEL SECURITY")
        op.execute(f"ALTER TABLE {table} FORCE ROW LEVEL SECURITY")
        op.execute(
            f"CREATE POLICY of_workspace ON {table} "
            "USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer)"
        )
    op.execute("ALTER TABLE submission ADD COLUMN records jsonb NOT NULL DEFAULT '[]'")
    op.execute("ALTER TABLE submission ALTER COLUMN records DROP DEFAULT")


def downgrade() -> None:
    op.execute("ALTER TABLE submission DROP COLUMN records")
    for table in reversed(_NEW):
        op.execute(f"DROP TABLE {table}")
