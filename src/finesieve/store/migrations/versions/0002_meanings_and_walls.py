"""functions that the language's SQL calls, and row-level security"""

from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None

_GUARDED = (
    "field_group",
    "field",
    "form",
    "form_version",
    "segment",
    "submission",
    "history",
    "definition_change",
)

# Functions rather than text: their arguments would otherwise be repeated, and a formula that
# nests them would grow with a power of its depth. The planner writes out those that are not
# STRICT where an argument stands once, so that they cost nothing.
_FUNCTIONS = """
CREATE SCHEMA finesieve;

CREATE FUNCTION finesieve.fold(value text) RETURNS text
LANGUAGE sql IMMUTABLE STRICT PARALLEL SAFE
RETURN replace(lower(value COLLATE "und-x-icu"), 'ς', 'σ');

CREATE FUNCTION finesieve.step(value numeric) RETURNS numeric
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN NULLIF(NULLIF(least(greatest(round(value, 10), -1e15), 1e15), 1e15), -1e15);

CREATE FUNCTION finesieve.date_plus(day date, days numeric) RETURNS date
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN days = trunc(days) AND abs(days) <= 365250 THEN
    NULLIF(NULLIF(
        least(greatest(day + least(greatest(days, -365250), 365250)::integer, date '0001-12-31 BC'), date '10000-01-01'),
        date '0001-12-31 BC'), date '10000-01-01')
END;

CREATE FUNCTION finesieve.months_forward(a date, b date) RETURNS integer
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN (12 * (extract(year FROM b) - extract(year FROM a)) + extract(month FROM b) - extract(month FROM a)
    - CASE WHEN extract(day FROM b) < extract(day FROM a) THEN 1 ELSE 0 END)::integer;

CREATE FUNCTION finesieve.years_between(a date, b date) RETURNS numeric
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN (CASE WHEN a <= b THEN finesieve.months_forward(a, b) / 12 ELSE -(finesieve.months_forward(b, a) / 12) END)::numeric;

CREATE FUNCTION finesieve.round_to(value numeric, places numeric) RETURNS numeric
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN places = trunc(places) AND places BETWEEN -15 AND 10
    THEN round(value, least(greatest(places, -15), 10)::integer)
END;
"""


def upgrade() -> None:
    op.execute(_FUNCTIONS)
    for table in _GUARDED:
        op.execute(f"ALTER TABLE {table} ENABLE ROW LEVEL SECURITY")
        op.execute(f"ALTER TABLE {table} FORCE ROW LEVEL SECURITY")
        op.execute(
            f"CREATE POLICY of_workspace ON {table} "
            "USING (workspace_id = nullif(current_setting('finesieve.workspace', true), '')::integer)"
        )


def downgrade() -> None:
    for table in _GUARDED:
        op.execute(f"DROP POLICY of_workspace ON {table}")
        op.execute(f"ALTER TABLE {table} NO FORCE ROW LEVEL SECURITY")
        op.execute(f"ALTER TABLE {table} DISABLE ROW LEVEL SECURITY")
    op.execute("DROP SCHEMA finesieve CASCADE")
