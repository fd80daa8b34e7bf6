"""The steps of the migrations, as far as a look at them tells; without Alembic, which takes its time to load."""

from pathlib import Path
from typing import Final

from psycopg.errors import UndefinedTable
from sqlalchemy import Engine, text
from sqlalchemy.exc import ProgrammingError

__all__ = ["is_current", "newest_step"]

_STEPS: Final = Path(__file__).parent / "migrations" / "versions"


def newest_step() -> str:
    """The newest one, such as `0009`; each file begins with its own."""
    return max(path.name.partition("_")[0] for path in _STEPS.glob("[0-9]*.py"))


def is_current(engine: Engine) -> bool:
    """Whether the newest step has been taken. Raises the driver's error when unreachable."""
    try:
        with engine.connect() as connection:
            taken = connection.execute(text("SELECT version_num FROM alembic_version")).scalars().all()
    except ProgrammingError as error:
        if isinstance(error.orig, UndefinedTable):
            return False
        raise
    return list(taken) == [newest_step()]
