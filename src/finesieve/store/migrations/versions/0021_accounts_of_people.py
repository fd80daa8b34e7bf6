"""people sign in: accounts, sessions, links"""

from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None

_TABLES = """
CREATE TABLE member_account (
    id bigserial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    person_id bigint NOT NULL, password_hash varchar NOT NULL, last_in timestamptz, at timestamptz NOT NULL);
CREATE UNIQUE INDEX ux_member_account ON member_account (workspace_id, person_id);
CREATE TABLE member_session (
    id bigserial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    person_id bigint NOT NULL, token_hash varchar NOT NULL, browser varchar NOT NULL, begun_at timestamptz NOT NULL,
    seen_at timestamptz NOT NULL, ends_at timestamptz NOT NULL);
CREATE UNIQUE INDEX ux_member_session ON member_session (workspace_id, token_hash);
CREATE INDEX ix_member_session_person ON member_session (workspace_id, person_id);
CREATE TABLE member_link (
    id bigserial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    person_id bigint NOT NULL, token_hash varchar NOT NULL, ends_at timestamptz NOT NULL, used_at timestamptz);
CREATE UNIQUE INDEX ux_member_link ON member_link (workspace_id, token_hash);
CREATE INDEX ix_member_link_person ON member_link (workspace_id, person_id);
"""
_NAMES = ("member_account", "member_session", "member_link")


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
