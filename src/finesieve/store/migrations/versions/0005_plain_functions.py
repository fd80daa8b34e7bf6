"""the SQL of the language's plain functions, and marks of definitions that no rollback turns back"""

from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

# White space as `core.language.library.WHITE` spells it out.
_WHITE = (
    r"U&'\0009\000A\000B\000C\000D\0020\0085\00A0\1680\2000\2001\2002\2003\2004\2005\2006\2007\2008\2009\200A"
    r"\2028\2029\202F\205F\3000'"
)
_FUNCTIONS = f"""
CREATE FUNCTION finesieve.clamp(x numeric, low numeric, high numeric) RETURNS numeric
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN low <= high THEN CASE WHEN x < low THEN low WHEN x > high THEN high ELSE x END END;

CREATE FUNCTION finesieve.power(x numeric, n numeric) RETURNS numeric
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN n = trunc(n) AND n BETWEEN 0 AND 100
    THEN finesieve.step(power(round(x, (10 * greatest(n, 1))::integer), n)) END;

CREATE FUNCTION finesieve.remainder(x numeric, y numeric) RETURNS numeric
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN y <> 0 THEN finesieve.step(
    mod(x, y) + CASE WHEN mod(x, y) <> 0 AND (mod(x, y) < 0) <> (y < 0) THEN y ELSE 0 END) END;

CREATE FUNCTION finesieve.mean("values" numeric[]) RETURNS numeric
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN (SELECT finesieve.step((sum(one) + 0e-40) / NULLIF(count(one), 0)) FROM unnest("values") AS one);

CREATE FUNCTION finesieve.small(value text) RETURNS text
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN lower(value COLLATE "und-x-icu");

CREATE FUNCTION finesieve.capitals(value text) RETURNS text
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN upper(value COLLATE "und-x-icu");

CREATE FUNCTION finesieve.trimmed(value text) RETURNS text
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN NULLIF(btrim(value, {_WHITE}), '');

CREATE FUNCTION finesieve.beginning(value text, n numeric) RETURNS text
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN n = trunc(n) AND n >= 0 THEN NULLIF(left(value, least(n, 1000000)::integer), '') END;

CREATE FUNCTION finesieve.ending(value text, n numeric) RETURNS text
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN n = trunc(n) AND n >= 0 THEN NULLIF(right(value, least(n, 1000000)::integer), '') END;

CREATE FUNCTION finesieve.number(value text) RETURNS numeric
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN finesieve.trimmed(value) ~ '^-?[0-9]{{1,15}}([.][0-9]{{1,10}})?$'
    THEN finesieve.trimmed(value)::numeric END;

CREATE FUNCTION finesieve.label(value text, options text[], words text[]) RETURNS text
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN coalesce(words[array_position(options, value)], value);

CREATE FUNCTION finesieve.score(value text, options text[], points numeric[]) RETURNS numeric
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN value IS NOT NULL THEN finesieve.step(coalesce(points[array_position(options, value)], 0)) END;

CREATE FUNCTION finesieve.score(held text[], options text[], points numeric[]) RETURNS numeric
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN held IS NOT NULL THEN (
    SELECT finesieve.step(coalesce(sum(one.point), 0)) FROM unnest(options, points) AS one(option, point)
    WHERE one.option = ANY (held)) END;

CREATE FUNCTION finesieve.joined(held text[], options text[], words text[], separator text) RETURNS text
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN NULLIF(left(CASE WHEN cardinality(options) = 0 THEN array_to_string(held, coalesce(separator, ''))
    ELSE (SELECT string_agg(one.word, coalesce(separator, '') ORDER BY one.place)
        FROM unnest(options, words) WITH ORDINALITY AS one(option, word, place) WHERE one.option = ANY (held)) END,
    10000), '');

CREATE FUNCTION finesieve.months_between(a date, b date) RETURNS numeric
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN (CASE WHEN a <= b THEN finesieve.months_forward(a, b) ELSE -finesieve.months_forward(b, a) END)::numeric;

CREATE FUNCTION finesieve.add_months(day date, n numeric) RETURNS date
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN n = trunc(n) AND abs(n) <= 12000
    AND extract(year FROM day) * 12 + extract(month FROM day) - 1 + n BETWEEN 12 AND 119999
    THEN (day + make_interval(months => n::integer))::date END;

CREATE FUNCTION finesieve.add_years(day date, n numeric) RETURNS date
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN n = trunc(n) AND abs(n) <= 1000 THEN finesieve.add_months(day, 12 * n) END;

CREATE FUNCTION finesieve.date_of(y numeric, m numeric, d numeric) RETURNS date
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE WHEN y = trunc(y) AND m = trunc(m) AND d = trunc(d)
    AND y BETWEEN 1 AND 9999 AND m BETWEEN 1 AND 12 AND d BETWEEN 1 AND 31
    THEN CASE WHEN extract(month FROM make_date(y::integer, m::integer, 1) + (d::integer - 1)) = m
        THEN make_date(y::integer, m::integer, 1) + (d::integer - 1) END END;

CREATE FUNCTION finesieve.anniversary_from(month integer, day integer, today date) RETURNS date
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN CASE
    WHEN make_date(extract(year FROM today)::integer, month, 1) + (day - 1) >= today
    THEN make_date(extract(year FROM today)::integer, month, 1) + (day - 1)
    WHEN extract(year FROM today) < 9999
    THEN make_date(extract(year FROM today)::integer + 1, month, 1) + (day - 1) END;

CREATE FUNCTION finesieve.next_anniversary(day date, today date) RETURNS date
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN finesieve.anniversary_from(extract(month FROM day)::integer, extract(day FROM day)::integer, today);

CREATE FUNCTION finesieve.next_anniversary(day text, today date) RETURNS date
LANGUAGE sql IMMUTABLE PARALLEL SAFE
RETURN finesieve.anniversary_from(left(day, 2)::integer, right(day, 2)::integer, today);
"""
_NAMES = (
    "clamp(numeric, numeric, numeric)", "power(numeric, numeric)", "remainder(numeric, numeric)", "mean(numeric[])",
    "number(text)", "small(text)", "capitals(text)", "trimmed(text)", "beginning(text, numeric)",
    "ending(text, numeric)", "months_between(date, date)", "add_years(date, numeric)", "add_months(date, numeric)",
    "date_of(numeric, numeric, numeric)", "next_anniversary(date, date)", "next_anniversary(text, date)",
    "anniversary_from(integer, integer, date)", "label(text, text[], text[])", "score(text, text[], numeric[])",
    "score(text[], text[], numeric[])", "joined(text[], text[], text[], text)",
)  # fmt: skip


def upgrade() -> None:
    op.get_bind().exec_driver_sql(_FUNCTIONS)
    op.execute("CREATE SEQUENCE finesieve.definitions AS integer")
    op.execute(
        "SELECT setval('finesieve.definitions', (SELECT coalesce(max(catalogue_version), 0) + 1 FROM workspace))"
    )


def downgrade() -> None:
    op.execute("DROP SEQUENCE finesieve.definitions")
    for name in _NAMES:
        op.execute(f"DROP FUNCTION finesieve.{name}")
