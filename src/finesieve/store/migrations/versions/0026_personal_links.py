"""personal links, and those that were sent"""

from alembic import op

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None

_NAMES = ("personal_link", "issued_link")


def upgrade() -> None:
    op.execute(
        """
        CREATE TABLE personal_link (
            id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
            key varchar NOT NULL, name varchar NOT NULL, form_id integer NOT NULL REFERENCES form ON DELETE CASCADE,
            only_missing boolean NOT NULL, days integer NOT NULL, once boolean NOT NULL, UNIQUE (workspace_id, key));
        CREATE INDEX ix_personal_link_workspace_id ON personal_link (workspace_id);
        CREATE TABLE issued_link (
            id bigserial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
            link_id integer NOT NULL, form_id integer NOT NULL, person_id bigint NOT NULL, token_hash varchar NOT NULL,
            only_missing boolean NOT NULL, once boolean NOT NULL, at timestamptz NOT NULL, ends_at timestamptz NOT NULL,
            used integer NOT NULL, used_at timestamptz, revoked_at timestamptz);
        CREATE UNIQUE INDEX ux_issued_link ON issued_link (workspace_id, token_hash);
        CREATE INDEX ix_issued_link_person ON issued_link (workspace_id, person_id, id);
        CREATE INDEX ix_issued_link_of ON issued_link (workspace_id, link_id);
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
    for name in reversed(_NAMES):
        op.execute(f"DROP TABLE {name}")
