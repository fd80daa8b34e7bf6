"""the job queue's own tables"""

from alembic import op
from procrastinate.schema import SchemaManager

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # Its schema is a script of many statements, so it goes to the driver as it is.
    op.get_bind().connection.driver_connection.execute(SchemaManager.get_schema())


def downgrade() -> None:
    op.execute(
        """
        DO $$
        DECLARE thing record;
        BEGIN
            FOR thing IN SELECT tablename AS name FROM pg_tables
                WHERE schemaname = 'public' AND tablename LIKE 'procrastinate\\_%' LOOP
                EXECUTE format('DROP TABLE IF EXISTS public.%I CASCADE', thing.name);
            END LOOP;
            FOR thing IN SELECT p.oid::regprocedure AS name FROM pg_proc p
                JOIN pg_namespace n ON n.oid = p.pronamespace
                WHERE n.nspname = 'public' AND p.proname LIKE 'procrastinate\\_%' LOOP
                EXECUTE format('DROP FUNCTION IF EXISTS %s CASCADE', thing.name);
            END LOOP;
            FOR thing IN SELECT t.typname AS name FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
                WHERE n.nspname = 'public' AND t.typname LIKE 'procrastinate\\_%' LOOP
                EXECUTE format('DROP TYPE IF EXISTS public.%I CASCADE', thing.name);
            END LOOP;
        END $$
        """
    )
