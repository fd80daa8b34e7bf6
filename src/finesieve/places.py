"""Where things lie on the disk."""

import os
from pathlib import Path

__all__ = ["files_directory", "var_directory"]


def var_directory() -> Path:
    """Where a working copy keeps what it makes: its database, its secret. FINESIEVE_VAR names another place."""
    return Path(os.environ.get("FINESIEVE_VAR") or Path(__file__).resolve().parents[2] / "var")


def files_directory() -> Path:
    """Where files that people send are kept; nothing in it is served as it lies."""
    return var_directory() / "files"
