"""values as the history keeps them, read as a field has them now; blank what it does not hold any more"""

from alembic import op

revision = "0030"
down_revision = "0029"
branch_labels = None
depends_on = None

_DAY = "[0-9]{4}-[0-9]{2}-[0-9]{2}"
_CLOCK = "([01][0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9]([.][0-9]{1,6})?)?"

_FUNCTIONS = f"""
CREATE FUNCTION finesieve.past_text(data jsonb) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN jsonb_typeof(data) = 'string' THEN nullif(data #>> '{{}}', '') END;

CREATE FUNCTION finesieve.past_yes_no(data jsonb) RETURNS boolean LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN jsonb_typeof(data) = 'boolean' THEN data::boolean END;

CREATE FUNCTION finesieve.past_number(data jsonb) RETURNS numeric LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN finesieve.past_text(data) ~ '^(-?[0-9]{{1,15}}([.][0-9]{{1,10}})?)$'
    THEN finesieve.past_text(data)::numeric END;

CREATE FUNCTION finesieve.past_day(written text) RETURNS date LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN written ~ '^{_DAY}' THEN finesieve.date_of(
    left(written, 4)::numeric, substr(written, 6, 2)::numeric, substr(written, 9, 2)::numeric) END;

CREATE FUNCTION finesieve.past_date(data jsonb) RETURNS date LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN length(finesieve.past_text(data)) = 10 THEN finesieve.past_day(finesieve.past_text(data)) END;

CREATE FUNCTION finesieve.past_time(data jsonb) RETURNS time LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN finesieve.past_text(data) ~ '^({_CLOCK})$' THEN finesieve.past_text(data)::time END;

CREATE FUNCTION finesieve.past_moment(data jsonb) RETURNS timestamptz LANGUAGE sql STABLE PARALLEL SAFE
RETURN CASE WHEN finesieve.past_text(data) ~ '^({_DAY}T{_CLOCK}[+-](0[0-9]|1[0-4]):[0-5][0-9])$'
    AND finesieve.past_day(finesieve.past_text(data)) IS NOT NULL THEN finesieve.past_text(data)::timestamptz END;

CREATE FUNCTION finesieve.past_day_of_year(data jsonb) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN finesieve.past_text(data) ~ '^[0-9]{{2}}-[0-9]{{2}}$'
    AND finesieve.past_day('2000-' || finesieve.past_text(data)) IS NOT NULL THEN finesieve.past_text(data) END;

CREATE FUNCTION finesieve.past_option(data jsonb, before text[], since text[], options text[]) RETURNS text
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN cardinality(options) = 0
    OR coalesce(since[array_position(before, finesieve.past_text(data))], finesieve.past_text(data)) = ANY (options)
    THEN coalesce(since[array_position(before, finesieve.past_text(data))], finesieve.past_text(data)) END;

CREATE FUNCTION finesieve.past_options(data jsonb, before text[], since text[], options text[]) RETURNS text[]
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN jsonb_typeof(data) = 'array' AND data <> '[]'
    AND NOT jsonb_path_exists(data, '$[*] ? (@.type() != "string")') THEN (
    SELECT CASE WHEN cardinality(options) = 0 OR bool_and(coalesce(since[array_position(before, one.name)], one.name)
        = ANY (options)) THEN array_agg(coalesce(since[array_position(before, one.name)], one.name) ORDER BY one.place)
    END FROM jsonb_array_elements_text(data) WITH ORDINALITY AS one(name, place)) END;
"""


def upgrade() -> None:
    op.execute(_FUNCTIONS)


def downgrade() -> None:
    for name in ("options(jsonb, text[], text[], text[])", "option(jsonb, text[], text[], text[])"):
        op.execute(f"DROP FUNCTION finesieve.past_{name}")
    for name in ("day_of_year", "moment", "time", "date"):
        op.execute(f"DROP FUNCTION finesieve.past_{name}(jsonb)")
    op.execute("DROP FUNCTION finesieve.past_day(text)")
    for name in ("number", "yes_no", "text"):
        op.execute(f"DROP FUNCTION finesieve.past_{name}(jsonb)")
