"""PostgreSQL: tables, workspace schemas, the language's SQL compiler, queries, migrations."""
