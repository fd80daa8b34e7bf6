"""Migrations, run from Python."""

from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Engine

__all__ = ["downgrade", "is_current", "migrate"]


def _config(engine: Engine) -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["engine"] = engine
    return config


def migrate(engine: Engine, to: str = "head") -> None:
    """Bring the database up to a step, the newest unless said otherwise."""
    command.upgrade(_config(engine), to)


def downgrade(engine: Engine, to: str = "base") -> None:
    """Take steps back."""
    command.downgrade(_config(engine), to)


def is_current(engine: Engine) -> bool:
    """Whether the newest step has been taken. Raises the driver's error when unreachable."""
    head = ScriptDirectory.from_config(_config(engine)).get_current_head()
    with engine.connect() as connection:
        return MigrationContext.configure(connection).get_current_revision() == head
