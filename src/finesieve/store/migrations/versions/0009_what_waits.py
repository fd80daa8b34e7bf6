"""what waits for a decision is one table, whatever it is: answers with a known email, a new address"""

from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

_DECISION = """
CREATE TABLE decision (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    kind varchar NOT NULL, person_id bigint NOT NULL, form_id integer NOT NULL REFERENCES form ON DELETE CASCADE,
    submission_id integer REFERENCES submission ON DELETE CASCADE, asked jsonb NOT NULL, state varchar NOT NULL,
    at timestamptz NOT NULL, decided_by varchar NOT NULL, decided_at timestamptz);
CREATE INDEX ix_decision_workspace_id ON decision (workspace_id);
CREATE INDEX ix_decision_person ON decision (workspace_id, person_id);
CREATE INDEX ix_decision_submission ON decision (submission_id);
CREATE INDEX ix_decision_waiting ON decision (workspace_id, at) WHERE state = 'waiting';
INSERT INTO decision (workspace_id, kind, person_id, form_id, submission_id, asked, state, at, decided_by, decided_at)
    SELECT workspace_id, 'known_email', person_id, form_id, id, '{}',
        CASE state WHEN 'held' THEN 'waiting' WHEN 'applied' THEN 'applied' ELSE 'refused' END, received_at, '', NULL
    FROM submission WHERE state <> 'stored' ORDER BY id;
INSERT INTO decision (workspace_id, kind, person_id, form_id, submission_id, asked, state, at, decided_by, decided_at)
    SELECT workspace_id, 'new_address', person_id, form_id, NULL, jsonb_build_object('old', old, 'new', new, 'confirmed',
        CASE WHEN confirmed_old THEN '["old"]'::jsonb ELSE '[]' END || CASE WHEN confirmed_new THEN '["new"]'::jsonb ELSE '[]' END),
        CASE state WHEN 'done' THEN 'applied' ELSE state END, at, '', NULL
    FROM email_change ORDER BY id;
UPDATE submission SET state = 'held' WHERE state <> 'stored';
DROP TABLE email_change;
DROP INDEX ix_submission_held;
ALTER TABLE decision ENABLE ROW LEVEL SECURITY;
ALTER TABLE decision FORCE ROW LEVEL SECURITY;
CREATE POLICY of_workspace ON decision
    USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer);
"""

_BACK = """
CREATE TABLE email_change (
    id serial PRIMARY KEY, workspace_id integer NOT NULL REFERENCES workspace ON DELETE CASCADE,
    form_id integer NOT NULL REFERENCES form ON DELETE CASCADE, person_id bigint NOT NULL, old varchar NOT NULL,
    new varchar NOT NULL, confirmed_old boolean NOT NULL, confirmed_new boolean NOT NULL, state varchar NOT NULL,
    at timestamptz NOT NULL);
CREATE INDEX ix_email_change_workspace_id ON email_change (workspace_id);
CREATE INDEX ix_email_change_person_id ON email_change (person_id);
INSERT INTO email_change (workspace_id, form_id, person_id, old, new, confirmed_old, confirmed_new, state, at)
    SELECT workspace_id, form_id, person_id, asked ->> 'old', asked ->> 'new', asked -> 'confirmed' ? 'old',
        asked -> 'confirmed' ? 'new', CASE state WHEN 'applied' THEN 'done' ELSE state END, at
    FROM decision WHERE kind = 'new_address' ORDER BY id;
ALTER TABLE email_change ENABLE ROW LEVEL SECURITY;
ALTER TABLE email_change FORCE ROW LEVEL SECURITY;
CREATE POLICY of_workspace ON email_change
    USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer);
UPDATE submission SET state = CASE decision.state WHEN 'waiting' THEN 'held' WHEN 'applied' THEN 'applied' ELSE 'set_aside' END
    FROM decision WHERE decision.submission_id = submission.id;
CREATE INDEX ix_submission_held ON submission (workspace_id, received_at) WHERE state = 'held';
DROP TABLE decision;
"""


def _without_walls(tables: tuple[str, ...], statements: str) -> None:
    """The owner of a table sees the rows of every workspace for as long as it takes."""
    for table in tables:
        op.execute(f"ALTER TABLE {table} NO FORCE ROW LEVEL SECURITY")
    op.execute(statements)


def upgrade() -> None:
    _without_walls(("submission", "email_change"), _DECISION)
    op.execute("ALTER TABLE submission FORCE ROW LEVEL SECURITY")


def downgrade() -> None:
    _without_walls(("submission", "decision"), _BACK)
    op.execute("ALTER TABLE submission FORCE ROW LEVEL SECURITY")
