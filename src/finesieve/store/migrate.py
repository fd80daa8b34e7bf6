"""Migrations, run from Python."""

from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine

__all__ = ["downgrade", "migrate"]


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
