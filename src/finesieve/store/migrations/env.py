"""How Alembic runs our migrations: on the engine it was handed, one transaction a step."""

from alembic import context
from sqlmodel import SQLModel

from finesieve.store import tables

assert tables  # the models register themselves with the metadata

engine = context.config.attributes["engine"]
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=SQLModel.metadata, transaction_per_migration=True)
    with context.begin_transaction():
        context.run_migrations()
